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
# So much of the plate is seen round what is printed.
FRAME_MM = 8.0


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
    wide, deep = build_mm
    # What is seen stays the same from layer to layer: it is framed by the first one as well.
    runs = _runs(data, layer)
    places = [place for run in (*runs, *_runs(data, 1)) for place in run]
    xs, ys = zip(*places, strict=True) if places else ((0.0, wide), (0.0, deep))
    low_x, low_y = min(xs) - FRAME_MM, min(ys) - FRAME_MM
    high_x, high_y = max(xs) + FRAME_MM, max(ys) + FRAME_MM
    path = "".join("M" + "L".join(f"{x:.2f} {deep - y:.2f}" for x, y in run) for run in runs)
    text = (
        f'<svg xmlns="http://www.w3.org/2000/svg" '
        f'viewBox="{low_x:g} {deep - high_y:g} {high_x - low_x:g} {high_y - low_y:g}">'
        f'<rect width="{wide:g}" height="{deep:g}" fill="#f7f3ea" stroke="#8f9aa0"/>'
        f'<path d="{path}" fill="none" stroke="#2f5d73" stroke-width="{BEAD_MM}"/></svg>'
    )
    return Drawing(text.encode(), "image/svg+xml")


def _runs(data: bytes, layer: int) -> list[list[tuple[float, float]]]:
    """Beads of a layer as they follow each other, mm."""
    begins = data.find(b"; layer %d of " % layer)
    if begins < 0 or layer < 1:
        raise BadValue(f"The file has no layer {layer}.", "Look at the machine again.")
    ends = data.find(b"; layer %d of " % (layer + 1), begins)
    at: tuple[float, float] | None = None
    runs: list[list[tuple[float, float]]] = []
    joined = False
    for line in data[begins : ends if ends >= 0 else len(data)].splitlines():
        if not line.startswith((b"G0 ", b"G1 ")):
            continue
        said = {word: float(value) for word, value in _WORD.findall(line.partition(b";")[0])}
        if b"X" not in said or b"Y" not in said:
            continue
        to = said[b"X"], said[b"Y"]
        # A bead pushes while it goes somewhere; whether E is told in all or move by move, it is told.
        laid = line.startswith(b"G1 ") and b"E" in said and at is not None
        if laid and at is not None:
            if not joined:
                runs.append([at])
            runs[-1].append(to)
        joined, at = laid, to
    return runs


def _mask(data: bytes, layer: int) -> Drawing:
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as folder:
            layers = json.loads(folder.read("manifest.json"))["layers"]
            if not 1 <= layer <= len(layers):
                raise BadValue(f"The file has no layer {layer}.", "Look at the machine again.")
            return Drawing(folder.read(layers[layer - 1]["file"]), "image/png")
    except (zipfile.BadZipFile, KeyError, TypeError, ValueError) as error:
        raise BadValue("The file of this print cannot be read.", "Send its plate again.") from error
