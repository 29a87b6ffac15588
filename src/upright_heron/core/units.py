"""Lengths as people type them, and the unit of a file that states none. A leaf module."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from .errors import BadValue

# The inch is 25.4 mm exactly since the international yard and pound agreement of 1959.
MM_PER = {
    "": 1.0, "mm": 1.0, "cm": 10.0, "m": 1000.0, "um": 0.001, "µm": 0.001, "micron": 0.001,
    "in": 25.4, "inch": 25.4, '"': 25.4, "ft": 304.8, "foot": 304.8, "feet": 304.8,
}  # fmt: skip

_LENGTH = re.compile(
    r"""^\s*(?P<sign>[-+]?)\s*
    (?: (?P<whole>\d+)\s+(?P<top>\d+)/(?P<under>\d+)
      | (?P<num>\d+)/(?P<den>\d+)
      | (?P<plain>\d+(?:[.,]\d*)?|[.,]\d+)
    )\s*(?P<unit>[a-zµ"]*)\s*$""",
    re.VERBOSE | re.IGNORECASE,
)


def length_mm(text: str | float) -> float:
    """Read a length.

    Parameters
    ----------
    text : str or float
        Such as ``12``, ``0,2``, ``3.5 in``, ``12 cm``, ``1/2 in`` or ``1 1/4 in``; a bare number is in mm.

    Returns
    -------
    float
        Millimetres.

    Raises
    ------
    BadValue
        Not a length.
    """
    if isinstance(text, int | float):
        return float(text)
    found = _LENGTH.match(text)
    unit = found["unit"].lower() if found else ""
    if not found or unit not in MM_PER or "0" in (found["den"], found["under"]):
        raise BadValue(
            f"“{text.strip()[:40]}” is not a length.", "Type a number, with a unit if it is not mm: 3.5 in."
        )
    if found["plain"]:
        value = float(found["plain"].replace(",", "."))
    elif found["num"]:
        value = int(found["num"]) / int(found["den"])
    else:
        value = int(found["whole"]) + int(found["top"]) / int(found["under"])
    result = value * MM_PER[unit] * (-1.0 if found["sign"] == "-" else 1.0)
    if not math.isfinite(result):
        raise BadValue(f"“{text.strip()[:40]}” is too large for a length.", "Type a smaller number.")
    return result


def number(text: str) -> float:
    """Read a number with a point or a comma, a per cent sign after it or not.

    Raises
    ------
    BadValue
        Not a finite number.
    """
    try:
        result = float(text.strip().rstrip("%").replace(",", "."))
    except ValueError:
        result = math.nan
    if not math.isfinite(result):
        raise BadValue(f"“{text.strip()[:20]}” is not a number.", "Type a number such as 102.5.")
    return result


# What a file without a unit is offered to be in.
OFFERED = {"mm": 1.0, "cm": 10.0, "inch": 25.4, "m": 1000.0}
# A part with no side longer than this was hardly meant in millimetres.
TINY_MM = 2.0
# Nor one that would fill so many build volumes, or is so many times as long as one.
HUGE = 10.0

Size = tuple[float, float, float]


@dataclass(frozen=True, slots=True)
class UnitQuestion:
    """What is known of the unit of a part.

    Attributes
    ----------
    stated : bool
        The file says it.
    name : str
        The unit, ``mm`` while a file that states none is taken as it is.
    question : bool
        The size is so odd that someone has to say which unit was meant.
    sizes_mm : dict of str to (x, y, z)
        Size that the part would have in each unit offered.
    """

    stated: bool
    name: str
    question: bool
    sizes_mm: dict[str, Size]


def judge_unit(size_mm: Size, stated: str | None, build_mm: Size, mm_per_number: float = 1.0) -> UnitQuestion:
    """Judge whether the unit of a part has to be asked for.

    Parameters
    ----------
    size_mm : (x, y, z)
        With the numbers of the file taken as stated, or for millimetres.
    stated : str or None
        Unit that the file states.
    build_mm : (x, y, z)
        Build volume to measure against.
    mm_per_number : float
        What one unit of the file's own numbers was taken for.

    Returns
    -------
    UnitQuestion
    """
    x, y, z = size_mm
    n = mm_per_number
    longest = max(size_mm)
    huge = longest > HUGE * max(build_mm) or x * y * z > HUGE * math.prod(build_mm)
    return UnitQuestion(
        stated is not None,
        stated or "mm",
        stated is None and (longest < TINY_MM or huge),
        {unit: (x * f / n, y * f / n, z * f / n) for unit, f in OFFERED.items()},
    )
