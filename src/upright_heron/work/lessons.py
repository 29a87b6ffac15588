"""What prints tell of limits, fits and how hard a resin comes off its film, once several say the same."""

from __future__ import annotations

import datetime as dt
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ..core.errors import BadValue
from ..core.machines.catalogue import Peel, Technology, limit_for
from ..core.split.fittings import FITS
from ..sheet.shop import Calibration, Learned, OwnMaterial, pair_name
from ..store.prints import Print
from ..store.store import Store
from .kinds import kinds_of_machines, kinds_of_materials

# So many prints of a pair have to say the same (our choice).
ENOUGH = 2
# What is changed by at once (our choice): a coupon finds more in one print.
LIMIT_STEP_DEG, FIT_STEP_MM = 5.0, 0.05
# Reasons as the record offers them, by what they tell.
LIMIT, PEEL, LOOSER, TIGHTER = "limit", "peel", "looser", "tighter"
TELLS = {
    "overhangs sagged": LIMIT,
    "a support came loose": PEEL,
    "an island floated": PEEL,
    "pieces too tight": LOOSER,
    "pieces too loose": TIGHTER,
}
_HARDER = {Peel.EASY: Peel.USUAL, Peel.USUAL: Peel.HARD}


@dataclass(frozen=True, slots=True)
class Lesson:
    """What several prints say of a kind of machine with a material, and what would follow.

    Attributes
    ----------
    kind : str
        What is changed: the limit, how hard it peels, or the fit, looser or tighter.
    model, material : str
    count : int
        Prints that say so since it was last changed.
    reasons : tuple of str
        What they said.
    before, after : str
        With its unit, as it is told.
    """

    kind: str
    model: str
    material: str
    count: int
    reasons: tuple[str, ...]
    before: str
    after: str


def lessons(prints: Sequence[Print], store: Store) -> list[Lesson]:
    """What the record tells that nobody has taken yet, what most prints say first.

    Parameters
    ----------
    prints : sequence of Print
        Those that ended.
    store : Store

    Returns
    -------
    list of Lesson
    """
    said: dict[tuple[str, str, str], list[Print]] = defaultdict(list)
    for one in prints:
        kind = TELLS.get(one.reason.strip().lower())
        if kind is not None:
            said[one.model, one.material, kind].append(one)
    found = []
    for (model, material, kind), some in said.items():
        since = _taken(store, pair_name(model, material)).get(kind)
        fresh = [one for one in some if since is None or (one.ended is not None and one.ended > since)]
        steps = _step(store, kind, model, material) if len(fresh) >= ENOUGH else None
        if steps is not None:
            reasons = tuple(dict.fromkeys(one.reason for one in fresh))
            found.append(Lesson(kind, model, material, len(fresh), reasons, steps[0], steps[1]))
    return sorted(found, key=lambda one: (-one.count, one.model, one.material, one.kind))


def take_lesson(store: Store, kind: str, model: str, material: str, now: dt.datetime) -> None:
    """Change what the shop keeps as a lesson says, at a time in UTC; jobs tell that their copy is older.

    Raises
    ------
    BadValue
        There is nothing to change.
    """
    if _step(store, kind, model, material) is None:
        raise BadValue("There is nothing to change any more.", "Look at the record again.")
    pair = pair_name(model, material)
    if kind == PEEL:
        stuff = kinds_of_materials(store)[material]
        fields = {name: getattr(stuff, name) for name in OwnMaterial.model_fields}
        store.shelve(OwnMaterial.model_validate({**fields, "peel": _HARDER[stuff.peel]}))
    else:
        known = store.on_shelf(Calibration, pair)
        limit, fit = _limit(store, known, model, material), _fit(known)
        if kind == LIMIT:
            limit -= LIMIT_STEP_DEG
        else:
            fit += FIT_STEP_MM if kind == LOOSER else -FIT_STEP_MM
        own = {"clearance_mm": round(fit, 3)} if kind != LIMIT or (known and known.clearance_mm) else {}
        base = known.model_dump() if known is not None else {"printer": model, "material": material}
        made = {**base, "limit_deg": limit, **own, "date": now.date(), "note": "from the record"}
        store.shelve(Calibration.model_validate(made))
    kept = {**_taken(store, pair), kind: now}
    store.shelve(Learned(name=pair, taken=tuple(sorted(kept.items()))))


def _taken(store: Store, pair: str) -> Mapping[str, dt.datetime]:
    known = store.on_shelf(Learned, pair)
    return dict(known.taken) if known is not None else {}


def _limit(store: Store, known: Calibration | None, model: str, material: str) -> float:
    if known is not None:
        return known.limit_deg
    return limit_for(kinds_of_machines(store)[model], kinds_of_materials(store)[material])


def _fit(known: Calibration | None) -> float:
    return known.clearance_mm if known is not None and known.clearance_mm is not None else FITS["sliding"]


def _step(store: Store, kind: str, model: str, material: str) -> tuple[str, str] | None:
    """What it is now and what it would be; ``None`` where it cannot be changed that way."""
    stuff, machine = kinds_of_materials(store).get(material), kinds_of_machines(store).get(model)
    if stuff is None or machine is None or stuff.technology is not machine.technology:
        return None
    known = store.on_shelf(Calibration, pair_name(model, material))
    if kind == PEEL:
        harder = _HARDER.get(stuff.peel)
        resin = stuff.technology is Technology.RESIN
        return (stuff.peel.value, harder.value) if resin and harder is not None else None
    if kind == LIMIT:
        limit = _limit(store, known, model, material)
        if stuff.technology is Technology.RESIN or limit <= LIMIT_STEP_DEG:
            return None
        return f"{limit:g}°", f"{limit - LIMIT_STEP_DEG:g}°"
    fit = _fit(known)
    after = fit + (FIT_STEP_MM if kind == LOOSER else -FIT_STEP_MM)
    return (f"{fit:g} mm", f"{after:.3g} mm") if 0 <= after <= 2 else None
