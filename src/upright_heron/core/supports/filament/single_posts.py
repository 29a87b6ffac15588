"""Single posts on ways that are looked for in the layers themselves: no field has to be made first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from manifold3d import CrossSection

from ...errors import BadValue
from ...layers.stack import LayerStack
from ..checks.verify import faults_of
from ..demand.patches import Patch, Spot, Style
from ..model import SLENDER, Branches, SupportSettings, support_id
from ..on_plate import on_plate
from .descent import NEAR_SHARE, Way, around, way_down
from .growth import TIP_SHARE
from .landings import TIP_MM, foot_nodes
from .thickness import tapered, volume_mm3

# Nodes on a straight run that can be left out.
STRAIGHT_MM = 0.02
# A post has room to be so many times as thick as would be too slender for its height.
STOUT = 1.25


def post_below(
    patch: Patch,
    tip_mm: Spot,
    stack: LayerStack,
    settings: SupportSettings,
    *,
    clear: Sequence[CrossSection | None] | None = None,
) -> Branches | None:
    """Stand a post under a tip of a patch.

    Parameters
    ----------
    patch : Patch
    tip_mm : (x, y, z)
        Where it ends at the part.
    stack : LayerStack
        Layers of the part, lifted or not.
    settings : SupportSettings
    clear : sequence of CrossSection or None, optional
        By level from the plate: where nothing may pass.

    Returns
    -------
    Branches or None
        ``None`` where no way leads down to the plate, or to the part where it may stand there.
    """
    radius = settings.branch_mm / 2
    # Stout enough for its height if there is room for that, else as thin as branches are.
    for stout in (max(radius, STOUT * tip_mm[2] / (2 * SLENDER)), radius):
        way = way_down(
            stack, tip_mm, stout, settings.clearance_mm, settings.branch_deg,
            from_plate=settings.plate_only(patch.id), clear=clear, near_mm=NEAR_SHARE * radius,
        )  # fmt: skip
        post = _post_on(way, patch, stack, settings)
        if post is not None and not faults_of(post, stack, settings, clear):
            return post
    return None


def _post_on(way: Way, patch: Patch, stack: LayerStack, settings: SupportSettings) -> Branches | None:
    """A post on a way; ``None`` where that leads off the plate or to nothing that it can stand on."""
    places, radius = way.places, settings.branch_mm / 2
    if way.ends == "nowhere" or len(places) < 2:
        return None
    low, high = on_plate(
        places[:, :2].min(axis=0), places[:, :2].max(axis=0), stack, settings.plate_mm, settings.rim_mm
    )
    if (places[:, :2] < low).any() or (places[:, :2] > high).any():
        return None
    run = np.append(0.0, np.cumsum(np.linalg.norm(np.diff(places, axis=0), axis=1)))
    away = around(stack, places)
    wished = np.minimum(radius + 0.05 * settings.taper_mm * run, settings.trunk_mm / 2)
    # Where it comes off a wall it is no thicker than there is room.
    radii = np.minimum(wished, np.maximum(away - settings.clearance_mm, np.minimum(radius, away)))
    radii[0] = TIP_SHARE * radius
    down = np.append(np.arange(1, len(places)), -1)
    x, y, z = places[0].tolist()
    made = Branches(
        support_id(Style.PILLAR.value, x, y, z) + "-1", patch.reason, (x, y, z), way.ends == "part", 0.0,
        tapered(np.column_stack([places, radii]), down), down, (patch.id,), Style.PILLAR.value,
    )  # fmt: skip
    try:
        return footed(made, stack, settings)
    except BadValue:
        return None


def _without_straight(post: Branches) -> Branches:
    """Leave out nodes of a single branch that lie on a straight run."""
    nodes = post.nodes
    keep = [0]
    for i in range(1, len(nodes) - 1):
        a, b = nodes[keep[-1]], nodes[i + 1]
        between = nodes[keep[-1] + 1 : i + 1]
        t = ((a[2] - between[:, 2]) / max(a[2] - b[2], 1e-9))[:, None]
        if np.abs(a + t * (b - a) - between).max() > STRAIGHT_MM or i == 1:
            keep.append(i)
    keep.append(len(nodes) - 1)
    down = np.append(np.arange(1, len(keep)), -1)
    return replace(post, nodes=nodes[keep], down=down)


def footed(post: Branches, stack: LayerStack, settings: SupportSettings) -> Branches:
    """Give a single branch its foot: wide on the plate, thin on the part, the gap above it.

    Parameters
    ----------
    post : Branches
        Nodes from the tip down, one after the other.
    stack : LayerStack
        Layers of the part, lifted or not.
    settings : SupportSettings

    Returns
    -------
    Branches
        With its volume.

    Raises
    ------
    BadValue
        There is no room for it.
    """
    made = _on_its_foot(_without_straight(post), stack, settings)
    return replace(made, volume_mm3=volume_mm3(made, settings))


def _on_its_foot(post: Branches, stack: LayerStack, settings: SupportSettings) -> Branches:
    nodes, down = post.nodes, post.down
    foot = post.foot
    x, y, z, r = (float(v) for v in nodes[foot])
    if not post.on_part:
        free = float(around(stack, np.array([[x, y, 0.5 * stack.layer_mm]]))[0])
        above = float(nodes[foot - 1, 2])
        below = foot_nodes(x, y, above, r, free, settings, stack.layer_mm)
        nodes = np.vstack([nodes[:foot], *below])
        return replace(post, nodes=nodes, down=np.append(np.arange(1, len(nodes)), -1))
    gap = settings.gap_below_layers(stack.layer_mm) * stack.layer_mm
    floor = _floor(stack, x, y, z) + gap
    thin = TIP_SHARE * r
    nodes = nodes.copy()
    if z - floor > 2 * TIP_MM:
        nodes = np.vstack([nodes, [x, y, floor + TIP_MM, r], [x, y, floor, thin]])
        down = np.append(down, [len(nodes) - 1, -1])
        down[foot] = len(nodes) - 2
    else:
        nodes[foot] = (x, y, max(floor, min(z, floor)), thin)
        above_z = float(nodes[np.flatnonzero(down == foot)[0], 2])
        if nodes[foot, 2] >= above_z:
            raise BadValue("There is no room for a support here.", "Try a place beside it.")
    return replace(post, nodes=nodes, down=down)


def _floor(stack: LayerStack, x: float, y: float, z: float) -> float:
    """Top of the part below a place, or the plate."""
    layer = int((z - stack.base_mm) / stack.layer_mm + 1e-6)
    column = np.arange(min(layer, len(stack) - 1), -1, -1)
    if not len(column):
        return 0.0
    places = np.column_stack([np.full(len(column), x), np.full(len(column), y), stack.z_mm[column]])
    inside = np.flatnonzero(around(stack, places) < 0)
    return stack.bottom_mm(int(column[inside[0]]) + 1) if len(inside) else 0.0
