"""Section 3: does it fit, and the pieces of a part that does not."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from ....core.machines.catalogue import Printer
from ....core.split.cuts import Cut
from ....core.split.pieces import Split
from ....core.split.plan_figures import PlanFigures
from ....core.split.plan_points import PlanGoals, plan_points
from ....core.split.planner import Plan
from ....core.split.set_estimates import (
    SetEstimate,
    Slicing,
    on_other_machines,
    set_estimate,
    with_other_settings,
)
from ....core.topics import Topic
from ....sheet.item import Item, Plane
from ....sheet.process import Preset
from ....sheet.shop import Habits
from ....work.kinds import kinds_of_machines
from ...section import Section
from .routes import router
from .taking import Takes, takes

if TYPE_CHECKING:
    from ....store.store import Store
    from ...pages import JobPage


@dataclass(frozen=True, slots=True)
class SplitContext:
    """The pieces that are items already.

    Attributes
    ----------
    pieces : list of Item
        Those of the item that is looked at.
    stale : bool
        They were made of other cuts than those that are shown.
    pegs : int
        Of all joints.
    cuts : tuple of Cut or None
        Planes that it is cut by; ``None`` for boxes.
    takes : Takes
        What the pieces that are items take together.
    presets : list of str
        Names of presets for this kind of machine.
    tree : list of (Plane, int)
        Planes in their order, each with how many cuts lead to the piece that it is for.
    leaves : dict of str to list of int
        Numbers of the pieces by their place in the tree of cuts.
    times : dict of str to (float, float)
        Of each plan by its name: seconds of printing all pieces, and the longest of them; without supports.
    proposals : list of (Plan, PlanFigures or None, float)
        Plans, the best first, with what comes of them and their points.
    goals : dict of str to float
        What counts in them.
    moved : bool
        Its boxes are not the even ones.
    differences : list of (str, float, float)
        What else could be set, and by how many seconds and grams that changes all pieces; rough.
    machines : list of (Printer, int, SetEstimate)
        Other machines, with how many pieces are too big for each, and what all take there; rough.
    """

    pieces: list[Item]
    stale: bool
    pegs: int
    cuts: tuple[Cut, ...] | None
    takes: Takes
    presets: list[str]
    tree: list[tuple[Plane, int]]
    leaves: dict[str, list[int]]
    times: dict[str, tuple[float, float]]
    proposals: list[tuple[Plan, PlanFigures | None, float]]
    goals: dict[str, float]
    moved: bool
    differences: list[tuple[str, float, float]]
    machines: list[tuple[Printer, int, SetEstimate]]

    def taken(self, plan: Plan) -> bool:
        """Whether it is cut as a plan says."""
        if plan.name == "boxes":
            return self.cuts is None and not self.moved
        return bool(plan.cuts) and self.cuts == plan.cuts


def _context(page: JobPage, store: Store) -> SplitContext:
    mine = [one for one in page.job.sheet.items if one.piece and one.piece.item == page.sheet.id]
    split = page.now.split
    stale = bool(mine) and split is not None and not _made_of(mine, split)
    grid = page.sheet.grid
    pegs = 0 if split is None else sum(len(joint.pegs) for joint in split.joints)
    habits = store.on_shelf(Habits, "shop") or Habits()
    together = takes(page.job.sheet, page.sheet.id, split, page.now.briefs, habits.join_minutes)
    technology = page.sheet.machine.technology
    presets = [one.name for one in store.shelf(Preset) if one.technology is technology]
    planes = () if grid is None else grid.planes
    tree = [(one, one.within.count("-") + 1 if one.within else 0) for one in planes]
    leaves: dict[str, list[int]] = {}
    for piece in split.parts if split is not None else ():
        # Bodies of one place are told apart by a number behind its path.
        leaves.setdefault(piece.path.partition(".")[0], []).append(piece.number)
    cuts = grid.cuts() if grid is not None else None
    moved = grid is not None and any(grid.shift)
    sheet = page.sheet
    infill = sheet.process.infill_percent / 100.0
    how = Slicing(sheet.machine, sheet.stuff, sheet.layer_mm, sheet.process.walls, infill)
    rough = {plan.name: set_estimate(plan.amounts, how) for plan in page.now.plans or () if plan.amounts}
    times = {name: (one.seconds, one.longest_s) for name, one in rough.items()}
    goals = {} if grid is None else grid.goals.model_dump()
    known = {one.name: one for one in page.now.plan_figures or ()}
    plans = page.now.plans or ()
    points = plan_points(plans, known, {name: each[1] for name, each in times.items()}, PlanGoals(**goals))
    rated = sorted(plans, key=lambda plan: (plan.too_big > 0, -points[plan.name]))
    board = [(plan, known.get(plan.name), points[plan.name]) for plan in rated]
    parts = () if split is None else split.parts
    printers = tuple(kinds_of_machines(store).values())
    return SplitContext(
        mine, stale, pegs, cuts, together, presets, tree, leaves, times, board, goals, moved,
        differences=_differences([piece.amount for piece in parts], how),
        machines=on_other_machines(
            [piece.amount for piece in parts], [piece.size_mm for piece in parts], how, printers
        ),
    )  # fmt: skip


def _differences(amounts: list[tuple[float, float, float]], how: Slicing) -> list[tuple[str, float, float]]:
    """What is changed, and by how many seconds and grams that changes all pieces."""
    if not amounts:
        return []
    now = set_estimate(amounts, how)
    found = []
    for other, told in with_other_settings(amounts, how):
        if other.layer_mm != how.layer_mm:
            words = f"layers of {other.layer_mm:g} mm"
        elif other.walls != how.walls:
            words = f"{other.walls} wall{'s' if other.walls > 1 else ''}"
        else:
            words = f"{100 * other.infill:g} % infill"
        found.append((words, told.seconds - now.seconds, told.mass_g - now.mass_g))
    return found


def _made_of(items: list[Item], split: Split) -> bool:
    """Whether items are the pieces of a cut as it is now: the same ones, with the same joints."""
    pieces = {piece.path: piece.volume_mm3 for piece in split.pieces}
    known = {one.piece.path: (one.came or one.part).volume_mm3 for one in items if one.piece is not None}
    # Their surfaces came through a file of single precision.
    same = (abs(known[path] - pieces[path]) <= 1e-5 * pieces[path] for path in known.keys() & pieces.keys())
    return known.keys() == pieces.keys() and all(same)


SECTION = Section(
    slug="split",
    title="Fit and split",
    folder=Path(__file__).parent,
    topic=Topic.SPLIT,
    wants=("placed", "split", "plans", "plan_figures"),
    facts=("placed", "split"),
    context=_context,
    routers=(router,),
)
