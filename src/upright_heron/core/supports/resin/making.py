"""Stilts made of places and ways, as thick as they have to be."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ..checks.stilt_check import unbraced_mm
from ..model import support_id
from .routes import Way
from .site import Site
from .sizes import THICKEST, StiltSize, size_for
from .stilt import Brace, Stilt, stilt_volume_mm3
from .tip_places import Place

# A shaft that nothing braces is made so much thicker than it has to be.
SPARE_STIFF = 1.05


def free_id(place: Place, taken: Collection[str]) -> str:
    """An id for the stilt at a place: two within half a millimetre would have one name."""
    name = support_id("stilt", *place.at_mm)
    while name in taken:
        name += "+"
    return name


def stilt(
    site: Site, name: str, place: Place, way: Way, load_n: float, seen: float, chosen: StiltSize | None
) -> Stilt:
    """The stilt at a place, of the size that was chosen or that its load asks for, where that has room.

    Parameters
    ----------
    site : Site
    name : str
        Its id.
    place : Place
    way : Way
        Of the medium size: it is taken where the other finds none.
    load_n : float
        What its tip bears, N.
    seen : float
        How much its mark is seen, 0 to 1.
    chosen : StiltSize, optional
    """
    size = chosen or size_for(load_n * site.settings.spare, site.sizes, site.peel)
    own: Way | None = way
    if size is not site.medium:
        own = site.way(np.array(place.at_mm), np.array(place.outward), size)
    if own is None or own.on_part != way.on_part:
        size, own = site.medium, way
    return Stilt(
        name,
        place.reason,
        place.at_mm,
        own.on_part,
        stilt_volume_mm3(own.circles),
        own.circles,
        own.bend,
        size.name.value,
        load_n,
        size.bears_n(site.peel),
        place.snip,
        seen,
        cone=site.router.cone,
    )


def thicken(
    site: Site,
    stilts: list[Stilt],
    outward: NDArray[np.float64],
    braces: Sequence[Brace],
    which: Collection[int] | None = None,
) -> list[int]:
    """Make shafts thicker, in place, that nothing braces for too long.

    Parameters
    ----------
    site : Site
    stilts : list of Stilt
    outward : (n, 3) float64
        Direction of the surface at each tip.
    braces : sequence of Brace
    which : collection of int, optional
        Only these are.

    Returns
    -------
    list of int
        Those that were.
    """
    lengths = unbraced_mm(stilts, braces)
    carrying = {one.stands_on for one in stilts}
    changed = []
    for k, one in enumerate(stilts):
        want = SPARE_STIFF * lengths[k] / site.settings.slender
        if want <= one.shaft_mm or (which is not None and k not in which):
            continue
        shaft = min(want, THICKEST * site.sizes[-1].shaft_mm)
        at = np.array(one.touch_mm)
        circles, bend = site.router.thicker(one.circles, at, shaft), one.bend
        if circles is None and one.id not in carrying and not one.stands_on:
            # Where it is there is no room: another way may have some.
            size = next(s for s in site.sizes if s.name.value == one.size)
            way = site.way(at, outward[k], replace(size, shaft_mm=shaft))
            if way is not None and way.on_part == one.on_part:
                circles, bend = way.circles, way.bend
        if circles is not None:
            stilts[k] = replace(one, circles=circles, bend=bend, volume_mm3=stilt_volume_mm3(circles))
            changed.append(k)
    return changed
