"""Holes that resin is to run out through, and what lies in its way below the part."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from manifold3d import CrossSection, OpType

from ..stance.pose import Placement
from ..tags import stored
from .footing import Footing

# A hole faces down where its axis does, by its cosine; it lies on the plate below this height, mm.
DOWN, ON_PLATE_MM = 0.5, 0.3
SIDES = 24


@dataclass(frozen=True, slots=True)
class Mouths:
    """Holes of a hollow part, in its own frame.

    Attributes
    ----------
    outer_mm, inner_mm : tuple of (x, y, z)
        Middle of each on the surface, and where it opens inside.
    diameters_mm : tuple of float
    """

    outer_mm: tuple[tuple[float, float, float], ...]
    inner_mm: tuple[tuple[float, float, float], ...]
    diameters_mm: tuple[float, ...]


@stored("under-drains")
@dataclass(frozen=True, slots=True)
class UnderDrains:
    """How many holes of a hollow part the plate shuts, and how many open over what the part stands on."""

    on_plate: int = 0
    over_base: int = 0


def under_drains(mouths: Mouths, where: Placement, base: Footing | None, lift_mm: float) -> UnderDrains:
    """Look at what lies under the holes of a part where it stands.

    Parameters
    ----------
    mouths : Mouths
    where : Placement
        Of the part.
    base : Footing, optional
    lift_mm : float
        Of the part over the plate.

    Returns
    -------
    UnderDrains
        Of holes that face down: others run out beside what is below.
    """
    outer, inner = where.points(mouths.outer_mm), where.points(mouths.inner_mm)
    way = outer - inner
    faces = way[:, 2] < -DOWN * np.linalg.norm(way, axis=1)
    raised = lift_mm + (base.raise_mm if base is not None else 0.0)
    on_plate = faces & (outer[:, 2] < ON_PLATE_MM) if raised == 0 else np.zeros(len(outer), bool)
    over = 0
    if base is not None and base.raise_mm > 0:
        sections = [base.section(layer) for layer in range(base.layers)]
        whole = CrossSection.batch_boolean(sections, OpType.Add)
        for k in np.flatnonzero(faces).tolist():
            x, y, _ = outer[k].tolist()
            mouth = CrossSection.circle(mouths.diameters_mm[k] / 2, SIDES).translate((x, y))
            over += not (whole ^ mouth).is_empty()
    return UnderDrains(int(on_plate.sum()), over)
