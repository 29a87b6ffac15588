"""Single tips put in, taken out and sized by hand where stilts stand already: nothing else moves."""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from .braces import brace, steady
from .making import free_id, stilt, thicken
from .routes import SHORTEST_MM, Way
from .site import BareIsland, ByHand, Site, Stood, among
from .sizes import StiltSize, Stoutness
from .stilt import Brace, Stilt
from .stilts import OUT_MM
from .tip_places import BESIDE_MM, Place

# Why a tip stands that hands put.
BY_HAND = "by hand"


@dataclass(frozen=True, slots=True)
class _Fresh:
    """A stilt that is to be made: a new one, or one of those that stood, by its number, made again.

    ``size`` is the one that it is to have; without one its load decides.
    """

    place: Place
    way: Way
    size: StiltSize | None
    number: int | None = None


def with_hands(stood: Stood, site: Site, around: ByHand, now: ByHand) -> Stood:
    """Change single stilts as hands ask.

    Parameters
    ----------
    stood : Stood
        Stilts that were stood round ``around``.
    site : Site
    around, now : ByHand
        What hands had done then, and what they have done in all. What was taken out then stays out.

    Returns
    -------
    Stood
        Those that are put stand by themselves, as thick as their loads ask; loads are told anew for all, and
        what bears more than it can for the change gets the size that its load asks for, where it stands.
        Where a stilt goes that carries others these look for ways of their own. Braces that lose an end go,
        and stilts that lack some get others; all else stays as it stands.
    """
    taken, sized, put = _gone(stood, around, now), _sized(stood, around, now), _put(site, around, now)
    over = _over(stood, site, now, taken, put) if taken or put else set()
    sized = dict.fromkeys(over, None) | sized
    fresh, fell = _again(stood, site, now, taken, sized)
    gone = taken | fell
    fresh += put
    if not gone and not fresh:
        tips = np.array([one.touch_mm for one in stood.stilts], np.float64).reshape(-1, 3)
        return replace(stood, astray=_astray(now, tips))
    again = {one.number: one for one in fresh if one.number is not None}
    new = [one for one in fresh if one.number is None]
    left = [k for k in range(len(stood.stilts)) if k not in gone]
    placed = np.array([one.place.outward for one in new], np.float64).reshape(-1, 3)
    outward = np.concatenate([stood.outward[left], placed])
    touch = [stood.stilts[k].touch_mm for k in left] + [one.place.at_mm for one in new]
    tips = np.array(touch, np.float64).reshape(-1, 3)
    load = site.borne(tips).load_n.tolist()
    names = {one.id for one in stood.stilts}
    stilts: list[Stilt] = []
    for k, load_n in zip(left, load, strict=False):
        one = stood.stilts[k]
        if k in again:
            made = again[k]
            one = stilt(site, one.id, made.place, made.way, load_n, one.seen, made.size)
        stilts.append(replace(one, load_n=load_n))
    seen = site.seen(tips[len(left) :], placed)
    for made, load_n, shows in zip(new, load[len(left) :], seen, strict=True):
        name = free_id(made.place, names)
        names.add(name)
        stilts.append(stilt(site, name, made.place, made.way, load_n, shows, made.size))
    changed = {n for n, k in enumerate(left) if k in again} | set(range(len(left), len(stilts)))
    braces = _braced(site, stilts, outward, stood.braces, changed)
    island = np.concatenate([stood.island[left], np.zeros(len(new), np.int64)])
    return replace(
        stood,
        stilts=tuple(stilts),
        outward=outward,
        island=island,
        braces=tuple(braces),
        bare=_bare(stood, gone, island, now, tips),
        astray=_astray(now, tips),
        fell=stood.fell + len(fell),
    )


def _astray(now: ByHand, tips: NDArray[np.float64]) -> int:
    """How many places that hands put have none of the tips (t, 3)."""
    return sum(not among(at, tips) for at in now.put_mm)


def _gone(stood: Stood, around: ByHand, now: ByHand) -> set[int]:
    """Stilts that hands took out since: of those that they did not put the nearest, of theirs any."""
    touch = np.array([one.touch_mm for one in stood.stilts], np.float64).reshape(-1, 3)
    theirs = np.array([among(at, around.put_mm) for at in touch], np.bool_)
    found = {k for k in np.flatnonzero(theirs).tolist() if not among(touch[k], now.put_mm)}
    for at in now.out_mm:
        if among(at, around.out_mm):
            continue
        away = np.where(theirs, np.inf, np.linalg.norm(touch - at, axis=1))
        if len(away) and away.min() <= OUT_MM:
            found.add(int(away.argmin()))
    return found


def _sized(stood: Stood, around: ByHand, now: ByHand) -> dict[int, Stoutness | None]:
    """Stilts whose sizes hands chose since, or let go: the size, or ``None`` where the load decides again."""
    found = {}
    for k, one in enumerate(stood.stilts):
        at = np.array(one.touch_mm)
        if now.size_at(at) is not around.size_at(at):
            found[k] = now.size_at(at)
    return found


def _over(stood: Stood, site: Site, now: ByHand, gone: set[int], put: Sequence[_Fresh]) -> set[int]:
    """Stilts that a change of others leaves with more than they can bear; not those sized by hand."""
    left = [k for k in range(len(stood.stilts)) if k not in gone]
    places = [stood.stilts[k].touch_mm for k in left] + [one.place.at_mm for one in put]
    load = site.borne(np.array(places, np.float64).reshape(-1, 3)).load_n.tolist()
    told = [(k, replace(stood.stilts[k], load_n=load_n)) for k, load_n in zip(left, load, strict=False)]
    return {
        k
        for k, one in told
        if one.overloaded and not stood.stilts[k].overloaded and now.size_at(np.array(one.touch_mm)) is None
    }


def _again(
    stood: Stood, site: Site, now: ByHand, gone: set[int], sized: dict[int, Stoutness | None]
) -> tuple[list[_Fresh], set[int]]:
    """Stilts that get another size, and those that stood on a shaft that goes; and which of these fall."""
    unsure = {stood.stilts[k].id for k in (*gone, *sized)}
    fresh: list[_Fresh] = []
    fell: set[int] = set()
    for k, one in enumerate(stood.stilts):
        orphaned = one.stands_on in unsure
        if k in gone or not (orphaned or k in sized):
            continue
        outward = stood.outward[k]
        way = site.way(np.array(one.touch_mm), outward, site.medium)
        if way is None:
            if orphaned:
                fell.add(k)
            continue
        size = sized[k] if k in sized else Stoutness(one.size)
        place = _place(one.touch_mm, outward, one.reason, snip=one.snip)
        fresh.append(_Fresh(place, way, site.size(size), k))
    return fresh, fell


def _put(site: Site, around: ByHand, now: ByHand) -> list[_Fresh]:
    """Tips that hands put since, as far as there is a way."""
    fresh = []
    for at in now.put_mm:
        if among(at, around.put_mm):
            continue
        outward = site.outward(at)
        if outward[2] >= 0 or at[2] < SHORTEST_MM:
            continue
        way = site.way(at, outward, site.medium)
        if way is not None:
            size = now.size_at(at)
            x, y, z = (float(v) for v in at)
            place = _place((x, y, z), outward, BY_HAND, snip=False)
            fresh.append(_Fresh(place, way, site.size(size)))
    return fresh


def _place(at: tuple[float, float, float], outward: NDArray[np.float64], why: str, *, snip: bool) -> Place:
    a, b, c = (float(v) for v in outward)
    return Place(at, (a, b, c), why, snip=snip)


def _braced(
    site: Site,
    stilts: list[Stilt],
    outward: NDArray[np.float64],
    before: Sequence[Brace],
    changed: Collection[int],
) -> list[Brace]:
    """Braces of stilts of which some were changed; these are made thicker where nothing braces them."""
    part, settings = site.ground.part, site.settings

    def braced(fresh: Collection[int], there: Sequence[Brace]) -> list[Brace]:
        stays = {one.id for k, one in enumerate(stilts) if k not in fresh}
        kept = [bar for bar in there if stays.issuperset(bar.between)]
        ended = {name for bar in there for name in bar.between if not stays.issuperset(bar.between)}
        lack = np.array([k in fresh or one.id in ended for k, one in enumerate(stilts)], np.bool_)
        return steady(stilts, [*kept, *brace(stilts, part, settings, kept, lack)], part, settings)

    braces = braced(changed, before)
    thicker = thicken(site, stilts, outward, braces, changed)
    return braced(thicker, braces) if thicker else braces


def _bare(
    stood: Stood, gone: Collection[int], island: NDArray[np.int64], now: ByHand, tips: NDArray[np.float64]
) -> tuple[BareIsland, ...]:
    """Islands that are left without a stilt; one that hands put beside it holds an island as well."""
    theirs = [at for at in now.put_mm if among(at, tips)]
    lost = {int(stood.island[k]): stood.stilts[k].touch_mm for k in gone if stood.island[k]}
    found = {one.number: one for one in stood.bare}
    found |= {n: BareIsland(n, at) for n, at in lost.items() if n not in island}
    return tuple(
        one
        for _, one in sorted(found.items())
        if not any(math.dist(one.at_mm, at) <= BESIDE_MM for at in theirs)
    )
