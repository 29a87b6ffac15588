"""Changes of how an item is cut into pieces."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field, field_validator

from ...core.errors import BadValue
from ...core.split.cuts import MOST_CUTS, cut
from ...core.split.fittings import JointKind
from ...core.split.grid import box_for
from ...core.split.kept import Kept, check_kept
from ..document import Length
from ..item import MOST_KEPT, CutGoals, CutId, Grid, Item, JointId, Joints, KeptWhole, PieceOf, Plane
from ..models import ItemSheet, JobSheet
from ..part import Part
from .base import Change, JobChange, altered
from .items import MOST_ITEMS, changed_meanwhile


class CutToGrid(Change):
    """Cut the part into boxes of the build volume less a margin."""

    kind: Literal["cut"] = "cut"
    margin_mm: Length = 3.0
    shift_x: float = 0.0
    shift_y: float = 0.0
    shift_z: float = 0.0

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        known = sheet.grid or Grid()
        box_for(sheet.machine.build_mm, self.margin_mm, known.joints.setting().stands_out_mm)
        shift = (self.shift_x, self.shift_y, self.shift_z)
        grid = altered(known, margin_mm=self.margin_mm, shift=shift, planes=(), plan="")
        return altered(sheet, grid=grid)

    def label(self, sheet: ItemSheet) -> str:
        return f"Cut to {sheet.machine.name}, margin {self.margin_mm:g} mm"


class SetJoints(Change):
    """Say what the joints of a cut must do."""

    kind: Literal["joints"] = "joints"
    joint: JointKind = JointKind.PEG
    sides: Annotated[int, Field(ge=0, le=12)] = 4
    width_mm: Length | None = None
    reach_mm: Length | None = None
    most: Annotated[int, Field(ge=1, le=12)] | None = None
    clearance_mm: Length | None = None
    wall_mm: Length = 2.0
    numbers: bool = False
    taper_deg: float = 0.0
    snap: bool = False
    to_wall: bool = False

    _empty = field_validator("width_mm", "reach_mm", "most", "clearance_mm", mode="before")(
        lambda v: None if v == "" else v
    )

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        grid = _cut(sheet)
        given = self.model_dump(include=set(Joints.model_fields) - {"kind", "swapped", "by_cut"})
        known = {"swapped": grid.joints.swapped, "by_cut": grid.joints.by_cut}
        joints = Joints(kind=self.joint, **known, **given)
        setting = joints.setting().checked()
        box_for(sheet.machine.build_mm, grid.margin_mm, setting.stands_out_mm)
        return altered(sheet, grid=grid.model_copy(update={"joints": joints}))

    def label(self, sheet: ItemSheet) -> str:
        return f"Joints: {self.joint}"


class JoinCut(Change):
    """Hold the pieces of one cut, or of one face, in another way than the others, or as them again."""

    kind: Literal["joint-of-cut"] = "joint-of-cut"
    cut: JointId
    joint: JointKind | Literal[""] = ""

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        grid = _cut(sheet)
        by_cut = {name: kind for name, kind in grid.joints.by_cut.items() if name != self.cut}
        if self.joint:
            by_cut[self.cut] = JointKind(self.joint)
        joints = altered(grid.joints, by_cut=by_cut)
        box_for(sheet.machine.build_mm, grid.margin_mm, joints.setting().stands_out_mm)
        return altered(sheet, grid=grid.model_copy(update={"joints": joints}))

    def label(self, sheet: ItemSheet) -> str:
        cut, _, face = self.cut.partition(":")
        return f"{'One joint' if face else 'Joints'} of cut {cut}: {self.joint or 'as the others'}"


class SwapPegs(Change):
    """Let the other side of a cut bear its pegs."""

    kind: Literal["swap-pegs"] = "swap-pegs"
    cut: CutId

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        grid = _cut(sheet)
        swapped = [one for one in grid.joints.swapped if one != self.cut]
        if len(swapped) == len(grid.joints.swapped):
            swapped.append(self.cut)
        joints = grid.joints.model_copy(update={"swapped": tuple(swapped)})
        return altered(sheet, grid=grid.model_copy(update={"joints": joints}))

    def label(self, sheet: ItemSheet) -> str:
        return f"Pegs of cut {self.cut} on the other side"


class TakePlan(Change):
    """Take over the cuts of a plan; made by the server, which knows them."""

    kind: Literal["take-plan"] = "take-plan"
    planes: tuple[Plane, ...]
    plan: str = Field(max_length=40)

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return altered(
            sheet,
            grid=_cut(sheet).model_copy(
                update={"planes": self.planes, "plan": self.plan, "shift": (0.0, 0.0, 0.0)}
            ),
        )

    def label(self, sheet: ItemSheet) -> str:
        return f"Cut as {self.plan}"


class WeighPlans(Change):
    """Say what counts in plans of cuts."""

    kind: Literal["plan-goals"] = "plan-goals"
    fewer_pieces: float = 0.0
    less_support: float = 0.0
    clean_show: float = 0.0
    shorter_print: float = 0.0
    even_pieces: float = 0.0

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        goals = CutGoals.model_validate(self.model_dump(exclude={"kind"}))
        return altered(sheet, grid=_cut(sheet).model_copy(update={"goals": goals}))

    def label(self, sheet: ItemSheet) -> str:
        return "What counts in plans"


class PutPlane(Change):
    """Put a plane after the others, or move one."""

    kind: Literal["plane"] = "plane"
    nx: float = 0.0
    ny: float = 0.0
    nz: float = 0.0
    offset_mm: float
    id: CutId | None = None
    within: str = Field(default="", max_length=60)

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        grid = sheet.grid or Grid()
        made = cut((self.nx, self.ny, self.nz), self.offset_mm, self.id or "new", self.within)
        others = [one for one in grid.cuts() or () if one.id != made.id]
        check_kept([*others, made], _kept(grid))
        names = [plane.id for plane in grid.planes]
        if self.id is not None and self.id not in names:
            raise changed_meanwhile()
        if self.id is None and len(names) >= MOST_CUTS:
            raise BadValue(f"{MOST_CUTS} cuts are the most.", "Take some out first.")
        name = self.id or _free(names)
        plane = Plane(id=name, normal=made.normal, offset_mm=made.offset_mm, within=made.within)
        planes = [plane if one.id == name else one for one in grid.planes]
        if self.id is None:
            planes.append(plane)
        return altered(sheet, grid=grid.model_copy(update={"planes": tuple(planes), "plan": ""}))

    def label(self, sheet: ItemSheet) -> str:
        return f"Move cut {self.id}" if self.id else f"Cut at {self.offset_mm:g} mm"


class KeepWhole(Change):
    """Keep a box round a place whole: no cut may go through it."""

    kind: Literal["keep-whole"] = "keep-whole"
    x: float
    y: float
    z: float
    side_mm: Annotated[Length, Field(gt=0, le=5000)]

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        half = self.side_mm / 2
        low = (self.x - half, self.y - half, self.z - half)
        high = (self.x + half, self.y + half, self.z + half)
        return _keeping(sheet, (KeptWhole(low_mm=low, high_mm=high),))

    def label(self, sheet: ItemSheet) -> str:
        return f"Keep {self.side_mm:g} mm whole"


class KeepPainted(Change):
    """Keep whole what is painted; made by the server, which knows where it lies."""

    kind: Literal["keep-painted"] = "keep-painted"
    places: tuple[KeptWhole, ...]

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        return _keeping(sheet, self.places)

    def label(self, sheet: ItemSheet) -> str:
        return f"Keep {len(self.places)} painted place{'s' if len(self.places) > 1 else ''} whole"


class KeepNoMore(Change):
    """Keep something whole no more, by its place in the list from 1."""

    kind: Literal["keep-out"] = "keep-out"
    number: Annotated[int, Field(ge=1)]

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        grid = _cut(sheet)
        if self.number > len(grid.kept):
            raise changed_meanwhile()
        kept = tuple(one for k, one in enumerate(grid.kept, 1) if k != self.number)
        return altered(sheet, grid=grid.model_copy(update={"kept": kept}))

    def label(self, sheet: ItemSheet) -> str:
        return f"Number {self.number} may be cut"


def _keeping(sheet: ItemSheet, more: tuple[KeptWhole, ...]) -> ItemSheet:
    grid = _cut(sheet)
    if len(grid.kept) + len(more) > MOST_KEPT:
        raise BadValue(f"{MOST_KEPT} places can be kept whole at most.", "Take some out first.")
    kept = altered(grid, kept=(*grid.kept, *more))
    check_kept(grid.cuts() or (), _kept(kept))
    return altered(sheet, grid=kept)


def _kept(grid: Grid) -> list[Kept]:
    return [one.places for one in grid.kept]


class CutEarlier(Change):
    """Let a plane cut before the one that now comes before it."""

    kind: Literal["plane-order"] = "plane-order"
    id: CutId

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        grid = _cut(sheet)
        at = next((k for k, one in enumerate(grid.planes) if one.id == self.id), 0)
        if not at:
            raise changed_meanwhile()
        one, before = grid.planes[at], grid.planes[at - 1]
        if one.within and f"{one.within}-".startswith(
            tuple(f"{lead}{before.id}{side}-" for lead in _leads(one.within) for side in "ab")
        ):
            raise BadValue(
                f"Cut {one.id} is within a piece that cut {before.id} makes.",
                "Take it out, and put it where it is to cut.",
            )
        planes = list(grid.planes)
        planes[at - 1 : at + 1] = [one, before]
        return altered(sheet, grid=grid.model_copy(update={"planes": tuple(planes), "plan": ""}))

    def label(self, sheet: ItemSheet) -> str:
        return f"Cut {self.id} earlier"


def _leads(path: str) -> list[str]:
    """What leads to each cut of a path: of ``1a-3b`` nothing, and ``1a-``."""
    steps = path.split("-")
    return ["".join(f"{step}-" for step in steps[:k]) for k in range(len(steps))]


class TakePlaneOut(Change):
    """Take a plane out."""

    kind: Literal["plane-out"] = "plane-out"
    id: CutId

    def apply(self, sheet: ItemSheet) -> ItemSheet:
        grid = _cut(sheet)
        planes = tuple(one for one in grid.planes if one.id != self.id)
        if len(planes) == len(grid.planes):
            raise changed_meanwhile()
        if not planes:
            return altered(sheet, grid=None)
        return altered(sheet, grid=grid.model_copy(update={"planes": planes, "plan": ""}))

    def label(self, sheet: ItemSheet) -> str:
        return f"Take out cut {self.id}"


def _cut(sheet: ItemSheet) -> Grid:
    if sheet.grid is None:
        raise BadValue("This part is not cut.", "Cut it in section 3 first.")
    return sheet.grid


def _free(names: list[str]) -> str:
    """A number that no plane has: names are never used again while others are there."""
    return str(1 + max((int(name) for name in names if name.isdigit()), default=0))


class JoinAgain(JobChange):
    """Take the cuts back; its pieces are items no more."""

    about_item: ClassVar[bool] = True
    kind: Literal["join"] = "join"

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with the item in one piece."""
        whole = job.item(item)
        rest = [one for one in job.items if one.piece is None or one.piece.item != whole.id]
        return job.with_items([_uncut(one) if one.id == whole.id else one for one in rest])

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return "One piece again"


def _uncut(item: Item) -> Item:
    return item.model_copy(update={"grid": None})


class MakePieces(JobChange):
    """Make items of the pieces of a cut item; made by the server, which keeps their surfaces first.

    A piece that is there already, by its path in the cuts, keeps all that is decided for it.
    """

    about_item: ClassVar[bool] = True
    kind: Literal["pieces"] = "pieces"
    parts: tuple[Part, ...]
    paths: tuple[str, ...]
    of: str

    def made(self, job: JobSheet, item: str) -> JobSheet:
        """Return the job with the pieces behind the item that they are cut from."""
        whole = job.item(item)
        if whole.part.mesh != self.of or whole.grid is None:
            raise changed_meanwhile()
        known = {
            one.piece.path: one for one in job.items if one.piece is not None and one.piece.item == whole.id
        }
        pieces = []
        for part, path in zip(self.parts, self.paths, strict=True):
            old = known.get(path)
            if old is not None:
                pieces.append(old if old.part == part else _recut(old, part))
            else:
                piece = PieceOf(item=whole.id, path=path)
                pieces.append(
                    Item(
                        id=f"{whole.id}.{path}",
                        piece=piece,
                        part=part,
                        footing=whole.footing,
                        marks=part.painted,
                        # Places in the frame of the whole part pick bodies of the file, which each piece has.
                        second_bodies=whole.second_bodies if part.bodies is not None else (),
                    )
                )
        rest = [one for one in job.items if one.piece is None or one.piece.item != whole.id]
        if len(rest) + len(pieces) > MOST_ITEMS:
            raise BadValue(f"A job holds {MOST_ITEMS} items at most.", "Cut it into fewer pieces.")
        at = rest.index(whole) + 1
        return job.with_items([*rest[:at], *pieces, *rest[at:]])

    def label(self, sheet: ItemSheet) -> str:
        """Say what was done."""
        return f"Make items of {len(self.parts)} pieces"


def _recut(old: Item, part: Part) -> Item:
    return old.model_copy(
        update={"part": part, "came": None, "mended": None, "mending": (), "solid": None, "hollow": None}
    )
