"""How steadily a part stands by itself."""

from __future__ import annotations

from dataclasses import dataclass

from ..geometry.mesh import Mesh, mass_properties
from ..tags import stored
from ..tolerances import plate_tolerance_mm
from .figures import slenderness, tip_angle_deg


@stored("steadiness")
@dataclass(frozen=True, slots=True)
class Steadiness:
    """How steadily a part stands on what it touches the plate with.

    Attributes
    ----------
    tip_deg : float
        How far the plate may be tilted before it tips over.
    slenderness : float
        Its height over the narrowest width of its foot; infinite on an edge or a point.
    """

    tip_deg: float
    slenderness: float


def steadiness(mesh: Mesh, *, closed: bool) -> Steadiness:
    """Look at a part in its stance; for the centre of an open one the middle of its box stands in.

    Parameters
    ----------
    mesh : Mesh
        In its stance.
    closed : bool

    Returns
    -------
    Steadiness
    """
    low, high = mesh.bounds
    points = mesh.vertices - low
    foot = points[points[:, 2] <= plate_tolerance_mm(mesh.vertices), :2]
    centre = mass_properties(mesh).centre_mm - low if closed else (high - low) / 2
    return Steadiness(tip_angle_deg(foot, centre), slenderness(foot, float(high[2] - low[2])))
