"""Heavy arrays for the view as little-endian binary blocks; the layouts are described in docs/blocks.md."""

from __future__ import annotations

import base64
import json
import struct
from dataclasses import fields, is_dataclass
from typing import Any

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ..core.geometry.mesh import Mesh
from ..core.layers.stack import LayerStack
from ..core.split.pieces import Split, pulled
from ..core.supports.rings import SIDES
from ..core.toolpaths.beads import Beads
from ..core.toolpaths.timing import Speeds


def mesh_block(mesh: Mesh) -> bytes:
    """``UHM1``: vertices as float32, faces as uint32."""
    return (
        struct.pack("<4sII", b"UHM1", len(mesh.vertices), len(mesh.faces))
        + mesh.vertices.astype("<f4").tobytes()
        + mesh.faces.astype("<u4").tobytes()
    )


def frusta_block(frusta: NDArray[np.float64]) -> bytes:
    """``UHF1``: frusta (n, 9) as float32, to draw one shape many times."""
    return struct.pack("<4sII", b"UHF1", SIDES, len(frusta)) + frusta.astype("<f4").tobytes()


# Places of paths are told in steps of this from their lowest corner, widths in steps of this, mm.
PATH_STEP_MM, WIDTH_STEP_MM = 0.005, 0.01


def paths_block(beads: Beads) -> bytes:
    """``UHB3``: paths of all layers, six bytes a place; kind, height in layers and nozzle in one of them."""
    count = len(beads.points)
    low = beads.points.min(axis=0) if count else np.zeros(2)
    xy = np.round((beads.points - low) / PATH_STEP_MM)
    step = max(1, int(np.ceil(xy.max(initial=0.0) / 65535)))
    begins = np.zeros(count, bool)
    begins[beads.start[:-1]] = True
    # Infill and supports may fill several layers at once; a flow of their own leaves others one layer high.
    deep = np.clip(np.floor(beads.high + 1e-6), 1, 4).astype(np.int64) - 1
    of_path = beads.kind.astype(np.int64) + 16 * deep + 64 * beads.nozzle.astype(np.int64)
    kind = np.repeat(of_path, np.diff(beads.start)) + np.where(begins, 128, 0)
    width = np.clip(np.round(beads.width / WIDTH_STEP_MM), 1, 255)
    layers = np.searchsorted(beads.layer, np.arange(len(beads.tops_mm) + 1))
    return (
        struct.pack(
            "<4sIIfffff", b"UHB3", len(beads.tops_mm), count, *low, PATH_STEP_MM * step, WIDTH_STEP_MM,
            beads.layer_mm,
        )
        + beads.tops_mm.astype("<f4").tobytes()
        + beads.start[layers].astype("<u4").tobytes()
        + np.round(xy / step).astype("<u2").tobytes()
        + np.column_stack([width, kind]).astype(np.uint8).tobytes()
    )  # fmt: skip


def speeds_block(speeds: Speeds) -> bytes:
    """``UHS1``: mean speed up to each place of the paths, a byte each."""
    step = max(float(speeds.mm_s.max(initial=0.0)) / 255.0, 1e-3)
    steps = np.clip(np.round(speeds.mm_s / step), 0, 255)
    return struct.pack("<4sIf", b"UHS1", len(speeds.mm_s), step) + steps.astype(np.uint8).tobytes()


def layer_block(stack: LayerStack) -> bytes:
    """``UHL1``: areas, layer and ring starts, and the corners of all rings."""
    return (
        struct.pack(
            "<4sIIIff", b"UHL1", len(stack), len(stack.ring_start) - 1, len(stack.points), stack.layer_mm,
            stack.base_mm,
        )
        + stack.area_mm2.astype("<f4").tobytes()
        + stack.layer_start.astype("<u4").tobytes()
        + stack.ring_start.astype("<u4").tobytes()
        + stack.points.astype("<f4").tobytes()
    )  # fmt: skip


def pieces_block(split: Split) -> bytes:
    """``UHP2``: all pieces in one mesh, with the first face of each, and how they come apart step by step."""
    pieces = split.pieces
    vertex_start = np.cumsum([0] + [len(p.mesh.vertices) for p in pieces])
    face_start = np.cumsum([0] + [len(p.mesh.faces) for p in pieces])
    vertices = np.concatenate([p.mesh.vertices for p in pieces])
    faces = np.concatenate([p.mesh.faces + s for p, s in zip(pieces, vertex_start[:-1], strict=True)])
    away, side = pulled(split)
    sides = side.tobytes()
    return (
        struct.pack("<4sIIII", b"UHP2", len(pieces), len(vertices), len(faces), len(away))
        + away.astype("<f4").tobytes()
        + sides
        + bytes(-len(sides) % 4)
        + face_start.astype("<u4").tobytes()
        + vertices.astype("<f4").tobytes()
        + faces.astype("<u4").tobytes()
    )


def of_any(value: Any) -> tuple[bytes, str]:
    """A block of any result, with its media type: arrays as they are, everything else as JSON."""
    binary = "application/octet-stream"
    if isinstance(value, Mesh):
        return mesh_block(value), binary
    if isinstance(value, LayerStack):
        return layer_block(value), binary
    if isinstance(value, np.ndarray):
        return np.ascontiguousarray(value).tobytes(), binary
    return json.dumps(_plain(value)).encode(), "application/json"


def _plain(value: Any) -> Any:
    if is_dataclass(value) and not isinstance(value, type):
        return {f.name: _plain(getattr(value, f.name)) for f in fields(value)}
    if isinstance(value, CrossSection):
        return [ring.tolist() for ring in value.to_polygons()]
    if isinstance(value, np.ndarray | np.generic):
        return value.tolist()
    if isinstance(value, tuple | list):
        return [_plain(v) for v in value]
    if isinstance(value, dict):
        return {str(k): _plain(v) for k, v in value.items()}
    return base64.b64encode(value).decode() if isinstance(value, bytes) else value
