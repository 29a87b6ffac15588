"""Numbers sunk into joint faces: which piece it is, and which belongs beside it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache
from importlib.resources import files
from typing import Any

import numpy as np
from manifold3d import CrossSection, FillRule, JoinType
from numpy.typing import NDArray

from ..geometry.plan_shapes import lattice, shape_of
from ..tags import stored

FONT = "fonts/atkinson-hyperlegible-next.woff2"
# Strokes of a bold cut are wide enough for a bead of a common nozzle down to figures of this height: at an
# opening of 0.8 mm 97 % of the strokes of 5 mm high ones are left, of 4 mm high ones 70 % (own measurement).
LEAST_MM = 5.0
HEIGHTS_MM = (12.0, 9.0, 7.0, 6.0, LEAST_MM)
WEIGHT = 700
# Sunk so deep, and so far from an edge or a socket at least.
DEPTH_MM, AWAY_MM = 0.6, 0.8
# A curve of the outline is drawn in so many steps, and what lies closer to a straight line than this share of
# the height is one: a number with all of its steps takes four times as long to cut.
STEPS, FINE = 8, 1 / 150
# Places that are tried for a text.
PLACES = 300


@stored("label")
@dataclass(frozen=True, slots=True)
class Label:
    """A text in a joint face.

    Attributes
    ----------
    text : str
        Number of the piece, and of the one beside it.
    at_mm : (x, y, z)
        The middle of the text.
    right, up : (x, y, z)
        Directions that it is written along and stands up in, as one reads it.
    height_mm : float
        Of a figure.
    """

    text: str
    at_mm: tuple[float, float, float]
    right: tuple[float, float, float]
    up: tuple[float, float, float]
    height_mm: float


@lru_cache(4096)
def outline(text: str, height_mm: float) -> Any:
    """Outline of a text whose figures are so high, its middle at the origin.

    Parameters
    ----------
    text : str
        Figures, and what parts them.
    height_mm : float

    Returns
    -------
    CrossSection
    """
    font = _font()[0]
    scale = height_mm / float(font["OS/2"].sCapHeight)
    rings: list[NDArray[np.float64]] = []
    along = 0.0
    for letter in text:
        own, wide = _letter(letter)
        rings += [(ring + [along, 0.0]) * scale for ring in own]
        along += wide
    # Outer outlines run clockwise in this kind of font; nothing lies over anything else.
    shape = CrossSection(rings, FillRule.EvenOdd).simplify(FINE * height_mm)
    x0, y0, x1, y1 = shape.bounds()
    return shape.translate((-(x0 + x1) / 2, -(y0 + y1) / 2))


@lru_cache(1)
def _font() -> tuple[Any, Any, dict[int, str]]:
    from fontTools.ttLib import TTFont

    assert __package__ is not None
    with files(__package__).joinpath(FONT).open("rb") as data:
        font = TTFont(data, lazy=False)
    return font, font.getGlyphSet(location={"wght": WEIGHT}), font.getBestCmap()


@lru_cache(64)
def _letter(letter: str) -> tuple[list[NDArray[np.float64]], float]:
    """Outlines of a letter, in units of the font, and how wide it is."""
    _, glyphs, names = _font()
    glyph = glyphs[names[ord(letter)]]
    return list(_rings(glyph, glyphs)), float(glyph.width)


def _rings(glyph: Any, glyphs: Any) -> Iterable[NDArray[np.float64]]:
    """Outlines (k, 2) of a glyph, its quadratic curves in short steps."""
    from fontTools.pens.basePen import decomposeQuadraticSegment
    from fontTools.pens.recordingPen import DecomposingRecordingPen

    pen = DecomposingRecordingPen(glyphs)
    glyph.draw(pen)
    ring: list[tuple[float, float]] = []
    for verb, points in pen.value:
        if verb == "moveTo":
            ring = [points[0]]
        elif verb == "lineTo":
            ring.append(points[0])
        elif verb == "qCurveTo":
            for control, end in decomposeQuadraticSegment(points):
                begin = ring[-1]
                for t in np.linspace(0, 1, STEPS + 1)[1:]:
                    a, b, c = (1 - t) ** 2, 2 * t * (1 - t), t * t
                    ring.append(tuple(a * begin[k] + b * control[k] + c * end[k] for k in (0, 1)))
        else:
            yield np.array(ring, np.float64)


def place_for(text: str, free: Any) -> tuple[float, float, float, float] | None:
    """Place for a text in a shape, where it stands as large as there is room.

    Parameters
    ----------
    text : str
    free : CrossSection
        What is free of the face.

    Returns
    -------
    (x, y, turn, height), or None
        Middle in the plane (mm), turn (degrees, 0 or 90), and height of the figures; ``None`` without room.
    """
    import shapely

    inner = free.offset(-AWAY_MM, JoinType.Miter)
    if inner.is_empty():
        return None
    x0, y0, x1, y1 = inner.bounds()
    room = shape_of(inner)
    shapely.prepare(room)
    middle = np.array([(x0 + x1) / 2, (y0 + y1) / 2])
    places = lattice(inner, PLACES)
    places = places[np.argsort(np.hypot(*(places - middle).T), kind="stable")]
    for height in HEIGHTS_MM:
        a0, b0, a1, b1 = outline(text, height).bounds()
        for turn, wide, high in ((0.0, a1 - a0, b1 - b0), (90.0, b1 - b0, a1 - a0)):
            x, y = places.T
            boxes = shapely.box(x - wide / 2, y - high / 2, x + wide / 2, y + high / 2)
            fits = np.flatnonzero(shapely.contains(room, boxes))
            if len(fits):
                return float(x[fits[0]]), float(y[fits[0]]), turn, height
    return None


def cutter(label: Label, out_mm: float) -> Any:
    """What is cut out of a piece for a label; it stands so far out of the face."""
    right, up = np.asarray(label.right), np.asarray(label.up)
    out = np.cross(right, up)
    body = outline(label.text, label.height_mm).extrude(DEPTH_MM + out_mm).translate((0, 0, -DEPTH_MM))
    return body.transform(np.column_stack([right, up, out, label.at_mm]))


def area_mm2(label: Label) -> float:
    """Area of its strokes."""
    return float(outline(label.text, label.height_mm).area())
