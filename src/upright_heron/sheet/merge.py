"""Two changes made at once: which fields both of them changed."""

from __future__ import annotations

from typing import Any

from .item import Item
from .models import JobSettings, JobSheet

Place = tuple[str, str]


def _fields(sheet: JobSheet) -> dict[Place, Any]:
    """All that is decided, by what it is decided for and the name of its field."""
    found: dict[Place, Any] = {("", name): getattr(sheet, name) for name in JobSettings.model_fields}
    found["", "items"] = [item.id for item in sheet.items]
    found |= {(item.id, name): getattr(item, name) for item in sheet.items for name in Item.model_fields}
    found |= {
        (one.item, f"place {number} {one.copy_number}"): one.model_dump(exclude={"item", "copy_number"})
        for number, plate in enumerate(sheet.plates, 1)
        for one in plate.instances
    }
    return found


def changed(before: JobSheet, after: JobSheet) -> dict[Place, Any]:
    """What differs between two sheets of a job, with its value after; ``None`` for what is gone."""
    old, new = _fields(before), _fields(after)
    return {place: new.get(place) for place in old.keys() | new.keys() if old.get(place) != new.get(place)}


def clashes(before: JobSheet, mine: JobSheet, theirs: JobSheet) -> list[str]:
    """Say what both changed to something else, in words; nothing where both can be kept."""
    one, other = changed(before, mine), changed(before, theirs)
    same = sorted(place for place in one.keys() & other.keys() if one[place] != other[place])
    names = {item.id: item.part.file_name for item in before.items}
    return [
        (f"{_words(field)} of {names[item]}" if item in names and len(names) > 1 else _words(field))
        for item, field in same
    ]


def _words(field: str) -> str:
    return field.removesuffix("_mm").removesuffix("_deg").replace("_", " ")
