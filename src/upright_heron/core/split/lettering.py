"""Numbers of two pieces in the face between them: where they go, and what is behind them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from .faces import BESIDE_MM, Turned, vector
from .numbers import DEPTH_MM, Label, cutter, outline, place_for

# What a piece keeps behind a number at least.
BEHIND_MM = 0.3
# What may be missing of a section by rounding, mm2, and of a stroke, mm3.
NOISE_MM2, NOISE_MM3 = 1e-3, 1e-6


def labels_for(
    turn: NDArray[np.float64],
    offset: float,
    free: CrossSection,
    pair: tuple[int, int],
    ends: tuple[Turned, Turned],
    sunk: tuple[Sequence[Any], Sequence[Any]],
) -> tuple[Label, ...]:
    """Find where the numbers of two pieces go, one right over the other.

    Parameters
    ----------
    turn : (3, 3) float64
        Brings the plane of the cut level.
    offset : float
        Of the plane, mm.
    free : CrossSection
        What of the face is free.
    pair : (int, int)
        Numbers of the pieces, from 0: of the first, and of the other.
    ends : (Turned, Turned)
        The pieces, without their joints.
    sunk : two sequences of Manifold
        What is cut out of each for joints.

    Returns
    -------
    tuple of Label
        Of both; none where there is no room.
    """
    texts = [f"{pair[k] + 1}/{pair[1 - k] + 1}" for k in (0, 1)]
    place = place_for(texts[0], free)
    if place is None:
        return ()
    x, y, turned, height = place
    boxes = [outline(text, height).bounds() for text in texts]
    wide, high = (max(box[k + 2] - box[k] for box in boxes) for k in (0, 1))
    half = (high / 2, wide / 2) if turned else (wide / 2, high / 2)
    ring = [(x + a * half[0], y + b * half[1]) for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
    box = CrossSection([np.array(ring)])
    at = vector(np.array([x, y, offset]) @ turn)
    sign = 1.0 if ends[1].side(offset) else -1.0
    labels = []
    for text, out, piece, cuts in zip(texts, (sign, -sign), ends, sunk, strict=True):
        # Read from outside its piece: on one side of the plane it is written the other way.
        right, up = (turn[0], turn[1]) if not turned else (turn[1], -turn[0])
        label = Label(text, at, vector(out * right), vector(up), height)
        if not _behind(label, box, piece, cuts):
            return ()
        labels.append(label)
    return tuple(labels)


def _behind(label: Label, box: CrossSection, piece: Turned, cuts: Sequence[Any]) -> bool:
    """Whether there is material all behind a number: told by sections, and by what was cut out meanwhile."""
    for depth in (BESIDE_MM, DEPTH_MM / 2, DEPTH_MM + BEHIND_MM):
        if (box - piece.section(depth, inward=True)).area() > NOISE_MM2:
            return False
    strokes = cutter(label, 0.0)
    near = [cut for cut in cuts if _meet(strokes.bounding_box(), cut.bounding_box())]
    return all(float((strokes ^ cut).volume()) <= NOISE_MM3 for cut in near)


def _meet(one: Sequence[float], other: Sequence[float]) -> bool:
    return all(one[k] <= other[k + 3] and one[k + 3] >= other[k] for k in range(3))
