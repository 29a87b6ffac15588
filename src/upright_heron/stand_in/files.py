"""What a machine reads from a file that it is sent: the kind of machine it is for, layers, time, material."""

from __future__ import annotations

import io
import json
import re
import zipfile
from dataclasses import dataclass

from ..core.errors import BadValue

_HEAD = re.compile(rb"^; (machine|layers|seconds|grams|material|nozzle_c|bed_c): (.*?)\s*$", re.MULTILINE)
_HEAT = re.compile(rb"^M1(09|90) S([\d.]+)", re.MULTILINE)
# Enough for what stands before the first layer.
_HEAD_BYTES = 20_000
# A cubic centimetre of resin (common practice: 1.05 to 1.2).
_RESIN_G_CM3 = 1.1


@dataclass(frozen=True, slots=True)
class PrintFile:
    """What is known of a file.

    Attributes
    ----------
    model : str
        Kind of machine that it is for.
    technology : str
    layers : int
    seconds, grams : float
        That it takes.
    nozzle_c, bed_c : float
        Nought for resin.
    """

    model: str
    technology: str
    layers: int
    seconds: float
    grams: float
    nozzle_c: float = 0.0
    bed_c: float = 0.0


def read_file(data: bytes) -> PrintFile:
    """Read G-code or masks.

    Raises
    ------
    BadValue
        It is neither, or tells no machine or no layers.
    """
    if data.startswith(b"PK"):
        return _masks(data)
    said = {
        key.decode(): value.decode("utf-8", "replace") for key, value in _HEAD.findall(data[:_HEAD_BYTES])
    }
    heat = {code.decode(): float(value) for code, value in _HEAT.findall(data[:_HEAD_BYTES])}
    try:
        return PrintFile(
            said["machine"], "filament", int(said["layers"]), float(said["seconds"]), float(said["grams"]),
            heat.get("09", 0.0), heat.get("90", 0.0),
        )  # fmt: skip
    except (KeyError, ValueError) as error:
        raise BadValue("The file tells no machine, layers or time.", "Send G-code or masks.") from error


def _masks(data: bytes) -> PrintFile:
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as folder:
            told = json.loads(folder.read("manifest.json"))
        layers, thick = told["layers"], float(told["layer_mm"])
        seconds = sum(_layer_s(one) for one in layers)
        volume = sum(float(one["area_mm2"]) for one in layers) * thick
        return PrintFile(str(told["machine"]), "resin", len(layers), seconds, volume / 1000 * _RESIN_G_CM3)
    except (zipfile.BadZipFile, KeyError, TypeError, ValueError) as error:
        raise BadValue("The masks tell no machine, layers or time.", "Send G-code or masks.") from error


def _layer_s(one: dict[str, float]) -> float:
    lift, up, back = one["lift_mm"], one["lift_mm_s"], one["return_mm_s"]
    moved = (lift / up if up else 0.0) + (lift / back if back else 0.0)
    return float(one["exposure_s"] + moved + one["wait_before_s"] + one["wait_after_s"])
