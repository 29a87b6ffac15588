"""What must be held, and why: patches of the part, from findings, marks and the technician's say."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property

import numpy as np
from manifold3d import CrossSection, OpType
from numpy.typing import NDArray

from ...geometry.mesh import Mesh
from ...geometry.plan_shapes import shape_of
from ...geometry.tree import Tree
from ...hanging.findings import Family, Hanging, finding_id
from ...hanging.overhang_regions import Kind, Region
from ...hanging.overhangs import hanging_layers, unheld_sections
from ...layers.layer_components import Pieces, pieces
from ...layers.stack import LayerStack, pack
from ...progress import Progress, silent
from ...tags import stored
from .demand_overrides import Wishes

# A pointed island is widened to a pad that a support can stand under.
PAD_MM = 0.8
# What is painted within this of a patch is held with it.
ANYWAY_MM = 0.5
CRUMB_MM2 = 0.3
THIN_MM = 0.03
# Up to this a patch is a spot: a post holds it.
SPOT_MM2 = 12.0
SPOT_MM = 4.5
# A broad flat underside, no higher than so many times its width, is held by lines.
BROAD_MM2 = 60.0


class Hold(StrEnum):
    """What is to be held."""

    ALL = "everything that needs it"
    ISLANDS = "islands and what is painted"
    PAINTED = "only what is painted"


class Style(StrEnum):
    """How a patch is held."""

    LINES = "lines"
    GRID = "grid"
    PILLAR = "pillar"
    TREE = "tree"
    NONE = "none"

    @property
    def words(self) -> str:
        """What it is called."""
        return {Style.PILLAR: "pillars"}.get(self, self.value)


# Styles that stand upright below what they hold.
UPRIGHT = (Style.LINES, Style.GRID)

Spot = tuple[float, float, float]


@stored("patch")
@dataclass(frozen=True, eq=False)
class Patch:
    """A stretch of the part that must be held.

    Attributes
    ----------
    id : str
        That of the finding it comes from.
    reasons : tuple of str
        Such as ``island 3`` or ``overhang 7`` or ``painted``.
    plans : dict of int to CrossSection
        What begins to need holding, by layer of the part.
    at_mm : (x, y, z)
        Its lowest point.
    area_mm2 : float
        In plan.
    flat : bool
        Its underside is level.
    high_mm : float
        Mean height over what is below it.
    spots : tuple of (x, y, z)
        Where supports are to end, on the side of the part; elsewhere they are spread below it.
    islands : tuple of int
        Numbers of the islands in it.
    steadying : bool
        It keeps the part from shaking and holds nothing up.
    """

    id: str
    reasons: tuple[str, ...]
    plans: dict[int, CrossSection]
    at_mm: tuple[float, float, float]
    area_mm2: float
    flat: bool
    high_mm: float
    spots: tuple[Spot, ...] = ()
    islands: tuple[int, ...] = ()
    steadying: bool = False

    @property
    def reason(self) -> str:
        """All reasons in words."""
        return ", ".join(self.reasons)

    @cached_property
    def probes(self) -> dict[tuple[int, float], NDArray[np.float64]]:
        """Points (n, 2) of plans that the check looked at, by layer and spacing: the same at every check."""
        return {}

    @cached_property
    def outline(self) -> CrossSection:
        """Its footprint, thinned by ``THIN_MM``."""
        return self.footprint.simplify(THIN_MM)

    @cached_property
    def half_width_mm(self) -> float:
        """Area of its outline by the length of it: of a strip half its width."""
        rings = self.outline.to_polygons()
        way = sum(float(np.hypot(*(np.roll(r, -1, axis=0) - r).T).sum()) for r in rings)
        return float(self.outline.area()) / way if way else 0.0

    @cached_property
    def footprint(self) -> CrossSection:
        """All its plans together."""
        return CrossSection.batch_boolean(list(self.plans.values()), OpType.Add)


def by_layer(patches: Sequence[Patch], layers: int) -> list[CrossSection | None]:
    """What patches have begin in each of so many layers, together."""
    found: list[CrossSection | None] = [None] * layers
    for patch in patches:
        for layer, plan in patch.plans.items():
            known = found[layer]
            found[layer] = plan if known is None else known + plan
    return found


def proposed_style(patch: Patch) -> tuple[Style, str]:
    """The style that usually suits a patch, and why (common practice)."""
    if patch.spots:
        if patch.steadying:
            return Style.PILLAR, "posts beside the part keep it from shaking"
        return Style.TREE, "branches reach walls from below"
    x0, y0, x1, y1 = patch.footprint.bounds()
    compact = max(x1 - x0, y1 - y0) <= SPOT_MM
    if patch.area_mm2 <= SPOT_MM2 and compact and patch.high_mm <= 60.0:
        return Style.PILLAR, "a spot: one post holds it"
    if patch.flat and patch.area_mm2 >= BROAD_MM2:
        return Style.LINES, "broad and flat: lines hold it evenly"
    if patch.high_mm > 3.0:
        shape = "small" if patch.flat else "rounded"
        return Style.TREE, f"{shape}: branches touch little and use little"
    return Style.LINES, "low: lines are quick"


@dataclass(frozen=True, slots=True)
class Measure:
    """What is held.

    Attributes
    ----------
    limit_deg : float
    hold : Hold
    let_be : frozenset of str
        Ids of findings that the technician accepted.
    smallest_mm2 : float
        Smaller patches are left out, islands and painted ones never.
    """

    limit_deg: float
    hold: Hold = Hold.ALL
    let_be: frozenset[str] = frozenset()
    smallest_mm2: float = 1.0


def patches(
    stack: LayerStack,
    placed: Mesh,
    hanging: Hanging,
    island_pieces: Pieces,
    measure: Measure,
    *,
    wishes: Wishes | None = None,
    tree: Tree | None = None,
    progress: Progress = silent,
) -> list[Patch]:
    """Gather what must be held into patches.

    Parameters
    ----------
    stack : LayerStack
    placed : Mesh
        The part in its stance.
    hanging : Hanging
        Islands and regions of the same stance.
    island_pieces : Pieces
        That the islands are numbered in.
    measure : Measure
    wishes : Wishes, optional
        What bridges and marks change.
    tree : Tree, optional
        Of the placed mesh.
    progress : Progress

    Returns
    -------
    list of Patch
        From the lowest up.

    Notes
    -----
    What reaches too far over the layer below is found layer by layer, exactly; each piece of it belongs to
    the overhang region whose facet lies over it. Pieces under no region are the ripple of a texture.
    """
    gathered = _Gathered(stack)
    region_of = np.full(len(placed.faces), -1, np.int64)
    for k, region in enumerate(hanging.regions):
        region_of[region.facets] = k
    tree = tree or Tree.of(placed)
    if measure.hold is Hold.ALL:
        # What lies under no region is dropped below: only layers that a region begins in are looked at.
        begun = hanging_layers(stack, placed, np.flatnonzero(region_of >= 0))
        demand = unheld_sections(stack, measure.limit_deg, within=begun, progress=progress)
        if wishes is not None:
            wishes.leave_out(demand)
        for layer, piece, over in _told_apart(stack, demand, region_of, tree):
            key = _region_id(hanging.regions[over])
            gathered.add(key, layer, piece)
            gathered.regions.setdefault(key, hanging.regions[over])
    if measure.hold is not Hold.PAINTED:
        for island in hanging.islands:
            key = finding_id(Family.ISLAND, island.x_mm, island.y_mm, island.z_mm)
            over = _hit(tree, region_of, island.x_mm, island.y_mm, island.z_mm - 0.5 * stack.layer_mm)
            region_key = _region_id(hanging.regions[over]) if over >= 0 else ""
            own = region_key if region_key in gathered.plans else key
            if key in measure.let_be and own == key:
                continue
            pad = CrossSection.circle(PAD_MM, 24).translate((island.x_mm, island.y_mm))
            plan = island_pieces.section(island.piece) + pad
            if wishes is not None and island.layer in wishes.left_out:
                plan = plan - wishes.left_out[island.layer]
            if not plan.is_empty():
                gathered.add(own, island.layer, plan)
                gathered.named(own, island.number, (island.x_mm, island.y_mm, island.z_mm))
    found = gathered.patches(measure.let_be, measure.smallest_mm2)
    if wishes is not None:
        found += _painted(stack, wishes, found)
    return sorted(found, key=lambda p: (round(p.at_mm[2], 3), p.at_mm[0], p.at_mm[1]))


def _region_id(region: Region) -> str:
    return finding_id(Family.OVERHANG, *region.lowest_mm)


def _hit(tree: Tree, region_of: NDArray[np.int64], x: float, y: float, z: float) -> int:
    _, facet = tree.first_hits(np.array([[x, y, z]]), np.array([[0.0, 0.0, 1.0]]), np.array([-1]))
    return int(region_of[facet[0]]) if facet[0] >= 0 else -1


def _told_apart(
    stack: LayerStack, demand: list[CrossSection | None], region_of: NDArray[np.int64], tree: Tree
) -> list[tuple[int, CrossSection, int]]:
    """Pieces of the demand below regions, with their layer and the region over them."""
    rings = [[] if section is None else section.to_polygons() for section in demand]
    found = pieces(pack(rings, np.zeros(len(rings)), stack.layer_mm, stack.base_mm))
    if not len(found):
        return []
    # From the middle of the layer below: a piece begins on a facet between that and its own.
    origin = np.column_stack([found.inside_mm, stack.base_mm + (found.layer - 0.5) * stack.layer_mm])
    up = np.tile([0.0, 0.0, 1.0], (len(origin), 1))
    _, facet = tree.first_hits(origin, up, np.full(len(origin), -1))
    region = np.where(facet >= 0, region_of[np.maximum(facet, 0)], -1)
    return [
        (int(found.layer[k]), found.section(k), int(region[k])) for k in np.flatnonzero(region >= 0).tolist()
    ]


def layer_of(stack: LayerStack, z_mm: float) -> int:
    """Layer of the part in which a contact on its side is looked for; never the first."""
    return max(1, min(len(stack) - 1, int((z_mm - stack.base_mm) / stack.layer_mm)))


def inside_of(piece: CrossSection) -> tuple[float, float]:
    """A point inside a polygon, off its edges: the middle of the widest of its rows."""
    import shapely

    shape = shape_of(piece)
    point = shapely.point_on_surface(shape if shape.is_valid else shape.buffer(0))
    if point.is_empty:
        x0, y0, x1, y1 = piece.bounds()
        return 0.5 * (x0 + x1), 0.5 * (y0 + y1)
    return float(point.x), float(point.y)


class _Gathered:
    """Plans by the id of what they hold."""

    def __init__(self, stack: LayerStack) -> None:
        self.stack = stack
        self.plans: dict[str, dict[int, CrossSection]] = {}
        self.regions: dict[str, Region] = {}
        self.islands: dict[str, list[tuple[int, tuple[float, float, float]]]] = {}

    def add(self, key: str, layer: int, plan: CrossSection) -> None:
        """Put a plan to what is gathered under a key."""
        known = self.plans.setdefault(key, {})
        known[layer] = known[layer] + plan if layer in known else plan

    def named(self, key: str, number: int, at: tuple[float, float, float]) -> None:
        """Note an island that is held under a key."""
        self.islands.setdefault(key, []).append((number, at))

    def patches(self, let_be: frozenset[str], smallest_mm2: float) -> list[Patch]:
        """Make patches of all that is not let be."""
        found = []
        for key, plans in self.plans.items():
            if key in let_be:
                continue
            region, islands = self.regions.get(key), self.islands.get(key, [])
            area = float(sum(plan.area() for plan in plans.values()))
            if not islands and area < smallest_mm2:
                continue
            numbers = tuple(number for number, _ in islands)
            reasons = [f"island {number}" for number in numbers]
            if region is not None:
                reasons.append(f"overhang {region.number}")
            at = region.lowest_mm if region is not None else islands[0][1]
            flat = region is not None and region.kind == Kind.CEILING
            high = region.gap_mm if region is not None else at[2]
            found.append(Patch(key, tuple(reasons), plans, at, area, flat, high, islands=numbers))
        return found


def _painted(stack: LayerStack, wishes: Wishes, known: Sequence[Patch]) -> list[Patch]:
    """What is painted to be held and is not held anyway, in stretches that lie beside or over each other."""
    groups: list[dict[int, CrossSection]] = []
    others = [(min(p.plans), max(p.plans), p.footprint.offset(ANYWAY_MM)) for p in known]
    for layer in sorted(wishes.added):
        asked = wishes.added[layer]
        for low, high, footprint in others:
            if low - 2 <= layer <= high + 2:
                asked = asked - footprint
        for piece in asked.decompose():
            if piece.area() < CRUMB_MM2:
                continue
            grown = piece.offset(0.2)
            home = None
            for group in groups:
                below = group.get(layer) or group.get(layer - 1)
                if below is not None and not (below ^ grown).is_empty():
                    home = group
                    break
            if home is None:
                home = {}
                groups.append(home)
            home[layer] = home[layer] + piece if layer in home else piece
    found = []
    for group in groups:
        low = min(group)
        x, y = inside_of(group[low])
        z = stack.bottom_mm(low)
        area = float(sum(plan.area() for plan in group.values()))
        key = finding_id(Family.OVERHANG, x, y, z)[::-1]
        found.append(Patch(key, ("painted",), group, (x, y, z), area, len(group) <= 2, z))
    return found
