"""Coupons to print and read off: what slopes, bridges and fits come out well on a machine in a material.

A fan of slopes, a row of bridges and a row of sockets for one peg are common practice.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np
from manifold3d import CrossSection, Manifold, OpType

from ..errors import BadValue
from ..geometry.mesh import Mesh
from ..geometry.solid import Solid
from ..split.fittings import END_MM, Peg, peg_body, socket_body

SLOPES_DEG = tuple(range(30, 85, 5))
SPANS_MM = tuple(range(5, 55, 5))
# Clearances of the sockets of the coupon of fits, a side.
CLEARANCES_MM = tuple(k / 100 for k in range(0, 40, 5))
KINDS = ("slopes", "bridges", "fits")

# Bars of a digit of seven: top, upper left, upper right, middle, lower left, lower right, bottom.
_BARS = (
    "1110111",
    "0010010",
    "1011101",
    "1011011",
    "0111010",
    "1101011",
    "1101111",
    "1010010",
    "1111111",
    "1111011",
)
_DIGIT_W, _DIGIT_H, _STROKE, _RELIEF = 3.0, 5.0, 0.8, 0.8


def coupon(kind: str) -> Mesh:
    """Make a coupon.

    Parameters
    ----------
    kind : str
        ``slopes``, ``bridges`` or ``fits``.

    Returns
    -------
    Mesh
        Standing on z = 0.

    Raises
    ------
    BadValue
        No such coupon.
    """
    if kind == "slopes":
        return slope_coupon()
    if kind == "bridges":
        return bridge_coupon()
    if kind == "fits":
        return fit_coupon()
    raise BadValue(f"There is no coupon “{kind[:20]}”.", f"Use one of: {', '.join(KINDS)}.")


def slope_coupon(width_mm: float = 9.0, reach_mm: float = 16.0) -> Mesh:
    """Wings that lean out of a wall, one for each of ``SLOPES_DEG`` from vertical, numbered on the base.

    Parameters
    ----------
    width_mm : float
        Of each wing.
    reach_mm : float
        Length of each wing's underside along its slope.
    """
    parts = []
    for place, degrees in enumerate(SLOPES_DEG):
        a = math.radians(degrees)
        out, up = reach_mm * math.sin(a), reach_mm * math.cos(a)
        # Seen from the side: underside from the wall at z = 8, the wing as thick as 3 mm measured upwards.
        profile = CrossSection(
            [np.array([[0, 8], [out, 8 + up], [out, 11 + up], [0, 11], [-4, 11], [-4, 8.0]])]
        )
        wing = profile.extrude(width_mm).rotate((90, 0, 90)).translate((place * (width_mm + 3), 0, 0))
        parts += [wing, *_number(degrees, place * (width_mm + 3) + width_mm / 2, -11.0, 2.0)]
    length = len(SLOPES_DEG) * (width_mm + 3) - 3
    parts.append(_block((-2, -18, 0), (length + 2, 0, 2)))
    parts.append(_block((-2, -4, 0), (length + 2, 0, 11)))
    return Solid(Manifold.batch_boolean(parts, OpType.Add)).mesh()


def bridge_coupon(width_mm: float = 5.0, beam_mm: float = 1.2) -> Mesh:
    """Beams between posts, one for each of ``SPANS_MM``, numbered on the base.

    Parameters
    ----------
    width_mm : float
        Of each beam.
    beam_mm : float
        Thickness of each beam.
    """
    parts = []
    for row, span in enumerate(SPANS_MM):
        y = row * (width_mm + 5)
        parts += [
            _block((0, y, 0), (5, y + width_mm, 9)),
            _block((5 + span, y, 0), (10 + span, y + width_mm, 9)),
            _block((0, y, 9), (10 + span, y + width_mm, 9 + beam_mm)),
            *_number(span, -7.0, y + width_mm / 2, 1.6),
            _block((-13, y - 1.5, 0), (11 + span, y + width_mm + 1.5, 1.6)),
        ]
    depth = len(SPANS_MM) * (width_mm + 5) - 5
    parts.append(_block((-13, -1.5, 0), (11, depth + 1.5, 1.6)))
    return Solid(Manifold.batch_boolean(parts, OpType.Add)).mesh()


def fit_coupon(width_mm: float = 6.0) -> Mesh:
    """A row of sockets, one for each of ``CLEARANCES_MM``, numbered in hundredths, and a peg to try in them.

    Parameters
    ----------
    width_mm : float
        Of the peg: it and the sockets are those of joints.
    """
    peg = Peg((0.0, 0.0, 0.0), (0.0, 0.0, 1.0), width_mm, 1.5 * width_mm, 0.0, 4, (0.0, 1.0, 0.0))
    high = peg.depth_mm + END_MM + 2.0
    pitch = width_mm + 6.0
    bar = _block((-pitch / 2, -8, 0), ((len(CLEARANCES_MM) - 0.5) * pitch, 14, high))
    sockets, numbers = [], []
    for place, clearance in enumerate(CLEARANCES_MM):
        socket = socket_body(replace(peg, clearance_mm=clearance))
        sockets.append(socket.rotate((180, 0, 0)).translate((place * pitch, 0, high)))
        numbers += _number(round(100 * clearance), place * pitch, 9.5, high)
    row = Manifold.batch_boolean([bar - Manifold.batch_boolean(sockets, OpType.Add), *numbers], OpType.Add)
    grip = _block((-8, -5, 0), (8, 5, 5)) + peg_body(peg).translate((0, 0, 5))
    return Solid(Manifold.compose([row, grip.translate((0, -24, 0))])).mesh()


def _block(low: tuple[float, float, float], high: tuple[float, float, float]) -> Any:
    return Manifold.cube(tuple(b - a for a, b in zip(low, high, strict=True))).translate(low)


def _number(value: int, x: float, y: float, z: float) -> list[Any]:
    """Digits in relief on a level face, their middle at (x, y), to be read from the front."""
    digits = str(value)
    width = len(digits) * (_DIGIT_W + 1) - 1
    bars = []
    for place, digit in enumerate(digits):
        left, low = x - width / 2 + place * (_DIGIT_W + 1), y - _DIGIT_H / 2
        right, high, middle = left + _DIGIT_W, low + _DIGIT_H, low + _DIGIT_H / 2
        s = _STROKE
        boxes = (
            (left, high - s, right, high),
            (left, middle, left + s, high),
            (right - s, middle, right, high),
            (left, middle - s / 2, right, middle + s / 2),
            (left, low, left + s, middle),
            (right - s, low, right, middle),
            (left, low, right, low + s),
        )
        bars += [
            # A little into the base, so that digit and base are one body.
            _block((x0, y0, z - 0.4), (x1, y1, z + _RELIEF))
            for (x0, y0, x1, y1), on in zip(boxes, _BARS[int(digit)], strict=True)
            if on == "1"
        ]
    return bars
