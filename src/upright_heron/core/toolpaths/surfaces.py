"""What of the inside is filled whole: below and above what is exposed, and where layers span air."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from manifold3d import CrossSection, JoinType, OpType
from numpy.typing import NDArray

from ..layers.stack import LayerStack, pack, packed
from ..progress import Progress, silent, tracked
from ..tags import stored
from .point_in_rings import hold_all
from .scan_lines import crossings
from .walls import as_region, fingerprint

# Outlines are smoothed by this before layers are compared.
SMOOTH_MM = 0.05
# What is filled whole reaches so many lines under and over what is not, and nothing narrower counts.
GROWS, NARROW = 1.0, 0.25
# A piece of the inside with less area than so many squares of a line is filled whole.
SPECK = 20.0
# A bridge spans at least so many lines, and has at least so much area, mm2.
SPANS, BRIDGE_MM2 = 3.0, 3.0
# Directions of bridges that are tried.
TURNS = 18


def _plain(old: dict[str, Any]) -> dict[str, Any]:
    """Surfaces as they were before bare tops and what is under roofs were told."""
    sparse = old["sparse"]
    nothing = pack([[] for _ in range(len(sparse))], [0.0] * len(sparse), sparse.layer_mm, sparse.base_mm)
    return {**old, "bare": nothing, "roofed": nothing}


@stored("surfaces", version=2, upcasters={1: _plain})
@dataclass(frozen=True, eq=False)
class Surfaces:
    """How the inside of each layer is filled.

    Attributes
    ----------
    top, bottom, bridge, sparse : LayerStack
        Outlines of what is filled whole under what is exposed above, over what is exposed below, over air,
        and of the rest.
    angles : (L,) float64
        Direction of the bridges of each layer, radians; those of one layer share it.
    bare, roofed : LayerStack
        Outlines of tops that nothing lies on, and of what of the rest is right under roofs; empty where
        nothing is made of them.
    """

    top: LayerStack
    bottom: LayerStack
    bridge: LayerStack
    sparse: LayerStack
    angles: NDArray[np.float64]
    bare: LayerStack
    roofed: LayerStack


@dataclass(frozen=True, slots=True)
class Skins:
    """How much is filled whole.

    Attributes
    ----------
    top, bottom : int
        Layers.
    line_mm : float
    bridges : bool
        What spans air is laid along its span.
    bare : bool
        Tops that nothing lies on are told.
    roofed : int
        What is filled by a pattern is told apart so many layers under roofs.
    """

    top: int
    bottom: int
    line_mm: float
    bridges: bool = True
    bare: bool = False
    roofed: int = 0


def make_surfaces(
    part: LayerStack,
    inside: LayerStack,
    asked: Skins,
    held: Callable[[int], CrossSection] | None = None,
    *,
    progress: Progress = silent,
) -> Surfaces:
    """Find what is filled whole.

    Parameters
    ----------
    part : LayerStack
    inside : LayerStack
        What lies inside the walls.
    asked : Skins
    held : callable, optional
        Outlines of supports right below a layer, by its number: nothing over them is a bridge.
    progress : Progress

    Returns
    -------
    Surfaces
    """
    count = len(part)
    regions = [part.section(k).simplify(SMOOTH_MM) for k in range(count)]
    names = [fingerprint(one.to_polygons()) for one in regions]
    nothing = CrossSection()

    def less(k: int, other: int) -> CrossSection:
        """What of a layer is not in another."""
        if not 0 <= other < count:
            return regions[k]
        return nothing if names[k] == names[other] else regions[k] - regions[other]

    above = [less(k, k + 1) for k in range(count)]
    below = [less(k, k - 1) for k in range(count)]
    kinds: dict[str, list[CrossSection]] = {
        name: [] for name in ("top", "bottom", "bridge", "sparse", "bare", "roofed")
    }
    angles = np.zeros(count)
    w = asked.line_mm
    for k in tracked(range(count), "Finding tops and bottoms", progress):
        whole = as_region(inside, k)
        top = _shared(whole, above[k : k + asked.top], w)
        bottom = _shared(whole, below[max(k + 1 - asked.bottom, 0) : k + 1], w)
        bridge = nothing
        if asked.bridges and k > 0 and not bottom.is_empty() and not below[k].is_empty():
            bridge, angles[k] = _bridge(whole ^ below[k], regions[k - 1], w, held(k) if held else nothing)
        if not bridge.is_empty():
            bottom = bottom - bridge
            top = top - bridge
        bottom = bottom - top if not top.is_empty() else bottom
        sparse = whole
        for filled in (top, bottom, bridge):
            sparse = sparse if filled.is_empty() else sparse - filled
        sparse, specks = _without_specks(sparse, w)
        if not specks.is_empty():
            top = top + specks
        bare = _shared(whole, above[k : k + 1], w) if asked.bare else nothing
        for name, one in zip(kinds, (top, bottom, bridge, sparse, bare, nothing), strict=True):
            kinds[name].append(one)
    if asked.roofed:
        _part_roofed(kinds, asked)
    stacks = {
        name: pack([one.to_polygons() for one in found], [float(one.area()) for one in found],
                   part.layer_mm, part.base_mm)
        for name, found in kinds.items()
    }  # fmt: skip
    return Surfaces(angles=angles, **stacks)


def _part_roofed(kinds: dict[str, list[CrossSection]], asked: Skins) -> None:
    """Part what is right under roofs from what is filled by a pattern."""
    for k, sparse in enumerate(kinds["sparse"]):
        roofs = kinds["top"][k + 1 : k + 1 + asked.roofed]
        near = _shared(sparse, roofs, asked.line_mm)
        if not near.is_empty():
            kinds["roofed"][k] = near
            kinds["sparse"][k] = sparse - near


def _shared(whole: CrossSection, exposed: list[CrossSection], line_mm: float) -> CrossSection:
    """What of the inside lies within some layers of what is exposed, with a little round it."""
    there = [one for one in exposed if not one.is_empty()]
    if not there or whole.is_empty():
        return CrossSection()
    every = CrossSection.batch_boolean(there, OpType.Add) if len(there) > 1 else there[0]
    found = (whole ^ every).offset(-NARROW * line_mm, JoinType.Miter, 2.0)
    if found.is_empty():
        return found
    return whole ^ found.offset((NARROW + GROWS) * line_mm, JoinType.Miter, 2.0)


def _without_specks(sparse: CrossSection, line_mm: float) -> tuple[CrossSection, CrossSection]:
    """What is large enough to be filled by a pattern, and what is not."""
    if sparse.is_empty():
        return sparse, sparse
    least = SPECK * line_mm * line_mm
    pieces = sparse.decompose()
    small = [one for one in pieces if float(one.area()) < least]
    if not small:
        return sparse, CrossSection()
    large = [one for one in pieces if float(one.area()) >= least]
    return (
        CrossSection.batch_boolean(large, OpType.Add) if large else CrossSection(),
        CrossSection.batch_boolean(small, OpType.Add),
    )


def _bridge(
    over: CrossSection, under: CrossSection, line_mm: float, held: CrossSection
) -> tuple[CrossSection, float]:
    """What of a layer spans air between what lies under it, and the direction that it spans best.

    Lines count that have something under both of their ends; the direction is the one in which most of the
    length is held so, and of these the one with the shortest lines.
    """
    nothing = CrossSection(), 0.0
    free = over if held.is_empty() else over - held.offset(2 * line_mm, JoinType.Miter, 2.0)
    core = free.offset(-0.5 * SPANS * line_mm, JoinType.Miter, 2.0)
    if core.is_empty():
        return nothing
    free = over ^ core.offset(0.5 * SPANS * line_mm, JoinType.Miter, 2.0)
    if float(free.area()) < BRIDGE_MM2:
        return nothing
    rings, below = packed(free.to_polygons()), packed(under.to_polygons())
    best, angle = (0.3, 0.0), None
    for k in range(TURNS):
        turn = math.pi * k / TURNS
        held_share, mean = _spanned(rings, below, turn, 2 * line_mm)
        score = (round(held_share, 2), -mean)
        if score > best:
            best, angle = score, turn
    if angle is None:
        return nothing
    # It lies on what holds it.
    return free.offset(SPANS * line_mm, JoinType.Miter, 2.0) ^ over, angle


def _spanned(
    rings: tuple[NDArray[np.float64], NDArray[np.int64]],
    below: tuple[NDArray[np.float64], NDArray[np.int64]],
    angle: float,
    spacing: float,
) -> tuple[float, float]:
    """Share of the length of lines at an angle that is held at both ends, and their mean length, mm."""
    cos, sin = math.cos(angle), math.sin(angle)
    line, along, _, _ = crossings(*rings, cos, sin, spacing, 0.37 * spacing)
    n = len(line) - len(line) % 2
    if not n:
        return 0.0, math.inf
    a, b = along[:n:2], along[1:n:2]
    across = 0.37 * spacing + line[:n:2] * spacing
    reach = 0.4 * spacing
    ends = np.stack([np.concatenate([a - reach, b + reach]), np.concatenate([across, across])], axis=1)
    places = np.column_stack([ends[:, 0] * cos - ends[:, 1] * sin, ends[:, 0] * sin + ends[:, 1] * cos])
    on = inside_some(places, below)
    both = on[: len(a)] & on[len(a) :]
    long = b - a
    return float(long[both].sum() / max(long.sum(), 1e-12)), float(long.mean())


def inside_some(
    places: NDArray[np.float64], rings: tuple[NDArray[np.float64], NDArray[np.int64]]
) -> NDArray[np.bool_]:
    """Whether places (n, 2) lie in a region, told by corners (P, 2) and where each ring begins."""
    found: NDArray[np.bool_] = hold_all(*rings, np.ascontiguousarray(places))
    return found
