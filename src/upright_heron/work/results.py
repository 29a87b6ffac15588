"""Recipes of all that can be computed from a job sheet; their keys are in ``keys``."""

from __future__ import annotations

import json
import math
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import replace
from typing import Any, TypeVar

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ..core.errors import NotClosed
from ..core.footing.footing import Footing, FootingKind, footprint, make_footing
from ..core.geometry.adjacency import across_edges
from ..core.geometry.mesh import Mesh, facet_normals, facts
from ..core.geometry.picture import picture
from ..core.geometry.solid import Solid
from ..core.geometry.subdivision import Fine, refined
from ..core.geometry.tree import Tree
from ..core.handoff.threemf import FileObject, write_3mf
from ..core.hanging.findings import Hanging, walk
from ..core.hanging.islands import find_islands
from ..core.hanging.overhang_regions import Region, hanging_regions
from ..core.hanging.overhangs import overhangs
from ..core.health.report import Report, report
from ..core.layers.stack import LayerStack, cut
from ..core.marking.channels import Channel, find_channels, gaps_mm
from ..core.marking.marks import Mark, Marks
from ..core.progress import Progress, silent
from ..core.split.grid import Split, box_for, split_into_grid
from ..core.stance.figures import SHOW_DEG, Base, Figures, figures
from ..core.stance.pose import Placement, from_quaternion, on_plate, place
from ..core.stance.resting import RestingFace, resting_faces
from ..core.stance.search import Found, search, slicer
from ..core.supports.checks.holding import holding, probes
from ..core.supports.checks.removal import Access, reach
from ..core.supports.demand.demand_overrides import Wishes, wishes
from ..core.supports.demand.patches import Hold, Patch, Style, patches
from ..core.supports.demand.side_contacts import steady_heights, steady_patches, wall_patches
from ..core.supports.filament.finish import finished
from ..core.supports.filament.styles import Grown, chosen_styles, grow_supports, kept_clear
from ..core.supports.model import Branches, Column, SupportSet, SupportSettings
from ..core.supports.resin.stilts import make_stilts
from ..core.supports.show_side import Shown
from ..sheet.models import JobSheet
from ..sheet.process import Second
from ..store.store import Store
from .handwork import by_hand
from .keys import hand_of, keys
from .marking import marks_of
from .packing import in_rows, moved
from .values import Findings, Holding, Marked, Package, Picture, Placed

T = TypeVar("T")


class _Recent:
    """The last few values by key: a process keeps the solid it works on."""

    def __init__(self, size: int) -> None:
        self._size = size
        self._values: OrderedDict[str, Any] = OrderedDict()

    def get(self, key: str, make: Callable[[], T]) -> T:
        if key not in self._values:
            self._values[key] = make()
            while len(self._values) > self._size:
                self._values.popitem(last=False)
        self._values.move_to_end(key)
        return self._values[key]  # type: ignore[no-any-return]


class Bench:
    """Makes the results of sheets, each once, through the store.

    Parameters
    ----------
    store : Store
    progress : Progress
    """

    def __init__(self, store: Store, progress: Progress = silent) -> None:
        self.store = store
        self.progress = progress
        self._meshes = _Recent(3)
        self._solids = _Recent(3)
        self._stacks = _Recent(3)
        self._bases = _Recent(2)
        self._fine = _Recent(2)
        self._joined = _Recent(1)
        # Told the name of a result that others wait for while more is still being made.
        self.ready: Callable[[str], None] = lambda name: None

    def make(self, sheet: JobSheet, name: str) -> Any:
        """Make (or recall) one result of a sheet by its name."""
        return getattr(self, name)(sheet)

    def mesh(self, sheet: JobSheet) -> Mesh:
        """The part as it came."""
        digest = sheet.part.mesh
        return self._meshes.get(digest, lambda: self.store.mesh(digest))

    def solid(self, sheet: JobSheet) -> Solid | None:
        """The part as a solid, or ``None`` for an open one."""
        if not sheet.part.closed:
            return None
        self.progress("Building the solid", 0, 1)
        try:
            return self._solids.get(sheet.part.mesh, lambda: Solid.from_mesh(self.mesh(sheet)))
        except NotClosed:
            return None

    def placement(self, sheet: JobSheet) -> Placement:
        """Turn and offset of the stance."""
        machine = sheet.machine
        return place(
            self.mesh(sheet),
            from_quaternion(sheet.stance.quaternion),
            sheet.lift_mm,
            at=lambda size_mm: on_plate(size_mm, machine.build_mm, machine.spot_mm),
        )

    def placed_mesh(self, sheet: JobSheet) -> Mesh:
        """The part in its stance."""
        return self.placement(sheet).apply(self.mesh(sheet))

    def placed_solid(self, sheet: JobSheet) -> Solid | None:
        """The part in its stance as a solid, or ``None``."""
        solid, where = self.solid(sheet), self.placement(sheet)
        return None if solid is None else solid.transformed(where.rotation, where.offset_mm)

    def placed(self, sheet: JobSheet) -> Placed:
        """Size in the stance."""

        def make() -> Placed:
            low, high = self.placed_mesh(sheet).bounds
            x, y, z = (float(v) for v in high - low)
            middle = 0.5 * (low + high)
            return Placed((x, y, z), (float(middle[0]), float(middle[1])))

        return self.store.recall(keys(sheet)["placed"], make)

    def picture(self, sheet: JobSheet) -> Picture:
        """Card picture in the stance."""
        return self.store.recall(keys(sheet)["picture"], lambda: Picture(picture(self.placed_mesh(sheet))))

    def layers(self, sheet: JobSheet) -> LayerStack:
        """Layers of the part."""

        def make() -> LayerStack:
            solid = self.placed_solid(sheet)
            return cut(self.placed_mesh(sheet), solid, sheet.layer_mm, progress=self.progress)

        key = keys(sheet)["layers"]
        return self._stacks.get(key, lambda: self.store.recall(key, make))

    def walked(self, sheet: JobSheet) -> Hanging:
        """What was found walking up the layers; the limit does not count in it."""

        def make() -> Hanging:
            stack = self.layers(sheet)
            self.progress("Looking for islands", 0, 1)
            return walk(
                self.placed_mesh(sheet), stack, spot_mm=sheet.spot_mm, resin=sheet.is_resin,
                on_plate=sheet.lift_mm == 0, step_factor=sheet.step_factor,
            )  # fmt: skip

        return self.store.recall(keys(sheet)["walked"], make)

    def findings(self, sheet: JobSheet) -> Findings:
        """Overhangs and islands."""

        def make() -> Findings:
            stack, walked = self.layers(sheet), self.walked(sheet)
            lifted = sheet.lift_mm > 0
            area = overhangs(self.placed_mesh(sheet), sheet.limit, plate_mm=None if lifted else 0.0)
            largest = stack.largest
            return Findings(
                area.overhang_area_mm2,
                area.contact_area_mm2,
                walked,
                len(stack),
                largest,
                float(stack.z_mm[largest]) if largest >= 0 else 0.0,
                float(stack.area_mm2[largest]) if largest >= 0 else 0.0,
                stack.open_chains,
            )

        return self.store.recall(keys(sheet)["findings"], make)

    def hangs(self, sheet: JobSheet) -> tuple[Region, ...]:
        """Overhang regions, from the lowest up."""

        def make() -> tuple[Region, ...]:
            self.progress("Finding what hangs", 0, 1)
            placed = self.placed_mesh(sheet)
            tree, across = self._joins(sheet, placed)
            lifted = sheet.lift_mm > 0
            return tuple(hanging_regions(placed, sheet.limit, lifted=lifted, tree=tree, across=across))

        return self.store.recall(keys(sheet)["hangs"], make)

    def past(self, sheet: JobSheet) -> NDArray[np.int64]:
        """Facets of the part past the limit in its stance."""
        plate_mm = None if sheet.lift_mm > 0 else 0.0
        return np.flatnonzero(overhangs(self.placed_mesh(sheet), sheet.limit, plate_mm=plate_mm).past)

    def base(self, sheet: JobSheet) -> Base:
        """What all stances of the part share."""
        setting = sheet.setting()
        mesh, painted = self.shown(sheet)
        key = json.dumps([sheet.part.mesh, setting.show, sheet.marks.show if sheet.marks else ""])
        return self._bases.get(key, lambda: Base.of(mesh, setting, closed=sheet.part.closed, painted=painted))

    def fine(self, sheet: JobSheet) -> Fine:
        """The mesh that marks are painted on."""
        return self._fine.get(sheet.part.mesh, lambda: refined(self.mesh(sheet)))

    def shown(self, sheet: JobSheet) -> tuple[Mesh, NDArray[np.bool_] | None]:
        """The mesh that stances are judged by, and its facets of the show side where that is painted."""
        if not sheet.setting().painted:
            return self.mesh(sheet), None
        fine = self.fine(sheet)
        return fine.mesh, marks_of(sheet, fine, self.store) == Mark.SHOW

    def gaps(self, sheet: JobSheet) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
        """How far each facet of the fine mesh sees the part again, and where."""

        def make() -> tuple[NDArray[np.float64], NDArray[np.int64]]:
            self.progress("Looking into holes", 0, 1)
            return gaps_mm(self.fine(sheet))

        return self.store.recall(keys(sheet)["gaps"], make)

    def channels(self, sheet: JobSheet) -> tuple[Channel, ...]:
        """Holes and channels under the width that the technician set."""

        def make() -> tuple[Channel, ...]:
            assert sheet.channel_mm is not None
            gaps = self.gaps(sheet)
            self.progress("Finding channels", 0, 1)
            return tuple(find_channels(self.fine(sheet), sheet.channel_mm, gaps))

        return self.store.recall(keys(sheet)["channels"], make)

    def figures(self, sheet: JobSheet) -> Figures:
        """All figures of the stance."""

        def make() -> Figures:
            stack = self.layers(sheet)
            self.progress("Figures of the stance", 0, 1)
            return figures(
                self.shown(sheet)[0], from_quaternion(sheet.stance.quaternion), stack, sheet.setting(),
                closed=sheet.part.closed, base=self.base(sheet),
            )  # fmt: skip

        return self.store.recall(keys(sheet)["figures"], make)

    def search(self, sheet: JobSheet) -> Found:
        """Stances that are proposed; the first ones are kept under a key of their own while they firm up."""

        def make() -> Found:
            assert sheet.goals is not None
            (mesh, painted), solid, first = self.shown(sheet), self.solid(sheet), keys(sheet)["first"]

            def firming(found: Found) -> None:
                self.store.remember(first, found)
                self.ready("first")

            return search(
                mesh, slicer(self.mesh(sheet), solid, sheet.layer_mm, sheet.lift_mm), sheet.setting(),
                sheet.goals.goals(), painted=painted,
                closed=solid is not None, progress=self.progress, firming=firming,
            )  # fmt: skip

        return self.store.recall(keys(sheet)["search"], make)

    def painted(self, sheet: JobSheet) -> tuple[Mesh, NDArray[np.int64], Marks] | None:
        """The fine mesh where the part stands, the facets it tiles, and what supports heed of its marks."""
        if sheet.marks is None or not sheet.marks.demand:
            return None
        fine = self.fine(sheet)
        return self.placement(sheet).apply(fine.mesh), fine.parent, marks_of(sheet, fine, self.store)

    def wishes(self, sheet: JobSheet) -> Wishes:
        """What bridges and marks change in what is to be held."""
        bridge_mm = 0.0 if sheet.is_resin else sheet.bridge_mm
        return wishes(
            self.layers(sheet), self.placed_mesh(sheet), self.hangs(sheet), bridge_mm, self.painted(sheet)
        )

    def marked(self, sheet: JobSheet) -> Marked:
        """Which overhang regions are painted."""

        def make() -> Marked:
            asked = self.wishes(sheet)
            return Marked(tuple(sorted(asked.propped)), tuple(sorted(asked.kept_clear)))

        return self.store.recall(keys(sheet)["marked"], make)

    def demand(self, sheet: JobSheet) -> tuple[Patch, ...]:
        """What must be held, and why (filament)."""

        def make() -> tuple[Patch, ...]:
            assert sheet.supports is not None
            stack, placed = self.layers(sheet), self.placed_mesh(sheet)
            settings = sheet.support_settings()
            tree, _ = self._joins(sheet, placed)
            found = patches(
                stack, placed, replace(self.walked(sheet), regions=self.hangs(sheet)),
                find_islands(stack, on_plate=sheet.lift_mm == 0)[1], sheet.limit,
                wishes=self.wishes(sheet), hold=sheet.supports.hold, let_be=frozenset(sheet.accepted),
                smallest_mm2=settings.smallest_mm2, tree=tree, progress=self.progress,
            )  # fmt: skip
            painted = self.painted(sheet)
            if painted is not None:
                found += wall_patches(stack, painted[0], painted[2], settings)
            steady = sheet.supports.steady
            if steady is not None or sheet.supports.hold is Hold.ALL:
                heights = steady_heights(stack, steady, sheet.supports.steady_at)
                found += steady_patches(stack, placed, tree, heights, settings)
            return tuple(found)

        return self.store.recall(keys(sheet)["demand"], make)

    def held(self, sheet: JobSheet) -> list[tuple[Patch, Style]]:
        """All patches with the style that each is held in."""
        assert sheet.supports is not None
        return chosen_styles(self.demand(sheet), sheet.supports.style, sheet.supports.by_patch)

    def cleared(self, sheet: JobSheet) -> tuple[CrossSection | None, ...] | None:
        """Where nothing may pass, by level from the plate; ``None`` where nothing is painted."""
        if "cleared" not in keys(sheet):
            return None

        def make() -> tuple[CrossSection | None, ...]:
            painted = self.painted(sheet)
            assert painted is not None
            return tuple(kept_clear(painted[0], painted[2], self.layers(sheet)) or ())

        return self.store.recall(keys(sheet)["cleared"], make) or None

    def grown(self, sheet: JobSheet) -> Grown:
        """Supports as they are made, before hands change them (filament)."""

        def make() -> Grown:
            assert sheet.supports is not None
            hand, found = hand_of(sheet), keys(sheet)
            around = hand.around if hand.made_for == found["growing"] else hand.kept
            tree, _ = self._joins(sheet, self.placed_mesh(sheet))
            return grow_supports(
                self.layers(sheet), self.held(sheet), sheet.support_settings(),
                tree, clear=self.cleared(sheet), around=self.store.supports(around) if around else (),
                shown=self._shown(sheet), progress=self.progress,
            )  # fmt: skip

        return self.store.recall(keys(sheet)["grown"], make)

    def supports(self, sheet: JobSheet) -> SupportSet:
        """Supports: of all styles on a filament machine, stilts on a resin one."""

        def make() -> SupportSet:
            assert sheet.supports is not None
            settings = sheet.support_settings()
            if not sheet.is_resin:
                grown, hand = self.grown(sheet), hand_of(sheet)
                every, lost = by_hand(grown, hand, self.store.supports(hand.kept) if hand.kept else ())
                return finished(
                    self.layers(sheet), self.held(sheet), every, settings, clear=self.cleared(sheet),
                    lost=lost, progress=self.progress,
                )  # fmt: skip
            return self._stilts(sheet, settings)

        return self.store.recall(keys(sheet)["supports"], make)

    def _stilts(self, sheet: JobSheet, settings: SupportSettings) -> SupportSet:
        solid, painted = self.placed_solid(sheet), self.painted(sheet)
        if solid is None:
            raise NotClosed(
                "Stilts need a closed part, and this surface is open.",
                "Export a closed part, or pick a filament printer: its columns only need the layers.",
            )
        stack = self.layers(sheet)
        found, _ = find_islands(stack, on_plate=sheet.lift_mm == 0)
        return make_stilts(
            self.placed_mesh(sheet), solid, stack, sheet.limit, found, settings,
            painted=painted and (painted[0], painted[2]), progress=self.progress,
        )  # fmt: skip

    def access(self, sheet: JobSheet) -> tuple[Access, ...]:
        """How each filament support is got at."""

        def make() -> tuple[Access, ...]:
            assert sheet.supports is not None
            made = self.supports(sheet)
            tree, _ = self._joins(sheet, self.placed_mesh(sheet))
            supports = [s for s in made.supports if isinstance(s, Column | Branches)]
            tool_mm = sheet.supports.tool_mm
            return tuple(reach(supports, tree, tool_mm, self._shown(sheet), progress=self.progress))

        return self.store.recall(keys(sheet)["access"], make)

    def _shown(self, sheet: JobSheet) -> Shown | None:
        """The show side where the part stands: painted, or by its direction."""
        if sheet.setting().painted:
            fine = self.fine(sheet)
            painted = marks_of(sheet, fine, self.store) == Mark.SHOW
            return Shown(Tree.of(self.placement(sheet).apply(fine.mesh)), painted)
        if sheet.show is None:
            return None
        placed = self.placed_mesh(sheet)
        turned = from_quaternion(sheet.stance.quaternion) @ np.array(sheet.show)
        clean = facet_normals(placed)[0] @ turned >= math.cos(math.radians(SHOW_DEG))
        return Shown(self._joins(sheet, placed)[0], clean)

    def _joins(self, sheet: JobSheet, placed: Mesh) -> tuple[Tree, NDArray[np.int32]]:
        """Tree and joins of the part in its stance: kept, for limits are dragged to and fro."""
        return self._joined.get(keys(sheet)["placed"], lambda: (Tree.of(placed), across_edges(placed)))

    def holding(self, sheet: JobSheet) -> Holding:
        """Which supports hold which finding."""

        def make() -> Holding:
            assert sheet.supports is not None
            made = self.supports(sheet)
            self.progress("Checking what is held", 0, 1)
            found = replace(self.walked(sheet), regions=self.hangs(sheet))
            points = probes(found, self.placed_mesh(sheet))
            settings = sheet.support_settings()
            return Holding(tuple(holding(points, made, settings).items()))

        return self.store.recall(keys(sheet)["holding"], make)

    def footing(self, sheet: JobSheet) -> Footing:
        """Skirt, brim or raft."""

        def make() -> Footing:
            supports = self.supports(sheet).layers if sheet.supports is not None else None
            plan = footprint(self.layers(sheet), supports, lifted=sheet.lift_mm > 0)
            return make_footing(plan, sheet.footing_settings(), sheet.layer_mm)

        return self.store.recall(keys(sheet)["footing"], make)

    def split(self, sheet: JobSheet) -> Split:
        """Pieces of the part, cut as it came."""

        def make() -> Split:
            assert sheet.grid is not None
            solid = self.solid(sheet)
            if solid is None:
                raise NotClosed(
                    "Only a closed part can be cut, and this surface is open.",
                    "Export a closed part from the program that made it.",
                )
            box = box_for(sheet.machine.build_mm, sheet.grid.margin_mm)
            return split_into_grid(solid, box, progress=self.progress)

        return self.store.recall(keys(sheet)["split"], make)

    def resting(self, sheet: JobSheet) -> tuple[RestingFace, ...]:
        """Resting faces, best first."""

        def make() -> tuple[RestingFace, ...]:
            self.progress("Finding resting faces", 0, 1)
            mesh = self.mesh(sheet)
            return tuple(resting_faces(mesh, facts(mesh), sheet.limit))

        return self.store.recall(keys(sheet)["resting"], make)

    def health(self, sheet: JobSheet) -> Report:
        """Defects of the part and where they are."""

        def make() -> Report:
            self.progress("Looking for defects", 0, 1)
            return report(self.mesh(sheet), sheet.thinnest_mm)

        return self.store.recall(keys(sheet)["health"], make)

    def objects(self, sheet: JobSheet) -> list[FileObject]:
        """Part, supports and footing where they are printed; a raft raises the first two."""
        raised = 0.0
        name = sheet.part_name
        base: list[FileObject] = []
        if sheet.footing.kind is not FootingKind.NONE:
            footing = self.footing(sheet)
            raised = footing.raise_mm
            base = [FileObject(f"footing {sheet.footing.kind.value} of {name}", footing.mesh())]
        part = FileObject(f"part {name}", moved(self.placed_mesh(sheet), z=raised))
        if sheet.marks is not None:
            fine = self.fine(sheet)
            mesh = moved(self.placement(sheet).apply(fine.mesh), z=raised)
            part = FileObject(part.name, mesh, marks=marks_of(sheet, fine, self.store))
        held = []
        if sheet.supports is not None:
            held = self._held_items(sheet, raised)
        return [part, *held, *base]

    def _held_items(self, sheet: JobSheet, raised: float) -> list[FileObject]:
        """Supports to hand off, apart by nozzle where two print them."""
        assert sheet.supports is not None
        made, name = self.supports(sheet), f"support of {sheet.part_name}"
        if not sheet.second_prints:
            return [FileObject(name, moved(made.handoff_mesh(), z=raised), "support")]
        second = f"{name}, nozzle 2, {sheet.second_stuff.name}"
        if sheet.supports.second is Second.ALL:
            return [FileObject(second, moved(made.handoff_mesh(), z=raised), "support")]
        walls, interface = (moved(mesh, z=raised) for mesh in made.parted_meshes())
        return [FileObject(name, walls, "support"), FileObject(second, interface, "support")]

    def all_objects(self, sheet: JobSheet) -> list[FileObject]:
        """Objects of all parts; those of several parts stand in rows beside each other."""
        if not sheet.others:
            return self.objects(sheet)
        groups = []
        for number, one in enumerate(sheet.each, 1):
            self.progress("Writing 3MF", number - 1, len(sheet.others) + 1)
            groups.append(self.objects(one))
        return in_rows(groups)

    def handoff(self, sheet: JobSheet) -> Package:
        """The 3MF file of the job."""

        def make() -> Package:
            self.progress("Writing 3MF", 0, 1)
            return Package(write_3mf(self.all_objects(sheet), sheet.name))

        return self.store.recall(keys(sheet)["handoff"], make)
