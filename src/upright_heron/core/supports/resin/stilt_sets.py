"""Stilts cut into layers and checked: all of them, or what hands changed."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ...geometry.mesh import Mesh
from ...layers.stack import LayerStack
from ...machines.catalogue import Peel
from ...marking.marks import Marks
from ...progress import Progress, silent
from ..checks.stilt_check import verify_changed, verify_stilts
from ..model import SupportSettings
from ..support_set import SupportSet
from .site import NOTHING, ByHand, Ground, Site, Stood
from .stilt_layers import stilt_layers
from .stilts import stand


def make_stilts(
    ground: Ground,
    limit_deg: float,
    settings: SupportSettings,
    *,
    peel: Peel = Peel.USUAL,
    painted: tuple[Mesh, Marks] | None = None,
    by_hand: ByHand = NOTHING,
    progress: Progress = silent,
) -> SupportSet:
    """Stand stilts under a part, as many as bear it, braced, and check them.

    Parameters
    ----------
    ground : Ground
    limit_deg : float
        From vertical.
    settings : SupportSettings
        Tip, shaft and foot are those of the medium size.
    peel : Peel
        Class of the material: how hard it is pulled, and what its tips bear.
    painted : (Mesh, Marks), optional
        The fine mesh in the same stance, and what is painted on it.
    by_hand : ByHand
    progress : Progress

    Returns
    -------
    SupportSet
    """
    site = Site(ground, settings, peel, limit_deg)
    return finished(stand(site, painted=painted, by_hand=by_hand, progress=progress), site, progress)


def finished(stood: Stood, site: Site, progress: Progress = silent) -> SupportSet:
    """Cut stilts into layers, and check them.

    Parameters
    ----------
    stood : Stood
    site : Site
    progress : Progress

    Returns
    -------
    SupportSet
    """
    stack = site.ground.stack
    made = _as_set(stood, site, stilt_layers(stood.stilts, stood.braces, stack, progress))
    faults = verify_stilts(made, stack, site.ground.part, slender=site.settings.slender, progress=progress)
    return replace(made, faults=tuple(faults))


def edited(made: SupportSet, stood: Stood, site: Site) -> SupportSet:
    """Cut stilts into layers, and check them, of which hands changed some.

    Parameters
    ----------
    made : SupportSet
        As they stood before, checked.
    stood : Stood
        As they stand now.
    site : Site
        The same for both.

    Returns
    -------
    SupportSet
        What ``finished`` would give: only what meets otherwise is united again, and only what is near a
        change is checked again.
    """
    stack = site.ground.stack
    before = made.layers, (made.stilts, made.braces)
    layers = stilt_layers(stood.stilts, stood.braces, stack, silent, before=before)
    after = _as_set(stood, site, layers)
    faults = verify_changed(after, made, stack, site.ground.part, slender=site.settings.slender)
    return replace(after, faults=tuple(faults))


def _as_set(stood: Stood, site: Site, layers: LayerStack) -> SupportSet:
    """Stilts with their layers, not yet checked."""
    tips = np.array([one.touch_mm for one in stood.stilts], np.float64).reshape(-1, 3)
    return SupportSet(
        stood.stilts,
        layers,
        site.held_mm2(tips),
        tuple(one.number for one in stood.bare),
        stood.notes,
        braces=stood.braces,
    )
