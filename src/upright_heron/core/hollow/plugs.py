"""Plugs for the holes of a hollow part, printed beside it and glued in once it is clean."""

from __future__ import annotations

import math

import numpy as np
from manifold3d import CrossSection, Manifold

from ..errors import BadValue
from ..geometry.mesh import Mesh
from ..geometry.solid import Solid

# Its inner end is bevelled by so much, or by this share of it, so that it finds its hole.
BEVEL_MM, BEVEL_SHARE = 0.4, 0.25
# Thinner than this a plug breaks in the fingers.
THINNEST_MM = 0.8
SIDES = 64


def plug(
    outer_mm: tuple[float, float, float],
    inner_mm: tuple[float, float, float],
    diameter_mm: float,
    inner_diameter_mm: float,
    clearance_mm: float,
) -> Mesh:
    """Make the plug of a hole, standing on its outer end.

    Parameters
    ----------
    outer_mm, inner_mm : (x, y, z)
        Middle of the hole on the surface, and where it opens inside.
    diameter_mm, inner_diameter_mm : float
        Of the hole at both ends.
    clearance_mm : float
        Room on each side.

    Returns
    -------
    Mesh
        As long as the hole, and as tapered, so that it ends flush inside and out.

    Raises
    ------
    BadValue
        What is left of it would be too thin.
    """
    long = math.dist(outer_mm, inner_mm)
    wide, narrow = (0.5 * d - clearance_mm for d in (diameter_mm, inner_diameter_mm))
    if 2 * min(wide, narrow) < THINNEST_MM:
        left = 2 * max(min(wide, narrow), 0.0)
        raise BadValue(f"A plug of {left:.2g} mm is too thin.", "Use wider holes, or a closer fit.")
    bevel = min(BEVEL_MM, BEVEL_SHARE * long, BEVEL_SHARE * narrow)
    before = narrow + (wide - narrow) * bevel / long
    half = [(0, 0), (wide, 0), (before, long - bevel), (narrow - bevel, long), (0, long)]
    return Solid(Manifold.revolve(CrossSection([np.array(half, float)]), SIDES)).mesh()
