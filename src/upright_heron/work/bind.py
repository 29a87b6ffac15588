"""The one place that turns a sheet and an item into the settings and sources that recipes read."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from threading import Lock
from typing import Any, TypeVar, get_type_hints

from cachetools import LRUCache

from ..core.footing.footing import FootingKind
from ..core.graph import GRAPH, Graph, Ref, Source
from ..core.handoff.masks import Screen
from ..core.keys import Alike, Keys
from ..core.recipes import settings as s
from ..core.recipes.handoff import MARKS
from ..core.recipes.part import BODIES, CAME, MARKS_DEMAND, MARKS_SHOW, MESH
from ..core.recipes.settings_by_hand import TipsAround, TipsByHand
from ..core.recipes.supports_filament import AROUND, KEPT
from ..core.split.grid import box_for
from ..core.supports.filament.thickness import thickness
from ..sheet.item import HandWork, Variant
from ..sheet.models import DecidedSheet, ItemSheet, JobSettings, JobSheet
from ..sheet.process import Second
from ..sheet.upcast import is_of
from .bind_paths import OF_PATHS, gcode
from .bind_plates import items_of, layout
from .bind_tips import around, tips_of

T = TypeVar("T")
Reader = Callable[[ItemSheet], Any]

_READERS: dict[type, Reader] = {}
# Settings that items have of their own, though they were decided alike.
_OWN: set[type] = set()
_SOURCES: dict[str, Callable[[ItemSheet], Ref | None]] = {}
_OF_PLATE: dict[type, Callable[[JobSheet, int], Any]] = {}


def binds(kind: type[T]) -> Callable[[Callable[[ItemSheet], T | None]], Callable[[ItemSheet], T | None]]:
    """Declare how settings are read off the sheet of an item; ``None`` where they are not asked for.

    A reader that takes no more than a ``DecidedSheet`` is asked once for all items that were decided alike.
    """

    def declared(reader: Callable[[ItemSheet], T | None]) -> Callable[[ItemSheet], T | None]:
        _READERS[kind] = reader
        if get_type_hints(reader)["sheet"] is not DecidedSheet:
            _OWN.add(kind)
        return reader

    return declared


def binds_source(source: Source[Any]) -> Callable[[Callable[[ItemSheet], Ref | None]], Any]:
    """Declare what a source is bound to on the sheet of an item."""

    def declared(reader: Callable[[ItemSheet], Ref | None]) -> Any:
        _SOURCES[source.name] = reader
        return reader

    return declared


class ItemBinding:
    """An item of a job, as the graph sees it.

    Parameters
    ----------
    sheet : ItemSheet
    around : bool
        Automatic supports are made round those of hands; without it, as if there were none.
    """

    def __init__(self, sheet: ItemSheet, *, around: bool = True) -> None:
        self._sheet = sheet
        self._around = around
        self._known: dict[type, object | None] = {}

    def settings(self, kind: type) -> object | None:
        """As ``Binding``."""
        if kind is TipsAround and not self._around:
            return TipsAround()
        if kind not in self._known:
            reader = _READERS.get(kind)
            self._known[kind] = None if reader is None else reader(self._sheet)
        return self._known[kind]

    def source(self, source: Source[Any]) -> Ref | None:
        """As ``Binding``."""
        if source is AROUND and not self._around:
            return None
        reader = _SOURCES.get(source.name)
        return None if reader is None else reader(self._sheet)

    def each(self) -> Sequence[ItemBinding]:
        """As ``Binding``: an item speaks of no other."""
        return ()


class PlateBinding:
    """A plate of a job, as the graph sees it: it speaks of the items that stand on it."""

    def __init__(self, job: JobSheet, plate: int = 0) -> None:
        self._job = job
        self._plate = plate

    def settings(self, kind: type) -> object | None:
        """As ``Binding``."""
        reader = _OF_PLATE.get(kind)
        return None if reader is None else reader(self._job, self._plate)

    def source(self, source: Source[Any]) -> Ref | None:
        """As ``Binding``: a plate has none of its own."""
        return None

    def each(self) -> Sequence[ItemBinding]:
        """As ``Binding``."""
        return [ItemBinding(self._job.on(item)) for item in items_of(self._job, self._plate)]


# Keys are asked for again and again while sheets stay the same; the items of a new step are those of the step
# before but for the one that was changed.
_recent: LRUCache[int, tuple[object, Keys]] = LRUCache(4000)
_lock = Lock()


def keys_of(sheet: ItemSheet, graph: Graph = GRAPH) -> Keys:
    """Keys of all results of an item."""
    known = _at_hand(sheet)
    if known is not None and known[0] is sheet and known[1].graph is graph:
        return known[1]
    alike = sheet.common.get(graph)
    if alike is None:
        alike = sheet.common[graph] = Alike(frozenset(_OWN))
    made = Keys(ItemBinding(sheet), graph, alike=alike)
    _have_at_hand(sheet, made)
    return made


def plate_keys(job: JobSheet, plate: int = 0, graph: Graph = GRAPH) -> Keys:
    """Keys of all results of a plate."""
    known = _at_hand(job)
    if known is not None and known[0] is job and plate == 0 and known[1].graph is graph:
        return known[1]
    made = Keys(PlateBinding(job, plate), graph)
    made.share([keys_of(job.on(item), graph) for item in items_of(job, plate)])
    # Most jobs have one plate.
    if plate == 0:
        _have_at_hand(job, made)
    return made


def _at_hand(sheet: object) -> tuple[object, Keys] | None:
    with _lock:
        return _recent.get(id(sheet))


def _have_at_hand(sheet: object, keys: Keys) -> None:
    with _lock:
        # The sheet is held too: its id is not given to another while its keys are at hand.
        _recent[id(sheet)] = (sheet, keys)


def hand_of(sheet: ItemSheet) -> HandWork:
    """The work by hand that belongs to the stance of a sheet; none where it belongs to another."""
    return sheet.hand if is_of(sheet.hand.of, sheet) else HandWork(of=sheet.stance_id)


def growing(sheet: ItemSheet, name: str = "grown") -> str:
    """What automatic supports, or the ``stood`` stilts, are made from, whatever hands made beside them."""
    return Keys(ItemBinding(sheet, around=False)).get(name) or ""


def as_variant(sheet: ItemSheet, kept: Variant) -> ItemSheet:
    """The sheet as if a variant of its supports were taken."""
    return sheet.model_copy(
        update={"supports": kept.supports, "hand": kept.hand, "limit_deg": kept.limit_deg, "variants": ()}
    )


# Sources -----------------------------------------------------------------------


@binds_source(MESH)
def _mesh(sheet: ItemSheet) -> Ref:
    return Ref(sheet.part.mesh, sheet.part.mesh)


@binds_source(CAME)
def _came(sheet: ItemSheet) -> Ref | None:
    before = sheet.unmended
    return None if before is None else Ref(before.mesh, before.mesh)


@binds_source(BODIES)
def _bodies(sheet: ItemSheet) -> Ref | None:
    apart = sheet.file_bodies
    return None if apart is None else Ref(apart.mesh, apart.mesh)


@binds_source(MARKS_DEMAND)
def _marks_demand(sheet: ItemSheet) -> Ref | None:
    marks = sheet.marks
    return Ref(marks.demand, marks.digest) if marks is not None and marks.demand else None


@binds_source(MARKS_SHOW)
def _marks_show(sheet: ItemSheet) -> Ref | None:
    marks = sheet.marks
    return Ref(marks.show, marks.digest) if marks is not None and marks.show else None


@binds_source(MARKS)
def _marks(sheet: ItemSheet) -> Ref | None:
    return Ref(sheet.marks.digest, sheet.marks.digest) if sheet.marks is not None else None


def _by_hand(digest: str | None, hand: HandWork) -> Ref | None:
    if digest is None:
        return None
    x, y = hand.origin_mm
    name = f"{digest}@{x!r},{y!r}" if x or y else digest
    return Ref(name, name)


_NOTHING = HandWork()


def _hand(sheet: ItemSheet) -> HandWork:
    """The work by hand that counts in this stance; most items have none in any."""
    hand = sheet.hand
    if hand.kept is None and hand.around is None and not hand.removed:
        return _NOTHING
    return hand if is_of(hand.of, sheet) else _NOTHING


@binds_source(KEPT)
def _kept(sheet: ItemSheet) -> Ref | None:
    hand = _hand(sheet)
    return _by_hand(hand.kept, hand)


@binds_source(AROUND)
def _round(sheet: ItemSheet) -> Ref | None:
    hand = _hand(sheet)
    if hand.kept is None and hand.around is None:
        return None
    same = bool(hand.made_for) and hand.made_for == growing(sheet)
    return _by_hand(hand.around if same else hand.kept, hand)


# Settings of an item ------------------------------------------------------------


@binds(s.PartFacts)
def _part(sheet: ItemSheet) -> s.PartFacts:
    return s.PartFacts(sheet.part.closed, sheet.part.volume_mm3, sheet.part.area_mm2)


@binds(s.Sized)
def _sized(sheet: ItemSheet) -> s.Sized:
    return s.Sized(sheet.size.factors)


@binds(s.ThinWall)
def _thin(sheet: DecidedSheet) -> s.ThinWall:
    return s.ThinWall(sheet.thinnest_mm)


@binds(s.ChannelWidth)
def _channel(sheet: DecidedSheet) -> s.ChannelWidth | None:
    return None if sheet.channel_mm is None else s.ChannelWidth(sheet.channel_mm)


@binds(s.Limit)
def _limit(sheet: DecidedSheet) -> s.Limit:
    return s.Limit(sheet.limit)


@binds(s.Turn)
def _turn(sheet: DecidedSheet) -> s.Turn:
    return s.Turn(sheet.stance.quaternion)


@binds(s.Lift)
def _lift(sheet: DecidedSheet) -> s.Lift:
    return s.Lift(sheet.lift_mm)


@binds(s.LayerHeight)
def _layer(sheet: DecidedSheet) -> s.LayerHeight:
    return s.LayerHeight(sheet.layer_mm)


@binds(s.Walk)
def _walk(sheet: DecidedSheet) -> s.Walk:
    return s.Walk(sheet.spot_mm, sheet.is_resin, sheet.step_factor)


@binds(s.FigureSetting)
def _figures(sheet: DecidedSheet) -> s.FigureSetting:
    return s.FigureSetting(sheet.setting())


@binds(s.SearchSetting)
def _search(sheet: DecidedSheet) -> s.SearchSetting | None:
    if sheet.goals is None:
        return None
    return s.SearchSetting(sheet.setting(load=False), sheet.goals.goals())


@binds(s.PaintedShow)
def _painted_show(sheet: DecidedSheet) -> s.PaintedShow | None:
    return s.PaintedShow() if sheet.show_is_painted else None


@binds(s.ShowDirection)
def _show(sheet: DecidedSheet) -> s.ShowDirection | None:
    return None if sheet.show is None or sheet.show_is_painted else s.ShowDirection(sheet.show)


@binds(s.Bridges)
def _bridges(sheet: DecidedSheet) -> s.Bridges:
    return s.Bridges(0.0 if sheet.is_resin else sheet.bridge_mm)


@binds(s.Demand)
def _demand(sheet: DecidedSheet) -> s.Demand | None:
    asked = sheet.filament
    if asked is None or sheet.is_resin:
        return None
    return s.Demand(
        limit_deg=sheet.limit,
        hold=asked.hold,
        smallest_mm2=asked.smallest_mm2,
        steady=asked.steady,
        steady_at=asked.steady_at,
        let_be=frozenset(sheet.accepted),
        spacing_mm=asked.spacing_mm,
        branch_mm=thickness(asked.sturdiness).branch_mm,
        clearance_mm=asked.clearance_mm,
        branch_deg=asked.branch_deg,
        from_plate=asked.from_plate,
    )


@binds(s.Styles)
def _styles(sheet: DecidedSheet) -> s.Styles | None:
    asked = sheet.filament
    return None if asked is None else s.Styles(asked.style, tuple(sorted(asked.by_patch.items())))


@binds(s.FilamentSupports)
def _filament(sheet: DecidedSheet) -> s.FilamentSupports | None:
    if sheet.filament is None or sheet.is_resin:
        return None
    return s.FilamentSupports(sheet.support_settings())


@binds(s.ResinSupports)
def _resin(sheet: DecidedSheet) -> s.ResinSupports | None:
    return s.ResinSupports(sheet.support_settings()) if sheet.resin and sheet.is_resin else None


@binds(TipsByHand)
def _tips(sheet: DecidedSheet) -> TipsByHand | None:
    return None if sheet.resin is None or not sheet.is_resin else tips_of(sheet.resin)


@binds(TipsAround)
def _tips_around(sheet: ItemSheet) -> TipsAround | None:
    known = sheet.resin if sheet.is_resin else None
    return None if known is None else TipsAround(tips_of(around(known, growing(sheet, "stood"))))


@binds(s.Peeling)
def _peeling(sheet: DecidedSheet) -> s.Peeling | None:
    return s.Peeling(sheet.stuff.peel) if sheet.is_resin else None


@binds(s.TakenOut)
def _taken(sheet: ItemSheet) -> s.TakenOut:
    return s.TakenOut(tuple(s.Gone(gone.id, gone.style, gone.at_mm) for gone in _hand(sheet).removed))


@binds(s.Tool)
def _tool(sheet: DecidedSheet) -> s.Tool | None:
    return None if sheet.filament is None else s.Tool(sheet.filament.tool_mm)


@binds(s.FootingSetting)
def _footing(sheet: DecidedSheet) -> s.FootingSetting | None:
    if sheet.footing.kind is FootingKind.NONE:
        return None
    return s.FootingSetting(sheet.footing_settings())


@binds(s.Box)
def _box(sheet: DecidedSheet) -> s.Box | None:
    if sheet.grid is None:
        return None
    stands_out = sheet.grid.joints.setting().stands_out_mm
    kept = tuple(one.places for one in sheet.grid.kept)
    return s.Box(box_for(sheet.machine.build_mm, sheet.grid.margin_mm, stands_out), kept)


@binds(s.Parting)
def _parting(sheet: DecidedSheet) -> s.Parting | None:
    grid = sheet.grid
    return None if grid is None else s.Parting(grid.cuts(), grid.shift, grid.joints.setting().interlocks)


@binds(s.Joining)
def _joining(sheet: DecidedSheet) -> s.Joining | None:
    grid, clearance = sheet.grid, sheet.usual_clearance_mm
    return None if grid is None else s.Joining(grid.joints.setting(clearance, sheet.stuff.name))


@binds(s.BuildVolume)
def _volume(sheet: DecidedSheet) -> s.BuildVolume:
    return s.BuildVolume(sheet.machine.build_mm)


@binds(s.Listing)
def _listing(sheet: DecidedSheet) -> s.Listing:
    return s.Listing(
        limit_deg=sheet.limit,
        bridge_mm=sheet.bridge_mm,
        material=sheet.stuff.name,
        resin=sheet.is_resin,
        accepted=tuple(sorted(sheet.accepted.items())),
        supported=sheet.supports is not None,
    )


@binds(s.Costing)
def _costing(sheet: DecidedSheet) -> s.Costing:
    return s.Costing(
        printer=sheet.machine,
        material=sheet.stuff,
        layer_mm=sheet.layer_mm,
        walls=sheet.process.walls,
        infill=sheet.process.infill_percent / 100.0,
        every=sheet.filament.every if sheet.filament is not None else 1,
        rows=sheet.rows,
        second=sheet.second.value,
        second_material=sheet.second_stuff,
    )


def _masking(sheet: JobSettings) -> s.Masking | None:
    moved = sheet.process.outline_mm, sheet.process.first_outline_mm
    return s.Masking(Screen.of(sheet.machine), sheet.rows, *moved) if sheet.is_resin else None


binds(s.Masking)(_masking)


@binds(s.Drilled)
def _drilled(sheet: ItemSheet) -> s.Drilled | None:
    mouths = sheet.hollow.mouths() if sheet.hollow is not None and sheet.is_resin else None
    return s.Drilled(mouths) if mouths is not None else None


@binds(s.Choices)
def _choices(sheet: ItemSheet) -> s.Choices:
    return s.Choices(
        technology=sheet.machine.technology,
        is_cut=sheet.grid is not None,
        has_supports=sheet.supports is not None,
        footing=sheet.footing.kind,
        brought=sheet.brought == "asked",
        stays=sheet.stays,
        lifted=sheet.lift_mm > 0,
    )


@binds(s.Naming)
def _naming(sheet: ItemSheet) -> s.Naming:
    second = sheet.second
    other = sheet.second_stuff.name if second is not Second.NOTHING else ""
    return s.Naming(sheet.item_name, second.value, other)


for _kind, _reader in OF_PATHS.items():
    binds(_kind)(_reader)


# Settings of a plate ------------------------------------------------------------


def _gcode(job: JobSheet, plate: int) -> s.GcodeSetting | None:
    return gcode(job.of_plate(plate), [job.on(item) for item in items_of(job, plate)])


_OF_PLATE.update({s.Layout: layout, s.Masking: lambda job, plate: _masking(job.of_plate(plate))})
_OF_PLATE.update({s.Title: lambda job, _: s.Title(job.name), s.GcodeSetting: _gcode})
