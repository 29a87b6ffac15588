"""Places on the side of a part that are to be held: painted walls, and what steadies a slender part."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ..findings import Family, finding_id
from ..layers import LayerStack
from ..marks import Mark, Marks
from ..mesh import Mesh, facet_normals
from ..tree import Tree
from .demand import PAD_MM, Patch
from .growth import TIP_SHARE
from .wishes import UPRIGHT

# Walls look up or down by no more than this.
STEEPEST = 0.25
# Contacts this near to each other, in spacings, are held together.
TOGETHER = 1.6
# A part so many times as high as it stands wide shakes loose (common practice).
SLENDER = 6.0
LEAST_MM = 40.0
# Posts at each height, and from how far outside the side is looked for.
POSTS = 3
OUTSIDE_MM = 500.0


def wall_patches(
    stack: LayerStack, fine: Mesh, marks: Marks, spacing_mm: float, branch_mm: float
) -> list[Patch]:
    """Patches of the walls that are painted to be held.

    Parameters
    ----------
    stack : LayerStack
    fine : Mesh
        The fine mesh where the part stands.
    marks : (m,) uint8
    spacing_mm : float
        Between contacts.
    branch_mm : float
        Diameter of a branch at its tip.

    Returns
    -------
    list of Patch
        From the lowest up; contacts near each other are one patch.
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
    near = cKDTree(places).query_ball_point(places, spacing_mm)
    taken = np.zeros(len(places), bool)
    for k in order.tolist():
        taken[k] = not taken[near[k]].any()
    chosen = order[taken[order]]
    spots = np.array([_beside(places[k], normals[walls[k]], branch_mm) for k in chosen])
    pairs = cKDTree(spots).query_pairs(TOGETHER * spacing_mm, output_type="ndarray")
    graph = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), (len(spots), len(spots)))
    _, group = connected_components(graph, directed=False)
    share = float(areas[walls].sum()) / len(spots)
    return [
        _patch(stack, spots[group == g], "painted wall", share * int((group == g).sum()))
        for g in range(int(group.max()) + 1)
    ]


def steady_patches(
    stack: LayerStack, placed: Mesh, part: Tree, heights_mm: Sequence[float], branch_mm: float
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
    branch_mm : float
        Diameter of a post at its tip.

    Returns
    -------
    list of Patch
        One for each height at which the side of the part can be touched.
    """
    normals = facet_normals(placed)[0]
    found = []
    for height in heights_mm:
        layer = int((height - stack.base_mm) / stack.layer_mm)
        if not 2 <= layer < len(stack) or not stack.rings(layer):
            continue
        outline = max(stack.rings(layer), key=lambda ring: float(np.ptp(ring, axis=0).prod()))
        middle = 0.5 * (outline.min(axis=0) + outline.max(axis=0))
        turn = _across(outline) + 2 * np.pi * np.arange(POSTS) / POSTS
        ways = np.column_stack([np.cos(turn), np.sin(turn), np.zeros(POSTS)])
        start = np.array([*middle, stack.z_mm[layer]]) + OUTSIDE_MM * ways
        length, facet = part.first_hits(start, -ways, np.full(POSTS, -1))
        spots = []
        for k in np.flatnonzero(np.isfinite(length)):
            normal = normals[facet[k]]
            if abs(normal[2]) <= 2 * STEEPEST and normal @ ways[k] > 0.3:
                spots.append(_beside(start[k] - length[k] * ways[k], normal, branch_mm))
        if spots:
            found.append(_patch(stack, np.array(spots), f"steadying at {height:.0f} mm", 0.0))
    return found


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


def _beside(
    place: NDArray[np.float64], normal: NDArray[np.float64], branch_mm: float
) -> tuple[float, float, float]:
    """Where a tip ends that touches a wall with its edge."""
    flat = normal[:2] / max(float(np.hypot(*normal[:2])), 1e-9)
    x, y = place[:2] + flat * TIP_SHARE * branch_mm / 2
    return float(x), float(y), float(place[2])


def _across(outline: NDArray[np.float64]) -> float:
    """Direction in which an outline is thinnest: it shakes that way."""
    away = outline - outline.mean(axis=0)
    _, axes = np.linalg.eigh(away.T @ away)
    return math.atan2(float(axes[1, 0]), float(axes[0, 0]))


def _patch(stack: LayerStack, spots: NDArray[np.float64], reason: str, area_mm2: float) -> Patch:
    plans: dict[int, CrossSection] = {}
    for x, y, z in spots.tolist():
        layer = max(1, min(len(stack) - 1, int((z - stack.base_mm) / stack.layer_mm)))
        pad = CrossSection.circle(PAD_MM / 2, 16).translate((x, y))
        plans[layer] = plans[layer] + pad if layer in plans else pad
    low = spots[spots[:, 2].argmin()]
    x, y, z = (float(v) for v in low)
    key = finding_id(Family.LOW, x, y, z)[::-1]
    ends = tuple((float(a), float(b), float(c)) for a, b, c in spots)
    return Patch(key, (reason,), plans, (x, y, z), area_mm2, False, z, ends)
