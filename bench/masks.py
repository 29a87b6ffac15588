"""How long masks and slices of a resin part take, against its own layers and their areas."""

from __future__ import annotations

import time
from collections.abc import Callable

from upright_heron.core.geometry.solid import Solid
from upright_heron.core.handoff.masks import Screen, _corner, _Picture, _window, read_masks, write_masks
from upright_heron.core.handoff.plate_layers import PlateLayers, Standing
from upright_heron.core.handoff.slices import SliceObject, write_slices
from upright_heron.core.hanging.pools import find_pools
from upright_heron.core.layers.printed_layers import PrintedLayers
from upright_heron.core.layers.stack import packed, slice_solid
from upright_heron.core.machines.catalogue import material, printer
from upright_heron.core.toolpaths.process_table import steps, usual_table
from upright_heron.demo.shapes import SHAPES

LAYER_MM = 0.05
BARE = "slice + area"


def of_masks() -> list[tuple[str, str, float, float, float]]:
    """Rows: what, against what, seconds of both, and the ratio that is asked for."""
    mesh = SHAPES["heron-figurine"]()
    solid = Solid.from_mesh(mesh)
    machine, stuff = printer("Tarn 9"), material("Standard resin")
    screen = Screen.of(machine)

    def bare() -> None:
        low, high = solid.bounds[:, 2]
        for k in range(int((high - low) / LAYER_MM)):
            solid.section(float(low) + (k + 0.5) * LAYER_MM).area()

    one = min(_took(bare), _took(bare))
    plate = PlateLayers([Standing(PrintedLayers(slice_solid(solid, LAYER_MM)))])
    process = steps(usual_table(machine, stuff), len(plate))

    def drawn() -> None:
        low, high = _window(screen, plate.bounds)
        picture = _Picture(screen, int(low[0]), int(low[1]), (int(high[1] - low[1]), int(high[0] - low[0])))
        for level in range(len(plate)):
            picture.draw(packed(plate.rings(level)), _corner(screen, low))

    files: list[bytes] = []

    def written() -> None:
        rings = map(plate.rings, range(len(plate)))
        files.append(write_masks(rings, screen, LAYER_MM, process, plate.bounds))

    def sliced() -> None:
        write_slices([SliceObject("part", mesh, plate.standing)], "bench")

    stack = plate.standing[0].layers.part
    return [
        ("masks drawn", BARE, _took(drawn), one, 4.0),
        ("masks written", BARE, _took(written), one, 8.0),
        ("masks read back", BARE, _took(lambda: read_masks(files[0])), one, 60.0),
        ("layers as 3MF", BARE, _took(sliced), one, 12.0),
        ("resin that stays in", BARE, _took(lambda: find_pools(stack)), one, 0.5),
    ]


def _took(act: Callable[[], object]) -> float:
    start = time.perf_counter()
    act()
    return time.perf_counter() - start
