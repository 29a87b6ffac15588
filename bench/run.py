"""Speed as ratios to a bare library call in the same run (``make bench``). Medians of several runs.

The part is a closed, bumpy ball of about 800,000 facets, 100 mm across, cut at 0.2 mm. Times depend on the
machine and on what else it does; only ratios taken in one run mean anything.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from manifold3d import Manifold

from upright_heron.core.formats.stl import read_stl
from upright_heron.core.handoff.stl import write_stl
from upright_heron.core.islands import find_islands
from upright_heron.core.layers import slice_solid
from upright_heron.core.mesh import Mesh, facts
from upright_heron.core.overhangs import overhangs
from upright_heron.core.solid import Solid
from upright_heron.core.stance.pose import place
from upright_heron.core.supports.columns import make_columns
from upright_heron.core.supports.model import SupportSettings
from upright_heron.core.warm import warm

LAYER_MM = 0.2


def specimen(segments: int = 1266) -> Mesh:
    """A ball with bumps, so that no contour is a circle and islands and overhangs occur."""

    def bump(points: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
        unit = points / np.linalg.norm(points, axis=1, keepdims=True)
        swell = 1 + 0.04 * np.sin(9 * unit[:, 0]) * np.sin(11 * unit[:, 1]) * np.cos(13 * unit[:, 2])
        return points * swell[:, None]

    return Solid(Manifold.sphere(49, segments).warp_batch(bump)).mesh()


def timed(call: Callable[[], Any], runs: int) -> float:
    """Median time of a call, seconds."""
    times = []
    for _ in range(runs):
        start = time.perf_counter()
        call()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def main() -> int:
    """Measure and print the table."""
    runs = 5
    warm()
    mesh = specimen()
    data = write_stl(mesh)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "part.stl"
        path.write_bytes(data)
        load = timed(lambda: trimesh.load(path), 3)
    part = read_stl(data).mesh
    part = place(part, np.eye(3), centred=False).apply(part)
    solid = Solid.from_mesh(part)
    low, high = solid.bounds[:, 2]
    heights = np.arange(low + LAYER_MM / 2, high, LAYER_MM)
    bare = timed(lambda: [solid.manifold.slice(z).area() for z in heights], runs)
    stack = slice_solid(solid, LAYER_MM)
    islands, island_pieces = find_islands(stack)
    rows = [
        ("read and weld", "trimesh.load", timed(lambda: read_stl(data), runs), load, 0.25),
        ("layers with areas", "slice + area", timed(lambda: slice_solid(solid, LAYER_MM), runs), bare, 1.5),
        (
            "overhangs and islands",
            "slice + area",
            timed(lambda: (overhangs(part, 45.0), find_islands(stack)), runs),
            bare,
            6.0,
        ),
        (
            "layers, overhangs, islands",
            "slice + area",
            timed(lambda: (overhangs(part, 45.0), find_islands(slice_solid(solid, LAYER_MM))), runs),
            bare,
            6.0,
        ),
        (
            "columns, demand to outlines",
            "slice + area",
            timed(lambda: make_columns(stack, 45.0, islands, island_pieces, SupportSettings()), 3),
            bare,
            5.0,
        ),
        ("facts of the part", "trimesh.load", timed(lambda: facts(part), runs), load, 0.5),
    ]
    print(f"{len(part.faces):,} facets, {len(heights)} layers of {LAYER_MM} mm, medians of {runs}\n")
    print(f"{'what':<28}{'s':>8}  {'against':<14}{'s':>8}{'ratio':>8}{'target':>8}")
    worst = 0
    for what, against, mine, base, target in rows:
        ratio = mine / base
        worst = max(worst, int(ratio > target))
        over = "  over" if ratio > target else ""
        print(f"{what:<28}{mine:>8.3f}  {against:<14}{base:>8.3f}{ratio:>8.2f}{target:>8.2f}{over}")
    return worst


if __name__ == "__main__":
    sys.exit(main())
