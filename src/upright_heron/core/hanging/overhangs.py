"""Overhangs: facets past the limit, and the parts of layers that reach too far over the layer below.

The overhang angle is measured from vertical: 0 is an upright wall, 90 a flat ceiling. A facet overhangs
when its angle is strictly greater than the limit and it does not lie on the plate.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ..geometry.mesh import Mesh, facet_normals
from ..layers.stack import LayerStack
from ..progress import Progress, silent, tracked
from ..tags import stored
from ..tolerances import DEFAULT, Tolerances, plate_tolerance_mm

# Reach narrower than twice this is noise of the thinned contours, not something a bead could fall off.
NARROW_MM = 0.001


@stored("overhangs")
@dataclass(frozen=True, eq=False)
class Overhangs:
    """Overhang of a part in its stance.

    Attributes
    ----------
    past : (m,) bool
        The facets past the limit, contact with the plate left out.
    overhang_area_mm2 : float
        Their surface area.
    contact_area_mm2 : float
        Area of the facets that lie on the plate.
    """

    past: NDArray[np.bool_]
    overhang_area_mm2: float
    contact_area_mm2: float


def facet_angles_deg(mesh: Mesh) -> NDArray[np.float64]:
    """Overhang angle (m,) of each facet from vertical: positive for undersides, negative for tops."""
    normals, _ = facet_normals(mesh)
    result: NDArray[np.float64] = np.degrees(np.arcsin(np.clip(-normals[:, 2], -1.0, 1.0)))
    return result


def threshold(limit_deg: float, tolerances: Tolerances = DEFAULT) -> float:
    """Smallest downward part of a unit normal that is past the limit (see ``Tolerances.angle_deg``)."""
    return math.sin(math.radians(min(limit_deg + tolerances.angle_deg, 90.0)))


def overhangs(
    mesh: Mesh, limit_deg: float, *, plate_mm: float | None = 0.0, tolerances: Tolerances = DEFAULT
) -> Overhangs:
    """Find the facets past the limit.

    Parameters
    ----------
    mesh : Mesh
        In its stance.
    limit_deg : float
        Self-supporting limit, degrees from vertical.
    plate_mm : float or None
        Height of the plate; ``None`` when the part is lifted and touches nothing.
    tolerances : Tolerances

    Returns
    -------
    Overhangs
    """
    normals, areas = facet_normals(mesh)
    past = -normals[:, 2] > threshold(limit_deg, tolerances)
    contact = 0.0
    if plate_mm is not None:
        top = mesh.vertices[:, 2][mesh.faces].max(axis=1)
        lying = (top <= plate_mm + plate_tolerance_mm(mesh.vertices, tolerances)) & (normals[:, 2] < 0)
        contact = float(areas[lying].sum())
        past &= ~lying
    return Overhangs(past, float(areas[past].sum()), contact)


def step_mm(layer_mm: float, limit_deg: float) -> float:
    """How far a layer may reach over the one below: ``layer height x tan(limit)`` (common practice)."""
    return layer_mm * math.tan(math.radians(min(limit_deg, 89.9)))


def hanging_layers(stack: LayerStack, placed: Mesh, facets: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Tell the layers (n,) that facets can begin in: one facet hangs over from the layer below to these.

    Parameters
    ----------
    stack : LayerStack
    placed : Mesh
        The part in its stance.
    facets : (k,) int64
    """
    heights = placed.vertices[placed.faces[facets], 2]
    # Layer i begins between the middles of the layer below and its own; one more to each side for rounding.
    steps = (np.array([heights.min(axis=1), heights.max(axis=1)]) - stack.base_mm) / stack.layer_mm
    first = np.clip(np.ceil(steps[0] - 0.5) - 1, 0, len(stack)).astype(np.int64)
    last = np.clip(np.ceil(steps[1] + 0.5) + 1, 0, len(stack)).astype(np.int64)
    change = np.bincount(first, minlength=len(stack) + 1) - np.bincount(last, minlength=len(stack) + 1)
    return np.asarray(np.cumsum(change)[: len(stack)] > 0)


def unheld_sections(
    stack: LayerStack,
    limit_deg: float,
    *,
    within: NDArray[np.bool_] | None = None,
    progress: Progress = silent,
) -> list[CrossSection | None]:
    """Find, layer by layer, what reaches too far over the layer below.

    Parameters
    ----------
    stack : LayerStack
    limit_deg : float
    within : (n,) bool, optional
        Layers to look at; the others are taken to be held.
    progress : Progress

    Returns
    -------
    list of CrossSection or None
        For each layer the plan of what is not held; ``None`` where all is. The first layer is ``None``.

    Notes
    -----
    A layer less the layer below grown by ``step_mm``. Where that leaves something, the whole of what is
    new there is taken, back to the edge of the layer below: otherwise a steep slope would be held in
    stripes, each narrower by one step than the ledge above it.
    """
    step = step_mm(stack.layer_mm, limit_deg)
    found: list[CrossSection | None] = [None] * len(stack)
    wanted = np.ones(len(stack), np.bool_) if within is None else within.copy()
    wanted[:1] = False
    at, here = -1, CrossSection()
    for i in tracked(np.flatnonzero(wanted).tolist(), "Finding overhangs", progress):
        if stack.same_as_below(i):
            continue
        below = here if at == i - 1 else stack.section(i - 1)
        at, here = i, stack.section(i)
        fresh = here - below
        # Most layers of a part draw in or stand upright: they are done before the costly growing.
        reach = fresh - below.offset(step) if not fresh.is_empty() else fresh
        solid = reach.offset(-NARROW_MM) if not reach.is_empty() else reach
        if not solid.is_empty():
            # Of a strip with very many corners a few will do, as long as nothing of it is lost.
            fewer = solid.simplify(NARROW_MM)
            reached = fewer if fewer.num_contour() == solid.num_contour() else solid
            grown = reached.offset(step + 3 * NARROW_MM)
            found[i] = (fresh ^ grown).simplify(NARROW_MM / 2)
    return found
