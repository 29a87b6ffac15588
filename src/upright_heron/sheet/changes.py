"""Changes: each makes a new sheet from a sheet and says in words what it did."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BeforeValidator, Field, TypeAdapter

from ..core.errors import BadValue
from ..core.footing.footing import FootingKind
from ..core.machines.catalogue import material, materials_for, printer
from ..core.split.grid import box_for
from ..core.stance.names import COMPASS, lean, name_of
from ..core.stance.pose import about_axis, from_quaternion, standing_on, to_quaternion
from ..core.supports.demand.patches import Hold, Style
from .change import Change, altered
from .document import Length, Name
from .handwork import DropVariant, KeepVariant, TakeVariant
from .models import Grid, JobSheet, Quaternion, Stance, StanceGoals, Vector
from .part_changes import TakeOut
from .process import Footing, Preset, Process, Second, Supports, read_gap, usual_footing
from .shop import Calibration, OwnMaterial, OwnPrinter

# Room for supports below a resin part that leans (common practice).
LEANED_LIFT_MM = 5.0

# Numbers and words are both taken for what was typed.
Typed = Annotated[str, BeforeValidator(str), Field(max_length=40)]
Degrees = Annotated[float, Field(ge=-360, le=360, allow_inf_nan=False)]


def _standing(
    sheet: JobSheet, turned: NDArray[np.float64], name: str = "", *, by_hand: bool = False
) -> JobSheet:
    """The sheet with the part turned; a resin part that is leaned by hand is lifted, unless it is already."""
    name = name or name_of(turned)
    lift = sheet.stance.lift_mm
    if by_hand and sheet.is_resin and lift == 0 and "leaning" in name:
        lift = LEANED_LIFT_MM
    return altered(sheet, stance=Stance(quaternion=to_quaternion(turned), lift_mm=lift, name=name))


class Rename(Change):
    """Give the job another name."""

    kind: Literal["rename"] = "rename"
    name: str = Field(min_length=1, max_length=120)

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, name=self.name.strip())

    def label(self, sheet: JobSheet) -> str:
        return f"Name “{self.name.strip()}”"


class PickPrinter(Change):
    """Pick another printer; what does not go with its technology is set to its usual values."""

    kind: Literal["printer"] = "printer"
    printer: str
    own: OwnPrinter | None = None
    calibration: Calibration | None = None

    def apply(self, sheet: JobSheet) -> JobSheet:
        machine = self.own.core() if self.own else printer(self.printer)
        picked = {"printer": machine.name, "own_printer": self.own, "calibration": self.calibration}
        if machine.technology is sheet.machine.technology:
            # A footing that nobody chose is the habit of the machine, and changes with it.
            habit, usual = usual_footing(sheet.machine), usual_footing(machine)
            return altered(
                sheet,
                **picked,
                footing=usual if sheet.footing == habit else sheet.footing,
                others=tuple(
                    other.model_copy(update={"footing": usual}) if other.footing == habit else other
                    for other in sheet.others
                ),
            )
        return altered(
            sheet,
            **picked,
            material=materials_for(machine)[0].name,
            own_material=None,
            layer_mm=machine.layer_mm,
            limit_deg=None,
            supports=None,
            footing=usual_footing(machine),
            others=tuple(
                other.model_copy(update={"supports": None, "footing": usual_footing(machine)})
                for other in sheet.others
            ),
            preset=None,
        )

    def label(self, sheet: JobSheet) -> str:
        return f"Printer {self.own.name if self.own else printer(self.printer).name}"


class PickMaterial(Change):
    """Pick another material."""

    kind: Literal["material"] = "material"
    material: str
    own: OwnMaterial | None = None
    calibration: Calibration | None = None

    def apply(self, sheet: JobSheet) -> JobSheet:
        stuff = self.own.core() if self.own else material(self.material)
        if stuff.technology is not sheet.machine.technology:
            raise BadValue(
                f"{sheet.machine.name} cannot use {stuff.name}.",
                f"Use one of: {', '.join(m.name for m in materials_for(sheet.machine))}.",
            )
        return altered(sheet, material=stuff.name, own_material=self.own, calibration=self.calibration)

    def label(self, sheet: JobSheet) -> str:
        return f"Material {self.own.name if self.own else material(self.material).name}"


class SetLayer(Change):
    """Set the layer height."""

    kind: Literal["layer"] = "layer"
    layer_mm: Length

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, layer_mm=self.layer_mm)

    def label(self, sheet: JobSheet) -> str:
        return f"Layer height {self.layer_mm:g} mm"


class SetLimit(Change):
    """Type the self-supporting limit, or go back to that of printer and material."""

    kind: Literal["limit"] = "limit"
    limit_deg: float | None = None

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, limit_deg=self.limit_deg)

    def label(self, sheet: JobSheet) -> str:
        if self.limit_deg is None:
            return "Limit from printer and material"
        return f"Limit {self.limit_deg:g}°"


class SetStepFactor(Change):
    """Say how much a layer has to grow or drop to be listed."""

    kind: Literal["step-factor"] = "step-factor"
    factor: Annotated[float, Field(ge=1.2, le=100)]

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, step_factor=self.factor)

    def label(self, sheet: JobSheet) -> str:
        return f"List layer steps from {self.factor:g} times"


class AcceptFinding(Change):
    """Let a finding be, with a note; or take that back."""

    kind: Literal["accept"] = "accept"
    finding: str = Field(pattern=r"^[0-9a-f]{10}$")
    name: str = Field(default="a finding", max_length=40)
    note: str = Field(default="", max_length=200)
    back: bool = False

    def apply(self, sheet: JobSheet) -> JobSheet:
        kept = {key: note for key, note in sheet.accepted.items() if key != self.finding}
        return altered(sheet, accepted=kept if self.back else {**kept, self.finding: self.note.strip()})

    def label(self, sheet: JobSheet) -> str:
        return f"{'Look again at' if self.back else 'Accept'} {self.name}"


class ProposeChannels(Change):
    """Ask for holes and channels under a width, to keep them clear; without one, for none."""

    kind: Literal["channels"] = "channels"
    width_mm: Length | None = None

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, channel_mm=self.width_mm)

    def label(self, sheet: JobSheet) -> str:
        return f"Find channels under {self.width_mm:g} mm" if self.width_mm else "No channels"


class CutToGrid(Change):
    """Cut the part into boxes of the build volume less a margin."""

    kind: Literal["cut"] = "cut"
    margin_mm: Length = 3.0

    def apply(self, sheet: JobSheet) -> JobSheet:
        box_for(sheet.machine.build_mm, self.margin_mm)
        return altered(sheet, grid=Grid(margin_mm=self.margin_mm))

    def label(self, sheet: JobSheet) -> str:
        return f"Cut to {sheet.machine.name}, margin {self.margin_mm:g} mm"


class JoinAgain(Change):
    """Take the cuts back."""

    kind: Literal["join"] = "join"

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, grid=None)

    def label(self, sheet: JobSheet) -> str:
        return "One piece again"


class StandOn(Change):
    """Stand the part on a face, given by its outward direction in the part as it came."""

    kind: Literal["stand"] = "stand"
    normal: Vector

    def apply(self, sheet: JobSheet) -> JobSheet:
        turned = standing_on(np.asarray(self.normal, np.float64))
        return _standing(sheet, turned)

    def label(self, sheet: JobSheet) -> str:
        return "Stand on a picked face"


class ChooseStance(Change):
    """Take a stance: a proposed one, or one that was turned by hand and is named by what is down."""

    kind: Literal["stance"] = "stance"
    quaternion: Quaternion
    name: str = Field(default="", max_length=80)

    def apply(self, sheet: JobSheet) -> JobSheet:
        turned = from_quaternion(self.quaternion)
        return _standing(sheet, turned, self.name, by_hand=not self.name)

    def label(self, sheet: JobSheet) -> str:
        return f"Stance: {self.name or name_of(from_quaternion(self.quaternion))}"


class Turn(Change):
    """Turn the part by degrees about axes of the plate: first x, then y, then z."""

    kind: Literal["turn"] = "turn"
    x_deg: Degrees = 0.0
    y_deg: Degrees = 0.0
    z_deg: Degrees = 0.0

    def apply(self, sheet: JobSheet) -> JobSheet:
        turn = about_axis("z", self.z_deg) @ about_axis("y", self.y_deg) @ about_axis("x", self.x_deg)
        turned = turn @ from_quaternion(sheet.stance.quaternion)
        return _standing(sheet, turned, by_hand=True)

    def label(self, sheet: JobSheet) -> str:
        turns = [
            f"{d:g}° about {n}" for n, d in (("x", self.x_deg), ("y", self.y_deg), ("z", self.z_deg)) if d
        ]
        return "Turn " + ", ".join(turns) if turns else "Turn by nothing"


class Lean(Change):
    """Lean the part by an angle towards a direction of the plate, from the way it stands."""

    kind: Literal["lean"] = "lean"
    degrees: Annotated[float, Field(ge=0, le=180, allow_inf_nan=False)]
    towards: Literal["right", "back right", "back", "back left", "left", "front left", "front", "front right"]

    def apply(self, sheet: JobSheet) -> JobSheet:
        turned = lean(
            from_quaternion(sheet.stance.quaternion), self.degrees, 45.0 * COMPASS.index(self.towards)
        )
        return _standing(sheet, turned, by_hand=True)

    def label(self, sheet: JobSheet) -> str:
        return f"Lean {self.degrees:g}° {self.towards}"


class LayLong(Change):
    """Swing the part about the vertical so that its longest side runs along x."""

    kind: Literal["lay-long"] = "lay-long"
    degrees: Degrees

    def apply(self, sheet: JobSheet) -> JobSheet:
        turned = about_axis("z", self.degrees) @ from_quaternion(sheet.stance.quaternion)
        return _standing(sheet, turned, sheet.stance.name)

    def label(self, sheet: JobSheet) -> str:
        return "Longest side along x"


class FindStances(StanceGoals, Change):
    """Search for stances by weights of the goals."""

    kind: Literal["find"] = "find"

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, goals=StanceGoals(**self.model_dump(exclude={"kind"})))

    def label(self, sheet: JobSheet) -> str:
        return "Find stances"


class SetShow(Change):
    """Say which side must stay clean, by a direction of the part; without one, none."""

    kind: Literal["show"] = "show"
    normal: Vector | None = None

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, show=_direction(self.normal))

    def label(self, sheet: JobSheet) -> str:
        return "Show side" if self.normal else "No show side"


class SetLoad(Change):
    """Say where the main load on the part points, in the frame of the part; without one, none."""

    kind: Literal["load"] = "load"
    normal: Vector | None = None

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, load=_direction(self.normal))

    def label(self, sheet: JobSheet) -> str:
        return "Main load" if self.normal else "No load"


def _direction(normal: Vector | None) -> Vector | None:
    if normal is None:
        return None
    length = float(np.linalg.norm(normal))
    if not length > 1e-9 or not np.isfinite(length):
        raise BadValue("This face has no direction.", "Pick a larger facet of the face.")
    x, y, z = (float(v) / length for v in normal)
    return x, y, z


class SetLift(Change):
    """Lift the part above the plate."""

    kind: Literal["lift"] = "lift"
    lift_mm: Length

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, stance=Stance(**{**sheet.stance.model_dump(), "lift_mm": self.lift_mm}))

    def label(self, sheet: JobSheet) -> str:
        return f"Lift {self.lift_mm:g} mm"


class MakeSupports(Change):
    """Make supports with these settings."""

    kind: Literal["supports"] = "supports"
    # As typed: a length, or so many layers.
    gap_mm: Typed = "0.2"
    gap_below_mm: Typed = ""
    clearance_mm: Length = 0.45
    spacing_mm: Length = 4.0
    tip_mm: Length = 0.4
    hold: Hold = Hold.ALL
    # Empty: each patch in the style that suits it.
    style: Style | Literal[""] = ""
    from_plate: bool = False
    line_spacing_mm: Length = 2.2
    interface_layers: int = 2
    slit_mm: Length = 0.0
    branch_deg: float = 40.0
    smallest_mm2: float = 1.0
    bridge_mm: Length | None = None
    line_angle_deg: float = 0.0
    branch_mm: Length = 1.2
    trunk_mm: Length = 8.0
    taper_mm: Length = 0.24
    walls: int = 2
    fill_percent: float = 0.0
    every: int = 1
    brim_mm: Length = 0.0
    steady: int | None = None
    steady_percent: float = 75.0
    second: Second = Second.NOTHING
    second_material: str = ""
    tool_mm: Length = 3.0

    def apply(self, sheet: JobSheet) -> JobSheet:
        known = sheet.supports or Supports()
        (gap, layers), (below, layers_below) = read_gap(self.gap_mm), read_gap(self.gap_below_mm)
        fields = {
            **self.model_dump(exclude={"kind", "steady_percent"}),
            "gap_mm": Supports().gap_mm if gap is None else gap,
            "gap_layers": layers,
            "gap_below_mm": below,
            "gap_below_layers": layers_below,
            "style": self.style or None,
            "steady_at": self.steady_percent / 100.0,
        }
        # What was chosen for single patches stays.
        return altered(sheet, supports=Supports(**{**known.model_dump(), **fields}))

    def label(self, sheet: JobSheet) -> str:
        return "Make supports"


class StylePatches(Change):
    """Choose the style of some patches, and what their supports may stand on; or leave them to the rest."""

    kind: Literal["style-patch"] = "style-patch"
    patches: tuple[Annotated[str, Field(pattern=r"^[0-9a-f]{10}$")], ...] = Field(max_length=5000)
    # What is not given stays; "rest" goes back to what holds for all.
    style: Style | Literal["", "rest"] = ""
    origin: Literal["", "rest", "plate", "any"] = ""
    name: str = Field(default="a patch", max_length=80)

    def apply(self, sheet: JobSheet) -> JobSheet:
        known = sheet.supports
        if known is None:
            raise BadValue("There are no supports to choose a style for.", "Make supports first.")
        if not self.patches:
            raise BadValue("No patch is picked.", "Tick the patches that this is for.")
        styles, origins = dict(known.by_patch), dict(known.plate_only)
        for patch in self.patches:
            if self.style:
                styles.pop(patch, None)
            if self.origin:
                origins.pop(patch, None)
            if isinstance(self.style, Style):
                styles[patch] = self.style
            if self.origin in ("plate", "any"):
                origins[patch] = self.origin == "plate"
        changed = {**known.model_dump(), "by_patch": styles, "plate_only": origins}
        return altered(sheet, supports=Supports(**changed))

    def label(self, sheet: JobSheet) -> str:
        what = self.name if len(self.patches) == 1 else f"{len(self.patches)} patches"
        origin = {"plate": "from the plate only", "any": "from the part too"}.get(self.origin, "")
        said = [word for word in (self.style if self.style != "rest" else "", origin) if word]
        return f"{what[:1].upper()}{what[1:]}: {', '.join(said) or 'as the rest'}"


class RemoveSupports(Change):
    """Take all supports away."""

    kind: Literal["no-supports"] = "no-supports"

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, supports=None)

    def label(self, sheet: JobSheet) -> str:
        return "Remove all supports"


class SetFooting(Change):
    """Choose what holds the part on the plate."""

    kind: Literal["footing"] = "footing"
    footing: FootingKind
    lines: int = 6
    margin_mm: Length = 4.0
    gap_mm: Length = 0.25

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(
            sheet,
            footing=Footing(
                kind=self.footing, lines=self.lines, margin_mm=self.margin_mm, gap_mm=self.gap_mm
            ),
        )

    def label(self, sheet: JobSheet) -> str:
        return {
            FootingKind.NONE: "No footing",
            FootingKind.SKIRT: f"Skirt, {self.lines} lines",
            FootingKind.BRIM: f"Brim, {self.lines} lines",
            FootingKind.RAFT: f"Raft, margin {self.margin_mm:g} mm",
        }[self.footing]


class SetProcess(Change):
    """Set walls and infill."""

    kind: Literal["process"] = "process"
    walls: int
    infill_percent: float

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, process=Process(walls=self.walls, infill_percent=self.infill_percent))

    def label(self, sheet: JobSheet) -> str:
        return f"{self.walls} walls, {self.infill_percent:g} % infill"


class TakePreset(Change):
    """Take the settings of a preset; the route finds it on the shelf."""

    kind: Literal["preset"] = "preset"
    preset: Preset

    def apply(self, sheet: JobSheet) -> JobSheet:
        kept = self.preset
        if kept.technology is not sheet.machine.technology:
            raise BadValue(
                f"“{kept.name}” is for {kept.technology.value} machines.",
                f"Pick another preset, or another printer than {sheet.machine.name}.",
            )
        return altered(
            sheet, layer_mm=kept.layer_mm, process=kept.process, supports=kept.supports,
            footing=kept.footing, preset=kept,
        )  # fmt: skip

    def label(self, sheet: JobSheet) -> str:
        return f"Preset “{self.preset.name}”"


class KeepPreset(Change):
    """Note that the sheet's settings are kept as a preset now."""

    kind: Literal["keep-preset"] = "keep-preset"
    name: Name

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, preset=sheet.as_preset(self.name))

    def label(self, sheet: JobSheet) -> str:
        return f"Keep as preset “{self.name}”"


class WriteNotes(Change):
    """Write notes for whoever runs the machine."""

    kind: Literal["notes"] = "notes"
    notes: str = Field(default="", max_length=4000)

    def apply(self, sheet: JobSheet) -> JobSheet:
        return altered(sheet, notes=self.notes.strip())

    def label(self, sheet: JobSheet) -> str:
        return "Notes"


AnyChange = Annotated[
    Rename
    | PickPrinter
    | PickMaterial
    | SetLayer
    | SetLimit
    | SetStepFactor
    | AcceptFinding
    | ProposeChannels
    | CutToGrid
    | JoinAgain
    | StandOn
    | ChooseStance
    | Turn
    | Lean
    | LayLong
    | FindStances
    | SetShow
    | SetLoad
    | SetLift
    | MakeSupports
    | StylePatches
    | RemoveSupports
    | KeepVariant
    | TakeVariant
    | DropVariant
    | SetFooting
    | SetProcess
    | TakeOut
    | TakePreset
    | KeepPreset
    | WriteNotes,
    Field(discriminator="kind"),
]

CHANGES: TypeAdapter[AnyChange] = TypeAdapter(AnyChange)
