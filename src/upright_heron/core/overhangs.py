"""Overhangs: facets past the limit, and the parts of layers that reach too far over the layer below.

The overhang angle is measured from vertical: 0 is an upright wall, 90 a flat ceiling. A facet overhangs
when its angle is strictly greater than the limit and it does not lie on the plate.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from manifold3d import CrossSection
from numba import njit
from numpy.typing import NDArray

from .layers import LayerStack
from .mesh import Mesh, facet_normals
from .progress import Progress, silent, tracked
from .tolerances import DEFAULT, Tolerances, plate_tolerance_mm

# Reach narrower than twice this is noise of the thinned contours, not something a bead could fall off.
NARROW_MM = 0.001


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


@njit(cache=True)
def _areas_by_direction_kernel(vertices, normals, areas, faces, downs, sine, tolerance):  # type: ignore[no-untyped-def]
    k = downs.shape[0]
    overhang = np.zeros(k)
    contact = np.zeros(k)
    for d in range(k):
        x, y, z = downs[d, 0], downs[d, 1], downs[d, 2]
        lowest = -np.inf
        for v in range(vertices.shape[0]):
            lowest = max(lowest, vertices[v, 0] * x + vertices[v, 1] * y + vertices[v, 2] * z)
        for f in range(faces.shape[0]):
            down = normals[f, 0] * x + normals[f, 1] * y + normals[f, 2] * z
            if down <= 0.0:
                continue
            on_plate = True
            for c in range(3):
                v = faces[f, c]
                depth = vertices[v, 0] * x + vertices[v, 1] * y + vertices[v, 2] * z
                if depth < lowest - tolerance:
                    on_plate = False
                    break
            if on_plate:
                contact[d] += areas[f]
            elif down > sine:
                overhang[d] += areas[f]
    return overhang, contact


def areas_by_direction(
    mesh: Mesh, downs: NDArray[np.float64], limit_deg: float, tolerances: Tolerances = DEFAULT
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Overhang and contact areas of a mesh for many ways down.

    Parameters
    ----------
    mesh : Mesh
    downs : (k, 3) float64, unit length
        The direction that points to the plate, in the frame of the mesh.
    limit_deg : float
    tolerances : Tolerances

    Returns
    -------
    (k,) float64
        Overhang areas, mm2.
    (k,) float64
        Contact areas, mm2.
    """
    normals, areas = facet_normals(mesh)
    overhang, contact = _areas_by_direction_kernel(
        mesh.vertices, normals, areas, mesh.faces, np.ascontiguousarray(downs),
        threshold(limit_deg, tolerances), plate_tolerance_mm(mesh.vertices, tolerances),
    )  # fmt: skip
    return overhang, contact


def step_mm(layer_mm: float, limit_deg: float) -> float:
    """How far a layer may reach over the one below: ``layer height x tan(limit)`` (common practice)."""
    return layer_mm * math.tan(math.radians(min(limit_deg, 89.9)))


def unheld_sections(
    stack: LayerStack, limit_deg: float, *, progress: Progress = silent
) -> list[CrossSection | None]:
    """Find, layer by layer, what reaches too far over the layer below.

    Parameters
    ----------
    stack : LayerStack
    limit_deg : float
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
    below = stack.section(0)
    for i in tracked(range(len(stack)), "Finding overhangs", progress):
        if i == 0:
            continue
        if stack.same_as_below(i):
            continue
        here = stack.section(i)
        fresh = here - below
        # Most layers of a part draw in or stand upright: they are done before the costly growing.
        reach = fresh - below.offset(step) if not fresh.is_empty() else fresh
        solid = reach.offset(-NARROW_MM) if not reach.is_empty() else reach
        if not solid.is_empty():
            grown = solid.offset(step + 2 * NARROW_MM)
            found[i] = (fresh ^ grown).simplify(NARROW_MM / 2)
        below = here
    return found
