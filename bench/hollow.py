"""How long hollowing takes against the layers of the same part, and how thick the wall is in fact."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import numpy as np

from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.hollow.cavity import Cavity, HollowSetting, find_cavity
from upright_heron.core.hollow.hollowed import hollow_tree, propose
from upright_heron.core.hollow.trapped import Basin
from upright_heron.core.layers.stack import slice_solid
from upright_heron.demo.shapes import heron

LAYER_MM, WALL_MM = 0.05, 2.0
DOWN = np.array([0.0, 0.0, -1.0])


def of_hollows() -> list[tuple[str, str, float, float, float]]:
    """Rows: what, against what, seconds of both, and the ratio that is asked for."""
    came = heron()
    solid = Solid.from_mesh(Mesh(came.vertices * 1.5, came.faces))
    heights = slice_solid(solid, LAYER_MM).z_mm

    def bare() -> None:
        for z in heights:
            solid.section(float(z)).area()

    rows: list[tuple[str, str, float, float, float]] = []
    what = "its slice + area"
    print(f"{'hollow':<22}{'least':>8}{'mean':>8}{'pockets':>9}{'stays':>9}")
    for detail, most in ((0.5, 8.0), (0.3, 22.0)):
        before, _ = _took(bare)
        hollowing, cavity = _took(lambda detail=detail: _hollow(solid, detail))  # type: ignore[misc]
        after, _ = _took(bare)
        base = 0.5 * (before + after)
        basin = Basin(cavity)
        drains = propose(cavity, hollow_tree(cavity), basin, (), 3.0, DOWN)
        flood, left = _took(lambda basin=basin, drains=drains: basin.trapped(drains, DOWN))  # type: ignore[misc]
        wall = cavity.wall
        print(
            f"{f'heron 150 %, {detail:g} mm':<22}{wall.least_mm:>8.3f}{wall.mean_mm:>8.3f}"
            f"{len(cavity.pockets):>9}{left.volume_mm3:>9.1f}"
        )
        rows.append((f"hollow 2 mm at {detail:g} mm", what, hollowing, base, most))
        if detail == 0.5:
            rows.append(("what stays in a hollow", what, flood, base, 0.5))
    return rows


def _hollow(solid: Solid, detail_mm: float) -> Cavity:
    return find_cavity(solid, HollowSetting(WALL_MM, detail_mm))


def _took(act: Callable[[], Any]) -> tuple[float, Any]:
    start = time.perf_counter()
    made = act()
    return time.perf_counter() - start, made
