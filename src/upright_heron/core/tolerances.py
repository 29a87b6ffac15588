"""The tolerances of the computation, each with its unit and its reason. A leaf module."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class Tolerances:
    """Tolerances passed to the computations.

    Attributes
    ----------
    angle_deg : float
        A facet overhangs when its angle exceeds the limit by more than this, so that a face exactly at
        the limit does not flicker when a part is swung about the vertical: single-precision coordinates
        disturb a facet's angle by about 1e-5 degrees.
    plate_mm : float
        Facets no higher than this lie on the plate.
    count : float
        Guard of ``ceil`` against float noise: 20 mm / 0.2 mm is 100 layers, not 101.
    overlap_mm2 : float
        Two layer pieces that share less area than this only touch.
    """

    angle_deg: float = 1e-3
    plate_mm: float = 1e-4
    count: float = 1e-6
    overlap_mm2: float = 1e-6


DEFAULT = Tolerances()


def plate_tolerance_mm(vertices: NDArray[np.float64], tolerances: Tolerances = DEFAULT) -> float:
    """Height up to which a facet counts as lying on the plate.

    Parameters
    ----------
    vertices : (n, 3) float64, mm
    tolerances : Tolerances

    Returns
    -------
    float
        mm; grows with the coordinates, because files keep them in single precision.
    """
    if not len(vertices):
        return tolerances.plate_mm
    largest = float(np.abs(vertices).max())
    return max(tolerances.plate_mm, 4.0 * float(np.spacing(np.float32(largest))))
