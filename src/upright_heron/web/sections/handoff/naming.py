"""Names of files that leave, from a pattern."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping, Sequence

from ....core.errors import BadValue

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
