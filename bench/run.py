"""Speed as ratios to a bare library call in the same run (``make bench``). Medians of several runs.

The part is a closed, bumpy ball of about 800,000 facets, 100 mm across, cut at 0.2 mm. Times depend on the
machine and on what else it does; only ratios taken in one run mean anything.
"""

from __future__ import annotations

import json
import resource
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import trimesh
from gearbox import gearbox_half
from hollow import of_hollows
from items import of_many_items
from manifold3d import Manifold
from masks import of_masks
from page import in_the_page
from paths import of_paths
from pieces import of_pieces
from plates import of_plates
from resin import of_stilts
from yard import of_the_yard

from upright_heron.core.errors import BadValue
from upright_heron.core.formats.stl import read_stl
from upright_heron.core.geometry.adjacency import across_edges
from upright_heron.core.geometry.mesh import Mesh, facts
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.geometry.tree import Tree
from upright_heron.core.handoff.stl import write_stl
from upright_heron.core.hanging.findings import walk
from upright_heron.core.hanging.islands import find_islands
from upright_heron.core.hanging.overhang_regions import hanging_regions
from upright_heron.core.hanging.overhangs import overhangs
from upright_heron.core.layers.stack import LayerStack, slice_solid
from upright_heron.core.machines.catalogue import material, printer
from upright_heron.core.maker import Maker
from upright_heron.core.stance.figures import Setting, figures, pixel_for
from upright_heron.core.stance.large_parts import slicer
from upright_heron.core.stance.pose import about_axis, place, standing_on
from upright_heron.core.stance.search import MIXES, Scale, even_directions, search
from upright_heron.core.stance.sweep import hull_corners, sweep
from upright_heron.core.stance.vertical_rays import Surface, plumb
from upright_heron.core.supports.checks.verify import verify
from upright_heron.core.supports.demand.patches import Measure, Patch, Style, patches
from upright_heron.core.supports.filament.areas import make_areas
from upright_heron.core.supports.filament.styles import make_filament
from upright_heron.core.supports.model import Branches, SupportSettings
from upright_heron.core.supports.resin.tip_places import undersides
from upright_heron.core.supports.support_set import SupportSet
from upright_heron.core.warm import warm
from upright_heron.demo.shapes import heron
from upright_heron.sheet.changes import MakeSupports, PickPrinter, PutTips
from upright_heron.sheet.process import FilamentSupports
from upright_heron.store.store import Store
from upright_heron.web.dependencies import Services
from upright_heron.web.looking import Looking
from upright_heron.web.pages import Pages
from upright_heron.web.sections.overhangs.routes import keep_stroke
from upright_heron.web.sections.supports.routes import keep_edit
from upright_heron.web.sections.supports.tips import keep_tips
from upright_heron.work.alone import Alone
from upright_heron.work.bind import keys_of
from upright_heron.work.intake import new_sheet, take_in
from upright_heron.work.sources import ResultMemory, load_from

LAYER_MM = 0.2
HAND = ("a post put in by hand", "a tree taken out by hand", "a tip of a stilt put by hand")


class Row(NamedTuple):
    """What, against what, seconds of both, and the ratio that is asked for."""

    what: str
    against: str
    mine: float
    base: float
    target: float


def paired(mine: Callable[[], Any], base: Callable[[], Any], runs: int) -> tuple[float, float]:
    """Median times of two calls, run in turns: what else the machine does weighs on both alike."""
    mine()
    times = [(timed(mine, 1), timed(base, 1)) for _ in range(runs)]
    return statistics.median(m for m, _ in times), statistics.median(b for _, b in times)


def specimen(segments: int = 1266) -> Mesh:
    """A ball with bumps, so that no contour is a circle and islands and overhangs occur."""

    def bump(points: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
        unit = points / np.linalg.norm(points, axis=1, keepdims=True)
        swell = 1 + 0.04 * np.sin(9 * unit[:, 0]) * np.sin(11 * unit[:, 1]) * np.cos(13 * unit[:, 2])
        swollen: np.ndarray[Any, Any] = points * swell[:, None]
        return swollen

    return Solid(Manifold.sphere(49, segments).warp_batch(bump)).mesh()


def timed(call: Callable[[], Any], runs: int) -> float:
    """Median time of a call, seconds."""
    times = []
    for _ in range(runs):
        start = time.perf_counter()
        call()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def bare_cuts(solid: Solid) -> tuple[Callable[[], None], int]:
    """The bare library call that most rows are held against: slice and area of every layer; how many."""
    low, high = solid.bounds[:, 2]
    heights = np.arange(low + LAYER_MM / 2, high, LAYER_MM)

    def bare() -> None:
        for z in heights:
            solid.manifold.slice(z).area()

    return bare, len(heights)


def main() -> int:
    """Measure and print the table."""
    runs = 5
    warm()
    mesh = specimen()
    data = write_stl(mesh)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "part.stl"
        path.write_bytes(data)
        load = timed(lambda: trimesh.load(path), 3)
    part = read_stl(data).mesh
    part = place(part, np.eye(3), centred=False).apply(part)
    solid = Solid.from_mesh(part)
    bare, heights = bare_cuts(solid)
    stack = slice_solid(solid, LAYER_MM)
    cutting = "slice + area"
    rows: list[Row] = [
        Row("read and weld", "trimesh.load", timed(lambda: read_stl(data), runs), load, 0.25),
        Row("layers with areas", cutting, *paired(lambda: slice_solid(solid, LAYER_MM), bare, runs), 1.5),
        Row(
            "overhangs and islands",
            cutting,
            *paired(lambda: (overhangs(part, 45.0), find_islands(stack)), bare, runs),
            6.0,
        ),
        Row(
            "layers, overhangs, islands",
            cutting,
            *paired(lambda: (overhangs(part, 45.0), find_islands(slice_solid(solid, LAYER_MM))), bare, runs),
            6.0,
        ),
        *findings(part, solid, bare),
        *supports(part, stack, bare),
        ribs(),
        *(Row(*row) for row in of_stilts()),
        *(Row(*row) for row in of_hollows()),
        *(Row(*row) for row in of_masks()),
        *(Row(*row) for row in of_paths(solid)),
        *(Row(*row) for row in of_plates()),
        Row("facts of the part", "trimesh.load", timed(lambda: facts(part), runs), load, 0.5),
        *stances(part, solid, bare),
        *(Row(*row) for row in of_many_items()),
        *(Row(*row) for row in of_the_yard()),
        *(Row(*row) for row in of_pieces(part)),
        *pages_own(data),
    ]
    print(f"{len(part.faces):,} facets, {heights} layers of {LAYER_MM} mm, medians of {runs}\n")
    print(f"{'what':<28}{'s':>8}  {'against':<16}{'s':>8}{'ratio':>8}{'target':>8}")
    worst = 0
    for what, against, mine, base, target in rows:
        ratio = mine / base
        worst = max(worst, int(ratio > target))
        over = "  over" if ratio > target else ""
        print(f"{what:<28}{mine:>8.3f}  {against:<16}{base:>8.3f}{ratio:>8.2f}{target:>8.2f}{over}")
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    print(f"\nMost memory: {memory:.2f} GB of 2 GB")
    return worst + int(memory > 2.0) + ranks()


def findings(part: Mesh, solid: Solid, bare: Callable[[], None]) -> list[Row]:
    """Rows of section 5: all findings with the layers, another limit, and keeping a stroke."""

    def everything() -> None:
        walk(part, slice_solid(solid, LAYER_MM), spot_mm=0.4, resin=True)
        hanging_regions(part, 45.0)

    tree, across = Tree.of(part), across_edges(part)
    everything()
    return [
        Row("all findings, with layers", "slice + area", *paired(everything, bare, 3), 8.0),
        Row(
            "regions of another limit",
            "slice + area",
            *paired(lambda: hanging_regions(part, 50.0, tree=tree, across=across), bare, 3),
            1.0,
        ),
        Row("a stroke kept", "50 ms", stroke(part), 0.050, 1.0),
    ]


def supports(part: Mesh, stack: LayerStack, bare: Callable[[], None]) -> list[Row]:
    """Rows of section 6: what must be held to printed lines, trees of some 300 tips, and the check."""
    tree = Tree.of(part)
    pieces = find_islands(stack)[1]
    regions = tuple(hanging_regions(part, 45.0, tree=tree))
    hanging = replace(walk(part, stack, spot_mm=0.4, resin=False), regions=regions)
    given = SupportSettings(spacing_mm=4.3)

    def asked() -> list[Patch]:
        return patches(stack, part, hanging, pieces, Measure(45.0), tree=tree)

    def lines() -> None:
        make_areas(stack, [(p, Style.LINES) for p in asked()], given)

    held = [(p, Style.TREE) for p in asked()]
    made = make_filament(stack, held, given, tree)
    tips = sum(len(s.tips) for s in made.supports if isinstance(s, Branches))
    print(f"{tips} tips of trees, {len(made.supports)} supports, {len(made.faults)} faults")
    cutting = "slice + area"
    return [
        Row("lines, demand to outlines", cutting, *paired(lines, bare, 3), 5.0),
        Row(
            "trees with their check",
            cutting,
            *paired(lambda: make_filament(stack, held, given, tree), bare, 3),
            4.0,
        ),
        Row(
            "the check by itself",
            cutting,
            *paired(lambda: verify(stack, [p for p, _ in held], made, given), bare, 3),
            3.0,
        ),
        *(
            Row(what, "100 ms", mine, 0.1, 1.0)
            for what, mine in zip(HAND, (*by_hand(part), tip_by_hand(heron())), strict=True)
        ),
        Row("view mesh of the trees", cutting, *paired(lambda: replace(made).view_mesh(), bare, 3), 3.0),
    ]


def ribs() -> Row:
    """A big machine part with hundreds of patches: all that its supports take, from its layers on."""
    mesh = gearbox_half()
    solid = Solid.from_mesh(mesh)
    cutting, _ = bare_cuts(solid)

    def held() -> None:
        alone = Alone(mesh, item={"supports": FilamentSupports()}, job={"layer_mm": LAYER_MM})
        made: SupportSet = alone.make("supports")
        print(f"ribs: {len(made.supports)} supports, {len(made.patches)} patches, {len(made.faults)} faults")

    return Row("supports of a ribbed gearbox", "its slice + area", timed(held, 1), timed(cutting, 3), 20.0)


def pages_own(data: bytes) -> list[Row]:
    """Rows of the page: the slowest twentieth of its steps against a frame of 60 a second."""
    return [
        Row(what, "a frame", float(np.percentile(times, 95)), 1 / 60, 1.0)
        for what, times in zip(("a layer further", "a dab of the brush"), in_the_page(data), strict=True)
    ]


def stroke(part: Mesh) -> float:
    """Time of the server for a stroke of 2,000 facets, from its bytes to the kept step."""
    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder) / "heron.sqlite")
        sheet = new_sheet(take_in(write_stl(part), "part.stl", store), "Bench")
        job = store.create_job(sheet, "Bench")
        pages = Pages(store, Idle())  # type: ignore[arg-type]
        use = Services(None, store, None, pages, None, None)  # type: ignore[arg-type]
        mesh = sheet.items[0].part.mesh
        maker(store).make(keys_of(sheet.on()), "fine")
        pages.fine(mesh)
        places = iter(range(1000))

        def paint() -> None:
            data = np.arange(2000, dtype="<u4") + 2000 * next(places)
            keep_stroke(use, job.id, mesh, "prop", data.tobytes())

        paint()
        found = timed(paint, 9)
        store.close()
        return found


class Idle:
    """Stands for the workers: nothing is under way."""

    def act(self, page: str) -> None:
        """No task."""

    def want(self, page: str, *wanted: Any, **options: Any) -> None:
        """Begin nothing."""

    def refused(self, key: str) -> None:
        """Nothing was refused."""


def maker(store: Store) -> Maker:
    """What makes results of jobs in this process."""
    return Maker(load_from(store), ResultMemory(store))


def by_hand(part: Mesh) -> tuple[float, float]:
    """Times of the server to put a post in by hand, and to take a tree out.

    Each with what the page then shows, checked.
    """
    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder) / "heron.sqlite")
        sheet = new_sheet(take_in(write_stl(part), "part.stl", store), "Bench")
        job = store.create_job(sheet, "Bench")
        store.apply(job.id, MakeSupports(style=Style.TREE, spacing_mm=4.3))
        pages = Pages(store, Idle())  # type: ignore[arg-type]
        use = Services(None, store, None, pages, None, None)  # type: ignore[arg-type]
        making, keys = maker(store), keys_of(store.job(job.id).sheet.on())
        made = making.make(keys, "supports")
        for name in ("findings", "placed"):
            making.make(keys, name)
        low = min((p for p in made.patches if p.held), key=lambda p: p.at_mm[2]).at_mm
        ids = iter([s.id for s in made.supports])
        places = iter(range(1000))

        def shown(how: str, values: dict[str, str]) -> None:
            changed, _, _ = keep_edit(use, job.id, how, values)
            pages.job_page(changed, Looking(section=6))

        def add() -> None:
            turn = 0.7 * next(places)
            at = [low[0] + 6 * np.cos(turn), low[1] + 6 * np.sin(turn), low[2] + 0.5]
            shown("add", {"at": json.dumps(at), "facing": "[0, 0, -1]", "width": "2"})

        def take_out() -> None:
            shown("delete", {"ids": json.dumps([next(ids)])})

        for act in (add, take_out):
            act()
        found = timed(add, 7), timed(take_out, 7)
        store.close()
        return found


def tip_by_hand(part: Mesh) -> float:
    """Time of the server to put a tip of a stilt by hand, with what the page then shows, checked."""
    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder) / "heron.sqlite")
        job = store.create_job(new_sheet(take_in(write_stl(part), "part.stl", store), "Bench"), "Bench")
        for change in (PickPrinter(printer="Mere 13"), MakeSupports()):
            store.apply(job.id, change)
        pages = Pages(store, Idle())  # type: ignore[arg-type]
        use = Services(None, store, None, pages, None, None)  # type: ignore[arg-type]
        sheet = store.job(job.id).sheet.on()
        making, keys = maker(store), keys_of(sheet)
        for name in ("supports", "findings", "placed"):
            making.make(keys, name)
        pages.tips.ready(sheet)
        under, where = undersides(making.make(keys, "placed_mesh")), making.make(keys, "placement")
        spots = iter(np.random.default_rng(0).permutation(len(under.at_mm)).tolist())

        def put() -> None:
            while True:
                change = PutTips(at_mm=(where.back(tuple(under.at_mm[next(spots)])),))
                try:
                    changed, _ = keep_tips(use, job.id, change, Looking())
                except BadValue:
                    # No way leads down from there.
                    continue
                pages.job_page(changed, Looking(section=6))
                return

        put()
        found = timed(put, 9)
        store.close()
        return found


def stances(part: Mesh, solid: Solid, bare: Callable[[], None]) -> list[Row]:
    """Rows of the stance: many directions, the figures of one, a whole search."""
    given = setting()
    surface, corners = Surface.of(part), hull_corners(part.vertices)
    downs = even_directions(1000)
    sine = np.sin(np.radians(given.limit_deg))

    def numpy_pass() -> None:
        # One thread of numpy, overhang area alone; fifty directions stand for the thousand.
        for down in downs[:50]:
            surface.areas[surface.normals @ down > sine].sum()

    first: list[float] = []

    def whole() -> None:
        start = time.perf_counter()
        first.clear()
        search(
            part, slicer(part, True, LAYER_MM), given, MIXES["filament"],
            firming=lambda found: first.append(time.perf_counter() - start),
        )  # fmt: skip

    turned = about_axis("x", 33.0) @ about_axis("y", 12.0)

    def one() -> None:
        where = place(part, turned)
        cut_anew = slice_solid(solid.transformed(where.rotation, where.offset_mm), LAYER_MM)
        figures(part, turned, cut_anew, given)

    many, floor = paired(lambda: sweep(surface, corners, downs, 45.0), numpy_pass, 3)
    searching = Row("search, 500 directions", "slice + area", *paired(whole, bare, 3), 20.0)
    return [
        Row("overhang, 1,000 directions", "numpy / 2 cores", many, floor * len(downs) / 50 / 2, 2.0),
        Row("figures of one stance", "slice + area", *paired(one, bare, 3), 3.0),
        searching,
        Row("first proposals", "the search", first[0], searching.mine, 0.25),
    ]


def setting() -> Setting:
    """Machine and material of the stance rows."""
    return Setting(printer("Sedge 300"), material("PLA"), 45.0, LAYER_MM)


def ranks() -> int:
    """Rank correlation of weighed and exact support volumes, and what the search gains, part by part."""
    from scipy.stats import spearmanr

    from upright_heron.demo.shapes import SHAPES

    bowl = Manifold.sphere(30, 96) - Manifold.sphere(29, 96)
    legs = Manifold.cube((60, 60, 4)).translate((0, 0, 40)) + Manifold.compose(
        [Manifold.cylinder(40, 1, 4, 24).translate((x, y, 0)) for x in (8, 30, 52) for y in (8, 30, 52)]
    )
    parts = {
        "organic: heron": SHAPES["heron-figurine"](),
        "mechanical: bracket": SHAPES["telescope-bracket"](),
        "thin: bowl": Solid(bowl ^ Manifold.cube((80, 80, 40)).translate((-40, -40, -40))).mesh(),
        "leggy: table": Solid(legs).mesh(),
        "hollow: housing": SHAPES["tide-gauge-housing"](),
        "fine: ball": specimen(),
    }
    failed = 0
    given = setting()
    print(
        f"\n{'part':<22}{'facets':>9}{'rank of support volume':>24}{'first':>8}{'came':>8}{'best face':>11}"
    )
    for name, mesh in parts.items():
        cut = slicer(mesh, True, LAYER_MM)
        scale = Scale(mesh, given, closed=True)
        scale.thin_out()
        rotations = [standing_on(down) for down in even_directions(60)]
        sums = sweep(scale.thin, scale.thin_corners, np.array([-r[2] for r in rotations]), given.limit_deg)
        weighed = [scale.weigh(r, sums, k)[1][1] for k, r in enumerate(rotations)]
        exact = [
            plumb(
                scale.surface, r, given.limit_deg, layer_mm=1.0,
                pixel_mm=pixel_for(np.ptp(mesh.vertices @ r.T, axis=0)),
            ).support_mm3
            for r in rotations
        ]  # fmt: skip
        rank = float(spearmanr(weighed, exact).statistic)
        failed += rank < 0.99
        found = search(mesh, cut, given, MIXES["filament"])
        came = next(p.score for p in found.proposals if p.name == "as it came")
        faces = [p.score for p in found.proposals if p.resting]
        face = f"{max(faces):.1f}" if faces else "none"
        print(
            f"{name:<22}{len(mesh.faces):>9,}{rank:>16.4f}{found.proposals[0].score:>8.1f}{came:>8.1f}{face:>11}"
        )
    return failed


if __name__ == "__main__":
    sys.exit(main())
