"""What the shop keeps beside its jobs: printers, materials, what was measured, presets, machines, spools."""

from __future__ import annotations

import logging
from typing import TypeVar

from sqlalchemy import delete, select

from ..core.errors import BadValue
from ..sheet.document import Document
from ..sheet.process import Preset
from ..sheet.shop import (
    Calibration,
    Finished,
    Habits,
    Learned,
    OwnMaterial,
    OwnPrinter,
    RunNotes,
    Spool,
    Station,
)
from ..sheet.upcast import read_preset
from .database import Database, NotFound
from .models import ShelfRow

log = logging.getLogger(__name__)
E = TypeVar("E", bound=Document)
SHELF: dict[type[Document], str] = {
    OwnPrinter: "printer",
    OwnMaterial: "material",
    Calibration: "calibration",
    Preset: "preset",
    Habits: "habits",
    Finished: "finished",
    Station: "station",
    RunNotes: "run notes",
    Spool: "spool",
    Learned: "learned",
}
# What reading a document of any schema ends with where it is not one.
UNREADABLE = (
    ValueError, KeyError, TypeError, AttributeError, IndexError, RecursionError, BadValue, NotFound,
)  # fmt: skip


class Shelf(Database):
    """The shelf of the shop in a database."""

    def shelf(self, entry: type[E]) -> list[E]:
        """Fetch the shop's printers, materials, presets or others, by name, as far as they can be read."""
        with self.session() as s:
            asked = select(ShelfRow.data).where(ShelfRow.kind == SHELF[entry]).order_by(ShelfRow.name)
            found = [_read(entry, data) for data in s.scalars(asked)]
        return [one for one in found if one is not None]

    def on_shelf(self, entry: type[E], name: str) -> E | None:
        """Fetch one entry of the shelf; ``None`` when there is none of that name that can be read."""
        with self.session() as s:
            row = s.get(ShelfRow, (SHELF[entry], name))
            return _read(entry, row.data) if row is not None else None

    def shelve(
        self,
        entry: OwnPrinter
        | OwnMaterial
        | Calibration
        | Preset
        | Habits
        | Finished
        | RunNotes
        | Station
        | Spool
        | Learned,
    ) -> None:
        """Keep an entry, in place of one of the same name."""
        with self.session(write=True) as s:
            s.merge(ShelfRow(kind=SHELF[type(entry)], name=entry.name, data=entry.model_dump_json()))

    def unshelve(self, entry: type[Document], name: str) -> None:
        """Take an entry off the shelf; jobs that use it keep their copy."""
        with self.session(write=True) as s:
            s.execute(delete(ShelfRow).where(ShelfRow.kind == SHELF[entry], ShelfRow.name == name))


def _read(entry: type[E], data: str) -> E | None:
    try:
        if entry is Preset:
            return read_preset(data)  # type: ignore[return-value]
        return entry.model_validate_json(data)
    except UNREADABLE as error:
        # It stays where it is; whoever looks for the others is not to be stopped by it.
        log.warning("An entry of the shelf (%s) cannot be read: %s", SHELF[entry], error)
        return None
