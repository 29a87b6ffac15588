"""An item: what is printed as one, with all that is decided for it."""

from __future__ import annotations

import datetime as dt
import math
from functools import cached_property
from typing import Annotated, Literal, NamedTuple

from pydantic import Field, model_validator

from ..core.graph import digest_of
from ..core.machines.catalogue import Printer
from ..core.split.cuts import Cut, cut
from ..core.split.fittings import FITS, MOST_TAPER_DEG, JointKind, JointSetting, strain_of
from ..core.split.plan_points import PlanGoals
from ..core.stance.pose import from_quaternion
from ..core.stance.proposals import GOALS, Goals
from ..core.stance.search import MIXES
from .by_height import ByHeight
from .document import Digest, Document, ItemId, Length, Name, Quaternion, Vector
from .hollowing import Hollowing
from .part import BodiesApart, PaintedMarks, Part, Size
from .process import Footing, Supports
from .shop import Calibration, OwnMaterial, OwnPrinter, machine_of

UPRIGHT: Quaternion = (1.0, 0.0, 0.0, 0.0)


# So many places can be kept whole.
MOST_KEPT = 40
CutId = Annotated[str, Field(pattern=r"^[0-9a-z]{1,8}$")]
# A cut, or one of its faces by the paths of its pieces.
JointId = Annotated[str, Field(pattern=r"^[0-9a-z]{1,8}(:[0-9a-z.-]{1,240}){0,2}$")]


class Plane(Document):
    """A plane that parts an item, or one of its pieces by the path of that."""

    id: CutId
    normal: Vector
    offset_mm: float
    within: str = Field(default="", max_length=60)

    @classmethod
    def of(cls, one: Cut) -> Plane:
        """Return a cut of the core as it is kept."""
        return cls(id=one.id, normal=one.normal, offset_mm=one.offset_mm, within=one.within)

    def sized(self, factors: Vector) -> Plane:
        """Return it as it lies in a part that is sized by factors."""
        x, y, z = (n / factor for n, factor in zip(self.normal, factors, strict=True))
        long = math.hypot(x, y, z)
        made = cut((x, y, z), self.offset_mm / long, self.id, self.within)
        return Plane.of(made)


class Joints(Document):
    """What the joints of a cut must do; where a size is not given it follows the face."""

    kind: JointKind = JointKind.BUTT
    sides: Annotated[int, Field(ge=0, le=12)] = 4
    width_mm: Length | None = None
    reach_mm: Length | None = None
    most: Annotated[int, Field(ge=1, le=12)] | None = None
    # Where it is not given, what was measured for the machine and material.
    clearance_mm: Length | None = None
    wall_mm: Length = 2.0
    # Cuts whose pegs stand on the other side.
    swapped: tuple[CutId, ...] = ()
    numbers: bool = False
    taper_deg: Annotated[float, Field(ge=0, le=MOST_TAPER_DEG)] = 0.0
    # Pegs are split and have a lip.
    snap: bool = False
    # Cuts, or faces of them, whose pieces are held in another way.
    by_cut: dict[JointId, JointKind] = {}
    # Pegs go as deep as the wall there lets them.
    to_wall: bool = False

    def setting(self, usual_clearance_mm: float = FITS["sliding"], material: str = "PLA") -> JointSetting:
        """Return them as the core takes them, for pieces of a material."""
        clearance = self.clearance_mm if self.clearance_mm is not None else usual_clearance_mm
        given = {**self.model_dump(exclude={"by_cut"}), "clearance_mm": clearance}
        if self.snap:
            given["strain"] = strain_of(material)
        return JointSetting(**given, others=tuple(sorted(self.by_cut.items())))


Share = Annotated[float, Field(ge=-0.5, le=0.5, allow_inf_nan=False)]


def scaled(one: Vector, factors: Vector) -> Vector:
    """Return a place of a part as it lies in one that is sized by factors."""
    return one[0] * factors[0], one[1] * factors[1], one[2] * factors[2]


class KeptWhole(Document):
    """What of the part no cut may go through, mm: a box, or all that lies between corners within it."""

    low_mm: Vector
    high_mm: Vector
    corners: Annotated[tuple[Vector, ...], Field(max_length=128)] = ()

    @model_validator(mode="after")
    def _has_size(self) -> KeptWhole:
        if not all(a < b for a, b in zip(self.low_mm, self.high_mm, strict=True)):
            raise ValueError("a box has to be larger than 0 mm on every side")
        return self

    @property
    def places(self) -> tuple[Vector, ...]:
        """As the core takes it."""
        return self.corners or (self.low_mm, self.high_mm)

    def sized(self, factors: Vector) -> KeptWhole:
        """Return it as it lies in a part that is sized by factors."""
        a, b, *corners = (scaled(one, factors) for one in (self.low_mm, self.high_mm, *self.corners))
        # Mirrored the lowest corner becomes the highest.
        low, high = (tuple(f(v) for v in zip(a, b, strict=True)) for f in (min, max))
        return KeptWhole.model_validate({"low_mm": low, "high_mm": high, "corners": corners})


class CutGoals(Document):
    """What counts in a plan of cuts, each from 0 to 5."""

    fewer_pieces: Annotated[float, Field(ge=0, le=5)] = PlanGoals.fewer_pieces
    less_support: Annotated[float, Field(ge=0, le=5)] = PlanGoals.less_support
    clean_show: Annotated[float, Field(ge=0, le=5)] = PlanGoals.clean_show
    shorter_print: Annotated[float, Field(ge=0, le=5)] = PlanGoals.shorter_print
    even_pieces: Annotated[float, Field(ge=0, le=5)] = PlanGoals.even_pieces


class Grid(Document):
    """How an item is cut: into boxes of the build volume less a margin on every side, or by planes."""

    margin_mm: Annotated[Length, Field(ge=0)] = 3.0
    # In the frame of the part, in their order; without any it is cut into boxes.
    planes: tuple[Plane, ...] = ()
    # What the planes are called that were taken over from a plan.
    plan: str = Field(default="", max_length=40)
    joints: Joints = Joints()
    # Boxes are moved by so much of a box along each axis; even ones without.
    shift: tuple[Share, Share, Share] = (0.0, 0.0, 0.0)
    kept: Annotated[tuple[KeptWhole, ...], Field(max_length=MOST_KEPT)] = ()
    goals: CutGoals = CutGoals()

    def sized(self, factors: Vector) -> Grid:
        """Return it for a part that is sized by factors: planes and what is kept whole go along."""
        planes = tuple(one.sized(factors) for one in self.planes)
        kept = tuple(one.sized(factors) for one in self.kept)
        return self.model_copy(update={"planes": planes, "kept": kept})

    def cuts(self) -> tuple[Cut, ...] | None:
        """Return the planes as the core takes them; ``None`` for boxes."""
        if not self.planes:
            return None
        return tuple(cut(p.normal, p.offset_mm, p.id, p.within) for p in self.planes)


class Stance(Document):
    """Which way up: a turn of the part as it came, and a lift above the plate."""

    quaternion: Quaternion = UPRIGHT
    lift_mm: Annotated[Length, Field(ge=0, le=100)] = 0.0
    name: str = "as it came"

    @property
    def down(self) -> Vector:
        """Where the plate is, in the frame of the part."""
        x, y, z = (-from_quaternion(self.quaternion)[2]).tolist()
        return (x, y, z)


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

    ``of`` is the identity of the stance that it was done in: of its surface, turn and typed lift, never of a
    result. The other supports were made round those of ``around``, for what ``made_for`` stands for; as soon
    as that is something else they are made round all that is kept.
    """

    of: str = ""
    kept: Digest | None = None
    # Where the origin lies in the coordinates that they were kept in, from a time when it was the plate's.
    origin_mm: tuple[float, float] = (0.0, 0.0)
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


class PieceOf(Document):
    """What a piece was cut from: the item, and its path in the cuts of that."""

    item: ItemId
    path: str = Field(pattern=r"^[0-9a-z./-]{1,60}$")


class OfJob(Document):
    """The job that an item came from with all that was decided of it, its step, and how it printed there."""

    job: Annotated[str, Field(max_length=32)]
    step: Annotated[int, Field(ge=0)]
    name: Annotated[str, Field(max_length=120)]
    due: dt.date | None = None
    layer_mm: Annotated[Length, Field(ge=0.005, le=5)]
    walls: Annotated[int, Field(ge=0, le=1000)] | None = None
    infill_percent: Annotated[float, Field(ge=0, le=100)] | None = None


class Elsewhere(Document):
    """The printer that an item goes to, and its material, where one is another than its job's.

    What was kept of them when they were picked; without a material it is that of the job.
    """

    printer: str
    own_printer: OwnPrinter | None = None
    calibration: Calibration | None = None
    material: str | None = None
    own_material: OwnMaterial | None = None

    @property
    def machine(self) -> Printer:
        """The printer."""
        return machine_of(self.printer, self.own_printer)

    @property
    def instead(self) -> dict[str, object]:
        """What reads instead of that of the job, by the names of its settings."""
        found: dict[str, object] = {
            "printer": self.printer, "own_printer": self.own_printer, "calibration": self.calibration,
        }  # fmt: skip
        if self.material is not None:
            found |= {"material": self.material, "own_material": self.own_material}
        return found


class Decisions(Document):
    """What is decided for an item and is the same, as often as not, for others: nothing that it came with."""

    grid: Grid | None = None
    stance: Stance = Stance()
    # Directions in the frame of the part: the side that must stay clean, and where the main load points.
    show: Vector | None = None
    load: Vector | None = None
    goals: StanceGoals | None = None
    supports: Supports | None = None
    footing: Footing = Footing()
    by_height: ByHeight = ByHeight()
    # A line on the part that seams lie along, where one was picked.
    seam_line: Annotated[tuple[Vector, ...], Field(max_length=20)] = ()
    # Places on bodies of the part that the second nozzle prints.
    second_bodies: Annotated[tuple[Vector, ...], Field(max_length=20)] = ()
    # Findings that the technician lets be, by id, each with a note; they go with the stance they are in.
    accepted: dict[str, str] = {}
    # Holes and channels narrower than this are proposed to be kept clear.
    channel_mm: Annotated[Length, Field(gt=0, le=200)] | None = None
    marks: PaintedMarks | None = None
    # What becomes of supports that came with the file.
    brought: Literal["none", "asked", "kept", "left"] = "none"
    elsewhere: Elsewhere | None = None

    @cached_property
    def decided(self) -> str:
        """The same for all items that were decided alike."""
        return self.model_dump_json(include=set(Decisions.model_fields))


# Places that lie so near each other are one.
SAME_MM = 1e-6


class NamedBody(NamedTuple):
    """A body of the file: a place on it, whether that is picked for the second nozzle, and what else is."""

    name: str
    at_mm: Vector
    is_picked: bool
    others_mm: tuple[Vector, ...]

    @property
    def after_mm(self) -> tuple[Vector, ...]:
        """What is picked once this one is picked too, or no longer."""
        return self.others_mm if self.is_picked else (*self.others_mm, self.at_mm)


class Item(Decisions):
    """What gets printed as one: a body of a source or a piece of a cut, and what is decided for it.

    Its id never changes: sized, mended, turned and held it stays the same item.
    """

    id: ItemId
    of: OfJob | None = None
    piece: PieceOf | None = None
    part: Part
    # What the part was before it was mended and sized; empty while it is as it came.
    came: Part | None = None
    mended: Part | None = None
    mending: tuple[str, ...] = ()
    # The furthest that mending moved the surface of the part as it came.
    moved_mm: float = 0.0
    # What to look at before the mended part is trusted, and the ways that were tried and not taken.
    mending_doubts: tuple[str, ...] = ()
    ways_left: tuple[str, ...] = ()
    size: Size = Size()
    # The part before it was hollowed, as it is sized, and how it is hollow.
    solid: Part | None = None
    hollow: Hollowing | None = None
    hand: HandWork = HandWork()
    variants: tuple[Variant, ...] = ()

    @property
    def original(self) -> Part:
        """The part as it came."""
        return self.came or self.part

    @property
    def file_bodies(self) -> BodiesApart | None:
        """Bodies that the file tells apart, in the size they came, whatever is done to the part."""
        return self.original.bodies

    @property
    def parted(self) -> bool:
        """The part comes apart into bodies: of its surface, or of the file where it is all of these."""
        return self.part.shells > 1 or (self.file_bodies is not None and self.file_bodies_are_whole)

    @property
    def file_bodies_are_whole(self) -> bool:
        """The part is all of the bodies of its file: neither a piece of a cut nor hollowed."""
        return self.original.bodies is not None and self.original.bodies.whole and self.hollow is None

    @property
    def named_bodies(self) -> tuple[NamedBody, ...]:
        """Bodies of the file by name, as the part is sized."""
        apart = self.file_bodies
        if apart is None:
            return ()
        found = []
        for name, at in zip(apart.names, apart.at_mm, strict=True):
            place = scaled(at, self.size.factors)
            others = tuple(one for one in self.second_bodies if math.dist(one, place) > SAME_MM)
            found.append(NamedBody(name, place, len(others) < len(self.second_bodies), others))
        return tuple(found)

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
    def stance_id(self) -> str:
        """Identity of the stance: of the surface, the turn and the lift as it was typed."""
        stance = self.stance
        return digest_of(("stance", self.part.mesh, stance.quaternion, stance.lift_mm))

    @property
    def stem(self) -> str:
        """Name of the file that it came in, without its ending."""
        return self.part.file_name.rsplit(".", 1)[0]


def brought_first(part: Part) -> Literal["none", "asked"]:
    """What becomes of the supports that came with a new part: it is asked, where there are any."""
    return "asked" if part.brought is not None else "none"


def fresh_id(part: Part, taken: set[str]) -> str:
    """Return an id for a new item: after the surface that it came with, and its number among such."""
    stem = part.mesh[:8]
    number, found = 1, stem
    while found in taken:
        number += 1
        found = f"{stem}-{number}"
    return found
