"""Supports made and changed by hand: put in where one points, moved by an end or a joint, resized."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ...errors import BadValue
from ...layers.stack import LayerStack
from ..filament.descent import way_down
from ..filament.growth import TIP_SHARE
from ..filament.landings import FOOT_MM, FOOT_SHARE
from ..filament.single_posts import footed
from ..filament.thickness import volume_mm3
from ..model import Branches, SupportSettings

# A surface that looks up by more than this cannot be held from below.
UPWARD = 0.35
# A surface that looks down by less than this is a wall: a support touches it from the side.
WALL = 0.2
LOOKS_UP = "This surface looks up: nothing can hold it from below."
# Thinner posts cannot be printed, thicker ones are blocks.
THINNEST_MM, THICKEST_MM = 0.6, 20.0

Point = tuple[float, float, float]


def hand_id(at_mm: Point, salt: str = "") -> str:
    """Name a support made by hand after the place it was put."""
    text = f"hand:{salt}:{at_mm[0]:.3f}:{at_mm[1]:.3f}:{at_mm[2]:.3f}"
    return hashlib.blake2b(text.encode(), digest_size=5).hexdigest()


def post_at(
    stack: LayerStack,
    at_mm: Point,
    facing: Point,
    settings: SupportSettings,
    width_mm: float,
    *,
    clear: Sequence[CrossSection | None] | None = None,
) -> Branches:
    """Make a post that holds a place of the part.

    Parameters
    ----------
    stack : LayerStack
        Layers of the part, lifted or not.
    at_mm : (x, y, z)
        The place, on the surface.
    facing : (x, y, z)
        Outward direction of the surface there, a unit vector.
    settings : SupportSettings
    width_mm : float
        Diameter of the post.
    clear : sequence of CrossSection or None, optional
        By level from the plate: where nothing may pass.

    Returns
    -------
    Branches

    Raises
    ------
    BadValue
        The surface looks up, the width cannot be printed, or there is no way down.
    """
    if not THINNEST_MM <= width_mm <= THICKEST_MM:
        raise BadValue(
            f"A post {width_mm:g} mm thick cannot be made.",
            f"Type a thickness from {THINNEST_MM:g} to {THICKEST_MM:g} mm.",
        )
    if facing[2] > UPWARD:
        raise BadValue(LOOKS_UP, "Click on an underside or a wall.")
    radius = width_mm / 2
    tip = TIP_SHARE * radius
    x, y, z = at_mm
    if facing[2] > -WALL:
        # Beside a wall it touches with the edge of its end.
        flat = math.hypot(facing[0], facing[1]) or 1.0
        x, y = x + facing[0] / flat * tip, y + facing[1] / flat * tip
    else:
        # Under a slope its rim may not come nearer than its middle.
        steep = math.sqrt(max(1.0 - facing[2] ** 2, 0.0)) / max(-facing[2], 1e-6)
        z -= settings.gap_layers(stack.layer_mm) * stack.layer_mm + tip * min(steep, 2.0)
    if z < stack.layer_mm:
        raise BadValue("This place is too near to the plate for a support.", "It prints against the plate.")
    way = way_down(
        stack, (x, y, z), radius, settings.clearance_mm, settings.branch_deg,
        from_plate=settings.from_plate, clear=clear,
    )  # fmt: skip
    if way.ends == "nowhere" or (way.ends == "part" and len(way.places) < 2):
        where = "to the plate" if settings.from_plate else "down"
        raise BadValue(f"No way leads {where} from here.", "Try a place beside it, or a thinner post.")
    key = hand_id((x, y, z))
    made = Branches(
        key, "by hand", (x, y, z), way.ends == "part", 0.0,
        np.column_stack([way.places, np.full(len(way.places), radius)]),
        np.append(np.arange(1, len(way.places)), -1), (), "pillar", "made",
    )  # fmt: skip
    made.nodes[0, 3] = tip
    return footed(made, stack, settings)


def handles(tree: Branches) -> dict[int, str]:
    """Nodes that one can take hold of: ``tip``, ``joint`` and ``foot`` by number."""
    found = dict.fromkeys((int(t) for t in tree.tips), "tip")
    meets, counts = np.unique(tree.down[tree.down >= 0], return_counts=True)
    found |= dict.fromkeys((int(m) for m in meets[counts > 1]), "joint")
    if len(found) == 1:
        # A single branch can be bent at its middle.
        inner = [i for i in range(len(tree.nodes)) if i not in found and tree.nodes[i, 2] > 3 * FOOT_MM]
        if inner:
            middle = 0.5 * float(tree.nodes[:, 2].max())
            found[min(inner, key=lambda i: abs(float(tree.nodes[i, 2]) - middle))] = "joint"
    found[tree.foot] = "foot"
    return found


def moved(tree: Branches, node: int, to_mm: Point, stack: LayerStack, settings: SupportSettings) -> Branches:
    """Move an end or a joint; the branches between it and the next handles follow.

    Parameters
    ----------
    tree : Branches
    node : int
        One of ``handles``.
    to_mm : (x, y, z)
        A tip is put so that it ends there; a foot on the plate stays on it.
    stack : LayerStack
    settings : SupportSettings

    Returns
    -------
    Branches
        Where it runs is not checked here; ``verify.faults_of`` tells.

    Raises
    ------
    BadValue
        There is no such handle, or it would come to lie below what carries it.
    """
    held = handles(tree)
    if node not in held:
        raise BadValue("There is nothing to take hold of there.", "Drag a tip, a joint or the foot.")
    nodes = tree.nodes.copy()
    wanted = np.array(to_mm, np.float64)
    on_part = tree.on_part
    if held[node] == "foot":
        on_part = wanted[2] > 0.5 * stack.layer_mm
        above = float(nodes[int(np.flatnonzero(tree.down == node)[0]), 3])
        if not on_part:
            wanted[2] = 0.0
        if on_part != tree.on_part:
            wide = max(above, min(FOOT_SHARE * above, above + 1.0))
            nodes[node, 3] = TIP_SHARE * above if on_part else wide
    elif held[node] == "joint":
        wanted[2] = nodes[node, 2]
    step = wanted - nodes[node, :3]
    share = np.zeros(len(nodes))
    share[node] = 1.0
    # Down to the next handle, and up every branch to the next one: by height between the two.
    below = node
    run = []
    while tree.down[below] >= 0:
        below = int(tree.down[below])
        run.append(below)
        if below in held:
            break
    _fade(share, nodes[:, 2], node, run, held)
    for first in np.flatnonzero(tree.down == node).tolist():
        run = [first]
        while run[-1] not in held:
            run.append(int(np.flatnonzero(tree.down == run[-1])[0]))
        _fade(share, nodes[:, 2], node, run, held)
    nodes[:, :3] += share[:, None] * step
    rise = nodes[tree.down >= 0, 2] - nodes[tree.down[tree.down >= 0], 2]
    if (rise < -1e-9).any() or nodes[:, 2].min() < -1e-9:
        raise BadValue("A branch cannot end below what carries it.", "Drag it to a higher place.")
    touch = tree.touch_mm
    if held[node] == "tip" and tuple(tree.nodes[node, :3]) == touch:
        touch = (float(nodes[node, 0]), float(nodes[node, 1]), float(nodes[node, 2]))
    hand = "made" if tree.hand == "made" else "changed"
    result = replace(tree, nodes=nodes, touch_mm=touch, hand=hand, on_part=bool(on_part))
    return replace(result, volume_mm3=volume_mm3(result, settings))


def _fade(
    share: NDArray[np.float64], z: NDArray[np.float64], node: int, run: list[int], held: dict[int, str]
) -> None:
    """How much of a move each node of a run takes part in: less the further it is away in height."""
    if not run:
        return
    end = run[-1]
    whole = abs(float(z[end] - z[node])) or 1.0
    for i in run:
        if i not in held:
            share[i] = 1.0 - abs(float(z[i] - z[node])) / whole
        # The nodes of a foot stand over each other.
        if held[node] == "foot" and abs(float(z[i] - z[node])) <= FOOT_MM + 1e-6:
            share[i] = 1.0


def resized(tree: Branches, width_mm: float, settings: SupportSettings) -> Branches:
    """Make all of a support thicker or thinner, so that its thickest branch has a width.

    Raises
    ------
    BadValue
        The width cannot be printed.
    """
    if not THINNEST_MM <= width_mm <= 2 * THICKEST_MM:
        raise BadValue(
            f"A support {width_mm:g} mm thick cannot be made.", f"Type a thickness from {THINNEST_MM:g} mm."
        )
    nodes = tree.nodes.copy()
    nodes[:, 3] *= width_mm / width_of(tree)
    hand = "made" if tree.hand == "made" else "changed"
    result = replace(tree, nodes=nodes, hand=hand)
    return replace(result, volume_mm3=volume_mm3(result, settings))


def width_of(tree: Branches) -> float:
    """Diameter of the thickest branch, its foot aside."""
    apart = np.delete(tree.nodes[:, 3], tree.foot) if len(tree.nodes) > 1 else tree.nodes[:, 3]
    return 2 * float(apart.max())


def placed_tip(
    at_mm: Point, facing: Point, tree: Branches, node: int, stack: LayerStack, settings: SupportSettings
) -> Point:
    """Where a tip ends that is dragged to a place of the surface: below it, or beside a wall.

    Raises
    ------
    BadValue
        The surface looks up.
    """
    if facing[2] > UPWARD:
        raise BadValue(LOOKS_UP, "Drag the tip to an underside.")
    tip = float(tree.nodes[node, 3])
    x, y, z = at_mm
    if facing[2] > -WALL:
        flat = math.hypot(facing[0], facing[1]) or 1.0
        return x + facing[0] / flat * tip, y + facing[1] / flat * tip, z
    steep = math.sqrt(max(1.0 - facing[2] ** 2, 0.0)) / max(-facing[2], 1e-6)
    return x, y, z - settings.gap_layers(stack.layer_mm) * stack.layer_mm - tip * min(steep, 2.0)
