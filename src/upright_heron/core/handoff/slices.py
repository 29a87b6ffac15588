"""Layers in a 3MF package, after the 3MF Slice Extension 1.0 (3MF Consortium)."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from xml.sax.saxutils import quoteattr

from ..errors import BadValue
from ..geometry.mesh import Mesh
from .plate_layers import Outline, Standing
from .threemf import CORE, clean, packed_model, surface, text_of

SLICE = "http://schemas.microsoft.com/3dmanufacturing/slice/2015/07"
# Digits behind the point: a tenth of a thousandth, a five hundredth of the finest pixel.
FORM = '<s:vertex x="%.4f" y="%.4f"/>\n'


@dataclass(frozen=True, eq=False)
class SliceObject:
    """An object whose layers say what it is; its mesh is to look at.

    Attributes
    ----------
    name : str
    mesh : Mesh
        In the frame of its layers, mm, the plate at z = 0.
    places : sequence of Standing
        Where it stands, all with the same layers.
    """

    name: str
    mesh: Mesh
    places: Sequence[Standing]


def write_slices(objects: Sequence[SliceObject], title: str, outline: Outline = Outline()) -> bytes:  # noqa: B008
    """Write objects with their layers as a 3MF package.

    Parameters
    ----------
    objects : sequence of SliceObject
    title : str
    outline : Outline
        By how much outlines move.

    Returns
    -------
    bytes

    Raises
    ------
    BadValue
        There is nothing to write.
    """
    if not objects:
        raise BadValue("There is nothing to hand off: no layer has an outline.", "Take a part in first.")
    return packed_model(_model(objects, title, outline))


def _model(objects: Sequence[SliceObject], title: str, outline: Outline) -> Iterator[str]:
    # A reader that knows no slices would print the mesh, which is to look at only: it has to know them.
    yield (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        f'<model unit="millimeter" xml:lang="en" xmlns="{CORE}" xmlns:s="{SLICE}" requiredextensions="s">\n'
        f'<metadata name="Title">{text_of(title)}</metadata>\n'
        '<metadata name="Application">Upright Heron</metadata>\n<resources>\n'
    )
    for number, one in enumerate(objects):
        yield from _stack(2 * number + 1, one.places[0], outline)
    for number, one in enumerate(objects):
        name = quoteattr(clean(one.name))
        yield (
            f'<object id="{2 * number + 2}" type="model" name={name} s:slicestackid="{2 * number + 1}"'
            ' s:meshresolution="lowres">\n'
        )
        yield from surface(one.mesh)
        yield "</object>\n"
    yield "</resources>\n<build>\n"
    for number, one in enumerate(objects):
        for place in one.places:
            turn = math.radians(place.swing_deg)
            c, s = math.cos(turn), math.sin(turn)
            # Rows of points times this matrix, as the core specification has it.
            matrix = (c, s, 0, -s, c, 0, 0, 0, 1, place.x_mm, place.y_mm, 0)
            told = " ".join(f"{v:.9g}" for v in matrix)
            yield f'<item objectid="{2 * number + 2}" transform="{told}"/>\n'
    yield "</build>\n</model>\n"


def _stack(number: int, place: Standing, outline: Outline) -> Iterator[str]:
    yield f'<s:slicestack id="{number}" zbottom="0">\n'
    layers = place.layers
    for level in range(len(layers)):
        rings = outline.apply(layers.rings(level), level)
        top = f"{(level + 1) * layers.layer_mm:.6f}"
        if not rings:
            yield f'<s:slice ztop="{top}"/>\n'
            continue
        corners = [corner for ring in rings for corner in ring.tolist()]
        lines = [f'<s:slice ztop="{top}">\n<s:vertices>\n', *(FORM % (x, y) for x, y in corners)]
        lines.append("</s:vertices>\n")
        first = 0
        for ring in rings:
            last = first + len(ring)
            lines.append(f'<s:polygon startv="{first}">')
            lines += [f'<s:segment v2="{k}"/>' for k in range(first + 1, last)]
            lines.append(f'<s:segment v2="{first}"/></s:polygon>\n')
            first = last
        lines.append("</s:slice>\n")
        yield "".join(lines)
    yield "</s:slicestack>\n"
