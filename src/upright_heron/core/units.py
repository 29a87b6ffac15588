"""Lengths as people type them: a number with a unit or without, decimals or fractions. A leaf module."""

from __future__ import annotations

import math
import re

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
