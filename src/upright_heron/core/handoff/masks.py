"""Layers as masks: a zip of PNG pictures in the pixels of a machine, with a manifest; and reading it back."""

from __future__ import annotations

import io
import json
import struct
import zipfile
import zlib
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, fields, replace
from functools import partial

import numpy as np
from isal import isal_zlib
from numba import njit
from numpy.typing import NDArray

from ..errors import BadValue
from ..layers.coverage import accumulate, grey_rows, words_for
from ..layers.stack import Rings, packed
from ..machines.catalogue import Printer, Technology
from ..toolpaths.process_table import Steps

MANIFEST = "manifest.json"
# What the manifest says of a layer besides its picture.
STEPS = tuple(field.name for field in fields(Steps))
SIGNATURE = b"\x89PNG\r\n\x1a\n"
# Fast, and half a percent larger than the slowest (own measurement).
LEVEL = 1
# Modulus of Adler-32 (RFC 1950).
ADLER = 65521
# Pictures that are read back beside each other.
READERS = 2
# What a picture may show more or less than its layer has, mm2 and as a share; so many times more where the
# screen has fewer greys than that.
NOISE_MM2, NOISE_SHARE, FEW_GREYS = 0.05, 0.005, 16
# No bomb is unpacked: a picture of this many pixels is no mask.
MOST_PIXELS = 100_000_000


@dataclass(frozen=True, slots=True)
class Screen:
    """The pixels of a machine.

    Attributes
    ----------
    name : str
        Of the machine.
    width_px, height_px : int
        Along x and y.
    pixel_mm : float
    levels : int
        Of grey, black and white among them: 2 to 256.
    """

    name: str
    width_px: int
    height_px: int
    pixel_mm: float
    levels: int = 256

    @classmethod
    def of(cls, machine: Printer) -> Screen:
        """Screen of a resin machine: its build volume in its pixels.

        Raises
        ------
        BadValue
            The machine has none.
        """
        if machine.technology is not Technology.RESIN:
            raise BadValue(f"{machine.name} prints no masks.", "Pick a resin printer.")
        wide, deep = (round(side / machine.finest_mm) for side in machine.build_mm[:2])
        return cls(machine.name, wide, deep, machine.finest_mm, machine.greys)

    @property
    def low_mm(self) -> tuple[float, float]:
        """Corner of the plate with the least x and y, its middle at 0."""
        return -0.5 * self.width_px * self.pixel_mm, -0.5 * self.height_px * self.pixel_mm


@dataclass(frozen=True, slots=True)
class LayerLine:
    """What the manifest says of a layer.

    Attributes
    ----------
    file : str
    top_mm : float
        Of its upper side, over the plate.
    area_mm2 : float
        Of its outlines, exact.
    """

    file: str
    top_mm: float
    area_mm2: float


@dataclass(frozen=True, eq=False)
class Masks:
    """Masks as they are read back.

    Attributes
    ----------
    screen : Screen
    layer_mm : float
    layers : tuple of LayerLine
    steps : Steps
        What the machine does in each layer.
    area_mm2 : (L,) float64
        Of what the pictures show.
    """

    screen: Screen
    layer_mm: float
    layers: tuple[LayerLine, ...]
    steps: Steps
    area_mm2: NDArray[np.float64]


def write_masks(
    outlines: Iterable[Sequence[NDArray[np.float64]]],
    screen: Screen,
    layer_mm: float,
    process: Steps,
    bounds: NDArray[np.float64],
) -> bytes:
    """Write layers as masks.

    Parameters
    ----------
    outlines : iterable of sequences of (k, 2) float64
        Rings of each layer, bottom first, the middle of the plate at 0. None lies over another.
    screen : Screen
    layer_mm : float
    process : Steps
        What the machine does in each layer.
    bounds : (2, 2) float64
        Lowest and highest corner of all of them.

    Returns
    -------
    bytes
        A zip with a picture a layer, 8-bit grey (ISO/IEC 15948), and ``manifest.json``; described in
        docs/masks.md.

    Raises
    ------
    BadValue
        Something lies beside the screen.
    """
    low, high = _window(screen, bounds)
    if (low < 0).any() or high[0] > screen.width_px or high[1] > screen.height_px:
        raise BadValue(
            f"The part reaches past the {screen.width_px} x {screen.height_px} pixels of the {screen.name}.",
            "Move it, turn it, or cut it.",
        )
    window = (int(high[1] - low[1]), int(high[0] - low[0]))
    corner = _corner(screen, low)
    picture = _Picture(screen, int(low[0]), int(low[1]), window)
    lines = []
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        for n, rings in enumerate(outlines):
            pixels = picture.draw(packed(list(rings)), corner)
            name = f"{n + 1:05d}.png"
            archive.writestr(zipfile.ZipInfo(name), picture.png())
            lines.append(LayerLine(name, (n + 1) * layer_mm, pixels * screen.pixel_mm**2))
        archive.writestr(
            zipfile.ZipInfo(MANIFEST), json.dumps(_manifest(screen, layer_mm, lines, process), indent=1)
        )
    return out.getvalue()


@dataclass(frozen=True, slots=True)
class Cutout:
    """Part of the mask of a layer.

    Attributes
    ----------
    png : bytes
    left_px, bottom_px : int
        Of the screen, from its corner with the least x and y.
    width_px, height_px : int
    """

    png: bytes
    left_px: int
    bottom_px: int
    width_px: int
    height_px: int


def cutout(rings: Sequence[NDArray[np.float64]], screen: Screen, bounds: NDArray[np.float64]) -> Cutout:
    """Draw the part of a mask that lies within some bounds, to the pixel as ``write_masks`` draws it.

    Parameters
    ----------
    rings : sequence of (k, 2) float64
        Of the layer, the middle of the plate at 0, all within the bounds.
    screen : Screen
    bounds : (2, 2) float64
        Lowest and highest corner, mm; what of them lies beside the screen is drawn too.
    """
    low, high = _window(screen, bounds)
    wide, deep = (high - low).tolist()
    small = replace(screen, width_px=wide, height_px=deep)
    picture = _Picture(small, 0, 0, (deep, wide))
    picture.draw(packed(list(rings)), _corner(screen, low))
    return Cutout(picture.png(), int(low[0]), int(low[1]), wide, deep)


def _window(screen: Screen, bounds: NDArray[np.float64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """First pixel of some bounds, and the one behind the last."""
    low = np.floor((bounds[0] - screen.low_mm) / screen.pixel_mm).astype(np.int64)
    return low, np.ceil((bounds[1] - screen.low_mm) / screen.pixel_mm).astype(np.int64)


def _corner(screen: Screen, low: NDArray[np.int64]) -> tuple[float, float]:
    """Where a pixel has its corner with the least x and y, mm."""
    x, y = (corner + float(n) * screen.pixel_mm for corner, n in zip(screen.low_mm, low, strict=True))
    return x, y


class _Picture:
    """Pictures of a whole screen that differ only in a window: the black rows round it are packed once."""

    def __init__(self, screen: Screen, left: int, bottom: int, window: tuple[int, int]) -> None:
        self.screen, self.left, self.window = screen, left, window
        width = screen.width_px + 1  # each row begins with its filter, none
        # The first row is the one at the back.
        above = screen.height_px - bottom - window[0]
        self.rows = np.zeros((window[0], width), np.uint8)
        self.total = np.zeros((window[0], window[1] + 2))
        self.marks = np.zeros((window[0], words_for(window[1])), np.uint64)
        self.touched = (0, 0, 0, 0)
        self.above, self.below = above, bottom
        self.begin, self.end = _packed(bytes(above * width)), _packed(bytes(bottom * width), last=True)
        # Blank rows of the window in stretches of 1, 2, 4 and so on: put together they are any number.
        self.blank = [_packed(bytes(width << k)) for k in range(window[0].bit_length())]

    def _blank(self, count: int) -> bytes:
        """So many blank rows, packed."""
        return b"".join(some for k, some in enumerate(self.blank) if count >> k & 1)

    def draw(self, rings: Rings, corner_mm: tuple[float, float]) -> float:
        """Draw outlines into the window, whose corner with the least x and y is given; the area in pixels."""
        first, last, left, right = self.touched
        rows = self.window[0]
        self.rows[rows - last : rows - first, 1 + self.left + left : 1 + self.left + right] = 0
        points, starts = rings
        self.touched = accumulate(points, starts, *corner_mm, self.screen.pixel_mm, self.total, self.marks)
        return float(
            grey_rows(self.total, self.marks, self.touched, self.screen.levels, self.rows, 1 + self.left)
        )

    def png(self) -> bytes:
        """The picture of what was drawn last."""
        rows, width = self.rows.shape
        low, high = self.touched[:2]
        first, last = (rows - high, rows - low) if high > low else (0, 0)
        raw = self.rows[first:last].tobytes()
        check = _joined(_blank((self.above + first) * width), (isal_zlib.adler32(raw), len(raw)))
        check = _joined(check, _blank((rows - last + self.below) * width))
        parts = [
            self.begin,
            self._blank(first),
            _packed(raw) if raw else b"",
            self._blank(rows - last),
            self.end,
        ]
        data = b"\x78\x01" + b"".join(parts) + struct.pack(">I", check[0])
        size = struct.pack(">IIBBBBB", self.screen.width_px, self.screen.height_px, 8, 0, 0, 0, 0)
        chunks = (_chunk(b"IHDR", size), _chunk(b"IDAT", data), _chunk(b"IEND", b""))
        return SIGNATURE + b"".join(chunks)


def _packed(data: bytes, *, last: bool = False) -> bytes:
    """A stretch of a deflate stream (RFC 1951) that ends on a whole byte, or ends it."""
    packer = isal_zlib.compressobj(LEVEL, isal_zlib.DEFLATED, -15)
    body = packer.compress(data)
    return bytes(body + packer.flush(isal_zlib.Z_FINISH if last else isal_zlib.Z_FULL_FLUSH))


def _blank(count: int) -> tuple[int, int]:
    """Adler-32 of so many zeros, and their number."""
    return (count % ADLER) << 16 | 1, count


def _joined(first: tuple[int, int], second: tuple[int, int]) -> tuple[int, int]:
    """Adler-32 of one stretch after another, each by its own and its length."""
    (one, length), (two, more) = first, second
    low = ((one & 0xFFFF) + (two & 0xFFFF) - 1) % ADLER
    high = ((one >> 16) + (two >> 16) + more * ((one & 0xFFFF) - 1)) % ADLER
    return high << 16 | low, length + more


def _chunk(kind: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))


def _manifest(
    screen: Screen, layer_mm: float, lines: Sequence[LayerLine], process: Steps
) -> dict[str, object]:
    each = zip(*(getattr(process, name).tolist() for name in STEPS), strict=True)
    return {
        "kind": "layer masks",
        "version": 2,
        "machine": screen.name,
        "width_px": screen.width_px,
        "height_px": screen.height_px,
        "pixel_mm": screen.pixel_mm,
        "levels": screen.levels,
        "seen_from": "above",
        "first_row": "back",
        "layer_mm": layer_mm,
        "layers": [
            {
                "file": line.file,
                "top_mm": round(line.top_mm, 6),
                **dict(zip(STEPS, step, strict=True)),
                "area_mm2": line.area_mm2,
            }
            for line, step in zip(lines, each, strict=True)
        ],
    }


def read_masks(data: bytes) -> Masks:
    """Read masks back, by another way than they are written.

    Raises
    ------
    BadValue
        It is no such file, a picture is missing, or of another size.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            told = json.loads(archive.read(MANIFEST))
            screen = Screen(
                str(told["machine"]), int(told["width_px"]), int(told["height_px"]), float(told["pixel_mm"]),
                int(told["levels"]),
            )  # fmt: skip
            if screen.width_px * screen.height_px > MOST_PIXELS:
                raise ValueError("too many pixels")
            lines = tuple(
                LayerLine(str(one["file"]), float(one["top_mm"]), float(one["area_mm2"]))
                for one in told["layers"]
            )
            process = Steps(*(np.array([float(one[name]) for one in told["layers"]]) for name in STEPS))
            white = 255 / screen.pixel_mm**2
            # Unpacking lets go of the interpreter: two at a time take a quarter less.
            with ThreadPoolExecutor(READERS) as beside:
                read = (archive.read(line.file) for line in lines)
                areas = [grey / white for grey in beside.map(partial(_grey_sum, screen=screen), read)]
            return Masks(screen, float(told["layer_mm"]), lines, process, np.array(areas))
    except (OSError, KeyError, TypeError, ValueError, struct.error, zipfile.BadZipFile, zlib.error) as error:
        raise BadValue("These are no layer masks.", "Write them anew with masks.") from error


def checked(data: bytes) -> Masks:
    """Read masks back, and hold what the pictures show against the areas that the manifest tells.

    Raises
    ------
    BadValue
        They are no masks, or a picture does not show its layer.
    """
    found = read_masks(data)
    told = np.array([line.area_mm2 for line in found.layers])
    # Greys are rounded, at the rim of a layer only; with few of them by more.
    slack = (NOISE_MM2 + NOISE_SHARE * told) * (1.0 if found.screen.levels >= FEW_GREYS else FEW_GREYS)
    wrong = np.flatnonzero(np.abs(found.area_mm2 - told) > slack)
    if len(wrong):
        layer = int(wrong[0])
        raise BadValue(
            f"The mask of layer {layer + 1} shows {found.area_mm2[layer]:.2f} mm² of {told[layer]:.2f}.",
            "Write the masks anew; if it stays so, tell whoever looks after this server.",
        )
    return found


def _grey_sum(data: bytes, screen: Screen) -> int:
    """Sum of all greys of a picture, its checks and size looked at on the way.

    Raises
    ------
    ValueError
        It is no such picture.
    """
    if data[:8] != SIGNATURE:
        raise ValueError("no PNG")
    at, packed_rows, size = 8, [], None
    while at < len(data):
        length, kind = struct.unpack(">I4s", data[at : at + 8])
        body = data[at + 8 : at + 8 + length]
        if struct.unpack(">I", data[at + 8 + length : at + 12 + length])[0] != zlib.crc32(kind + body):
            raise ValueError("a chunk is broken")
        if kind == b"IHDR":
            size = struct.unpack(">IIBBBBB", body)
        elif kind == b"IDAT":
            packed_rows.append(body)
        at += 12 + length
    if size != (screen.width_px, screen.height_px, 8, 0, 0, 0, 0):
        raise ValueError("not of that size")
    rows = np.frombuffer(isal_zlib.decompress(b"".join(packed_rows)), np.uint8)
    rows = rows.reshape(screen.height_px, screen.width_px + 1)
    if rows[:, 0].any():
        raise ValueError("rows are filtered")
    return int(_sum(rows))


@njit(cache=True, nogil=True)
def _sum(rows):  # type: ignore[no-untyped-def]
    total = 0
    for row in range(rows.shape[0]):
        for column in range(1, rows.shape[1]):
            total += rows[row, column]
    return total
