"""The search for stances: many ways down are weighed, the best refined, and a few unlike ones proposed.

Weighing takes facet sums, which are exact, and plumb lines through a thinned copy, which are near; the last
few are weighed again by their exact figures. The same input gives the same result.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ..geometry.mesh import Mesh, facts
from ..layers.stack import LayerStack, layer_count
from ..progress import Progress, silent
from ..toolpaths.rough_estimate import Amounts
from .candidates import Candidates
from .figures import Base, Figures, Setting, figures, holding, show_facets, tip_angle_deg
from .large_parts import LARGE, merged
from .names import lean, name_of
from .pose import about_axis, standing_on
from .proposals import GOALS, USUAL_LIFT_MM, Found, Goals, OtherLift, Proposal, lies_flat
from .resting import letter, resting_faces
from .sweep import Sweep, hull_corners, sweep
from .vertical_rays import Surface, plumb

# An even spread of ways down, besides resting faces and leans.
DIRECTIONS = 500
LEANS_DEG = (10.0, 15.0, 20.0, 30.0, 45.0)
LEANED_FACES = 4
PROPOSED = 6
# Plumb lines across the part while weighing, and the facets that a thinned copy may keep.
LINES_ACROSS = 110
THINNED = 30_000
LAYERS_WEIGHED = 120
# Ways down of the first proposals.
EARLY = 40
# Turns of the second look round the best, degrees.
NEAR_DEG = (6.0, 3.0, 1.5)
SWINGS_DEG = tuple(range(0, 180, 5))
THREADS = 2
# Less contact than this is an edge or a point.
LEAST_CONTACT_MM2 = 1.0


# Starting mixes; common practice, no source.
MIXES: dict[str, Goals] = {
    "filament": Goals(),
    "filament, fine surface": Goals(2.0, 0.0, 3.0, 3.0, 1.0, 0.0),
    "filament, quick": Goals(2.0, 5.0, 0.0, 0.0, 1.0, 0.0),
    "resin": Goals(2.0, 1.0, 3.0, 1.0, 0.0, 3.0),
    "resin, flat": Goals(3.0, 3.0, 1.0, 0.0, 3.0, 0.0),
}


def even_directions(count: int) -> NDArray[np.float64]:
    """Directions (count, 3) spread evenly: a spiral over the sphere by the golden angle.

    References
    ----------
    A. Gonzalez, "Measurement of areas on a sphere using Fibonacci and latitude-longitude lattices",
    Mathematical Geosciences 42(1), 2010 (from memory).
    """
    i = np.arange(count) + 0.5
    z = 1.0 - 2.0 * i / count
    around = np.pi * (3.0 - math.sqrt(5.0)) * i
    r = np.sqrt(1.0 - z * z)
    return np.column_stack([r * np.cos(around), r * np.sin(around), z])


class Scale:
    """Judges ways to stand: what they cost by each goal, measured and put on one scale."""

    def __init__(
        self,
        mesh: Mesh,
        setting: Setting,
        *,
        closed: bool,
        painted: NDArray[np.bool_] | None = None,
        clear: Mesh | None = None,
    ) -> None:
        self.setting = setting
        self.mesh = mesh
        self.base = Base.of(mesh, setting, closed=closed, painted=painted, clear=clear)
        self.painted = painted
        self.corners, self.surface, self.centre = self.base.corners, self.base.surface, self.base.centre_mm
        # No stance is longer than the diagonal of the box.
        self.longest_mm = float(np.linalg.norm(mesh.size_mm))
        self.thin, self.thin_corners = self.surface, self.corners
        self.closed = closed
        self.facts = facts(mesh)
        self.area_mm2 = float(self.surface.areas.sum())
        # An open part has no volume of its own: what vertical lines see of it as it came stands in.
        self.volume_mm3 = abs(self.facts.volume_mm3) if closed else self._seen_mm3()
        self.low = np.zeros(len(GOALS))
        self.span = np.ones(len(GOALS))

    def _seen_mm3(self) -> float:
        pixel = float(max(self.mesh.size_mm[:2])) / LINES_ACROSS
        seen = plumb(self.surface, np.eye(3), self.setting.limit_deg, pixel_mm=pixel, layer_mm=1.0)
        return seen.volume_mm3

    def thin_out(self) -> None:
        """Weigh on a thinned copy from now on, where the part has more facets than weighing needs."""
        mesh = self.mesh
        if len(mesh.faces) <= THINNED:
            return
        import fast_simplification

        whole = mesh if len(mesh.faces) <= LARGE else merged(mesh)
        vertices, faces = fast_simplification.simplify(
            np.array(whole.vertices), np.array(whole.faces), target_count=THINNED
        )
        thin = Surface.of(Mesh(np.asarray(vertices, np.float64), np.asarray(faces, np.int32)))
        show = show_facets(thin.normals, self.setting.show)
        if self.painted is not None:
            from scipy.spatial import cKDTree

            middles = mesh.vertices[mesh.faces].mean(axis=1)
            _, near = cKDTree(middles).query(thin.vertices[thin.faces].mean(axis=1))
            show = self.painted[near]
        self.thin = replace(thin, show=show)
        self.thin_corners = hull_corners(thin.vertices)

    def swung(self, rotation: NDArray[np.float64]) -> tuple[NDArray[np.float64], bool]:
        """Swing a stance (3, 3) about the vertical, as little as makes it fit; tell whether it does."""
        setting = self.setting
        build, above = setting.printer.build_mm, setting.lift_mm + setting.under_mm
        if self.longest_mm + max(above, 2 * setting.around_mm) <= min(build):
            return rotation, True
        for degrees in SWINGS_DEG:
            turned = about_axis("z", float(degrees)) @ rotation if degrees else rotation
            reach = self.corners @ turned.T
            low = float(reach[:, 2].min())
            if float(reach[:, 2].max()) - low + above > build[2] + 1e-6:
                return rotation, False
            if setting.fits(reach, reach[reach[:, 2] <= low + self.surface.tolerance_mm]):
                return turned, True
        return rotation, False

    def weigh(
        self, rotation: NDArray[np.float64], sums: Sweep, k: int
    ) -> tuple[NDArray[np.float64], tuple[float, ...]]:
        """What a stance (3, 3) costs by each goal, (6,), and the figures that a card shows."""
        setting = self.setting
        turned = self.thin_corners @ rotation.T
        low, high = turned.min(axis=0), turned.max(axis=0)
        pixel = float(max((high - low)[:2])) / LINES_ACROSS
        height = float(high[2] - low[2])
        coarse = max(setting.layer_mm, height / LAYERS_WEIGHED)
        drop = plumb(
            self.thin, rotation, setting.limit_deg, pixel_mm=pixel, layer_mm=coarse, lift_mm=setting.lift_mm
        )
        lifted = setting.lift_mm > 0
        lying = float(sums.contact_mm2[k])
        overhang = float(sums.overhang_mm2[k]) + (lying if lifted else 0.0)
        contact = 0.0 if lifted else lying
        tip = 0.0
        if contact > 0:
            foot = turned[turned[:, 2] <= low[2] + self.surface.tolerance_mm]
            tip = tip_angle_deg(foot[:, :2], rotation @ self.centre - [0, 0, low[2]])
        hold, touch = holding(setting, contact, float((rotation @ self.centre)[2] - low[2]))
        support = drop.support_mm3 + hold
        cost = _costs(
            setting, support, overhang + drop.landing_mm2 + touch,
            float(sums.overhang_show_mm2[k]) + drop.landing_show_mm2, self._seconds(height, support),
            float(sums.cusp[k]), float(sums.cusp_show[k]), tip, contact,
            float(drop.layer_mm2.max(initial=0.0)),
        )  # fmt: skip
        return cost, (overhang, drop.support_mm3, contact, height + setting.lift_mm)

    def _seconds(self, height_mm: float, support_mm3: float) -> float:
        setting = self.setting
        amounts = Amounts(
            volume_mm3=self.volume_mm3,
            area_mm2=self.area_mm2,
            layers=layer_count(height_mm, setting.layer_mm) + round(setting.lift_mm / setting.layer_mm),
            layer_mm=setting.layer_mm,
            support_mm3=support_mm3,
        )
        return setting.estimate(amounts).seconds

    def exact(self, found: Figures) -> NDArray[np.float64]:
        """What a stance costs by each goal, (6,), from its exact figures."""
        support = found.support_volume_mm3 + found.holding_mm3
        return _costs(
            self.setting, support, found.touch_area_mm2, found.touch_show_mm2,
            self._seconds(found.size_mm[2], support), found.cusp_mm / self.setting.layer_mm,
            found.cusp_show_mm / self.setting.layer_mm, found.tip_angle_deg, found.contact_area_mm2,
            found.largest_layer.value,
        )  # fmt: skip

    def set(self, candidates: Candidates) -> None:
        """Put each goal on the scale of the candidates: 0 the best of them, 1 worse than 19 of 20."""
        fitting = [raw for raw, fits in zip(candidates.raw, candidates.fits, strict=True) if fits]
        raw = np.array(fitting or candidates.raw)
        self.low = raw.min(axis=0)
        # What hardly differs between candidates must not decide: a goal spans at least a tenth of itself.
        least = 0.1 * np.abs(raw).max(axis=0)
        self.span = np.maximum(np.percentile(raw, 95, axis=0) - self.low, np.maximum(least, 1e-9))

    def costs(self, raw: NDArray[np.float64]) -> NDArray[np.float64]:
        """Costs (6,) on that scale; what lies outside it is not cut off, so that better stays better."""
        result: NDArray[np.float64] = (raw - self.low) / self.span
        return result


def _costs(
    setting: Setting, support: float, touch: float, touch_show: float, seconds: float, cusp: float,
    cusp_show: float, tip: float, contact: float, largest: float,
) -> NDArray[np.float64]:  # fmt: skip
    shown = setting.shows
    # A degree of standing counts most near the fall; contact counts beside it, for what holds on the plate.
    # On an edge or a point a part does not stand, however wide the edges lie apart.
    firm = math.exp(-(tip if contact >= 1.0 else 0.0) / 15.0) + 1.0 / (1.0 + contact / 100.0)
    return np.array(
        [
            support + 0.5 * touch,
            seconds,
            touch_show if shown else touch,
            cusp_show if shown else cusp,
            firm,
            largest,
        ]
    )


def search(
    mesh: Mesh,
    slicer: Callable[[NDArray[np.float64]], LayerStack],
    setting: Setting,
    goals: Goals,
    *,
    closed: bool = True,
    painted: NDArray[np.bool_] | None = None,
    clear: Mesh | None = None,
    directions: int = DIRECTIONS,
    progress: Progress = silent,
    firming: Callable[[Found], None] | None = None,
) -> Found:
    """Search for stances.

    Parameters
    ----------
    mesh : Mesh
        The part as it came.
    slicer : callable of (3, 3)
        From a rotation (3, 3) to the layers of the part in that stance.
    setting : Setting
    goals : Goals
    closed : bool
    painted : (m,) bool, optional
        Facets of the show side, where it is painted.
    clear : Mesh, optional
        Facets that are painted to be kept clear.
    directions : int
        Ways down of the even spread.
    progress : Progress
    firming : callable, optional
        Called with first proposals, weighed but not exact.

    Returns
    -------
    Found
    """
    progress("Preparing the part", 0, 1)
    scale = Scale(mesh, setting, closed=closed, painted=painted, clear=clear)
    weights = goals.weights()
    candidates = Candidates()
    spread = [standing_on(d) for d in even_directions(directions)]
    # A spread of the spread first, so that the first proposals come early and from all round; a few are
    # weighed on the whole part sooner than it is thinned.
    every = max(1, len(spread) // EARLY)
    _weigh(scale, candidates, [np.eye(3), *spread[::every]], progress, directions)
    scale.set(candidates)
    if firming is not None:
        firming(_found(scale, candidates, weights, range(0), exact=False))
    progress("Thinning a copy", 0, 1)
    scale.thin_out()
    faces = resting_faces(mesh, scale.facts, setting.limit_deg, scale.surface)
    resting = range(len(candidates), len(candidates) + len(faces))
    _weigh(scale, candidates, [f.rotation for f in faces], progress, directions)
    _weigh(scale, candidates, [r for k, r in enumerate(spread) if k % every], progress, directions)
    scale.set(candidates)
    if setting.resin:
        good = _best(scale, candidates, weights, LEANED_FACES, among=resting) or [0]
        leans = [
            lean(candidates.rotation[i], degrees, towards)
            for i in good
            for degrees in LEANS_DEG
            for towards in range(0, 360, 45)
        ]
        _weigh(scale, candidates, leans, progress, len(candidates) + len(leans))
        scale.set(candidates)
    for degrees in NEAR_DEG:
        near = [
            lean(candidates.rotation[i], degrees, towards)
            for i in _best(scale, candidates, weights, 3)
            for towards in range(0, 360, 60)
        ]
        _weigh(scale, candidates, near, progress, len(candidates) + len(near))
    scale.set(candidates)
    if firming is not None:
        firming(_found(scale, candidates, weights, resting, exact=False))
    return _exactly(scale, candidates, weights, resting, slicer, progress)


def _weigh(
    scale: Scale,
    candidates: Candidates,
    rotations: Sequence[NDArray[np.float64]],
    progress: Progress,
    total: int,
) -> None:
    """Weigh ways to stand on all cores, in batches, and put them behind the candidates in their order."""
    batches = [rotations[i : i + 16] for i in range(0, len(rotations), 16)]

    def weigh(
        batch: Iterable[NDArray[np.float64]],
    ) -> list[tuple[NDArray[np.float64], bool, NDArray[np.float64], tuple[float, ...]]]:
        placed = [scale.swung(rotation) for rotation in batch]
        downs = np.array([-rotation[2] for rotation, _ in placed])
        sums = sweep(scale.thin, scale.thin_corners, downs, scale.setting.limit_deg)
        return [(r, fits, *scale.weigh(r, sums, k)) for k, (r, fits) in enumerate(placed)]

    with ThreadPoolExecutor(THREADS) as pool:
        for weighed in pool.map(weigh, batches):
            progress("Weighing stances", min(len(candidates), total), total)
            for rotation, fits, raw, shown in weighed:
                candidates.rotation.append(rotation)
                candidates.fits.append(fits)
                candidates.raw.append(raw)
                candidates.shown.append(shown)  # type: ignore[arg-type]


def _scores(scale: Scale, raw: NDArray[np.float64], weights: NDArray[np.float64]) -> NDArray[np.float64]:
    result: NDArray[np.float64] = 100.0 * (1.0 - scale.costs(raw) @ weights)
    return result


def _best(
    scale: Scale, candidates: Candidates, weights: NDArray[np.float64], count: int,
    among: Iterable[int] | None = None,
) -> list[int]:  # fmt: skip
    """Best candidates that fit (or all, when none does) and are no near-twins, best first."""
    scores = _scores(scale, np.array(candidates.raw), weights)
    some_fit = any(candidates.fits)
    # A filament part stands on a face: on an edge or a point only where it has nothing else.
    stands = np.array([shown[2] for shown in candidates.shown]) >= LEAST_CONTACT_MM2
    free = scale.setting.resin or scale.setting.lift_mm > 0 or not (stands & candidates.fits).any()
    chosen: list[int] = []
    allowed = None if among is None else set(among)
    for i in np.argsort(-scores, kind="stable").tolist():
        if not (free or stands[i]):
            continue
        if (some_fit and not candidates.fits[i]) or (allowed is not None and i not in allowed):
            continue
        if not any(candidates.alike(i, j) for j in chosen):
            chosen.append(i)
        if len(chosen) == count:
            break
    return chosen


def _front(costs: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Which rows no other row beats: as good in every goal and better in one."""
    no_worse = (costs[:, None] <= costs[None] + 1e-9).all(axis=2)
    better = (costs[:, None] < costs[None] - 1e-9).any(axis=2)
    beaten = np.asarray((no_worse & better).any(axis=0), bool)
    return ~beaten


def _found(
    scale: Scale, candidates: Candidates, weights: NDArray[np.float64], resting: range, *, exact: bool
) -> Found:
    chosen = _unlike(scale, candidates, weights, resting)
    fitting = [i for i, fits in enumerate(candidates.fits) if fits] or list(range(len(candidates)))
    front = set(np.array(fitting)[_front(scale.costs(np.array(candidates.raw))[fitting])].tolist())
    proposals = []
    for number, i in enumerate(chosen):
        raw = candidates.raw[i]
        overhang, support, contact, height = candidates.shown[i]
        proposals.append(
            Proposal(
                letter(number),
                name_of(candidates.rotation[i]),
                candidates.rotation[i],
                None,
                float(_scores(scale, raw[None], weights)[0]),
                tuple(scale.costs(raw).tolist()),
                candidates.fits[i],
                i in resting,
                i in front,
                overhang,
                support,
                contact,
                height,
            )
        )
    return Found(tuple(proposals), len(candidates), sum(candidates.fits), exact)


def _unlike(scale: Scale, candidates: Candidates, weights: NDArray[np.float64], resting: range) -> list[int]:
    """The best candidates, two resting faces and the stance the part came in among them."""
    chosen = _best(scale, candidates, weights, PROPOSED)
    # Candidate 0 is the stance the part came in.
    standing = _best(scale, candidates, weights, 2, among=resting)

    def unlike(i: int, others: Sequence[int]) -> bool:
        return not any(candidates.alike(i, j) for j in others)

    wanted = [*(i for i in standing if unlike(i, [0])), 0]
    others = [i for i in chosen if i not in wanted and unlike(i, wanted)]
    kept = [*others[: PROPOSED - len(wanted)], *wanted]
    scores = _scores(scale, np.array(candidates.raw)[kept], weights)
    return [kept[i] for i in np.argsort(-scores, kind="stable")]


def _exactly(
    scale: Scale, candidates: Candidates, weights: NDArray[np.float64], resting: range,
    slicer: Callable[[NDArray[np.float64]], LayerStack], progress: Progress,
) -> Found:  # fmt: skip
    """Give the proposals their exact figures, and order them by these."""
    first = _found(scale, candidates, weights, resting, exact=True)
    done: list[Proposal] = []
    own = scale.setting
    # Resin parts lie flat or are lifted: each stance is weighed both ways.
    lifts = [own.lift_mm, 0.0 if own.lift_mm > 0 else USUAL_LIFT_MM] if own.resin else [own.lift_mm]

    def figure(proposal: Proposal) -> Proposal:
        stack = slicer(proposal.rotation)
        ways = []
        for lift in lifts:
            asked = replace(own, lift_mm=lift)
            exact = figures(scale.mesh, proposal.rotation, stack, asked, closed=scale.closed, base=scale.base)
            raw = scale.exact(exact)
            stands = lift > 0 or not own.resin or lies_flat(exact)
            ways.append((stands, float(_scores(scale, raw[None], weights)[0]), lift, exact, raw))
        # What cannot lie flat is lifted, whatever the one and the other would score.
        ways.sort(key=lambda way: (way[0], way[1]), reverse=True)
        _, score, lift, exact, raw = ways[0]
        other = None
        if len(ways) > 1:
            stands, points, height, found, _ = ways[1]
            other = OtherLift(
                height, points, stands, found.overhang_area_mm2, found.contact_area_mm2, found.height_mm,
                found.seconds,
            )  # fmt: skip
        return replace(
            proposal, figures=exact, score=score, lift_mm=lift, other=other, fits=exact.fits,
            costs=tuple(scale.costs(raw).tolist()), overhang_area_mm2=exact.overhang_area_mm2,
            support_volume_mm3=exact.support_volume_mm3, contact_area_mm2=exact.contact_area_mm2,
            height_mm=exact.height_mm,
        )  # fmt: skip

    with ThreadPoolExecutor(THREADS) as pool:
        for proposal in pool.map(figure, first.proposals):
            done.append(proposal)
            progress("Exact figures", len(done), len(first.proposals))
    order = sorted(done, key=lambda p: (not p.fits, -p.score))
    return replace(first, proposals=tuple(replace(p, letter=letter(k)) for k, p in enumerate(order)))
