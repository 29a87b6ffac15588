"""A layer of what is being printed, drawn from the file that the machine was sent."""

from __future__ import annotations

import io
import json
import re
import zipfile
from typing import NamedTuple

from ..core.errors import BadValue

_WORD = re.compile(rb"([XYE])(-?[\d.]+)")
BEAD_MM = 0.45


class Drawing(NamedTuple):
    """A picture, and what kind it is of."""

    data: bytes
    media: str


def layer_drawing(data: bytes, layer: int, build_mm: tuple[float, float]) -> Drawing:
    """Draw a layer: of G-code its beads as SVG, in millimetres, the front below; of masks the mask itself.

    Parameters
    ----------
    data : bytes
        The file.
    layer : int
        From 1.
    build_mm : (x, y)

    Returns
    -------
    Drawing

    Raises
    ------
    BadValue
        The file has no such layer.
    """
    return _mask(data, layer) if data.startswith(b"PK") else _beads(data, layer, build_mm)


def _beads(data: bytes, layer: int, build_mm: tuple[float, float]) -> Drawing:
    begins = data.find(b"; layer %d of " % layer)
    if begins < 0 or layer < 1:
        raise BadValue(f"The file has no layer {layer}.", "Look at the machine again.")
    ends = data.find(b"; layer %d of " % (layer + 1), begins)
    wide, deep = build_mm
    x = y = None
    path: list[str] = []
    joined = False
    for line in data[begins : ends if ends >= 0 else len(data)].splitlines():
        if not line.startswith((b"G0 ", b"G1 ")):
            continue
        said = {word: float(value) for word, value in _WORD.findall(line.partition(b";")[0])}
        to_x, to_y = said.get(b"X", x), said.get(b"Y", y)
        if (to_x, to_y) == (x, y):
            continue
        # A bead pushes while it goes somewhere; whether what it says is in all or for itself, it says so.
        if line.startswith(b"G1 ") and b"E" in said and x is not None:
            path += [] if joined else [f"M{x:.2f} {deep - (y or 0.0):.2f}"]
            path.append(f"L{to_x:.2f} {deep - (to_y or 0.0):.2f}")
            joined = True
        else:
            joined = False
        x, y = to_x, to_y
    text = (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {wide:g} {deep:g}">'
        f'<rect width="{wide:g}" height="{deep:g}" fill="#f7f3ea"/>'
        f'<path d="{"".join(path)}" fill="none" stroke="#2f5d73" stroke-width="{BEAD_MM}"/></svg>'
    )
    return Drawing(text.encode(), "image/svg+xml")


def _mask(data: bytes, layer: int) -> Drawing:
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as folder:
            layers = json.loads(folder.read("manifest.json"))["layers"]
            if not 1 <= layer <= len(layers):
                raise BadValue(f"The file has no layer {layer}.", "Look at the machine again.")
            return Drawing(folder.read(layers[layer - 1]["file"]), "image/png")
    except (zipfile.BadZipFile, KeyError, TypeError, ValueError) as error:
        raise BadValue("The file of this print cannot be read.", "Send its plate again.") from error
