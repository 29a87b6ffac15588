"""How long stilts of resin parts take against the layers of the same part, and how many there are."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from manifold3d import Manifold
from numpy.typing import NDArray

from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.geometry.tree import Tree
from upright_heron.core.hanging.findings import walk
from upright_heron.core.hanging.overhang_regions import hanging_regions
from upright_heron.core.layers.layer_components import links, piece_at, pieces
from upright_heron.core.layers.peel import pulls
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.machines.catalogue import Peel
from upright_heron.core.supports.checks.stilt_check import verify_stilts
from upright_heron.core.supports.model import SupportSettings
from upright_heron.core.supports.resin.loads import Borne, walk_loads
from upright_heron.core.supports.resin.site import Ground
from upright_heron.core.supports.resin.sizes import sizes
from upright_heron.core.supports.resin.stilt_sets import make_stilts
from upright_heron.core.supports.resin.tip_places import Undersides, by_slope, undersides
from upright_heron.demo.shapes import heron

LAYER_MM, LIMIT_DEG = 0.05, 60.0
GIVEN = SupportSettings(spacing_mm=2.5)
# Open meshes that are tried as well where they are at hand, and their size.
FETCHED = Path(__file__).resolve().parent.parent / ".meshes" / "geometry"
OPEN, FIGURE_MM = ("hand", "armadillo"), 90.0
# Even spacings that are tried, mm.
EVEN_MM = (4.0, 3.0, 2.5, 2.0, 1.6, 1.3, 1.0, 0.8, 0.6)


def of_stilts() -> list[tuple[str, str, float, float, float]]:
    """Rows: what, against what, seconds of both, and the ratio that is asked for."""
    figurine = Solid.from_mesh(heron()).manifold
    rows: list[tuple[str, str, float, float, float]] = []
    print(f"{'stilts':<22}{'tips':>6}{'begin':>8}{'joined':>8}{'braces':>8}{'faults':>8}{'even':>8}")
    for name, body, lean, lift in (
        ("heron", figurine, 0.0, 0.0),
        ("heron, leaning", figurine, 12.0, 5.0),
        ("heron, leaning more", figurine, 45.0, 5.0),
        ("ball", Manifold.sphere(30, 256), 0.0, 5.0),
        *((name, _open_mesh(name), 0.0, 5.0) for name in OPEN if (FETCHED / f"{name}.off").exists()),
    ):
        rows += _rows(name, _standing(body, lean, lift), lift)
    return rows


def _open_mesh(name: str) -> Any:
    """An open mesh that ``tools/meshes.sh`` fetches, as large as a figure."""
    mesh: Any = trimesh.load(FETCHED / f"{name}.off", process=True)
    corners = np.asarray(mesh.vertices, np.float64)
    corners *= FIGURE_MM / float(np.ptp(corners, axis=0).max())
    return Solid.from_mesh(Mesh(corners, np.asarray(mesh.faces, np.int32))).manifold


def _standing(body: Manifold, lean_deg: float, lift_mm: float) -> Solid:
    turned = body.rotate((lean_deg, 0.0, 0.0))
    x0, y0, z0, x1, y1, _ = turned.bounding_box()
    return Solid(turned.translate((-(x0 + x1) / 2, -(y0 + y1) / 2, lift_mm - z0)))


def _rows(name: str, solid: Solid, lift_mm: float) -> list[tuple[str, str, float, float, float]]:
    mesh = solid.mesh()
    tree = Tree.of(mesh)
    stack = slice_solid(solid, LAYER_MM)

    def bare() -> None:
        for z in stack.z_mm:
            solid.section(float(z)).area()

    hanging = walk(mesh, stack, spot_mm=0.14, resin=True, on_plate=lift_mm == 0)
    regions = tuple(hanging_regions(mesh, LIMIT_DEG, lifted=lift_mm > 0, tree=tree))
    ground = Ground(mesh, tree, stack, replace(hanging, regions=regions))
    made = make_stilts(ground, LIMIT_DEG, GIVEN)
    before = _took(bare)
    mine = _took(lambda: make_stilts(ground, LIMIT_DEG, GIVEN))
    checked = _took(lambda: verify_stilts(made, stack, tree))
    base = 0.5 * (before + _took(bare))
    begins = [s.touch_mm for s in made.stilts if not s.reason.startswith(("overhang", "load"))]
    even = _even(ground, undersides(mesh), np.array(begins).reshape(-1, 3), on_plate=lift_mm == 0)
    told = (len(begins), made.joined, len(made.braces), len(made.faults), even or "none")
    print(f"{name:<22}{len(made.stilts):>6}" + "".join(f"{one:>8}" for one in told))
    what = "its slice + area"
    return [
        # Demand with loads 0.5, ways with joins, braces and their exact look 2.5, the check of it 2.
        (f"stilts with their check, {name}", what, mine, base, 5.0),
        (f"their check, {name}", what, checked, base, 2.0),
    ]


def _took(act: Callable[[], object]) -> float:
    start = time.perf_counter()
    act()
    return time.perf_counter() - start


def _even(ground: Ground, under: Undersides, begins: NDArray[np.float64], *, on_plate: bool) -> int | None:
    """How many tips, spread evenly over all that looks down, bear no more than a medium one can each.

    What begins in mid-air has the same tips (n, 3) as before.
    """
    found = pieces(ground.stack)
    pairs, pull = links(found), pulls(found, Peel.USUAL)
    most = sizes(GIVEN)[1].bears_n(Peel.USUAL)
    flat = Undersides(under.at_mm, np.tile([0.0, 0.0, -1.0], (len(under.at_mm), 1)), under.facet)

    def borne_by(at: NDArray[np.float64]) -> Borne:
        layers = np.ceil((at[:, 2] - ground.stack.base_mm) / LAYER_MM - 0.5).astype(np.int64)
        where = piece_at(found, np.maximum(layers, 0), np.ascontiguousarray(at[:, :2]))
        none = np.zeros((0, 2)), np.zeros(0, np.int64)
        return walk_loads(found, pairs, pull, (at[:, :2], where), none, np.inf, on_plate=on_plate)

    # Points are held from beside, a little higher than they begin: so many pieces are bare for a while.
    bare = set(borne_by(begins).bare.tolist())
    for spacing in EVEN_MM:
        spread = under.at_mm[by_slope(flat, LIMIT_DEG, spacing, begins)]
        at = np.concatenate([begins, spread])
        borne = borne_by(at)
        if bare.issuperset(borne.bare.tolist()) and borne.load_n.max(initial=0.0) <= most:
            return len(at)
    return None
