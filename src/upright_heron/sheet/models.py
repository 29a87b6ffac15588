"""The job sheet. Every number is in millimetres and degrees unless its name says otherwise."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from functools import cached_property
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from ..core.footing.footing import FootingKind, FootingSettings
from ..core.hollow.stays import TURNED, Stays
from ..core.machines.catalogue import (
    MATERIALS,
    STRAND,
    Material,
    Printer,
    Technology,
    limit_for,
    material,
)
from ..core.split.fittings import FITS
from ..core.stance.figures import Setting
from ..core.supports.model import SupportSettings
from ..core.toolpaths.beads import Kind
from ..core.toolpaths.process_table import Table, table_of
from ..core.units import UnitQuestion, judge_unit
from .by_height import StrandZone
from .document import Document, Length, Vector
from .item import Decisions, Elsewhere, Item
from .order import Order
from .plating import Instance, Plate, Plating
from .process import FilamentSupports, Preset, Process, ResinSupports, Second, usual_supports
from .shop import Calibration, OwnMaterial, OwnPrinter, machine_of, pair_name

SCHEMA = 3
# What whoever looks at a part as it came sees of it.
FRONT = (0.0, -1.0, 0.0)


class JobSettings(Document):
    """What is decided for a job as a whole: all its items are read with it."""

    name: str = Field(min_length=1, max_length=120)
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
    plating: Plating = Plating()
    # A copy of the preset that was taken, to tell what differs from it.
    preset: Preset | None = None
    notes: str = Field(default="", max_length=4000)
    order: Order = Order()
    # What nobody has chosen yet: the usual stands in, and the page asks.
    asked: tuple[Literal["printer", "material"], ...] = ()

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
        return machine_of(self.printer, self.own_printer)

    @property
    def stuff(self) -> Material:
        """The material."""
        return self.own_material.core() if self.own_material else material(self.material)

    @property
    def rows(self) -> Table:
        """How layers of resin are made: as typed, or else as usual; nothing on a filament machine."""
        return (
            table_of(self.process.table, self.machine, self.stuff, self.layer_mm)[0] if self.is_resin else ()
        )

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
    def in_turn(self) -> bool:
        """Items of a plate are printed one after the other."""
        return self.plating.in_turn and not self.is_resin

    @property
    def apart_mm(self) -> float:
        """What items on a plate keep from each other: in turn, the head has to pass."""
        return max(self.plating.gap_mm, self.machine.head_mm) if self.in_turn else self.plating.gap_mm

    @property
    def pair(self) -> str:
        """What the shop keeps of the printer with the material is kept under this."""
        return pair_name(self.printer, self.material)

    @property
    def measured(self) -> Calibration | None:
        """What the shop measured for this printer with this material."""
        known = self.calibration
        same = known is not None and (known.printer, known.material) == (self.printer, self.material)
        return known if same else None

    @property
    def usual_bridge_mm(self) -> float:
        """The longest bridge that carries itself on this printer in this material."""
        if self.measured is not None and self.measured.bridge_mm is not None:
            return self.measured.bridge_mm
        return self.stuff.bridge_mm

    @property
    def usual_clearance_mm(self) -> float:
        """Clearance of joints on each side: what was measured, or that of a sliding fit."""
        if self.measured is not None and self.measured.clearance_mm is not None:
            return self.measured.clearance_mm
        return FITS["sliding"]

    @property
    def shrinkage_correction_percent(self) -> float:
        """What each side is made longer by, so that it has its size after the material has shrunk."""
        return round(100.0 / (1.0 - self.stuff.shrinkage_percent / 100.0) - 100.0, 2)

    @property
    def limit(self) -> float:
        """The limit in force: typed, or else proposed."""
        return self.proposed_limit_deg if self.limit_deg is None else self.limit_deg


class JobSheet(JobSettings):
    """One job: everything that was decided, and nothing that is computed from it."""

    schema_version: Literal[3] = 3
    items: Annotated[tuple[Item, ...], Field(min_length=1)]
    plates: Annotated[tuple[Plate, ...], Field(min_length=1)] = (Plate(),)

    @model_validator(mode="after")
    def _agrees(self) -> JobSheet:
        goes = {item.id: item.elsewhere for item in self.items}
        if len(goes) != len(self.items):
            raise ValueError("two items have one id")
        if any(one.item not in goes for plate in self.plates for one in plate.instances):
            raise ValueError("an item on a plate is not in the job")
        for plate in self.plates:
            if len({goes[one.item] for one in plate.instances}) > 1:
                raise ValueError("items of one plate go to two printers or are of two materials")
        return self

    @cached_property
    def settings(self) -> dict[str, Any]:
        """What is decided for all items, by name, and how many these are."""
        return {name: self.__dict__[name] for name in JobSettings.model_fields} | {"count": len(self.items)}

    @cached_property
    def sheets(self) -> dict[str, ItemSheet]:
        """Sheets of its items that were asked for: it never changes, and a request asks many times."""
        return {}

    @cached_property
    def alike(self) -> dict[str, dict[Any, Any]]:
        """Room for what its items that were decided alike have in common, by what was decided."""
        return {}

    @cached_property
    def numbers(self) -> dict[str, int]:
        """Numbers of its items, from 1, by id."""
        return {item.id: number for number, item in enumerate(self.items, 1)}

    @classmethod
    def of(cls, items: Sequence[Item], **settings: object) -> JobSheet:
        """A sheet with items, all on one plate."""
        return cls.model_validate({**settings, "items": tuple(items)}).with_items(items)

    def item(self, item_id: str = "") -> Item:
        """One item by its id; the first where none is named or it is gone."""
        number = self.numbers.get(item_id, 1)
        return self.items[number - 1]

    def on(self, item_id: str = "") -> ItemSheet:
        """The sheet as it reads for one item."""
        item = self.item(item_id)
        known = self.sheets.get(item.id)
        if known is not None:
            return known
        # Both were checked: a copy of a sheet is filled ten times faster than one is constructed.
        made = _TEMPLATE.__copy__()
        fields = made.__dict__
        fields.update(self.settings)
        fields.update(item.__dict__)
        if item.elsewhere is not None:
            fields.update(item.elsewhere.instead)
        fields["number"] = self.numbers[item.id]
        fields["common"] = self.alike.setdefault(item.decided, {})
        self.sheets[item.id] = made
        return made

    @property
    def each(self) -> list[ItemSheet]:
        """The sheet once for each item, in their order."""
        return [self.on(item.id) for item in self.items]

    def goes(self, plate: int) -> Elsewhere | None:
        """Where a plate, from 0, goes, and in which material, where one is another than the job's."""
        there = self.plates[plate].instances
        return self.item(there[0].item).elsewhere if there else None

    def of_plate(self, plate: int) -> JobSettings:
        """What is decided for the job as it reads for a plate, from 0: with the printer that it goes to."""
        there = self.plates[plate].instances
        return self.on(there[0].item) if there else self

    @property
    def cut_items(self) -> frozenset[str]:
        """Ids of the items that are printed as their pieces."""
        return frozenset(item.piece.item for item in self.items if item.piece is not None)

    @property
    def printed(self) -> tuple[Item, ...]:
        """The items that are printed: all but those that are printed as their pieces."""
        cut = self.cut_items
        return tuple(item for item in self.items if item.id not in cut)

    def plate_of(self, item_id: str) -> int:
        """Place of the plate, from 0, that an item stands on first; 0 where it stands on none."""
        places = (
            k for k, plate in enumerate(self.plates) if any(one.item == item_id for one in plate.instances)
        )
        return next(places, 0)

    def with_items(self, items: Sequence[Item]) -> JobSheet:
        """Return the sheet with these items; what is gone leaves all plates.

        New ones come to the first plate of their printer.
        """
        bare = self.model_copy(update={"items": tuple(items)})
        there = {item.id for item in bare.printed}
        plates = [
            plate.model_copy(update={"instances": tuple(i for i in plate.instances if i.item in there)})
            for plate in self.plates
        ]
        standing = {i.item for plate in plates for i in plate.instances}
        by_printer: dict[Elsewhere | None, list[Instance]] = {}
        for item in bare.printed:
            if item.id not in standing:
                by_printer.setdefault(item.elsewhere, []).append(Instance(item=item.id))
        goes = {item.id: item.elsewhere for item in items}
        for elsewhere, fresh in by_printer.items():
            for k, plate in enumerate(plates):
                here = plate.instances
                if not here or goes[here[0].item] == elsewhere:
                    plates[k] = plate.model_copy(update={"instances": (*here, *fresh)})
                    break
            else:
                plates.append(Plate(instances=tuple(fresh)))
        # A plate that nothing is left of is one no more.
        kept = tuple(plate for plate in plates if plate.instances) or (Plate(),)
        return JobSheet.model_validate({**_fields(bare), "plates": kept})

    def with_item(self, changed: ItemSheet) -> JobSheet:
        """Return the sheet with what was decided for an item, and for the job, on its own sheet.

        What reads on it as before stays as it is for the job: the item may go to another printer.
        """
        before = self.on(changed.id)
        item = Item.model_construct(**{name: getattr(changed, name) for name in Item.model_fields})
        items = tuple(item if one.id == item.id and one != item else one for one in self.items)
        fields = {}
        for name in JobSettings.model_fields:
            value = getattr(changed, name)
            fields[name] = getattr(self if value == getattr(before, name) else changed, name)
        made = JobSheet.model_validate({**_fields(self), **fields, "items": items})
        if all(getattr(self, name) == value for name, value in fields.items()):
            # The others read as before.
            made.sheets.update({name: one for name, one in self.sheets.items() if name != item.id})
        return made


class DecidedSheet(JobSettings, Decisions):
    """What is decided for a job and for an item: the same for all its items that were decided alike."""

    @property
    def rows(self) -> Table:
        """As for the job; exposures that were typed are for the printer of the job alone."""
        if not self.is_resin:
            return ()
        typed = self.process.table if self.elsewhere is None else ()
        return table_of(typed, self.machine, self.stuff, self.layer_mm)[0]

    @property
    def filament(self) -> FilamentSupports | None:
        """Settings of supports on a filament machine, where they are asked for."""
        return self.supports if isinstance(self.supports, FilamentSupports) else None

    @property
    def resin(self) -> ResinSupports | None:
        """Settings of stilts on a resin machine, where they are asked for."""
        return self.supports if isinstance(self.supports, ResinSupports) else None

    @property
    def second(self) -> Second:
        """What of the supports a second nozzle prints."""
        held = self.filament
        return held.second if held is not None and self.machine.nozzles > 1 else Second.NOTHING

    @property
    def second_stuff(self) -> Material:
        """The material of the second nozzle; that of the part where none is known by its name."""
        if self.strands:
            return STRAND
        name = self.filament.second_material if self.filament is not None else ""
        own = {m.name: m for m in MATERIALS if m.technology is self.machine.technology}
        return own.get(name or self.process.second_material, self.stuff)

    @property
    def second_kinds(self) -> frozenset[Kind]:
        """What the second nozzle prints besides strands."""
        if self.machine.nozzles < 2 or self.strands:
            return frozenset()
        of_supports = {
            Second.NOTHING: frozenset[Kind](),
            Second.INTERFACE: frozenset({Kind.INTERFACE}),
            Second.ALL: frozenset({Kind.INTERFACE, Kind.SUPPORT}),
        }[self.second]
        return of_supports | ({Kind.RAFT} if self.footing.second else frozenset())

    @property
    def uses_second(self) -> bool:
        """Whether anything is printed with the second nozzle."""
        return bool(self.second_kinds or self.strands or self.second_places)

    @property
    def second_places(self) -> tuple[Vector, ...]:
        """Places on bodies of the part that the second nozzle prints."""
        return self.second_bodies if self.machine.nozzles > 1 and not self.strands else ()

    @property
    def strands(self) -> tuple[StrandZone, ...]:
        """Strands that are laid: the second nozzle feeds them."""
        return self.by_height.strands if self.machine.nozzles > 1 else ()

    @property
    def bridge_mm(self) -> float:
        """The longest bridge that carries itself: set in the job, or the usual one."""
        if self.filament is not None and self.filament.bridge_mm is not None:
            return self.filament.bridge_mm
        return self.usual_bridge_mm

    def as_preset(self, name: str = "") -> Preset:
        """What a preset would keep of this sheet; its name is proposed from what is in it."""
        kept = Preset(
            name=name or "-",
            technology=self.machine.technology,
            layer_mm=self.layer_mm,
            process=self.process,
            # Styles of single patches belong to this part.
            supports=self.supports.for_any_part if self.supports else None,
            footing=self.footing,
        )
        return kept if name else kept.model_copy(update={"name": kept.proposed_name})

    @property
    def unlike_preset(self) -> list[str]:
        """In words, what differs from the preset that was taken."""
        return self.preset.unlike(self.as_preset("-")) if self.preset else []

    @property
    def lift_mm(self) -> float:
        """The lift in force: whole layers, so that supports and part share their layers."""
        return round(self.stance.lift_mm / self.layer_mm) * self.layer_mm

    def support_settings(self) -> SupportSettings:
        """Return the settings of supports as the core takes them, for the machine and its layers."""
        chosen = self.supports or usual_supports(self.machine)
        wide, deep, _ = self.machine.build_mm
        return replace(chosen.settings(self.machine.line_width_mm, self.layer_mm), plate_mm=(wide, deep))

    def footing_settings(self) -> FootingSettings:
        """Return the footing as the core takes it; a resin raft is fused to the feet, so it has no gap."""
        pad = self.footing.pad_mm
        return FootingSettings(
            kind=self.footing.kind,
            lines=self.footing.lines,
            line_width_mm=0.5 if self.is_resin else self.machine.line_width_mm,
            margin_mm=pad if self.footing.kind is FootingKind.PADS else self.footing.margin_mm,
            raft_layers=max(1, round(self.footing.thick_mm / self.layer_mm)),
            gap_mm=0.0 if self.is_resin else self.footing.gap_mm,
            rim_deg=self.footing.rim_deg if self.is_resin else 0.0,
            gaps=self.is_resin and self.footing.gaps,
            distance_mm=self.footing.distance_mm,
            prime_mm=self.footing.prime_mm,
            brim_gap_mm=self.footing.brim_gap_mm,
            side=self.footing.side,
            corner_mm=self.footing.corner_mm,
            base_layers=self.footing.base_layers,
            top_layers=self.footing.top_layers,
        )

    @property
    def show_is_painted(self) -> bool:
        """Whether the show side is painted, so that its direction does not count."""
        return self.marks is not None and bool(self.marks.show)

    @property
    def seen_from(self) -> tuple[float, float, float] | None:
        """Direction that must stay clean: the chosen one, or the front of a resin part, which tips mark."""
        return self.show or (FRONT if self.is_resin else None)

    def setting(self, *, load: bool = True) -> Setting:
        """What the figures of a stance depend on besides the part; with where the load points, or without."""
        painted = self.show_is_painted
        footing = self.footing_settings()
        return Setting(
            printer=self.machine,
            material=self.stuff,
            limit_deg=self.limit,
            layer_mm=self.layer_mm,
            lift_mm=self.lift_mm,
            walls=self.process.walls,
            infill=self.process.infill_percent / 100.0,
            show=None if painted else self.seen_from,
            load=self.load if load else None,
            painted=painted,
            # A skirt that has no room is left out.
            around_mm=0.0 if footing.kind is FootingKind.SKIRT else footing.reach_mm,
            under_mm=footing.raise_mm(self.layer_mm),
            held=footing.reach_mm > 0 and self.supports is not None,
            rows=self.rows,
        )


class ItemSheet(DecidedSheet, Item):
    """The sheet of a job as it reads for one item: what is decided for the item, and for the job.

    ``number`` is the place of the item among the ``count`` items of the job, from 1.
    """

    number: int = 1
    count: int = 1

    @cached_property
    def common(self) -> dict[Any, Any]:
        """Room for what all items of the job that were decided like this one have in common."""
        return {}

    @property
    def item_name(self) -> str:
        """Name of the item: of the job, or of its file where the job has several."""
        if self.of is not None:
            return f"{self.number} {self.stem} of {self.of.name}"
        return self.name if self.count == 1 else f"{self.number} {self.stem}"

    @property
    def stays(self) -> Stays | None:
        """What stays in where the part is hollow, as it was found in the stance that it was hollowed in."""
        if self.hollow is None:
            return None
        turned = math.dist(self.hollow.down, self.stance.down) > TURNED
        return Stays(self.hollow.sealed_mm3, self.hollow.standing_mm3, turned)

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


_NOTHING: dict[str, Any] = {}
_TEMPLATE = ItemSheet.model_construct(set(), **_NOTHING)


def _fields(sheet: JobSheet) -> dict[str, object]:
    return {name: getattr(sheet, name) for name in JobSheet.model_fields}
