"""Settings of the process: supports, footing, walls and infill, and the presets a shop keeps of them."""

from __future__ import annotations

from dataclasses import asdict
from enum import StrEnum
from typing import Annotated, Literal

from pydantic import Field, field_validator

from ..core.errors import BadValue
from ..core.footing.footing import BrimSide, FootingKind
from ..core.machines.catalogue import Printer, Technology
from ..core.supports.demand.patches import Hold, Style
from ..core.supports.filament.thickness import thickness
from ..core.supports.model import SupportSettings
from ..core.supports.resin.sizes import Stoutness
from ..core.toolpaths.ordering import Seam
from ..core.toolpaths.patterns import Pattern
from ..core.toolpaths.price import Pricing
from ..core.toolpaths.process_table import Row, Stretch, checked
from ..core.units import length_mm, number
from .document import Document, Length, Name, Vector

# Fields of ``FilamentSupports`` that the core takes as they are.
SAME = (
    "clearance_mm", "spacing_mm", "from_plate", "line_spacing_mm", "line_angle_deg",
    "interface_layers", "slit_mm", "smallest_mm2", "branch_deg", "every", "brim_mm",
)  # fmt: skip


Layers = Annotated[int, Field(ge=0, le=20)]


class Second(StrEnum):
    """What of supports a second nozzle prints, in a material of its own."""

    NOTHING = "nothing"
    INTERFACE = "interface"
    ALL = "everything"


class FilamentSupports(Document):
    """Settings that supports on a filament machine are made with."""

    kind: Literal["filament"] = "filament"
    gap_mm: Annotated[Length, Field(ge=0, le=5)] = 0.2
    # Where it was given in layers these count, whatever the layer height.
    gap_layers: Layers | None = None
    # To the part below; as to the part above where neither is given.
    gap_below_mm: Annotated[Length, Field(ge=0, le=5)] | None = None
    gap_below_layers: Layers | None = None
    clearance_mm: Annotated[Length, Field(ge=0, le=10)] = 0.45
    spacing_mm: Annotated[Length, Field(ge=1, le=50)] = 4.0
    # What is held and how, for all patches and by the id of one.
    hold: Hold = Hold.ALL
    style: Style | None = None
    by_patch: dict[str, Style] = {}
    # From the plate only, for all patches and by the id of one.
    from_plate: bool = False
    plate_only: dict[str, bool] = {}
    line_spacing_mm: Annotated[Length, Field(ge=0.8, le=20)] = 2.2
    line_angle_deg: Annotated[float, Field(ge=-180, le=180)] = 0.0
    interface_layers: Annotated[int, Field(ge=0, le=10)] = 2
    slit_mm: Annotated[Length, Field(ge=0, le=200)] = 0.0
    smallest_mm2: Annotated[float, Field(ge=0, le=1000)] = 1.0
    # The longest bridge that is left to carry itself in this job; where not given, what the material spans.
    bridge_mm: Annotated[Length, Field(ge=0, le=500)] | None = None
    branch_deg: Annotated[float, Field(ge=5, le=60)] = 40.0
    # How thick branches are for what they carry: 100 is usual.
    sturdiness: Annotated[float, Field(ge=50, le=400)] = 100.0
    # Lines and grids are printed in every so many layers, as much thicker.
    every: Annotated[int, Field(ge=1, le=4)] = 1
    brim_mm: Annotated[Length, Field(ge=0, le=20)] = 0.0
    # Steadying posts: as proposed, or how many heights; and the highest of these as a share of the part's.
    steady: Annotated[int, Field(ge=0, le=4)] | None = None
    steady_at: Annotated[float, Field(ge=0.3, le=0.95)] = 0.75
    # What is printed with the second nozzle, where there is one.
    second: Second = Second.NOTHING
    second_material: Annotated[str, Field(max_length=60)] = ""
    # A tool that is to get at the contacts.
    tool_mm: Annotated[Length, Field(ge=0.5, le=20)] = 3.0

    def settings(self, line_mm: float = 0.44, layer_mm: float = 0.2) -> SupportSettings:
        """Return them as the core takes them, for lines so wide and layers so high."""
        same = {name: getattr(self, name) for name in SAME}
        above, below = self.gap_layers, self.gap_below_layers
        return SupportSettings(
            line_mm=line_mm,
            gap_mm=self.gap_mm if above is None else above * layer_mm,
            gap_below_mm=self.gap_below_mm if below is None else below * layer_mm,
            otherwise=frozenset(patch for patch, only in self.plate_only.items() if only != self.from_plate),
            **asdict(thickness(self.sturdiness)),
            **same,
        )

    @property
    def for_any_part(self) -> FilamentSupports:
        """The settings without what was chosen for single patches of one part."""
        return self.model_copy(update={"by_patch": {}, "plate_only": {}})

    @property
    def gap_words(self) -> tuple[str, str]:
        """The gaps above and below as they were typed; the second is empty where it is as the first."""
        above = f"{self.gap_mm:g}" if self.gap_layers is None else _layers(self.gap_layers)
        if self.gap_below_layers is not None:
            return above, _layers(self.gap_below_layers)
        return above, "" if self.gap_below_mm is None else f"{self.gap_below_mm:g}"


# Tips are made so much stronger by a press, and no stronger than so many times what pulls at them.
STRONGER, MOST_SPARE = 1.4, 5.0
# So many tips are put or taken out by hand.
MOST_TIPS = 400


class TipSize(Document):
    """The size that was chosen for the tip at a place of the part."""

    at_mm: Vector
    size: Stoutness


class TipsAround(Document):
    """What hands had done to tips when the other stilts were stood: these stand round it.

    ``made_for`` stands for what they were stood from, whatever hands do; as soon as that is something else
    they are stood round all that hands did.
    """

    made_for: str = Field(max_length=80)
    put_mm: Annotated[tuple[Vector, ...], Field(max_length=MOST_TIPS)] = ()
    out_mm: Annotated[tuple[Vector, ...], Field(max_length=MOST_TIPS)] = ()
    tip_sizes: Annotated[tuple[TipSize, ...], Field(max_length=MOST_TIPS)] = ()


class ResinSupports(Document):
    """Settings that stilts on a resin machine are made with."""

    kind: Literal["resin"] = "resin"
    # Where the part is level; on slopes tips stand further apart, and closer where they bear too much.
    spacing_mm: Annotated[Length, Field(ge=1, le=50)] = 2.5
    clearance_mm: Annotated[Length, Field(ge=0, le=10)] = 0.45
    # Of the medium size; fine and stout ones follow it.
    tip_mm: Annotated[Length, Field(ge=0.1, le=3)] = 0.4
    depth_mm: Annotated[Length, Field(ge=0, le=2)] = 0.2
    tip_length_mm: Annotated[Length, Field(ge=0.5, le=10)] = 2.5
    rounded: bool = False
    shaft_mm: Annotated[Length, Field(ge=0.3, le=10)] = 1.0
    foot_mm: Annotated[Length, Field(ge=0.3, le=20)] = 3.0
    # What a shaft gains in diameter over each 10 mm downwards, and how far it leans round the part.
    taper_mm: Annotated[Length, Field(ge=0, le=1)] = 0.05
    lean_deg: Annotated[float, Field(ge=10, le=60)] = 45.0
    # On the plate only, never on the part; each by itself, none on the shaft of another.
    from_plate: bool = False
    apart: bool = False
    # None in hollows, where nobody gets at them.
    hollows_free: bool = False
    # Tips and shafts of the fine and the stout size; in proportion to the medium one where not given.
    fine_tip_mm: Annotated[Length, Field(ge=0.05, le=3)] | None = None
    fine_shaft_mm: Annotated[Length, Field(ge=0.2, le=10)] | None = None
    stout_tip_mm: Annotated[Length, Field(ge=0.1, le=5)] | None = None
    stout_shaft_mm: Annotated[Length, Field(ge=0.3, le=15)] | None = None
    # How braces rise, in what height there is one, and how slender a shaft may be between them.
    brace_deg: Annotated[float, Field(ge=20, le=70)] = 45.0
    brace_every_mm: Annotated[Length, Field(ge=3, le=200)] = 25.0
    slender: Annotated[float, Field(ge=10, le=100)] = 40.0
    # Each tip can bear so many times what pulls at it.
    spare: Annotated[float, Field(ge=1, le=MOST_SPARE)] = 1.0
    # Tips that hands put, and those that they took out, by their places on the part.
    put_mm: Annotated[tuple[Vector, ...], Field(max_length=MOST_TIPS)] = ()
    out_mm: Annotated[tuple[Vector, ...], Field(max_length=MOST_TIPS)] = ()
    # Sizes that hands chose for single tips, whatever these bear.
    tip_sizes: Annotated[tuple[TipSize, ...], Field(max_length=MOST_TIPS)] = ()
    # What of that the other stilts stand round; without it they stand round all of it.
    around: TipsAround | None = None

    def settings(self, line_mm: float = 0.05, layer_mm: float = 0.05) -> SupportSettings:
        """Return them as the core takes them, for a pixel so wide and layers so high."""
        return SupportSettings(
            line_mm=line_mm,
            spacing_mm=self.spacing_mm,
            clearance_mm=self.clearance_mm,
            tip_mm=self.tip_mm,
            depth_mm=self.depth_mm,
            tip_length_mm=self.tip_length_mm,
            rounded=self.rounded,
            shaft_mm=self.shaft_mm,
            foot_mm=self.foot_mm,
            shaft_taper_mm=self.taper_mm,
            lean_deg=self.lean_deg,
            fine_mm=(self.fine_tip_mm, self.fine_shaft_mm),
            stout_mm=(self.stout_tip_mm, self.stout_shaft_mm),
            brace_deg=self.brace_deg,
            brace_every_mm=self.brace_every_mm,
            slender=self.slender,
            from_plate=self.from_plate,
            joins=not self.apart,
            inside=not self.hollows_free,
            spare=self.spare,
        )

    @property
    def for_any_part(self) -> ResinSupports:
        """The settings without what hands did on one part."""
        return self.model_copy(update={"put_mm": (), "out_mm": (), "tip_sizes": (), "around": None})

    def sized(self, factors: Vector) -> ResinSupports:
        """Return them for a part that is sized by factors: places go along."""

        def along(at: Vector) -> Vector:
            x, y, z = (v * f for v, f in zip(at, factors, strict=True))
            return x, y, z

        moved: dict[str, object] = {"around": None} | {
            name: tuple(along(at) for at in getattr(self, name)) for name in ("put_mm", "out_mm")
        }
        moved["tip_sizes"] = tuple(
            one.model_copy(update={"at_mm": along(one.at_mm)}) for one in self.tip_sizes
        )
        return self.model_copy(update=moved)

    def stronger(self, share: float) -> ResinSupports:
        """Return them with more to spare: the weakest tips get stout, or others beside them.

        ``share`` is what the weakest bears of what it can.
        """
        more = min(STRONGER / max(share, 1e-3), MOST_SPARE)
        return self.model_copy(update={"spare": round(max(more, self.spare), 2)})


Supports = Annotated[FilamentSupports | ResinSupports, Field(discriminator="kind")]


def usual_supports(machine: Printer) -> FilamentSupports | ResinSupports:
    """Return the settings that supports on a machine begin with."""
    return ResinSupports() if machine.technology is Technology.RESIN else FilamentSupports()


def _layers(count: int) -> str:
    return f"{count} layer{'' if count == 1 else 's'}"


def read_gap(text: str) -> tuple[float | None, int | None]:
    """Read a contact gap: a length, or a number of layers such as ``2 layers``; neither where it is empty.

    Raises
    ------
    BadValue
        It is neither.
    """
    words = text.strip().lower()
    if not words:
        return None, None
    if words.endswith(("layer", "layers")):
        count = number(words.removesuffix("s").removesuffix("layer"))
        if count != int(count):
            told = f"“{text.strip()[:20]}” is not a number of layers."
            raise BadValue(told, "Type a whole number of layers.")
        return None, int(count)
    return length_mm(words), None


class Footing(Document):
    """What holds the part on the plate."""

    kind: FootingKind = FootingKind.NONE
    lines: Annotated[int, Field(ge=1, le=100)] = 6
    margin_mm: Annotated[Length, Field(ge=0, le=50)] = 4.0
    gap_mm: Annotated[Length, Field(ge=0, le=2)] = 0.25
    # Of what resin parts stand on: how thick it is, how far a pad reaches past its foot, by how much the rim
    # leans, and whether resin runs off through holes in a raft.
    thick_mm: Annotated[Length, Field(ge=0.2, le=5)] = 1.0
    pad_mm: Annotated[Length, Field(ge=0.2, le=20)] = 1.5
    rim_deg: Annotated[float, Field(ge=0, le=60)] = 30.0
    gaps: bool = True
    # Of filament: from the outline to a skirt and the length that primes a nozzle; the gap of a brim, the
    # outlines it follows, and discs at sharp corners; wide and close layers of a raft.
    distance_mm: Annotated[Length, Field(ge=0, le=50)] = 2.0
    prime_mm: Annotated[Length, Field(ge=0, le=5000)] = 250.0
    brim_gap_mm: Annotated[Length, Field(ge=0, le=2)] = 0.0
    side: BrimSide = BrimSide.ALL
    corner_mm: Annotated[Length, Field(ge=1, le=50)] = 6.0
    base_layers: Annotated[int, Field(ge=0, le=20)] = 1
    top_layers: Annotated[int, Field(ge=0, le=20)] = 2
    # The second nozzle prints the raft.
    second: bool = False


# Lines of a skirt that nobody typed.
SKIRT_LINES = 2


def usual_footing(machine: Printer) -> Footing:
    """Return the footing that a job begins with, as is the habit; feet of stilts stand by themselves."""
    kind = FootingKind(machine.habit)
    if machine.technology is Technology.RESIN and kind is not FootingKind.RAFT:
        return Footing()
    return Footing(kind=kind, lines=SKIRT_LINES) if kind is FootingKind.SKIRT else Footing(kind=kind)


class Price(Document):
    """How a print is charged; see ``core.toolpaths.price``."""

    per_gram: Annotated[float, Field(ge=0, le=1000)] = 0.0
    per_hour: Annotated[float, Field(ge=0, le=10_000)] = 0.0
    setup: Annotated[float, Field(ge=0, le=100_000)] = 0.0
    least: Annotated[float, Field(ge=0, le=100_000)] = 0.0
    round_to: Annotated[float, Field(ge=0, le=1000)] = 0.0

    @property
    def charges(self) -> bool:
        """Anything is charged at all."""
        return any((self.per_gram, self.per_hour, self.setup, self.least))

    def of(self, mass_g: float, seconds: float) -> float:
        """Price of a print of so much mass and time."""
        return Pricing(**dict(self)).price(mass_g, seconds)


class Process(Document):
    """Settings that move time and mass."""

    walls: Annotated[int, Field(ge=1, le=50)] = 3
    infill_percent: Annotated[float, Field(ge=0, le=100)] = 15.0
    pattern: Pattern = Pattern.GRID
    # Layers that are filled whole under what is exposed above, and over what is exposed below.
    top_layers: Annotated[int, Field(ge=0, le=100)] = 4
    bottom_layers: Annotated[int, Field(ge=0, le=100)] = 4
    # Where outer walls begin, and the direction from x towards y where one is typed.
    seam: Seam = Seam.BACK
    seam_deg: Annotated[float, Field(ge=-360, le=360)] = 90.0
    outer_first: bool = False
    # Speed against the machine's usual one; it moves all kinds of paths in proportion.
    speed_percent: Annotated[float, Field(ge=10, le=400)] = 100.0
    # As the material asks for where not given.
    nozzle_c: Annotated[float, Field(ge=0, le=500)] | None = None
    bed_c: Annotated[float, Field(ge=0, le=200)] | None = None
    # The nozzle goes up so much on travels that it draws back for.
    travel_lift_mm: Annotated[Length, Field(ge=0, le=5)] = 0.0
    # E tells what each move pushes out, and not all up to there.
    relative_e: bool = True
    price: Price = Price()
    # Text before and after, with names in braces; the usual one where empty.
    start_text: Annotated[str, Field(max_length=4000)] = ""
    end_text: Annotated[str, Field(max_length=4000)] = ""
    # A hot nozzle goes over tops again; walls slow down where the layer below does not carry them; the nozzle
    # stays inside the outline on its ways.
    smooth: bool = False
    slow_steep: bool = True
    inside_ways: bool = True
    # Infill is printed in every so many layers, as much higher; and denser, percent, in so many layers under
    # roofs.
    infill_every: Annotated[int, Field(ge=1, le=4)] = 1
    roof_percent: Annotated[float, Field(ge=0, le=100)] = 0.0
    roof_layers: Annotated[int, Field(ge=1, le=50)] = 4
    # What bridges push out against their volume, and the fan behind the first layer.
    bridge_flow_percent: Annotated[float, Field(ge=50, le=150)] = 100.0
    fan_percent: Annotated[float, Field(ge=0, le=100)] = 100.0
    # By how much holes get larger all round, so that they come out as drawn.
    hole_mm: Annotated[Length, Field(ge=-1, le=1)] = 0.0
    # Material of the second nozzle, where supports name none.
    second_material: Annotated[str, Field(max_length=60)] = ""
    # How layers of resin are made; empty where it is as usual for machine and material.
    table: tuple[Row, ...] = ()
    # By how much outlines move outwards, and those of the first layers.
    outline_mm: Annotated[Length, Field(ge=-1, le=1)] = 0.0
    first_outline_mm: Annotated[Length, Field(ge=-1, le=1)] = 0.0

    @field_validator("table")
    @classmethod
    def _whole(cls, rows: tuple[Row, ...]) -> tuple[Row, ...]:
        return checked(rows) if rows else ()

    def changed(self, **fields: object) -> Process:
        """Return it with some fields replaced, all checked anew."""
        return Process.model_validate({**dict(self), **fields})


class Preset(Document):
    """Settings of the process under a name. A job takes a copy, so nothing leaks from one job to the next."""

    name: Name
    technology: Technology
    layer_mm: Annotated[Length, Field(ge=0.005, le=5)]
    process: Process = Process()
    supports: Supports | None = None
    footing: Footing = Footing()

    @property
    def proposed_name(self) -> str:
        """A name from what is in it, such as ``0.2 mm, 3 walls, 15 %, columns, brim``."""
        return ", ".join(value for what, value in self._words() if what not in self._without)[:60]

    @property
    def _without(self) -> set[str]:
        """What there is none of."""
        bare = {"supports"} if self.supports is None else set()
        bare |= set() if self.process.table else {"exposures"}
        bare |= set() if self.process.outline_mm else {"outlines"}
        return bare | ({"footing"} if self.footing.kind is FootingKind.NONE else set())

    def _words(self) -> list[tuple[str, str]]:
        resin = self.technology is Technology.RESIN
        words = [("layer", f"{self.layer_mm:g} mm")]
        if not resin:
            words.append(("walls", f"{self.process.walls} walls"))
            words.append(("infill", f"{self.process.infill_percent:g} %"))
        else:
            words.append(("exposures", _exposures(self.process.table)))
            words.append(("outlines", f"{self.process.outline_mm:+g} mm"))
        words.append(("supports", ("stilts" if resin else "columns") if self.supports else "no supports"))
        kind = self.footing.kind
        words.append(("footing", "no footing" if kind is FootingKind.NONE else kind.value))
        return words

    def unlike(self, other: Preset) -> list[str]:
        """Say what another has otherwise: ``walls: 4 walls instead of 3 walls``."""
        told = [
            f"{what}: {theirs} instead of {ours}"
            for (what, ours), (_, theirs) in zip(self._words(), other._words(), strict=False)
            if ours != theirs
        ]
        for what, mine, other_one in (
            ("support settings", self.supports, other.supports),
            ("footing settings", self.footing, other.footing),
        ):
            if mine and other_one and type(mine) is type(other_one):
                changed = [
                    f"{name.removesuffix('_mm').replace('_', ' ')} {_said(getattr(other_one, name))}"
                    f" instead of {_said(getattr(mine, name))}"
                    for name in type(mine).model_fields
                    if name != "kind" and getattr(mine, name) != getattr(other_one, name)
                ]
                if changed:
                    told.append(f"{what}: {', '.join(changed)}")
        return told


def _exposures(table: tuple[Row, ...]) -> str:
    """A table of exposures in words."""
    body = [f"{row.exposure_s:g} s" for row in table if row.stretch is Stretch.BODY]
    return f"exposures {' and '.join(body)}" if body else "usual exposures"


def _said(value: object) -> str:
    """A setting in words."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int | float):
        return f"{value:g}"
    if isinstance(value, dict):
        return f"{len(value)} of their own"
    return str(value) if value else "as proposed"
