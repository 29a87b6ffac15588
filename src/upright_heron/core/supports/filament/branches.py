"""Tree supports: tips under a patch, branches that lean, keep clear, come together and thicken."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ...geometry.tree import Tree
from ...layers.stack import LayerStack
from ...progress import Progress, silent
from ..demand.patches import Patch, Spot, Style
from ..model import Branches, SupportSettings, support_id
from ..show_side import Shown
from .clearance_field import STEP_MM, Room
from .growth import TIP_SHARE, grow_down
from .landings import round_places
from .relocated_tips import instead
from .single_posts import post_below
from .thickness import tapered, volume_mm3
from .tips import COVERED, Places, below_slopes, tips_of
from .tree_feet import foot_on_part, foot_on_plate

# Nearer than this share of the spacing to a tip that is there none is put.
BESIDE = 0.75
# Tips that find no way are put elsewhere so many times.
ROUNDS = 4
# A post breaks off at a neck below its tip.
NECK_MM = 0.8
NECK_SHARE = 0.55


@dataclass(frozen=True, eq=False)
class Trees:
    """Branches of all patches, and the tips that no way leads down from.

    Attributes
    ----------
    supports : list of Branches
    lost : dict of str to str
        Why a patch may not be held, in words, by its id.
    """

    supports: list[Branches]
    lost: dict[str, str]


def grow(
    stack: LayerStack,
    held: Sequence[tuple[Patch, Style]],
    settings: SupportSettings,
    part: Tree,
    *,
    clear: Sequence[CrossSection | None] | None = None,
    already: NDArray[np.float64] | None = None,
    shown: Shown | None = None,
    progress: Progress = silent,
) -> Trees:
    """Grow trees and posts under patches.

    Parameters
    ----------
    stack : LayerStack
        Layers of the part, lifted or not.
    held : sequence of (Patch, Style)
        ``Style.TREE`` or ``Style.PILLAR`` each; posts do not come together.
    settings : SupportSettings
    part : Tree
        Of the part where it stands.
    clear : sequence of CrossSection or None, optional
        By level from the plate: where nothing may pass.
    already : (k, 3) float64, optional
        Tips that are there; none is put near them.
    shown : Shown, optional
        The show side; tips are put beside it where they can be.
    progress : Progress

    Returns
    -------
    Trees

    Notes
    -----
    Downwards in steps, each branch moves by no more than its lean allows, to the free place nearest to where
    it wants to be from which the plate can still be reached: a field of such places is made from the plate
    up. Where there is none it goes on to the part, if that is allowed. Two branches become one where both
    reach the same place within their lean; nothing snaps.
    """
    tips: list[Spot] = []
    owner: list[int] = []
    barred: dict[str, str] = {}
    for k, (patch, style) in enumerate(held):
        every = tips_of(patch, stack, settings, settings.spacing_mm, part)
        if shown is not None and not patch.spots:
            every = shown.aside(every, patch, stack, settings.spacing_mm)
        if already is not None:
            every = [s for s in every if _apart_from(s, already, BESIDE * settings.spacing_mm)]
        if not every:
            continue
        spots = [
            spot
            for spot in every
            if clear is None or _is_clear(spot, clear, stack.layer_mm, settings.branch_mm / 2)
        ]
        if not spots:
            barred[patch.id] = "what is below it is kept clear"
            continue
        if style is Style.PILLAR and not patch.spots:
            spots = list(_posts(patch, spots, settings.spacing_mm))
        tips += spots
        owner += [k] * len(spots)
    if not tips:
        return Trees([], barred)
    places = np.array(tips)
    there = [] if already is None else [(x, y, z) for x, y, z in already.tolist()]
    ground = _Ground(stack, held, settings, part, places, clear, there, shown, progress)
    trees, lost = ground.every_tip(places, np.array(owner))
    words = {
        held[k][0].id: f"{count} tip{'s' * (count > 1)} found no way down"
        + (" to the plate" if settings.plate_only(held[k][0].id) else "")
        for k, count in lost.items()
    }
    return Trees(trees, {**barred, **words})


@dataclass(frozen=True, eq=False)
class _Ground:
    """Where branches grow: the part, what it is to hold, and the tips (n, 3) that are asked for first."""

    stack: LayerStack
    held: Sequence[tuple[Patch, Style]]
    settings: SupportSettings
    part: Tree
    tips: NDArray[np.float64]
    clear: Sequence[CrossSection | None] | None
    already: list[Spot]
    shown: Shown | None
    progress: Progress
    # Whether a way leads down by itself, by the number of the patch and the tip: asked again in each round.
    known: dict[tuple[int, ...], bool] = field(default_factory=dict)
    # Those that stand by themselves.
    posts: list[Branches] = field(default_factory=list)

    def _made(self, closed: bool) -> Room:
        plan = self.tips[:, :2]
        return Room(
            self.stack, plan.min(axis=0), plan.max(axis=0), float(self.tips[:, 2].max()), self.settings,
            self.clear, self.progress, closed=closed,
        )  # fmt: skip

    @cached_property
    def room(self) -> Room:
        """What branches that begin outside the holes of the part grow in."""
        return self._made(closed=True)

    @cached_property
    def bores(self) -> Room:
        """What branches that begin in one of its holes grow in: those can be drawn out of it downwards."""
        return self._made(closed=False)

    def every_tip(
        self, tips: NDArray[np.float64], owner: NDArray[np.int64]
    ) -> tuple[list[Branches], Counter[int]]:
        """Grow tips (n, 3) of patches (n,); those that find no way are put elsewhere, or stay by themselves.

        Returns the trees, and how many tips of each patch are lost for good.
        """
        alone = np.array([self.held[k][1] is Style.PILLAR for k in owner])
        gone: Counter[int] = Counter()
        self.progress("Growing branches", 0, 1 + ROUNDS)
        trees, lost = self.grown(tips, owner, alone)
        for again in range(ROUNDS):
            if not lost.any():
                break
            self.progress("Growing branches", 1 + again, 1 + ROUNDS)
            kept = ~lost
            new_tips, new_owner, new_alone = [tips[kept]], [owner[kept]], [alone[kept]]
            for k in np.unique(owner[lost]).tolist():
                mine = owner == k
                found, still = self._instead(k, tips[lost & mine], tips[kept & mine])
                if self.shown is not None and not again and not self.held[k][0].spots:
                    found = self.shown.aside(found, self.held[k][0], self.stack, self.settings.spacing_mm)
                gone[k] += still
                if found:
                    new_tips.append(np.array(found))
                    new_owner.append(np.full(len(found), k))
                    # By itself each reaches; with others it may not.
                    before = {tuple(tip) for tip in tips[lost & mine].tolist()}
                    new_alone.append(np.array([again > 0 or tip in before for tip in found]))
            tips, owner, alone = (np.concatenate(parts) for parts in (new_tips, new_owner, new_alone))
            trees, lost = self.grown(tips, owner, alone)
        for k in np.unique(owner[lost]).tolist():
            gone[k] += self._alone(k, tips[lost & (owner == k)])
        return trees + self.posts, +gone

    def _instead(
        self, k: int, lost: NDArray[np.float64], kept: NDArray[np.float64]
    ) -> tuple[list[Spot], int]:
        """Tips of a patch instead of lost ones, and how many of those nothing replaces."""
        patch, settings = self.held[k][0], self.settings

        def ways(tips: NDArray[np.float64]) -> NDArray[np.bool_]:
            clear = self.clear
            free = np.ones(len(tips), bool)
            if clear is not None:
                radius = settings.branch_mm / 2
                free = np.array(
                    [_is_clear((x, y, z), clear, self.stack.layer_mm, radius) for x, y, z in tips.tolist()],
                    bool,
                )
            places = [(k, *tip) for tip in tips.tolist()]
            fresh = np.array([place not in self.known for place in places], bool) & free
            if fresh.any():
                every = np.full(int(fresh.sum()), k)
                lost = self.grown(tips[fresh], every, np.ones(len(every), bool))[1]
                for n, gone in zip(np.flatnonzero(fresh).tolist(), lost.tolist(), strict=True):
                    self.known[places[n]] = not gone
            known: NDArray[np.bool_] = free & np.array([self.known.get(p, False) for p in places], bool)
            return known

        spots = [(x, y, z) for x, y, z in lost.tolist()]
        if patch.spots:
            reached = ways(lost)
            left = [spot for spot, ok in zip(spots, reached, strict=True) if ok]
            return left, self._alone(k, lost[~reached])
        places = Places.of(patch, self.stack, settings, settings.spacing_mm, self.part)
        assert places is not None  # or it would have no tips
        top = self.room.count * self.room.step_mm
        holding = [*((x, y, z) for x, y, z in kept.tolist()), *self.already]
        found, still = instead(places, spots, holding, ways, top)
        return found, len(still)

    def _alone(self, k: int, tips: NDArray[np.float64]) -> int:
        """Stand posts under tips (n, 3) of a patch where they can, and say under how many they cannot.

        A raster shows less room than there is: some find a way in the layers themselves.
        """
        patch = self.held[k][0]
        ends = (
            tips if patch.spots else below_slopes(tips, self.part, self.settings, self.stack.layer_mm).ends_mm
        )
        found = [
            post_below(patch, (x, y, z), self.stack, self.settings, clear=self.clear)
            for x, y, z in ends.tolist()
        ]
        posts = [post for post in found if post is not None]
        self.posts.extend(posts)
        return len(tips) - len(posts)

    def grown(
        self, tips: NDArray[np.float64], owner: NDArray[np.int64], alone: NDArray[np.bool_]
    ) -> tuple[list[Branches], NDArray[np.bool_]]:
        """Grow tips (n, 3): the trees, and which tips found no way."""
        trees: list[Branches] = []
        lost = np.zeros(len(tips), bool)
        inside = np.array([self.room.in_hole(tip) for tip in tips], bool)
        for closed, mine in ((True, ~inside), (False, inside)):
            if mine.any():
                room = self.room if closed else self.bores
                found, gone = self._grown(room, tips[mine], owner[mine], alone[mine])
                trees += found
                lost[mine] = gone
        return trees, lost

    def _grown(
        self, room: Room, tips: NDArray[np.float64], owner: NDArray[np.int64], alone: NDArray[np.bool_]
    ) -> tuple[list[Branches], NDArray[np.bool_]]:
        settings = self.settings
        low = tips.copy()
        below = np.array([not self.held[k][0].spots for k in owner])
        low[below] = below_slopes(low[below], self.part, settings, self.stack.layer_mm).ends_mm
        plate = np.array([settings.plate_only(patch.id) for patch, _ in self.held])[owner]
        order = np.lexsort((low[:, 1], low[:, 0], -low[:, 2]))
        nodes, down, tip_of, ends = grow_down(
            low[order], alone[order], room.away, room.opened, room.narrow, room.low, room.pixel_mm,
            room.step_mm, room.reach_mm, math.tan(math.radians(settings.branch_deg)), room.radius_mm,
            settings.trunk_mm / 2, room.wide_mm, settings.clearance_mm, 0.05 * settings.taper_mm,
            plate[order],
        )  # fmt: skip
        grown = (nodes, down, tip_of, ends)
        return _sorted_out(grown, order, owner, self.held, settings, self.part, self.stack, room)


def _posts(patch: Patch, spots: Sequence[Spot], spacing_mm: float) -> Sequence[Spot]:
    """One place for a post, in the middle of a spot; all where the patch reaches further than that holds."""
    middle = _from_the_middle(spots)[:1]
    low_x, low_y, high_x, high_y = patch.footprint.bounds()
    x, y, _ = middle[0]
    far = math.hypot(max(x - low_x, high_x - x), max(y - low_y, high_y - y))
    return middle if far <= COVERED * spacing_mm else spots


def _from_the_middle(spots: Sequence[Spot]) -> list[Spot]:
    """Places, the one nearest to their middle first."""
    middle = np.mean(spots, axis=0)
    return sorted(spots, key=lambda s: (s[0] - middle[0]) ** 2 + (s[1] - middle[1]) ** 2)


def _apart_from(spot: Spot, already: NDArray[np.float64], within: float) -> bool:
    """Whether no tip is within a distance in plan, at about the same height."""
    away = already - np.array(spot)
    near = (np.hypot(away[:, 0], away[:, 1]) < within) & (np.abs(away[:, 2]) < within)
    return not bool(near.any())


def _is_clear(
    spot: Spot,
    clear: Sequence[CrossSection | None],
    layer_mm: float,
    radius: float,
) -> bool:
    """Whether a tip, and the first stretch below it, keeps out of what is kept clear."""
    x, y, z = spot
    around = CrossSection.circle(radius, 12).translate((x, y))
    for level in range(int((z - 2 * STEP_MM) / layer_mm), int(z / layer_mm) + 1):
        plan = clear[level] if 0 <= level < len(clear) else None
        if plan is not None and not (plan ^ around).is_empty():
            return False
    return True


def _sorted_out(
    grown: tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]],
    order: NDArray[np.int64],
    owner: NDArray[np.int64],
    held: Sequence[tuple[Patch, Style]],
    settings: SupportSettings,
    part: Tree,
    stack: LayerStack,
    room: Room,
) -> tuple[list[Branches], NDArray[np.bool_]]:
    """Sort nodes of ``grow_down`` into trees with their feet; and say which tips (n,) found no way."""
    nodes, down, tip_of, ends = grown
    nodes = tapered(nodes, down)
    blocked = _blocked(nodes, down, tip_of, settings, part)
    down, ends = down.copy(), ends.copy()
    down[blocked], ends[blocked] = -1, 2
    foot_of = np.arange(len(nodes))
    for i in range(len(nodes) - 1, -1, -1):
        # Lower nodes come later in the list.
        foot_of[i] = i if down[i] < 0 else foot_of[down[i]]
    lost = np.zeros(len(order), bool)
    trees: list[Branches] = []
    by_foot = np.argsort(foot_of, kind="stable")
    feet, begins = np.unique(foot_of[by_foot], return_index=True)
    for foot, members in zip(feet, np.split(by_foot, begins[1:]), strict=True):
        at_tips = [int(tip_of[m]) for m in members if tip_of[m] >= 0]
        if not at_tips:
            continue  # what is left of a branch whose tip was blocked
        patches = list(dict.fromkeys(int(owner[order[t]]) for t in at_tips))
        end = int(ends[foot])
        if end == 2:
            lost[order[at_tips]] = True
            continue
        new = {int(m): i for i, m in enumerate(members)}
        places = [nodes[m] for m in members]
        below = [new[int(down[m])] if down[m] >= 0 else -1 for m in members]
        last = new[int(foot)]
        at_foot = (places, below, last)
        if end == 0:
            foot_on_plate(at_foot, settings, stack, room)
        elif not foot_on_part(at_foot, settings, part, stack, in_holes=not room.closed):
            lost[order[at_tips]] = True
            continue
        style = held[patches[0]][1]
        reasons = list(dict.fromkeys(held[k][0].reason for k in patches))
        touch = max((nodes[m] for m in members if tip_of[m] >= 0), key=lambda n: n[2])
        tree = Branches(
            support_id(style.value, *held[patches[0]][0].at_mm) + f"-{len(at_tips)}",
            ", ".join(reasons),
            (float(touch[0]), float(touch[1]), float(touch[2])),
            end == 1,
            0.0,
            np.array(places),
            np.array(below, np.int64),
            tuple(held[k][0].id for k in patches),
            style.value,
        )
        if style is Style.PILLAR and not held[patches[0]][0].spots:
            tree = _with_neck(tree)
        trees.append(replace(tree, volume_mm3=volume_mm3(tree, settings)))
    return trees, lost


def _blocked(
    nodes: NDArray[np.float64],
    down: NDArray[np.int64],
    tip_of: NDArray[np.int64],
    settings: SupportSettings,
    part: Tree,
) -> NDArray[np.int64]:
    """Tips whose first stretch down runs through the part: too near to it for the raster to tell."""
    tips = np.flatnonzero((tip_of >= 0) & (down >= 0))
    if not len(tips):
        return tips
    low, high = nodes[down[tips]], nodes[tips]
    way = high[:, :3] - low[:, :3]
    long = np.linalg.norm(way, axis=1)
    way /= np.maximum(long, 1e-9)[:, None]
    start = round_places(low[:, :3], 0.8 * TIP_SHARE * settings.branch_mm / 2, 0.0)
    length, _ = part.first_hits(start, np.repeat(way, 8, axis=0), np.full(len(start), -1))
    # The surface that the tip holds lies just beyond its end.
    result: NDArray[np.int64] = tips[(length.reshape(-1, 8) < long[:, None] - 0.35).any(axis=1)]
    return result


def _with_neck(tree: Branches) -> Branches:
    """A post is thinnest a little below its tip, and breaks there."""
    nodes, down = tree.nodes, tree.down.copy()
    top = int(np.argmax(nodes[:, 2]))
    x, y, z, r = nodes[top]
    below = nodes[down[top]] if down[top] >= 0 else nodes[top]
    # One so low that it is hardly more than its foot would end as wide as that.
    if z - below[2] <= NECK_MM or down[top] == tree.foot:
        return tree
    share = NECK_MM / (z - below[2])
    neck = np.append(nodes[top, :3] + share * (below[:3] - nodes[top, :3]), NECK_SHARE * float(below[3]))
    head = np.array([[x, y, z, max(r, 0.8 * float(below[3]))]])
    nodes = np.concatenate([nodes[:top], head, nodes[top + 1 :], neck[None]])
    grown = np.append(down, down[top])
    grown[top] = len(nodes) - 1
    return replace(tree, nodes=nodes, down=grown)
