"""Work by hand on supports: worked out on what is remembered, so that it answers at once."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, replace
from typing import Any

from ..core.errors import BadValue
from ..core.layers.stack import LayerStack
from ..core.supports.byhand import edits as byhand
from ..core.supports.byhand.kept import by_hand, is_removed
from ..core.supports.filament.finish import edited, order
from ..core.supports.model import Branches, Column, SupportSettings
from ..core.supports.support_set import SupportSet
from ..core.units import length_mm, number
from ..sheet.item import HandWork, Removed
from ..sheet.models import ItemSheet
from ..store.store import Store
from .bind import growing, hand_of

WAYS = ("add", "move", "resize", "delete", "lock", "unlock", "restore")


@dataclass(frozen=True, eq=False)
class Edit:
    """What came of a change by hand.

    Attributes
    ----------
    before, hand : HandWork
    made : SupportSet or None
        All supports after it; ``None`` where they have to be made again for it.
    words : str
    picked : str
        Id of the support that was changed or put in.
    """

    before: HandWork
    hand: HandWork
    made: SupportSet | None
    words: str
    picked: str


def _new_post(
    values: Mapping[str, str],
    stack: LayerStack,
    settings: SupportSettings,
    clear: Any,
    here: Mapping[str, Any],
) -> Branches:
    """The post that is asked for, with an id that none of those that are here has."""
    width = length_mm(values.get("width") or "2")
    at, facing = _triple(values, "at"), _triple(values, "facing")
    post = byhand.post_at(stack, at, facing, settings, width, clear=clear)
    while post.id in here:
        post = replace(post, id=byhand.hand_id(post.touch_mm, post.id))
    return post


def edit(
    how: str, values: Mapping[str, str], sheet: ItemSheet, store: Store, result: Callable[[str], Any]
) -> Edit:
    """Work out one change by hand.

    Parameters
    ----------
    how : str
        One of ``WAYS``.
    values : mapping
        As sent: ``ids`` (a JSON list), ``node``, ``at`` and ``facing`` (JSON triples on the plate, without a
        raft), ``width``.
    sheet : ItemSheet
    store : Store
    result : callable
        What is remembered of the sheet by its name, or ``None``.

    Raises
    ------
    BadValue
        The supports are not made yet, or the change is not possible.
    """
    made: SupportSet | None = result("supports")
    stack, asked, grown = result("layers"), result("held"), result("grown")
    if made is None or stack is None or asked is None or grown is None:
        raise BadValue("The supports are still being made.", "Wait a moment, and try again.")
    assert sheet.supports is not None
    settings = sheet.support_settings()
    clear = result("cleared")
    before = hand_of(sheet)
    kept = {s.id: s for s in _supports(before.kept, before, store)}
    removed = list(before.removed)
    here = {s.id: s for s in made.supports if isinstance(s, Column | Branches)}
    ids = [str(i) for i in json.loads(values.get("ids") or "[]")]
    chosen = [here[i] for i in ids if i in here]
    if how not in ("add", "restore") and not chosen:
        raise BadValue("This support is not there any more.", "Pick another one.")
    out: set[str] = set()
    put: list[Column | Branches] = []
    named = chosen[0].reason if len(chosen) == 1 else f"{len(chosen)} supports"
    picked = chosen[0].id if len(chosen) == 1 else ""
    if how == "add":
        post = _new_post(values, stack, settings, clear, here)
        put, words, picked = [post], "Add a support by hand", post.id
    elif how == "restore":
        put = [s for s in grown.supports if s.id not in here and s.id not in kept and is_removed(s, removed)]
        count = len({gone.id for gone in removed})
        words, removed = f"Bring back {count} supports" if count != 1 else "Bring back a support", []
    elif how in ("delete", "unlock"):
        out = set(ids)
        autos = {s.id: s for s in grown.supports}
        for support in chosen:
            kept.pop(support.id, None)
            if how == "unlock":
                if support.id in autos:
                    put.append(autos[support.id])
            elif support.id in autos:
                removed.append(Removed(id=support.id, style=support.style, at_mm=autos[support.id].touch_mm))
        words = f"{'Take out' if how == 'delete' else 'Unlock'} {named}"
    else:
        for support in chosen:
            put.append(_changed(how, values, support, stack, settings))
        out = {s.id for s in put}
        words = f"{ {'move': 'Move', 'resize': 'Resize', 'lock': 'Lock'}[how] } {named}"
    if how in ("add", "move", "resize", "lock"):
        kept |= {s.id: s for s in put}
    made_for = growing(sheet)
    around = _in_place(before.around if before.made_for == made_for else before.kept, before, store)
    again = how == "unlock" and len(put) < len(chosen)
    if again:
        # The others were made round it: without it they have to be made anew.
        made_for, around = "", None
    hand = HandWork(
        of=before.of, kept=store.keep_supports(sorted(kept.values(), key=order)) if kept else None,
        count=len(kept), removed=tuple(removed), made_for=made_for, around=around,
    )  # fmt: skip
    if again:
        return Edit(sheet.hand, hand, None, words[:120], picked)
    _, lost = by_hand(grown, hand.removed, tuple(kept.values()))
    after = edited(made, stack, asked, out, put, settings, clear=clear, lost=lost)
    return Edit(sheet.hand, hand, after, words[:120], picked)


def _supports(digest: str | None, hand: HandWork, store: Store) -> tuple[Column | Branches, ...]:
    if digest is None:
        return ()
    x, y = hand.origin_mm
    return store.supports(f"{digest}@{x!r},{y!r}" if x or y else digest)


def _in_place(digest: str | None, hand: HandWork, store: Store) -> str | None:
    """Digest of supports in the frame of the item."""
    if digest is None or not any(hand.origin_mm):
        return digest
    return store.keep_supports(_supports(digest, hand, store))


def _changed(
    how: str, values: Mapping[str, str], support: Column | Branches, stack: Any, settings: Any
) -> Column | Branches:
    if how == "lock":
        return replace(support, hand=support.hand or "locked")
    if not isinstance(support, Branches):
        raise BadValue(
            "Lines and grids follow their patch: they cannot be moved or resized.",
            "Lock them, take them out, or choose another style for the patch.",
        )
    if how == "resize":
        return byhand.resized(support, length_mm(values.get("width") or ""), settings)
    node = int(number(values.get("node") or "-1"))
    at = _triple(values, "at")
    held = byhand.handles(support).get(node)
    if held == "tip":
        at = byhand.placed_tip(at, _triple(values, "facing"), support, node, stack, settings)
    return byhand.moved(support, node, at, stack, settings)


def _triple(values: Mapping[str, str], name: str) -> tuple[float, float, float]:
    try:
        x, y, z = (float(v) for v in json.loads(values.get(name) or "[]"))
    except (ValueError, TypeError) as error:
        raise BadValue("The place could not be read.", "Click on the part again.") from error
    if not all(math.isfinite(v) and abs(v) < 1e5 for v in (x, y, z)):
        raise BadValue("The place could not be read.", "Click on the part again.")
    return x, y, z


def only(ids: Collection[str], made: SupportSet) -> list[Column | Branches]:
    """Supports by their ids."""
    return [s for s in made.supports if isinstance(s, Column | Branches) and s.id in ids]
