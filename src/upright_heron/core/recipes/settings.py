"""Settings that recipes read: frozen dataclasses that hold what one question depends on, and no more."""

from __future__ import annotations

from dataclasses import dataclass

from ..footing.footing import FootingKind, FootingSettings
from ..footing.under_drains import Mouths
from ..handoff.masks import Screen
from ..hollow.stays import Stays
from ..machines.catalogue import Material, Peel, Printer, Technology
from ..plates.in_turn import Clearance
from ..plates.nesting import Room
from ..split.cuts import Cut
from ..split.fittings import JointSetting
from ..stance.figures import Setting
from ..stance.proposals import Goals
from ..supports.demand.patches import Hold, Style
from ..supports.model import SupportSettings
from ..toolpaths.bill import Spool
from ..toolpaths.gcode import Writing
from ..toolpaths.laying import Laying
from ..toolpaths.process_table import Table
from ..toolpaths.support_paths import PropSetting
from ..toolpaths.timing import Running
from ..toolpaths.walls import Aside
from ..toolpaths.zones import Zone

Vector = tuple[float, float, float]


@dataclass(frozen=True, slots=True)
class PartFacts:
    """Facts of the part that were found when it came in: closed or not, volume, area."""

    closed: bool
    volume_mm3: float
    area_mm2: float


@dataclass(frozen=True, slots=True)
class Sized:
    """Factors that the part is sized by, along its own axes."""

    factors: Vector


@dataclass(frozen=True, slots=True)
class ThinWall:
    """Thinnest wall that the machine makes, mm."""

    thinnest_mm: float


@dataclass(frozen=True, slots=True)
class ChannelWidth:
    """Holes and channels narrower than this are looked for, mm."""

    width_mm: float


@dataclass(frozen=True, slots=True)
class Limit:
    """Self-supporting limit, degrees from vertical."""

    deg: float


@dataclass(frozen=True, slots=True)
class Turn:
    """Which way up: a unit quaternion (w, x, y, z) from the part as it came."""

    quaternion: tuple[float, float, float, float]


@dataclass(frozen=True, slots=True)
class Lift:
    """Height of the lowest point above the plate, in whole layers, mm."""

    mm: float


@dataclass(frozen=True, slots=True)
class LayerHeight:
    """Height of a layer, mm."""

    mm: float


@dataclass(frozen=True, slots=True)
class Walk:
    """What is looked for on the way up the layers."""

    spot_mm: float
    resin: bool
    step_factor: float


@dataclass(frozen=True, slots=True)
class FigureSetting:
    """What the figures of a stance depend on; the direction of the load too."""

    setting: Setting


@dataclass(frozen=True, slots=True)
class SearchSetting:
    """What stances are searched by; none is chosen by where the load points."""

    setting: Setting
    goals: Goals


@dataclass(frozen=True, slots=True)
class PaintedShow:
    """The show side is painted, and its facets count instead of a direction."""


@dataclass(frozen=True, slots=True)
class ShowDirection:
    """Direction of the show side, in the frame of the part."""

    show: Vector


@dataclass(frozen=True, slots=True)
class Bridges:
    """Longest bridge that carries itself, mm; nought where none does."""

    longest_mm: float


@dataclass(frozen=True, slots=True)
class Demand:
    """What is to be held, and what of the supports' sizes decides where contacts can be."""

    limit_deg: float
    hold: Hold
    smallest_mm2: float
    steady: int | None
    steady_at: float
    let_be: frozenset[str]
    spacing_mm: float
    branch_mm: float
    clearance_mm: float
    branch_deg: float
    from_plate: bool

    def supports(self) -> SupportSettings:
        """Return these sizes as settings of supports."""
        return SupportSettings(
            smallest_mm2=self.smallest_mm2,
            spacing_mm=self.spacing_mm,
            branch_mm=self.branch_mm,
            clearance_mm=self.clearance_mm,
            branch_deg=self.branch_deg,
            from_plate=self.from_plate,
        )


@dataclass(frozen=True, slots=True)
class Styles:
    """How patches are held: all, and by the id of one."""

    style: Style | None
    by_patch: tuple[tuple[str, Style], ...]


@dataclass(frozen=True, slots=True)
class FilamentSupports:
    """Settings of supports on a filament machine."""

    settings: SupportSettings


@dataclass(frozen=True, slots=True)
class ResinSupports:
    """Settings of stilts on a resin machine."""

    settings: SupportSettings


@dataclass(frozen=True, slots=True)
class Peeling:
    """Class of the material: how hard layers come off the film, and what tips bear."""

    peel: Peel


@dataclass(frozen=True, slots=True)
class Gone:
    """An automatic support that was taken out by hand: its id, its style, and where it touched (mm)."""

    id: str
    style: str
    at_mm: Vector


@dataclass(frozen=True, slots=True)
class TakenOut:
    """All automatic supports that were taken out by hand."""

    gone: tuple[Gone, ...]


@dataclass(frozen=True, slots=True)
class Tool:
    """Diameter of the tool that is to get at the contacts, mm."""

    mm: float


@dataclass(frozen=True, slots=True)
class FootingSetting:
    """What holds the part on the plate."""

    settings: FootingSettings


@dataclass(frozen=True, slots=True)
class AdviceSetting:
    """What a footing is advised by, of material, machine and shop."""

    shrinkage_percent: float
    heated: bool
    uneven: bool


@dataclass(frozen=True, slots=True)
class Box:
    """Largest size of a piece without its pegs, mm, and what of the part no cut may go through."""

    box_mm: Vector
    kept: tuple[tuple[Vector, ...], ...] = ()


@dataclass(frozen=True, slots=True)
class Parting:
    """Cuts of an item, or ``None`` for boxes, moved by a share of a box along each axis.

    What each cut parts is kept where joints are made of it.
    """

    cuts: tuple[Cut, ...] | None
    shift: Vector
    keep: bool


@dataclass(frozen=True, slots=True)
class Joining:
    """What the joints of an item that is cut must do."""

    joint: JointSetting


@dataclass(frozen=True, slots=True)
class BuildVolume:
    """Build volume of the machine, mm."""

    build_mm: Vector


@dataclass(frozen=True, slots=True)
class Listing:
    """What the words and states of findings depend on besides what was found."""

    limit_deg: float
    bridge_mm: float
    material: str
    resin: bool
    accepted: tuple[tuple[str, str], ...]
    supported: bool


@dataclass(frozen=True, slots=True)
class Costing:
    """What time and cost depend on besides volumes."""

    printer: Printer
    material: Material
    layer_mm: float
    walls: int
    infill: float
    every: int
    # How layers of resin are made.
    rows: Table
    # What a second nozzle prints: nothing, the interface, or everything; and in which material.
    second: str
    second_material: Material


@dataclass(frozen=True, slots=True)
class WallSetting:
    """Walls of filament: how many, how wide a line is, mm; stretches with another count; moved outlines."""

    count: int
    line_mm: float
    zones: tuple[Zone, ...] = ()
    aside: Aside | None = None


@dataclass(frozen=True, slots=True)
class SkinSetting:
    """Layers that are filled whole under what is exposed above, and over what is exposed below.

    ``gap_mm`` is the gap between supports and the part above them; ``bare`` and ``roofed`` as in ``Skins``.
    """

    top: int
    bottom: int
    line_mm: float
    gap_mm: float = 0.0
    bare: bool = False
    roofed: int = 0


@dataclass(frozen=True, slots=True)
class PathSetting:
    """How paths are laid; ``seam_line`` is on the part as it came, mm."""

    laying: Laying
    seam_line: tuple[Vector, ...] = ()


@dataclass(frozen=True, slots=True)
class SupportPathSetting:
    """How supports are laid."""

    asked: PropSetting


@dataclass(frozen=True, slots=True)
class HiddenSeam:
    """Seams look away from the painted show side."""


@dataclass(frozen=True, slots=True)
class RunSetting:
    """How the machine runs along paths."""

    running: Running


@dataclass(frozen=True, slots=True)
class GcodeSetting:
    """How G-code is written, and the temperatures (lowest, highest) that the materials take.

    ``spools`` are those of both nozzles; ``None`` where nothing is printed with the second. ``in_turn`` is
    what a head needs where items are printed one after the other.
    """

    running: Running
    writing: Writing
    spools: tuple[Spool, Spool | None]
    nozzle_range: tuple[float, float]
    bed_range: tuple[float, float]
    second_range: tuple[float, float] = (0.0, 0.0)
    line_mm: float = 0.44
    in_turn: Clearance | None = None


@dataclass(frozen=True, slots=True)
class Drilled:
    """Holes of a hollow part, in the frame of the part."""

    mouths: Mouths


@dataclass(frozen=True, slots=True)
class Masking:
    """What masks depend on besides outlines.

    Attributes
    ----------
    screen : Screen
    rows : tuple of Row
        How layers are made.
    outline_mm, first_outline_mm : float
        By how much outlines move outwards, and those of the first layers.
    """

    screen: Screen
    rows: Table
    outline_mm: float
    first_outline_mm: float


@dataclass(frozen=True, slots=True)
class Choices:
    """What was chosen for an item that its preflight asks for."""

    technology: Technology
    is_cut: bool
    has_supports: bool
    footing: FootingKind
    # The file brought supports, and nobody said yet what becomes of them.
    brought: bool
    # Of a hollow part.
    stays: Stays | None
    lifted: bool


@dataclass(frozen=True, slots=True)
class Naming:
    """Names of the objects that leave, and what the supports are printed with."""

    item: str
    second: str
    second_material: str


@dataclass(frozen=True, slots=True)
class Instance:
    """One item on a plate: its place (mm, from the middle; ``None`` where it is arranged), swing and copy."""

    item: str
    x_mm: float | None
    y_mm: float | None
    swing_deg: float
    copy: int


@dataclass(frozen=True, slots=True)
class Layout:
    """A plate: the machine's volume and favourite spot (mm), its instances, and the order of its items.

    ``items`` says for each binding of an item which item it is of, in their order; ``gap_mm`` is what they
    keep from each other, and ``worn`` places (x, y, radius) are kept free. ``in_turn`` is what a head needs
    where they are printed one after the other.
    """

    build_mm: Vector
    spot_mm: tuple[float, float]
    instances: tuple[Instance, ...]
    items: tuple[str, ...]
    gap_mm: float = 0.0
    worn: tuple[tuple[float, float, float], ...] = ()
    in_turn: Clearance | None = None


@dataclass(frozen=True, slots=True)
class ToArrange:
    """What is to be laid on the plates of a job, and how.

    Attributes
    ----------
    room : Room
    build_high_mm : float
        Higher ones fit no plate.
    instances : tuple of Instance
        All of them, with the places of those that are locked.
    locks : tuple of (int, int, bool, bool, bool)
        Which of ``instances`` stays on which plate, and whether x, y and swing are locked.
    items : tuple of str
        Which item each binding of an item is of, in their order.
    boxes : bool
        Boxes round the outlines are laid instead of the outlines.
    seconds : int
        For so long a tighter arrangement is looked for; 0 for the first that is found.
    ties : tuple of tuple of int
        Which of ``instances`` stay as they are to each other; their places count from the first of them, or
        from the plate where they are locked.
    ranks : tuple of int
        For each of ``instances``: what has a lower one is laid first; empty where all are alike.
    rail_mm : float, optional
        Higher than this a plate bears one only, mm.
    """

    room: Room
    build_high_mm: float
    instances: tuple[Instance, ...]
    locks: tuple[tuple[int, int, bool, bool, bool], ...]
    items: tuple[str, ...]
    boxes: bool = False
    seconds: int = 0
    ties: tuple[tuple[int, ...], ...] = ()
    ranks: tuple[int, ...] = ()
    rail_mm: float | None = None


@dataclass(frozen=True, slots=True)
class Title:
    """Name of the job, as it stands in files."""

    name: str
