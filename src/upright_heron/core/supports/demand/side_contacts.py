"""Places on the side of a part that are to be held: painted walls, and what steadies a slender part."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ...geometry.mesh import Mesh, facet_normals
from ...geometry.tree import Tree
from ...hanging.findings import Family, finding_id
from ...layers.stack import LayerStack
from ...marking.mark import Mark
from ...marking.marks import Marks
from ..filament.clearance_field import PIXEL_MM
from ..filament.descent import way_down
from ..filament.growth import TIP_SHARE
from ..model import SupportSettings
from .demand_overrides import UPRIGHT
from .patches import PAD_MM, Patch, Spot, layer_of

# Walls look up or down by no more than this.
STEEPEST = 0.25
# Contacts this near to each other, in spacings, are held together.
TOGETHER = 1.6
# Ways are looked for with less lean than branches may have.
LEAN_SHARE = 0.6
# Where no way leads down from a place none is looked for from places so near to it.
TRY_MM = 1.0
# A part so many times as high as it stands wide shakes loose (common practice).
SLENDER = 6.0
LEAST_MM = 40.0
# Posts at each height, from how far outside the side is looked for, and how far round each may go.
POSTS = 3
OUTSIDE_MM = 500.0
AROUND = np.radians([0.0, 15.0, -15.0, 30.0, -30.0, 45.0, -45.0])
# How far above or below their height they may be.
ASIDE_MM = (0.0, 3.0, -3.0, 6.0, -6.0)


def wall_patches(stack: LayerStack, fine: Mesh, marks: Marks, settings: SupportSettings) -> list[Patch]:
    """Patches of the walls that are painted to be held.

    Parameters
    ----------
    stack : LayerStack
    fine : Mesh
        The fine mesh where the part stands.
    marks : (m,) uint8
    settings : SupportSettings

    Returns
    -------
    list of Patch
        From the lowest up; contacts near each other are one patch. They stand a spacing apart, where a way
        leads down; what is further than that from all of them has one without, which is told then.
    """
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components
    from scipy.spatial import cKDTree

    normals, areas = facet_normals(fine)
    upright = (normals[:, 2] > -UPRIGHT) & (normals[:, 2] <= STEEPEST)
    walls = np.flatnonzero((marks == Mark.PROP) & upright)
    places = fine.vertices[fine.faces[walls]].mean(axis=1)
    high = places[:, 2] > stack.base_mm + max(3 * stack.layer_mm, 1.0)
    walls, places = walls[high], places[high]
    if not len(walls):
        return []
    order = np.lexsort((places[:, 1], places[:, 0], np.round(places[:, 2], 3)))
    ends = [_beside(place, normals[k], settings.branch_mm) for place, k in zip(places, walls, strict=True)]
    tree = cKDTree(places)
    taken: list[int] = []
    free, untried = np.ones(len(places), bool), np.ones(len(places), bool)
    for anywhere in (False, True):
        for k in order.tolist():
            if not free[k] or not (anywhere or untried[k]):
                continue
            if anywhere or _first_standing([ends[k]], stack, settings) is not None:
                taken.append(k)
                free[tree.query_ball_point(places[k], settings.spacing_mm)] = False
            else:
                untried[tree.query_ball_point(places[k], TRY_MM)] = False
    spots = np.array([ends[k] for k in taken])
    pairs = cKDTree(spots).query_pairs(TOGETHER * settings.spacing_mm, output_type="ndarray")
    graph = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), (len(spots), len(spots)))
    _, group = connected_components(graph, directed=False)
    share = float(areas[walls].sum()) / len(spots)
    return [
        _patch(stack, spots[group == g], "painted wall", share * int((group == g).sum()))
        for g in range(int(group.max()) + 1)
    ]


def steady_patches(
    stack: LayerStack,
    placed: Mesh,
    part: Tree,
    heights_mm: Sequence[float],
    settings: SupportSettings,
) -> list[Patch]:
    """Patches of a few contacts round the part at some heights.

    Parameters
    ----------
    stack : LayerStack
    placed : Mesh
        The part where it stands.
    part : Tree
        Of that mesh.
    heights_mm : sequence of float
        Above the plate.
    settings : SupportSettings

    Returns
    -------
    list of Patch
        One for each height at which the side of the part can be touched. A contact that no way leads down
        from is put a little further round or higher or lower; where some find a way the others are left out.
    """
    normals = facet_normals(placed)[0]
    found = []
    for height in heights_mm:
        best: list[Spot] = []
        standing = -1
        for step in ASIDE_MM:
            # Each contact where a way leads down if there is one, at a height that has the most of those.
            ways = [_round_it(stack, normals, part, at, height + step, settings) for at in range(POSTS)]
            there = [spots for spots in ways if spots]
            stand = [_first_standing(spots, stack, settings) for spots in there]
            good = [spot for spot in stand if spot is not None]
            if len(good) > standing and there:
                best, standing = good or [spots[0] for spots in there], len(good)
            if standing == POSTS:
                break
        if best:
            found.append(_patch(stack, np.array(best), f"steadying at {height:.0f} mm", 0.0, steadying=True))
    return found


def _round_it(
    stack: LayerStack,
    normals: NDArray[np.float64],
    part: Tree,
    which: int,
    height: float,
    settings: SupportSettings,
) -> list[Spot]:
    """Places of one of the posts at a height, on the side of the part: the wished one first."""
    layer = int((height - stack.base_mm) / stack.layer_mm)
    if not 2 <= layer < len(stack) or not stack.rings(layer):
        return []
    outline = max(stack.rings(layer), key=lambda ring: float(np.ptp(ring, axis=0).prod()))
    middle = 0.5 * (outline.min(axis=0) + outline.max(axis=0))
    turn = _across(outline) + 2 * np.pi * which / POSTS + AROUND
    ways = np.column_stack([np.cos(turn), np.sin(turn), np.zeros(len(turn))])
    start = np.array([*middle, stack.z_mm[layer]]) + OUTSIDE_MM * ways
    length, facet = part.first_hits(start, -ways, np.full(len(ways), -1))
    found = []
    for k in np.flatnonzero(np.isfinite(length)):
        normal = normals[facet[k]]
        # What looks up juts out below, where the post has to go.
        if -2 * STEEPEST <= normal[2] <= STEEPEST and normal @ ways[k] > 0.3:
            found.append(_beside(start[k] - length[k] * ways[k], normal, settings.branch_mm))
    return found


def _first_standing(spots: Sequence[Spot], stack: LayerStack, settings: SupportSettings) -> Spot | None:
    """The first place that a post leads down from to the plate, else to the part if it may stand there."""
    second = None
    for spot in spots:
        # Branches grow on a raster: that needs a pixel more room than a way in the layers themselves. First
        # they have to come off the wall, too.
        way = way_down(
            stack, spot, settings.branch_mm / 2, settings.clearance_mm + PIXEL_MM,
            LEAN_SHARE * settings.branch_deg, from_plate=settings.from_plate,
        )  # fmt: skip
        if way.ends == "plate":
            return spot
        if way.ends == "part" and second is None:
            second = spot
    return second


def slenderness(stack: LayerStack) -> float:
    """Height of a part over the narrower side of what it stands on; 0 where that is not known."""
    import shapely

    layer = 0
    rings = stack.rings(layer) if len(stack) else []
    if not rings:
        return 0.0
    hull = shapely.MultiPoint(np.concatenate(rings)).convex_hull
    box = shapely.minimum_rotated_rectangle(hull)
    if not isinstance(box, shapely.Polygon):
        return 0.0
    corners = np.array(box.exterior.coords)
    sides = np.hypot(*np.diff(corners, axis=0).T)[:2]
    return len(stack) * stack.layer_mm / max(float(sides.min()), 0.1)


def steady_heights(stack: LayerStack, count: int | None, highest: float) -> list[float]:
    """Heights of steadying posts.

    Parameters
    ----------
    stack : LayerStack
    count : int or None
        How many; ``None`` where slenderness asks for it: two, or none.
    highest : float
        Share of the height of the part.
    """
    tall = len(stack) * stack.layer_mm
    if count is None:
        count = 2 if tall >= LEAST_MM and slenderness(stack) > SLENDER else 0
    return [stack.base_mm + tall * highest * (k + 1) / count for k in range(count)]


def _beside(place: NDArray[np.float64], normal: NDArray[np.float64], branch_mm: float) -> Spot:
    """Where a tip ends that touches a wall with its edge."""
    flat = normal[:2] / max(float(np.hypot(*normal[:2])), 1e-9)
    x, y = place[:2] + flat * TIP_SHARE * branch_mm / 2
    return float(x), float(y), float(place[2])


def _across(outline: NDArray[np.float64]) -> float:
    """Direction in which an outline is thinnest: it shakes that way."""
    away = outline - outline.mean(axis=0)
    _, axes = np.linalg.eigh(away.T @ away)
    return math.atan2(float(axes[1, 0]), float(axes[0, 0]))


def _patch(
    stack: LayerStack, spots: NDArray[np.float64], reason: str, area_mm2: float, *, steadying: bool = False
) -> Patch:
    plans: dict[int, CrossSection] = {}
    for x, y, z in spots.tolist():
        layer = layer_of(stack, z)
        pad = CrossSection.circle(PAD_MM / 2, 16).translate((x, y))
        plans[layer] = plans[layer] + pad if layer in plans else pad
    low = spots[spots[:, 2].argmin()]
    x, y, z = (float(v) for v in low)
    key = finding_id(Family.LOW, x, y, z)[::-1]
    ends = tuple((float(a), float(b), float(c)) for a, b, c in spots)
    return Patch(key, (reason,), plans, (x, y, z), area_mm2, False, z, ends, steadying=steadying)
