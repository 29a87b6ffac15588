"""The figures of a stance, exactly from the part as it stands, each with what can be pointed at."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..geometry.mesh import Mesh, facet_normals, mass_properties
from ..geometry.plan_hull import plan_hull
from ..hanging.cups import Cup, find_cups
from ..hanging.islands import find_islands
from ..hanging.overhangs import threshold
from ..layers.peel import peel_curve
from ..layers.stack import LayerStack, first_largest
from ..machines.catalogue import Material, Printer, Technology
from ..plates.fit import fit
from ..tags import stored
from ..toolpaths.process_table import Table
from ..toolpaths.rough_estimate import Amounts, Estimate, estimate, support_fill
from .sweep import hull_corners, sweep
from .vertical_rays import Surface, plumb

# Fine enough that closed forms come out to a few parts in a thousand, coarse enough to be quick.
LINES_ACROSS = 500
FINEST_MM, COARSEST_MM = 0.05, 0.5
# Facets whose normal is within this of the direction of the show side belong to it.
SHOW_DEG = 60.0
DOWN = np.array([[0.0, 0.0, -1.0]])


@dataclass(frozen=True, slots=True)
class Setting:
    """What figures depend on besides the part and its stance.

    Attributes
    ----------
    printer : Printer
    material : Material
    limit_deg : float
    layer_mm : float
    lift_mm : float
    walls : int
    infill : float
        From 0 to 1.
    show : (x, y, z) or None
        Direction of the show side, in the frame of the part.
    load : (x, y, z) or None
        Direction of the main load, in the frame of the part.
    painted : bool
        The show side is painted: its facets are given beside this, and the direction does not count.
    around_mm, under_mm : float
        How far a footing reaches past what stands on the plate, and by how much it raises the part.
    held : bool
        Supports stand on the plate, anywhere below the part.
    rows : tuple of Row
        How layers of resin are made.
    """

    printer: Printer
    material: Material
    limit_deg: float
    layer_mm: float
    lift_mm: float = 0.0
    walls: int = 3
    infill: float = 0.15
    show: tuple[float, float, float] | None = None
    load: tuple[float, float, float] | None = None
    painted: bool = False
    around_mm: float = 0.0
    under_mm: float = 0.0
    held: bool = False
    rows: Table = ()

    def fits(self, points: NDArray[np.float64], foot: NDArray[np.float64]) -> bool:
        """Whether a part fits the machine as it stands, with its lift and its footing.

        Parameters
        ----------
        points : (n, 3) float64
            Its corners in the stance, mm.
        foot : (k, 3) float64
            Those of them that stand on the plate.
        """
        low, high = points.min(axis=0), points.max(axis=0)
        if self.around_mm > 0:
            # Below supports it is not known yet where they stand: anywhere under the part.
            stands = points if self.held or self.lift_mm > 0 else foot
            low[:2] = np.minimum(low[:2], stands[:, :2].min(axis=0) - self.around_mm)
            high[:2] = np.maximum(high[:2], stands[:, :2].max(axis=0) + self.around_mm)
        x, y, z = (float(v) for v in high - low)
        return fit((x, y, z + self.lift_mm + self.under_mm), self.printer.build_mm).fits

    def estimate(self, amounts: Amounts) -> Estimate:
        """Rough time and material of so much."""
        return estimate(
            self.printer, self.material, amounts, walls=self.walls, infill=self.infill, rows=self.rows
        )

    @property
    def shows(self) -> bool:
        """Whether there is a show side."""
        return self.painted or self.show is not None

    @property
    def resin(self) -> bool:
        """Whether it is a resin machine."""
        return self.printer.technology is Technology.RESIN


@stored("layer-figure")
@dataclass(frozen=True, slots=True)
class LayerFigure:
    """A layer that stands out: its number from 0, the middle of it, and by how much."""

    layer: int
    z_mm: float
    value: float


@stored("figures")
@dataclass(frozen=True, slots=True)
class Figures:
    """All figures of a stance. Areas mm2, volumes mm3, lengths mm, angles degrees; see ``MEANING``."""

    size_mm: tuple[float, float, float]
    overhang_area_mm2: float
    support_volume_mm3: float
    holding_mm3: float
    support_mass_g: float
    touch_area_mm2: float
    touch_show_mm2: float
    clear_overhang_mm2: float
    islands: int
    height_mm: float
    layer_count: int
    contact_area_mm2: float
    largest_layer: LayerFigure
    largest_growth: LayerFigure
    shadow_area_mm2: float
    flat_area_mm2: float
    tip_angle_deg: float
    centre_mm: tuple[float, float, float]
    slenderness: float
    cusp_mm: float
    cusp_show_mm: float
    cups: tuple[Cup, ...]
    peel_most: LayerFigure | None
    peel_total_n: float
    load_angle_deg: float | None
    seconds: float
    mass_g: float
    fits: bool


# A filament part that lies on less is held up by posts to the height of its centre of mass; how many, how
# thick and what they touch are common practice.
STANDS_MM2 = 20.0
POSTS, POST_MM2, POST_TOUCH_MM2, LEAST_POST_MM = 3, 12.0, 4.0, 5.0

# Of these more is better; of all others less.
MORE_IS_BETTER = frozenset({"contact_area_mm2", "tip_angle_deg"})
# What each figure means, in one sentence.
MEANING = {
    "overhang_area_mm2": "Surface past the limit that does not lie on the plate.",
    "support_volume_mm3": "Straight columns from that surface down to the plate or the part.",
    "holding_mm3": "Posts that keep it upright, where it does not stand by itself.",
    "support_mass_g": "What such columns weigh as printed.",
    "touch_area_mm2": "Surface that supports would touch, above and where they stand on the part.",
    "touch_show_mm2": "How much of that is on the show side.",
    "clear_overhang_mm2": "Overhang on what is kept clear: it would need support where none may be.",
    "islands": "Pieces of a layer that start in mid-air.",
    "height_mm": "From the plate to the top of the part.",
    "layer_count": "Layers of the part.",
    "contact_area_mm2": "Surface that lies on the plate.",
    "largest_layer": "The layer with the most area: what pulls hardest on the part.",
    "largest_growth": "The largest step in area from one layer to the next.",
    "shadow_area_mm2": "The part seen from above: no layer is larger.",
    "flat_area_mm2": "Undersides parallel to the plate above it: they come off the film all at once.",
    "tip_angle_deg": "By how much the plate may be tilted before the part tips over.",
    "slenderness": "Height over the narrowest width of what stands on the plate.",
    "cusp_mm": "Mean height of the stairs that layers leave on slopes.",
    "cusp_show_mm": "The same on the show side.",
    "cups": "Hollows that close against the film.",
    "peel_most": "The layer that comes off the film hardest, a rough guess.",
    "load_angle_deg": "Between the main load and the layers: 0 runs along them, 90 pulls them apart.",
    "seconds": "Rough time of the print with such supports.",
    "mass_g": "Rough mass of part and supports.",
    "fits": "Whether it fits the machine as it stands, with its footing.",
}


def show_facets(normals: NDArray[np.float64], show: tuple[float, float, float] | None) -> NDArray[np.bool_]:
    """Facets (m,) of the show side: those that face its direction."""
    if show is None:
        return np.zeros(len(normals), bool)
    direction = np.asarray(show) / np.linalg.norm(show)
    result: NDArray[np.bool_] = normals @ direction >= math.cos(math.radians(SHOW_DEG))
    return result


def pixel_for(size_mm: NDArray[np.float64]) -> float:
    """Distance of plumb lines, in mm, for exact figures of a part with sides (3,)."""
    return min(max(float(max(size_mm[:2])) / LINES_ACROSS, FINEST_MM), COARSEST_MM)


@dataclass(frozen=True, eq=False)
class Base:
    """What all stances of a part share.

    Attributes
    ----------
    surface : Surface
    corners : (k, 3) float64
        Of its hull, mm.
    centre_mm : (3,) float64
        Centre of mass.
    clear : Mesh or None
        Facets that are painted to be kept clear.
    """

    surface: Surface
    corners: NDArray[np.float64]
    centre_mm: NDArray[np.float64]
    clear: Mesh | None = None

    @classmethod
    def of(
        cls,
        mesh: Mesh,
        setting: Setting,
        *,
        closed: bool = True,
        painted: NDArray[np.bool_] | None = None,
        clear: Mesh | None = None,
    ) -> Base:
        """Prepare a part; where the show side is painted, ``painted`` (m,) says which facets belong to it.

        ``clear`` has the facets that are painted to be kept clear. For the centre of an open part the middle
        of its hull's corners stands in.
        """
        surface = Surface.of(mesh)
        corners = hull_corners(mesh.vertices)
        return cls(
            replace(surface, show=show_facets(surface.normals, setting.show) if painted is None else painted),
            corners,
            mass_properties(mesh).centre_mm if closed else corners.mean(axis=0),
            clear,
        )


def figures(
    mesh: Mesh,
    rotation: NDArray[np.float64],
    stack: LayerStack,
    setting: Setting,
    *,
    closed: bool = True,
    base: Base | None = None,
) -> Figures:
    """Compute the figures of a stance.

    Parameters
    ----------
    mesh : Mesh
        The part as it came.
    rotation : (3, 3) float64
    stack : LayerStack
        Layers of the part in that stance.
    setting : Setting
    closed : bool
    base : Base, optional
        Of the part, where many stances are looked at.

    Returns
    -------
    Figures
    """
    base = base or Base.of(mesh, setting, closed=closed)
    surface = base.surface
    turned = mesh.vertices @ rotation.T
    low, high = turned.min(axis=0), turned.max(axis=0)
    size = high - low
    lifted = setting.lift_mm > 0
    drop = plumb(
        surface, rotation, setting.limit_deg, pixel_mm=pixel_for(size), layer_mm=setting.layer_mm,
        lift_mm=setting.lift_mm,
    )  # fmt: skip
    sums = sweep(surface, base.corners, -rotation[2:3], setting.limit_deg)
    # A lifted part lies on nothing: what would lie on the plate hangs.
    lying = float(sums.contact_mm2[0])
    overhang = float(sums.overhang_mm2[0]) + (lying if lifted else 0.0)
    touch_show = float(sums.overhang_show_mm2[0]) + drop.landing_show_mm2
    contact = 0.0 if lifted else lying
    centre = base.centre_mm @ rotation.T - low
    foot = turned[turned[:, 2] <= low[2] + surface.tolerance_mm] - low
    found, _ = find_islands(stack, on_plate=not lifted)
    area = stack.area_mm2
    growth = np.diff(area, prepend=area[:1]) if len(area) else np.zeros(1)
    peel = peel_curve(stack, setting.material.peel) if setting.resin else np.zeros(0)
    share = support_fill(setting.printer)
    hold_mm3, hold_touch = holding(setting, contact, float(centre[2]))
    rough = _rough(setting, stack, float(surface.areas.sum()), drop.support_mm3 + hold_mm3)
    x, y, z = (float(v) for v in size)
    return Figures(
        size_mm=(x, y, z),
        overhang_area_mm2=overhang,
        support_volume_mm3=drop.support_mm3,
        holding_mm3=hold_mm3,
        support_mass_g=drop.support_mm3 * share * setting.material.density_g_cm3 / 1000.0,
        touch_area_mm2=overhang + drop.landing_mm2 + hold_touch,
        touch_show_mm2=touch_show,
        clear_overhang_mm2=clear_overhang_mm2(base, rotation, float(low[2]), setting),
        islands=len(found),
        height_mm=z + setting.lift_mm,
        layer_count=len(stack),
        contact_area_mm2=contact,
        largest_layer=_layer(stack, area),
        largest_growth=_layer(stack, growth),
        shadow_area_mm2=drop.shadow_mm2,
        flat_area_mm2=float(sums.flat_mm2[0]) + (lying if lifted else 0.0),
        tip_angle_deg=0.0 if lifted else tip_angle_deg(foot[:, :2], centre),
        centre_mm=(float(centre[0]), float(centre[1]), float(centre[2])),
        slenderness=slenderness(foot[:, :2], z),
        cusp_mm=float(sums.cusp[0]) * setting.layer_mm,
        cusp_show_mm=float(sums.cusp_show[0]) * setting.layer_mm,
        cups=tuple(find_cups(stack, on_plate=not lifted)) if setting.resin else (),
        peel_most=_layer(stack, peel) if len(peel) else None,
        peel_total_n=float(peel.sum()),
        load_angle_deg=load_angle_deg(rotation, setting.load),
        seconds=rough.seconds,
        mass_g=rough.mass_g,
        fits=setting.fits(turned, foot + low),
    )


def clear_overhang_mm2(
    base: Base, rotation: NDArray[np.float64], lowest_mm: float, setting: Setting
) -> float:
    """Area past the limit of what is kept clear, in a stance (3, 3) whose lowest point is at that height."""
    if base.clear is None:
        return 0.0
    turned = Mesh(base.clear.vertices @ rotation.T, base.clear.faces)
    normals, areas = facet_normals(turned)
    past = -normals[:, 2] > threshold(setting.limit_deg)
    if setting.lift_mm <= 0:
        tops = turned.vertices[:, 2][turned.faces].max(axis=1)
        past &= tops > lowest_mm + base.surface.tolerance_mm
    return float(areas[past].sum())


def _layer(stack: LayerStack, values: NDArray[np.float64]) -> LayerFigure:
    if not len(stack):
        return LayerFigure(0, 0.0, 0.0)
    at = first_largest(values)
    return LayerFigure(at, float(stack.z_mm[at]), float(values[at]))


def tip_angle_deg(foot_mm: NDArray[np.float64], centre_mm: NDArray[np.float64]) -> float:
    """Smallest tilt of the plate that tips a part over.

    Parameters
    ----------
    foot_mm : (k, 2) float64
        Points that touch the plate.
    centre_mm : (3,) float64
        Centre of mass, its height above the plate.

    Returns
    -------
    float
        ``atan(distance to the nearest edge of the foot / height)``; 0 where the part stands on an edge or a
        point, or its centre is not over its foot. Statics: it tips when the plumb line leaves the foot.
    """
    hull = plan_hull(foot_mm)
    if len(hull) < 3 or centre_mm[2] <= 0:
        return 0.0
    following = np.roll(hull, -1, axis=0)
    along = following - hull
    length = np.hypot(along[:, 0], along[:, 1])
    away = along[:, 0] * (centre_mm[1] - hull[:, 1]) - along[:, 1] * (centre_mm[0] - hull[:, 0])
    inside = float((away / np.maximum(length, 1e-12))[length > 1e-9].min())
    return max(0.0, math.degrees(math.atan2(inside, float(centre_mm[2]))))


def _rough(setting: Setting, stack: LayerStack, area_mm2: float, support_mm3: float) -> Estimate:
    amounts = Amounts(
        volume_mm3=float((stack.area_mm2 * stack.layer_mm).sum()),
        area_mm2=area_mm2,
        layers=len(stack) + round(setting.lift_mm / setting.layer_mm),
        layer_mm=setting.layer_mm,
        support_mm3=support_mm3,
    )
    return setting.estimate(amounts)


def holding(setting: Setting, contact_mm2: float, centre_mm: float) -> tuple[float, float]:
    """Volume (mm3) of posts that keep a part upright, and what they touch of it (mm2).

    Parameters
    ----------
    setting : Setting
    contact_mm2 : float
        What lies on the plate.
    centre_mm : float
        Height of the centre of mass over the lowest point.

    Returns
    -------
    tuple of float
        Nothing for a part that stands, and for one that supports hold anyway: lifted, or of resin.
    """
    if setting.resin or setting.lift_mm > 0 or contact_mm2 >= STANDS_MM2:
        return 0.0, 0.0
    return POSTS * POST_MM2 * max(centre_mm, LEAST_POST_MM), POSTS * POST_TOUCH_MM2


def slenderness(foot_mm: NDArray[np.float64], height_mm: float) -> float:
    """Height over the narrowest width of a foot (n, 2); infinite on an edge or a point."""
    hull = plan_hull(foot_mm)
    if len(hull) < 3:
        return math.inf
    along = np.roll(hull, -1, axis=0) - hull
    long = np.hypot(along[:, 0], along[:, 1])
    along, base = along[long > 1e-9] / long[long > 1e-9, None], hull[long > 1e-9]
    # The narrowest strip that holds a convex polygon lies along one of its edges.
    away = (hull[None] - base[:, None]) @ np.array([[0.0, 1.0], [-1.0, 0.0]])
    reach = np.abs(np.einsum("ijk,ik->ij", away, along)).max(axis=1)
    return height_mm / max(float(reach.min()), 1e-9)


def load_angle_deg(rotation: NDArray[np.float64], load: tuple[float, float, float] | None) -> float | None:
    """Angle between the main load and the layers after a rotation (3, 3), ``None`` without a load."""
    if load is None:
        return None
    direction = rotation @ (np.asarray(load) / np.linalg.norm(load))
    return math.degrees(math.asin(min(1.0, abs(float(direction[2])))))
