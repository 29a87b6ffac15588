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
_FIELD = re.compile(r"\{([a-z]*)\}")


def file_name(*words: str) -> str:
    """A plain file name: letters, digits, dots and dashes."""
    text = unicodedata.normalize("NFKD", " ".join(words)).encode("ascii", "ignore").decode()
    return re.sub(r"[^A-Za-z0-9.]+", "-", text).strip("-.")[:120] or "part"


def named(pattern: str, every: Sequence[Mapping[str, str]]) -> list[str]:
    """Names of files by a pattern, without endings; those that would be the same are told apart by numbers.

    Parameters
    ----------
    pattern : str
        Words with ``FIELDS`` in braces.
    every : sequence of mapping
        What the fields stand for, file by file.

    Raises
    ------
    BadValue
        The pattern is empty, or names something else.
    """
    unknown = [name for name in _FIELD.findall(pattern) if name not in FIELDS]
    left = _FIELD.sub("", pattern)
    if unknown or "{" in left or "}" in left:
        what = "{" + unknown[0] + "}" if unknown else "A brace"
        raise BadValue(f"{what[:20]} is nothing that a name can hold.", f"Pick of {', '.join(FIELDS)}.")
    if not pattern.strip():
        raise BadValue("The pattern of names is empty.", f"Type one such as {PATTERN}.")
    found: list[str] = []
    taken: set[str] = set()
    for fields in every:
        name = plain = file_name(_FIELD.sub(lambda m, f=fields: f[m[1]], pattern))  # type: ignore[misc]
        count = 1
        # Folders of some machines do not tell large letters from small ones.
        while name.lower() in taken:
            count += 1
            name = f"{plain[:110]}-{count}"
        taken.add(name.lower())
        found.append(name)
    return found
