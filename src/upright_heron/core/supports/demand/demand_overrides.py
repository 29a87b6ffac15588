"""What is added to the demand for supports and taken from it: bridges that carry themselves, and marks."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from manifold3d import CrossSection, FillRule
from numpy.typing import NDArray

from ...geometry.mesh import Mesh, facet_normals
from ...hanging.overhang_regions import Region
from ...layers.stack import LayerStack
from ...marking.mark import Mark
from ...marking.marks import MEANING, Marks

# What is left out reaches this much past its outline: the walls beside it carry that themselves.
BESIDE_MM = 0.3
# Facets flatter than this against the vertical have a footprint that a column can stand under.
UPRIGHT = 0.03
# A region is painted, or kept clear, when so much of it is.
MOSTLY = 0.9
SOME = 0.02


@dataclass(frozen=True, eq=False)
class Wishes:
    """Plans by layer of the part, from 0.

    Attributes
    ----------
    added : dict of int to CrossSection
        To be held although nothing else asks for it.
    left_out : dict of int to CrossSection
        Not to be held although it reaches too far.
    propped, kept_clear : frozenset of int
        Numbers of the overhang regions that are painted so, the first in part, the second for the most part.
    """

    added: dict[int, CrossSection] = field(default_factory=dict)
    left_out: dict[int, CrossSection] = field(default_factory=dict)
    propped: frozenset[int] = frozenset()
    kept_clear: frozenset[int] = frozenset()

    def leave_out(self, demand: list[CrossSection | None]) -> None:
        """Take what is not to be held out of a demand by layer, in place."""
        for layer, plan in self.left_out.items():
            known = demand[layer] if layer < len(demand) else None
            if known is not None:
                rest = known - plan
                demand[layer] = None if rest.is_empty() else rest


def wishes(
    stack: LayerStack,
    placed: Mesh,
    regions: Sequence[Region],
    bridge_mm: float,
    painted: tuple[Mesh, NDArray[np.int64], Marks] | None = None,
) -> Wishes:
    """Work out what marks and bridges change in the demand for supports.

    Parameters
    ----------
    stack : LayerStack
    placed : Mesh
        The part in its stance.
    regions : sequence of Region
        Its overhang regions.
    bridge_mm : float
        Longest bridge that carries itself.
    painted : (Mesh, (m,) int64, (m,) uint8), optional
        The fine mesh in the same stance, the facet of the part that each of its facets lies in, its marks.

    Returns
    -------
    Wishes
    """
    added: dict[int, CrossSection] = {}
    left_out: dict[int, CrossSection] = {}
    propped: set[int] = set()
    kept_clear: set[int] = set()
    if painted is not None:
        fine, parent, marks = painted
        down = facet_normals(fine)[0][:, 2] < -UPRIGHT
        adds = np.isin(marks, [mark for mark, meaning in MEANING.items() if meaning.adds_demand])
        removes = np.isin(marks, [mark for mark, meaning in MEANING.items() if meaning.removes_demand])
        added = _plans(stack, fine, np.flatnonzero(adds & down), 0.0)
        left_out = _plans(stack, fine, np.flatnonzero(removes & down), BESIDE_MM)
        areas = facet_normals(fine)[1]
        of_facet = [
            np.bincount(parent, weights=areas * chosen, minlength=len(placed.faces))
            for chosen in (adds, removes, np.ones(len(parent)))
        ]
        for region in regions:
            prop, clear, whole = (float(sums[region.facets].sum()) for sums in of_facet)
            if prop > SOME * whole:
                propped.add(region.number)
            if clear > MOSTLY * whole:
                kept_clear.add(region.number)
    for region in regions:
        if region.carries_itself(bridge_mm):
            for layer, plan in _plans(stack, placed, region.facets, BESIDE_MM).items():
                left_out[layer] = left_out[layer] + plan if layer in left_out else plan
    return Wishes(added, left_out, frozenset(propped), frozenset(kept_clear))


def _plans(
    stack: LayerStack, mesh: Mesh, facets: NDArray[np.int64], beside_mm: float
) -> dict[int, CrossSection]:
    """Footprints of facets, each in the layers that begin on it."""
    if not len(facets):
        return {}
    corners = mesh.vertices[mesh.faces[facets]]
    # The first layer whose middle lies above a point of a facet is the one that hangs there.
    low = np.floor((corners[:, :, 2].min(axis=1) - stack.base_mm) / stack.layer_mm + 0.5 - 1e-6)
    high = np.floor((corners[:, :, 2].max(axis=1) - stack.base_mm) / stack.layer_mm + 0.5 + 1e-6)
    flat = corners[:, ::-1, :2]  # seen from above, an underside runs the other way round
    found: dict[int, CrossSection] = {}
    for layer in range(max(1, int(low.min())), min(len(stack) - 1, int(high.max())) + 1):
        here = np.flatnonzero((low <= layer) & (layer <= high))
        if len(here):
            plan = CrossSection([np.ascontiguousarray(ring) for ring in flat[here]], FillRule.NonZero)
            found[layer] = plan.offset(beside_mm) if beside_mm else plan
    return found


def spread_tips(
    mesh: Mesh, marks: Marks, spacing_mm: float, lowest_mm: float
) -> list[tuple[float, float, float]]:
    """Places on the undersides that are painted to be held, no nearer to each other than a spacing.

    Parameters
    ----------
    mesh : Mesh
        The fine mesh in its stance.
    marks : Marks
    spacing_mm : float
    lowest_mm : float
        Lower ones print against the plate.
    """
    from scipy.spatial import cKDTree

    down = facet_normals(mesh)[0][:, 2] < -UPRIGHT
    facets = np.flatnonzero((marks == Mark.PROP) & down)
    places = mesh.vertices[mesh.faces[facets]].mean(axis=1)
    places = places[places[:, 2] > lowest_mm]
    if not len(places):
        return []
    # From the lowest up: what is lower is held first.
    places = places[np.lexsort((places[:, 1], places[:, 0], np.round(places[:, 2], 3)))]
    near = cKDTree(places).query_ball_point(places, spacing_mm)
    taken = np.zeros(len(places), bool)
    tips = []
    for k, neighbours in enumerate(near):
        if not taken[neighbours].any():
            taken[k] = True
            x, y, z = (float(v) for v in places[k])
            tips.append((x, y, z))
    return tips
