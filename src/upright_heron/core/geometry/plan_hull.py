"""Convex hulls in plan."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def plan_hull(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Corners (k, 2) of the hull of points (n, 2), counter-clockwise; two where they lie on a line."""
    import shapely

    if len(points) < 2:
        return np.array(points, np.float64).reshape(-1, 2)
    # One line through all of them has the same hull, and is made at once where they are many.
    hull = shapely.convex_hull(shapely.linestrings(points))
    if hull.geom_type != "Polygon":
        return np.asarray(hull.coords)
    return np.asarray(shapely.orient_polygons(hull).exterior.coords)[:-1]
