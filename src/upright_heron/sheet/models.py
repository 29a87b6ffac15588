"""The job sheet and its parts. Every number is in millimetres and degrees unless its name says otherwise."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated, Literal

from pydantic import Field

from ..core.footing.footing import FootingSettings
from ..core.machines.catalogue import MATERIALS, Material, Printer, Technology, limit_for, material, printer
from ..core.stance.figures import Setting
from ..core.stance.search import GOALS, MIXES, Goals
from ..core.supports.model import SupportSettings
from ..core.units import OFFERED, UnitQuestion, judge_unit
from .document import Document, Length, Name
from .process import Footing, Preset, Process, Second, Supports
from .shop import Calibration, OwnMaterial, OwnPrinter

Quaternion = tuple[float, float, float, float]
Vector = tuple[float, float, float]
Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{32}$")]
UPRIGHT: Quaternion = (1.0, 0.0, 0.0, 0.0)


class PaintedMarks(Document):
    """What is painted on a part: the bytes are kept apart, under their digest.

    ``demand`` and ``show`` are digests of what supports and what stances depend on: a stroke for one leaves
    the results of the other as they are.
    """

    digest: Digest
    of: Digest
    prop_mm2: float = 0.0
    clear_mm2: float = 0.0
    show_mm2: float = 0.0
    # Painted area that could not be carried when the part was sized or mended.
    lost_mm2: float = 0.0
    demand: str = ""
    show: str = ""


class Part(Document):
    """A surface with the facts that never change."""

    file_name: str = Field(max_length=200)
    mesh: Digest
    facets: int
    size_mm: Vector
    volume_mm3: float
    area_mm2: float
    closed: bool
    shells: int
    open_edges: int = 0
    notes: tuple[str, ...] = ()
    format: str = "STL"
    # The unit that the file stated, and what one of its numbers was taken for.
    stated_unit: str | None = None
    mm_per_number: float = 1.0
    # What the file came painted with.
    painted: PaintedMarks | None = None


Share = Annotated[float, Field(gt=0, le=1e4, allow_inf_nan=False)]
Shrinkage = Annotated[float, Field(ge=-20, le=20, allow_inf_nan=False)]


class Size(Document):
    """How the part is sized, along its own axes as it came: unit, scale, mirror, shrinkage correction."""

    unit: Literal["", "mm", "cm", "inch", "m"] = ""
    scale: tuple[Share, Share, Share] = (1.0, 1.0, 1.0)
    mirror: tuple[bool, bool, bool] = (False, False, False)
    shrinkage_percent: tuple[Shrinkage, Shrinkage, Shrinkage] = (0.0, 0.0, 0.0)

    @property
    def unit_factor(self) -> float:
        """Millimetres of the unit chosen for a file that states none."""
        return OFFERED[self.unit] if self.unit else 1.0

    @property
    def factors(self) -> Vector:
        """What x, y and z are multiplied with."""
        x, y, z = (
            self.unit_factor * scale * (-1.0 if mirrored else 1.0) * (1.0 + shrinkage / 100.0)
            for scale, mirrored, shrinkage in zip(
                self.scale, self.mirror, self.shrinkage_percent, strict=True
            )
        )
        return (x, y, z)

    def scaled(self, percent: float) -> Size:
        """Return the size with all axes at a percentage of how the part came."""
        return self._with(scale=(percent / 100,) * 3)

    def mirrored(self, axis: str) -> Size:
        """Return the size with an axis mirrored, or back again."""
        return self._with(mirror=tuple(m != (a == axis) for a, m in zip("xyz", self.mirror, strict=True)))

    def reset(self) -> Size:
        """Return the size the part came with; a unit that was chosen stays."""
        return Size(unit=self.unit)

    def nominal_mm(self, sides_mm: Vector) -> Vector:
        """Sides of a part once it is printed: before shrinkage is corrected for."""
        x, y, z = (side * self.unit_factor * scale for side, scale in zip(sides_mm, self.scale, strict=True))
        return (x, y, z)

    def aimed(self, sides_mm: Vector, target_mm: Sequence[float | None], together: bool) -> Size:
        """Return the size that gives the part some of its sides.

        Parameters
        ----------
        sides_mm : (x, y, z)
            Of the part before sizing.
        target_mm : three of float or None
            Sides wanted of the printed part: shrinkage correction comes on top.
        together : bool
            All sides follow the first that is wanted.
        """
        wanted = [
            None if target is None or side <= 0 else target / (side * self.unit_factor)
            for side, target in zip(sides_mm, target_mm, strict=True)
        ]
        lead = next(((i, w) for i, w in enumerate(wanted) if w is not None), None)
        if lead is None:
            return self
        if together:
            ratio = lead[1] / self.scale[lead[0]]
            return self._with(scale=tuple(old * ratio for old in self.scale))
        return self._with(
            scale=tuple(old if w is None else w for old, w in zip(self.scale, wanted, strict=True))
        )

    def _with(self, **fields: object) -> Size:
        return Size.model_validate({**self.model_dump(), **fields})

    @property
    def plain(self) -> bool:
        """Nothing but the unit was chosen."""
        return self == self.reset()

    @property
    def untouched(self) -> bool:
        """The part has the size it came with."""
        return self.factors == (1.0, 1.0, 1.0)


class Grid(Document):
    """Cut into a grid of boxes: the build volume less a margin on every side."""

    margin_mm: Annotated[Length, Field(ge=0)] = 3.0


class Stance(Document):
    """Which way up: a turn of the part as it came, and a lift above the plate."""

    quaternion: Quaternion = UPRIGHT
    lift_mm: Annotated[Length, Field(ge=0, le=100)] = 0.0
    name: str = "as it came"


Weight = Annotated[float, Field(ge=0, le=5)]


class StanceGoals(Document):
    """Weights of the goals that stances are searched by; 0 where not given."""

    less_support: Weight = 0.0
    shorter_print: Weight = 0.0
    clean_show: Weight = 0.0
    better_surface: Weight = 0.0
    firm: Weight = 0.0
    smaller_layers: Weight = 0.0

    @classmethod
    def mix(cls, name: str) -> StanceGoals:
        """A starting mix by its name."""
        return cls(**{goal: getattr(MIXES[name], goal) for goal in GOALS})

    def goals(self) -> Goals:
        """Return them as the core takes them."""
        return Goals(**self.model_dump())


class Removed(Document):
    """An automatic support that was taken out by hand: it stays out when the rest is made again."""

    id: str = Field(max_length=40)
    style: str = Field(default="", max_length=20)
    at_mm: Vector


class HandWork(Document):
    """What was done to supports by hand in one stance; the supports themselves are kept apart.

    ``of`` names the stance. The other supports were made round those of ``around``, for what ``made_for``
    stands for; as soon as that is something else they are made round all that is kept.
    """

    of: str = ""
    kept: Digest | None = None
    count: Annotated[int, Field(ge=0)] = 0
    removed: tuple[Removed, ...] = ()
    made_for: str = ""
    around: Digest | None = None


class Variant(Document):
    """Support settings with their limit and work by hand, kept under a name to compare."""

    name: Name
    supports: Supports
    hand: HandWork = HandWork()
    limit_deg: Annotated[float, Field(ge=0, le=90)]


class PartWork(Document):
    """What is decided for one part of a job; ``JobSheet`` itself has these fields for the part shown."""

    part: Part
    # What the part was before it was mended and sized; empty while it is as it came.
    came: Part | None = None
    mended: Part | None = None
    mending: tuple[str, ...] = ()
    # The furthest that mending moved the surface of the part as it came.
    moved_mm: float = 0.0
    size: Size = Size()
    grid: Grid | None = None
    stance: Stance = Stance()
    # Directions in the frame of the part: the side that must stay clean, and where the main load points.
    show: Vector | None = None
    load: Vector | None = None
    goals: StanceGoals | None = None
    supports: Supports | None = None
    hand: HandWork = HandWork()
    variants: tuple[Variant, ...] = ()
    footing: Footing = Footing()
    # Findings that the technician lets be, by id, each with a note; they go with the stance they are in.
    accepted: dict[str, str] = {}
    marks: PaintedMarks | None = None
    # Holes and channels narrower than this are proposed to be kept clear.
    channel_mm: Annotated[Length, Field(gt=0, le=200)] | None = None


class JobSheet(PartWork):
    """One job: everything that was decided, and nothing that is computed from it."""

    name: str = Field(min_length=1, max_length=120)
    # The parts that are not shown, in their order, and the place of the shown one among all.
    others: tuple[PartWork, ...] = ()
    at: Annotated[int, Field(ge=0)] = 0
    printer: str = "Sedge 300"
    material: str = "PLA"
    layer_mm: Annotated[Length, Field(ge=0.005, le=5)] = 0.2
    limit_deg: Annotated[float, Field(ge=0, le=90)] | None = None
    # A layer of so many times the area of its neighbour is listed.
    step_factor: Annotated[float, Field(ge=1.2, le=100)] = 2.0
    # Taken from the shop's shelf when they were picked, so that the job stays whole whatever becomes of them.
    own_printer: OwnPrinter | None = None
    own_material: OwnMaterial | None = None
    calibration: Calibration | None = None
    process: Process = Process()
    # A copy of the preset that was taken, to tell what differs from it.
    preset: Preset | None = None
    notes: str = Field(default="", max_length=4000)

    @property
    def parts(self) -> tuple[PartWork, ...]:
        """All parts of the job, in their order."""
        shown = PartWork(**{name: getattr(self, name) for name in PartWork.model_fields})
        at = min(self.at, len(self.others))
        return (*self.others[:at], shown, *self.others[at:])

    def with_parts(self, parts: Sequence[PartWork], shown: int) -> JobSheet:
        """Return the sheet with these parts, one of which is shown."""
        at = max(0, min(shown, len(parts) - 1))
        rest = (*parts[:at], *parts[at + 1 :])
        one = {name: getattr(parts[at], name) for name in PartWork.model_fields}
        return self.model_copy(update={**one, "others": rest, "at": at})

    def showing(self, index: int) -> JobSheet:
        """Return the sheet with another part shown: the same job, looked at elsewhere."""
        return self if index == self.at or not self.others else self.with_parts(self.parts, index)

    @property
    def each(self) -> list[JobSheet]:
        """The sheet once for each part, in their order, with that part shown."""
        return [self.showing(index) for index in range(len(self.others) + 1)]

    @property
    def part_name(self) -> str:
        """Name of the shown part: of the job, or of its file where the job has several."""
        if not self.others:
            return self.name
        return f"{self.at + 1} {self.part.file_name.rsplit('.', 1)[0]}"

    @property
    def original(self) -> Part:
        """The part as it came."""
        return self.came or self.part

    @property
    def base(self) -> Part:
        """The part that is sized: mended or as it came."""
        return self.mended or self.original

    @property
    def unmended(self) -> Part | None:
        """What the part was before it was mended, in the size it came; ``None`` while it is unmended."""
        return self.original if self.mended else None

    @property
    def nominal_mm(self) -> Vector:
        """Sides of the printed part, along its axes as it came."""
        return self.size.nominal_mm(self.base.size_mm)

    @property
    def unit_question(self) -> UnitQuestion:
        """What is known of the part's unit; a unit that was chosen ends the question."""
        asked = judge_unit(
            self.original.size_mm,
            self.original.stated_unit,
            self.machine.build_mm,
            self.original.mm_per_number,
        )
        return replace(asked, question=False, name=self.size.unit) if self.size.unit else asked

    @property
    def thinnest_mm(self) -> float:
        """Thinnest wall that the machine makes: one bead, or four pixels (common practice)."""
        return round(self.machine.line_width_mm * (4 if self.is_resin else 1), 3)

    @property
    def spot_mm(self) -> float:
        """Narrowest thing that starts in one piece: the nozzle, or three pixels."""
        return self.machine.finest_mm * (3 if self.is_resin else 1)

    @property
    def machine(self) -> Printer:
        """The printer."""
        return self.own_printer.core() if self.own_printer else printer(self.printer)

    @property
    def stuff(self) -> Material:
        """The material."""
        return self.own_material.core() if self.own_material else material(self.material)

    @property
    def second_prints(self) -> bool:
        """Whether a second nozzle prints something of the supports."""
        held = self.supports
        return held is not None and held.second is not Second.NOTHING and self.machine.nozzles > 1

    @property
    def second_stuff(self) -> Material:
        """The material of the second nozzle; that of the part where none is known by its name."""
        name = self.supports.second_material if self.supports is not None else ""
        own = {m.name: m for m in MATERIALS if m.technology is self.machine.technology}
        return own.get(name, self.stuff)

    @property
    def is_resin(self) -> bool:
        """Whether the printer is a resin machine."""
        return self.machine.technology is Technology.RESIN

    @property
    def proposed_limit_deg(self) -> float:
        """The limit that was measured for printer and material, or else the one they usually have."""
        if self.measured is not None:
            return self.measured.limit_deg
        return limit_for(self.machine, self.stuff)

    @property
    def measured(self) -> Calibration | None:
        """What the shop measured for this printer with this material."""
        known = self.calibration
        same = known is not None and (known.printer, known.material) == (self.printer, self.material)
        return known if same else None

    @property
    def bridge_mm(self) -> float:
        """The longest bridge that carries itself: set in the job, or the usual one."""
        if self.supports is not None and self.supports.bridge_mm is not None:
            return self.supports.bridge_mm
        return self.usual_bridge_mm

    @property
    def usual_bridge_mm(self) -> float:
        """The longest bridge that carries itself on this printer in this material."""
        if self.measured is not None and self.measured.bridge_mm is not None:
            return self.measured.bridge_mm
        return self.stuff.bridge_mm

    @property
    def shrinkage_correction_percent(self) -> float:
        """What each side is made longer by, so that it has its size after the material has shrunk."""
        return round(100.0 / (1.0 - self.stuff.shrinkage_percent / 100.0) - 100.0, 2)

    def as_preset(self, name: str = "") -> Preset:
        """What a preset would keep of this sheet; its name is proposed from what is in it."""
        kept = Preset(
            name=name or "-",
            technology=self.machine.technology,
            layer_mm=self.layer_mm,
            process=self.process,
            # Styles of single patches belong to this part.
            supports=self.supports and self.supports.model_copy(update={"by_patch": {}, "plate_only": {}}),
            footing=self.footing,
        )
        return kept if name else kept.model_copy(update={"name": kept.proposed_name})

    @property
    def unlike_preset(self) -> list[str]:
        """In words, what differs from the preset that was taken."""
        return self.preset.unlike(self.as_preset("-")) if self.preset else []

    @property
    def limit(self) -> float:
        """The limit in force: typed, or else proposed."""
        return self.proposed_limit_deg if self.limit_deg is None else self.limit_deg

    @property
    def lift_mm(self) -> float:
        """The lift in force: whole layers, so that supports and part share their layers."""
        return round(self.stance.lift_mm / self.layer_mm) * self.layer_mm

    def setting(self) -> Setting:
        """What the figures of a stance depend on besides the part."""
        painted = self.marks is not None and self.marks.show_mm2 > 0
        return Setting(
            printer=self.machine,
            material=self.stuff,
            limit_deg=self.limit,
            layer_mm=self.layer_mm,
            lift_mm=self.lift_mm,
            walls=self.process.walls,
            infill=self.process.infill_percent / 100.0,
            show=None if painted else self.show,
            load=self.load,
            painted=painted,
        )

    def support_settings(self) -> SupportSettings:
        """Return the settings of supports as the core takes them, for the machine and its layers."""
        chosen = self.supports or Supports()
        return chosen.settings(self.machine.line_width_mm, self.layer_mm)

    def footing_settings(self) -> FootingSettings:
        """Return the footing as the core takes it; a resin raft is fused to the feet, so it has no gap."""
        return FootingSettings(
            kind=self.footing.kind,
            lines=self.footing.lines,
            line_width_mm=0.5 if self.is_resin else self.machine.line_width_mm,
            margin_mm=self.footing.margin_mm,
            raft_layers=max(1, round(1.0 / self.layer_mm)),
            gap_mm=0.0 if self.is_resin else self.footing.gap_mm,
        )
