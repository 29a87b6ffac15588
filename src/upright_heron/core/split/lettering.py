"""Numbers of two pieces in the face between them: where they go, and what is behind them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from manifold3d import CrossSection

from .faces import BESIDE_MM, Face, Turned, vector
from .numbers import DEPTH_MM, Label, cutter, outline, place_for
from .worked import boxes_meet

# What a piece keeps behind a number at least.
BEHIND_MM = 0.3
# What may be missing of a section by rounding, mm2, and of a stroke, mm3.
NOISE_MM2, NOISE_MM3 = 1e-3, 1e-6


def labels_for(
    face: Face, free: CrossSection, sunk: tuple[Sequence[Any], Sequence[Any]]
) -> tuple[Label, ...]:
    """Find where the numbers of two pieces go, one right over the other.

    Parameters
    ----------
    face : Face
    free : CrossSection
        What of it is free.
    sunk : two sequences of Manifold
        What is cut out of each piece for joints.

    Returns
    -------
    tuple of Label
        Of both; none where there is no room.
    """
    pair = (face.first, face.second)
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
    turn = face.turn
    sign = 1.0 if face.above.beyond else -1.0
    labels = []
    for text, out, piece, cuts in zip(texts, (sign, -sign), (face.below, face.above), sunk, strict=True):
        # Read from outside its piece: on one side of the plane it is written the other way.
        right, up = (turn[0], turn[1]) if not turned else (turn[1], -turn[0])
        label = Label(text, face.at(x, y), vector(out * right), vector(up), height)
        if not _behind(label, box, piece, cuts):
            return ()
        labels.append(label)
    return tuple(labels)


def _behind(label: Label, box: CrossSection, piece: Turned, cuts: Sequence[Any]) -> bool:
    """Whether there is material all behind a number: told by sections, and by what was cut out meanwhile."""
    for depth in (BESIDE_MM, DEPTH_MM / 2, DEPTH_MM + BEHIND_MM):
        if (box - piece.section(depth, inward=True)).area() > NOISE_MM2:
            return False
    reach = 0.5 * max(np.ptp(np.array(box.bounds()).reshape(2, 2), axis=0)) + DEPTH_MM
    at = np.asarray(label.at_mm)
    near = [cut for cut in cuts if boxes_meet(cut.bounding_box(), (*(at - reach), *(at + reach)))]
    if not near:
        return True
    strokes = cutter(label, 0.0)
    return all(float((strokes ^ cut).volume()) <= NOISE_MM3 for cut in near)
