"""Names of files that leave, from a pattern."""

from __future__ import annotations

import datetime as dt
import re
import unicodedata
from collections.abc import Mapping, Sequence

from ..core.errors import BadValue
from ..sheet.models import ItemSheet, JobSettings, JobSheet
from .bind_plates import items_of

PATTERN = "{job}-{number}-{item}"
# What a pattern may name, with what it stands for.
FIELDS = {
    "job": "name of the job",
    "number": "number of the item",
    "item": "name of its file",
    "piece": "its cuts and sides",
    "layer": "layer height",
    "material": "material",
    "stance": "name of its stance",
    "customer": "who it is for",
    "plate": "number of its plate",
    "machine": "printer that it is for",
    "walls": "walls",
    "infill": "infill in percent",
    "percent": "size in percent, where all sides have one",
    "date": "day on which it leaves",
}
# The same for the file of a plate.
PLATE_FIELDS = {
    "job": "name of the job",
    "customer": "who it is for",
    "plate": "number of the plate",
    "plates": "how many there are",
    "machine": "printer that it is for",
    "material": "material",
    "layer": "layer height",
    "walls": "walls",
    "infill": "infill in percent",
    "percent": "size in percent, where all its items have one",
    "date": "day on which it leaves",
}
_FIELD = re.compile(r"\{([a-z]*)\}")


def file_name(*words: str) -> str:
    """A plain file name: letters, digits, dots and dashes."""
    text = unicodedata.normalize("NFKD", " ".join(words)).encode("ascii", "ignore").decode()
    return re.sub(r"[^A-Za-z0-9.]+", "-", text).strip("-.")[:120] or "part"


def check_pattern(pattern: str, fields: Mapping[str, str]) -> None:
    """Hold a pattern against what it may name.

    Raises
    ------
    BadValue
        The pattern is empty, or names something else.
    """
    unknown = [name for name in _FIELD.findall(pattern) if name not in fields]
    left = _FIELD.sub("", pattern)
    if unknown or "{" in left or "}" in left:
        what = "{" + unknown[0] + "}" if unknown else "A brace"
        raise BadValue(f"{what[:20]} is nothing that a name can hold.", f"Pick of {', '.join(fields)}.")
    if not pattern.strip():
        raise BadValue("The pattern of names is empty.", f"Type one such as {PATTERN}.")


def named(pattern: str, every: Sequence[Mapping[str, str]], fields: Mapping[str, str] = FIELDS) -> list[str]:
    """Names of files by a pattern, without endings; those that would be the same are told apart by numbers.

    Parameters
    ----------
    pattern : str
        Words with ``fields`` in braces.
    every : sequence of mapping
        What the fields stand for, file by file.
    fields : mapping
        What there is, ``FIELDS`` of an item or ``PLATE_FIELDS``.

    Raises
    ------
    BadValue
        The pattern is empty, or names something else.
    """
    check_pattern(pattern, fields)
    found: list[str] = []
    taken: set[str] = set()
    for own in every:
        name = plain = file_name(_FIELD.sub(lambda m, f=own: f[m[1]], pattern))  # type: ignore[misc]
        count = 1
        # Folders of some machines do not tell large letters from small ones.
        while name.lower() in taken:
            count += 1
            name = f"{plain[:110]}-{count}"
        taken.add(name.lower())
        found.append(name)
    return found


def settings_words(sheet: JobSettings) -> list[str]:
    """The name says what a technician looks for: layer, walls, infill, material."""
    words = [sheet.name, f"{sheet.layer_mm:g}mm"]
    if not sheet.is_resin:
        words += [f"{sheet.process.walls}walls", f"{sheet.process.infill_percent:g}pc"]
    return [*words, sheet.material]


def item_fields(job: JobSheet, item: str, today: dt.date) -> dict[str, str]:
    """What the names of an item's files may hold."""
    sheet = job.on(item)
    return {
        "job": sheet.name,
        "number": f"{sheet.number:0{len(str(sheet.count))}d}",
        "item": sheet.stem,
        "piece": sheet.piece.path if sheet.piece is not None else "whole",
        "layer": f"{sheet.layer_mm:g}mm",
        "material": sheet.material,
        "stance": sheet.stance.name or "as it came",
        "customer": sheet.order.customer,
        "plate": str(job.plate_of(item) + 1),
        "machine": sheet.printer,
        "walls": "" if sheet.is_resin else str(sheet.process.walls),
        "infill": "" if sheet.is_resin else f"{sheet.process.infill_percent:g}",
        "percent": _percent([sheet]),
        "date": f"{today:%Y-%m-%d}",
    }


def _percent(sheets: Sequence[ItemSheet]) -> str:
    """The size in percent that all sides of some items have; empty where they have several."""
    percents = {f"{100 * factor:g}" for sheet in sheets for factor in sheet.size.factors}
    return percents.pop() if len(percents) == 1 else ""


def names_of_plates(job: JobSheet, pattern: str, today: dt.date) -> list[str]:
    """Names of the files of all plates, without endings: by a pattern, or the usual way where it is empty.

    Raises
    ------
    BadValue
        The pattern names what nothing is known of.
    """
    count = len(job.plates)
    if pattern:
        return named(pattern, [_plate_fields(job, k, today) for k in range(count)], PLATE_FIELDS)
    each = [job.of_plate(k) for k in range(count)]
    several = len({one.printer for one in each}) > 1
    found = []
    for k, there in enumerate(each):
        # It must not be taken to another machine than it was made for.
        words = [*settings_words(there), *([there.printer] if several else [])]
        found.append(file_name(*words, *([f"plate {k + 1} of {count}"] if count > 1 else [])))
    return found


def _plate_fields(job: JobSheet, plate: int, today: dt.date) -> dict[str, str]:
    settings = job.of_plate(plate)
    here = [job.on(item) for item in items_of(job, plate)]
    return {
        "job": job.name,
        "customer": job.order.customer,
        "plate": str(plate + 1),
        "plates": str(len(job.plates)),
        "machine": settings.machine.name,
        "material": settings.material,
        "layer": f"{settings.layer_mm:g}mm",
        "walls": "" if job.is_resin else str(job.process.walls),
        "infill": "" if job.is_resin else f"{job.process.infill_percent:g}",
        "percent": _percent(here),
        "date": f"{today:%Y-%m-%d}",
    }
