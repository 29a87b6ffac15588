"""What is to be said of paths besides what they take: roofs over infill, and strands that had no room."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from ..tags import stored
from .beads import Kind
from .patterns import Pattern, widest_gap_mm
from .strands import strands_of
from .surfaces import Surfaces
from .timing import Timed
from .walls import as_region
from .zones import StrandZone, at_height


def _of_unknown_inside(old: dict[str, Any]) -> dict[str, Any]:
    """Notes as they were before the inside was told."""
    return {**old, "inside_mm3": 0.0}


@stored("path-notes", version=2, upcasters={1: _of_unknown_inside})
@dataclass(frozen=True, slots=True)
class PathNotes:
    """What is to be said of paths.

    Attributes
    ----------
    roof_mm2, roof_z_mm : float
        Largest area of whole layers on what is filled by a pattern, and the height of its underside.
    strand_mm : float
        Length of all strands.
    small_mm2, small_z_mm : float
        Largest area of a layer that is too small for any strand, and its height.
    inside_mm3 : float
        Volume of what is filled by a pattern.
    """

    roof_mm2: float = 0.0
    roof_z_mm: float = 0.0
    strand_mm: float = 0.0
    small_mm2: float = 0.0
    small_z_mm: float = 0.0
    inside_mm3: float = 0.0


def path_notes(surfaces: Surfaces, strands: tuple[StrandZone, ...]) -> PathNotes:
    """Find what is to be said of paths.

    Parameters
    ----------
    surfaces : Surfaces
    strands : tuple of StrandZone

    Returns
    -------
    PathNotes
        Noughts where there is nothing to say.
    """
    top, sparse = surfaces.top, surfaces.sparse
    roof = roof_z = long = small = small_z = 0.0
    for k in range(len(sparse)):
        z = sparse.base_mm + k * sparse.layer_mm
        if k and top.area_mm2[k] > roof and sparse.area_mm2[k - 1] > roof:
            area = float((as_region(top, k) ^ as_region(sparse, k - 1)).area())
            roof, roof_z = (area, z) if area > roof else (roof, roof_z)
        zone = at_height(strands, z + 0.5 * sparse.layer_mm)
        if zone is not None:
            laid = strands_of(as_region(sparse, k), zone)
            long += laid.length_mm
            small, small_z = (laid.refused_mm2, z) if laid.refused_mm2 > small else (small, small_z)
    inside = float((sparse.area_mm2 + surfaces.roofed.area_mm2).sum()) * sparse.layer_mm
    return PathNotes(roof, roof_z, long, small, small_z, inside)


def infill_share(notes: PathNotes, told: Timed) -> float:
    """Share of what is filled by a pattern that infill takes up as it is laid, with the joins of its ends."""
    laid = dict(told.volume_by_kind).get(Kind.INFILL.words, 0.0)
    return laid / notes.inside_mm3 if notes.inside_mm3 > 0 else 0.0


def roof_span_mm(notes: PathNotes, pattern: Pattern, density: float, line_mm: float) -> float:
    """How far the largest roof has to span over what fills the inside, mm; nought where there is none.

    Over wide gaps, or over nothing, it is no more than the width of a disc of its area.
    """
    across = 2 * math.sqrt(notes.roof_mm2 / math.pi)
    return min(widest_gap_mm(pattern, density, line_mm), across)
