"""Sums over all facets for many ways down: overhang, contact, stair steps, undersides parallel to the plate.

Exact, and one pass over the facets for each direction; the kernel leaves Python's lock.
"""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from manifold3d import Manifold
from numba import njit
from numpy.typing import NDArray

from ..hanging.overhangs import threshold
from .vertical_rays import Surface

# Undersides within this of parallel to the plate count as flat: they pull off the film at once (common
# practice).
FLAT_DEG = 3.0
# A facet steeper than this to the vertical is a floor or a ceiling of one layer, and has no stairs.
LEVEL = math.cos(math.radians(0.5))
# Facets that fit into a core's own cache, with their normals.
BATCH = 4096
THREADS = 2


@dataclass(frozen=True, eq=False)
class Sweep:
    """What facets sum up to, for each way down.

    Attributes
    ----------
    overhang_mm2, overhang_show_mm2 : (k,) float64
        Area past the limit, of all facets and of those of the show side.
    contact_mm2 : (k,) float64
        Area that lies on the plate.
    cusp, cusp_show : (k,) float64
        Mean cusp height as a share of the layer height, weighted by area.
    flat_mm2 : (k,) float64
        Area of undersides parallel to the plate that do not lie on it.
    """

    overhang_mm2: NDArray[np.float64]
    overhang_show_mm2: NDArray[np.float64]
    contact_mm2: NDArray[np.float64]
    cusp: NDArray[np.float64]
    cusp_show: NDArray[np.float64]
    flat_mm2: NDArray[np.float64]


def hull_corners(vertices: NDArray[np.float64]) -> NDArray[np.float64]:
    """Corners (k, 3) of the convex hull: enough to know how far a part reaches in any direction."""
    corners = np.asarray(Manifold.hull_points(np.array(vertices)).to_mesh64().vert_properties)[:, :3]
    # A flat part has no hull with a volume.
    return np.ascontiguousarray(corners) if len(corners) else vertices


def sweep(
    surface: Surface, corners: NDArray[np.float64], downs: NDArray[np.float64], limit_deg: float
) -> Sweep:
    """Sum over the facets for many ways down.

    Parameters
    ----------
    surface : Surface
    corners : (h, 3) float64
        From ``hull_corners``.
    downs : (k, 3) float64, unit length
        The direction that points to the plate, in the frame of the part.
    limit_deg : float
        Self-supporting limit, degrees from vertical.

    Returns
    -------
    Sweep

    References
    ----------
    Cusp height ``h |cos theta|``: A. Dolenc and I. Makela, "Slicing procedures for layered manufacturing
    techniques", Computer-Aided Design 26(2), 1994 (from memory). Faces level with the plate have none.
    """
    lowest = (corners @ downs.T).max(axis=0)

    def some(part: slice) -> NDArray[np.float64]:
        result: NDArray[np.float64] = _sweep(
            surface.vertices, surface.faces, surface.normals, surface.areas, surface.show,
            np.ascontiguousarray(downs[part]), lowest[part], surface.tolerance_mm, threshold(limit_deg),
            LEVEL, math.cos(math.radians(FLAT_DEG)),
        )  # fmt: skip
        return result

    if len(downs) < 2 * THREADS:
        sums = some(slice(None))
    else:
        with ThreadPoolExecutor(THREADS) as pool:
            sums = np.concatenate(list(pool.map(some, (slice(k, None, THREADS) for k in range(THREADS)))))
            sums = sums[
                np.argsort(np.concatenate([np.arange(k, len(downs), THREADS) for k in range(THREADS)]))
            ]
    area, shown = surface.areas.sum(), surface.areas[surface.show].sum()
    return Sweep(
        sums[:, 0],
        sums[:, 1],
        sums[:, 2],
        sums[:, 3] / max(area, 1e-12),
        sums[:, 4] / max(shown, 1e-12),
        sums[:, 5],
    )


@njit(cache=True, nogil=True)
def _sweep(vertices, faces, normals, areas, show, downs, lowest, tolerance, sine, level, flat):  # type: ignore[no-untyped-def]
    """Sums over all facets, (k, 6), for each of k directions that are down."""
    sums = np.zeros((downs.shape[0], 6))
    # Facets in batches that stay in the cache while all directions go over them.
    for start in range(0, faces.shape[0], BATCH):
        end = min(start + BATCH, faces.shape[0])
        for d in range(downs.shape[0]):
            x, y, z = downs[d, 0], downs[d, 1], downs[d, 2]
            bottom = lowest[d] - tolerance
            for f in range(start, end):
                down = normals[f, 0] * x + normals[f, 1] * y + normals[f, 2] * z
                area = areas[f]
                slope = abs(down)
                if slope < level:
                    sums[d, 3] += slope * area
                    if show[f]:
                        sums[d, 4] += slope * area
                if down <= 0.0 or (down <= sine and down < level):
                    continue
                lying = True
                for c in range(3):
                    v = faces[f, c]
                    if vertices[v, 0] * x + vertices[v, 1] * y + vertices[v, 2] * z < bottom:
                        lying = False
                        break
                if lying:
                    sums[d, 2] += area
                    continue
                if down > sine:
                    sums[d, 0] += area
                    if show[f]:
                        sums[d, 1] += area
                if down > flat:
                    sums[d, 5] += area
    return sums
