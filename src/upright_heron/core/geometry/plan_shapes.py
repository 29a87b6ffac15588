"""Plans as shapes of another library, for what this one cannot ask of them."""

from __future__ import annotations

from typing import Any

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray


def shape_of(plan: CrossSection) -> Any:
    """A section as a shapely geometry."""
    import shapely

    parts = []
    for piece in plan.decompose():
        rings = sorted(piece.to_polygons(), key=lambda ring: -float(np.ptp(ring, axis=0).prod()))
        if rings:
            parts.append(shapely.Polygon(rings[0], rings[1:]))
    return shapely.MultiPolygon(parts)


def lattice(plan: CrossSection, count: int) -> NDArray[np.float64]:
    """About so many places (n, 2) of a lattice over the box of a plan, half a millimetre apart at least."""
    x0, y0, x1, y1 = plan.bounds()
    step = max(0.5, float(np.sqrt((x1 - x0) * (y1 - y0) / count)))
    xs, ys = (np.arange(a + step / 2, b, step) for a, b in ((x0, x1), (y0, y1)))
    return np.stack(np.meshgrid(xs, ys), -1).reshape(-1, 2)
