"""Work by hand on tips of stilts: worked out on what is at hand, so that it answers at once."""

from __future__ import annotations

from threading import Lock
from typing import Any

from ..core.errors import BadValue
from ..core.maker import Maker, Recent
from ..core.supports.resin.site import Site, Stood
from ..core.supports.resin.stilt_sets import edited
from ..core.supports.support_set import SupportSet
from ..sheet.models import ItemSheet
from ..store.store import Store
from .bind import growing, keys_of
from .bind_tips import around
from .known import Known, Memo
from .sources import load_from

# So many values are at hand: what two parts are worked on with; and so many sets of stilts after a change.
AT_HAND, CHANGED = 32, 4


class _Remembered:
    """Remembered results, as the graph takes them; what is made here is not written down."""

    def __init__(self, memo: Memo) -> None:
        self._memo = memo

    def get(self, key: str) -> Any | None:
        """A remembered value, or ``None``."""
        return self._memo.result(key)

    def put(self, key: str, value: Any) -> None:
        """Leave it to the workers."""


class TipHand:
    """Changes single stilts in this process, where all that they are worked out from is made.

    Parameters
    ----------
    store : Store
    memo : Memo
        Of what is remembered.
    """

    def __init__(self, store: Store, memo: Memo) -> None:
        self._memo = memo
        self._maker = Maker(load_from(store), _Remembered(memo), at_hand=Recent(AT_HAND))
        self._changed = Recent(CHANGED)
        # What is at hand is for one at a time.
        self._lock = Lock()

    def standing(self, sheet: ItemSheet) -> SupportSet | None:
        """Stilts as they stand, or ``None`` while they are made.

        Of those that were changed here it is that change, though a worker may have made them for good since:
        they are the same, and are not unpacked for it.
        """
        keys = keys_of(sheet)
        with self._lock:
            changed: SupportSet | None = self._changed.get(keys["supports"]) if "supports" in keys else None
        return changed or Known(keys, self._memo).get("supports")

    def ready(self, sheet: ItemSheet) -> bool:
        """Have at hand what stilts are changed with; whether they are made, so that they can be."""
        if not self._made(sheet) or self.standing(sheet) is None:
            return False
        with self._lock:
            site: Site = self._maker.make(keys_of(sheet), "site")
            site.prepare()
        return True

    def edited(self, before: ItemSheet, after: ItemSheet) -> SupportSet | None:
        """Stilts after a change by hand, checked; ``None`` where they have to be stood anew for it.

        Raises
        ------
        BadValue
            No way leads down from a tip that is put.
        """
        old, new = keys_of(before), keys_of(after)
        made = self.standing(before)
        if made is None or old["stood"] != new["stood"] or not self._made(before):
            return None
        with self._lock:
            stood: Stood = self._maker.make(new, "after_hands")
            if stood.astray > self._maker.make(old, "after_hands").astray:
                raise BadValue("No way leads down from here.", "Try a place beside it that looks down.")
            changed = edited(made, stood, self._maker.make(new, "site"))
            self._changed.put(new["supports"], changed)
        return changed

    def _made(self, sheet: ItemSheet) -> bool:
        """Whether the stilts, and what they were stood from, are remembered."""
        keys = keys_of(sheet)
        names = ("stood", "layers", "walked", "hangs")
        return "stood" in keys and len(self._memo.there([keys[name] for name in names])) == len(names)


def stands_round(sheet: ItemSheet) -> dict[str, object]:
    """What a change of single tips leaves the others standing round, as the changes take it."""
    assert sheet.resin is not None
    return {"around": around(sheet.resin, growing(sheet, "stood"))}
