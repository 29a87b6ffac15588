"""Results of tiny parts by every kernel, for ``test_uncompiled.py``: run with and without compiled code."""

import json
import sys

import numpy as np
from manifold3d import CrossSection, Manifold

from upright_heron.core.geometry.mesh import facts
from upright_heron.core.geometry.picture import picture
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.geometry.tree import Tree
from upright_heron.core.hanging.findings import walk
from upright_heron.core.hanging.overhangs import overhangs
from upright_heron.core.hollow.cavity import HollowSetting
from upright_heron.core.hollow.hollowed import hollow_out
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.plates.nesting import Room, nest
from upright_heron.core.plates.outline import of_plan
from upright_heron.core.split.fittings import JointSetting
from upright_heron.core.split.grid import grid_cuts
from upright_heron.core.split.pieces import split
from upright_heron.core.stance.resting import resting_faces
from upright_heron.core.supports.demand.patches import Patch, Style
from upright_heron.core.supports.filament.styles import make_filament
from upright_heron.core.supports.model import SupportSettings
from upright_heron.core.supports.resin.site import Ground
from upright_heron.core.supports.resin.stilt_sets import make_stilts
from upright_heron.core.toolpaths.gcode import Writing, written
from upright_heron.core.toolpaths.laying import Laying, lay
from upright_heron.core.toolpaths.patterns import Pattern
from upright_heron.core.toolpaths.surfaces import Skins, make_surfaces
from upright_heron.core.toolpaths.timing import Running, timed
from upright_heron.core.toolpaths.walls import make_walls


def figures(value):
    """Numbers of a value in a row: sizes and sums of all arrays, and all single numbers."""
    found = []

    def look(one):
        if isinstance(one, np.ndarray):
            found.extend(one.shape)
            found.append(
                float(np.sum(np.asarray(one, np.float64) * np.arange(1, one.size + 1).reshape(one.shape)))
            )
        elif isinstance(one, dict):
            for key in sorted(one, key=str):
                look(one[key])
        elif isinstance(one, tuple | list):
            for each in one:
                look(each)
        elif isinstance(one, int | float):
            found.append(float(one))
        elif isinstance(one, bytes):
            found.extend((len(one), sum(one)))
        elif hasattr(one, "__dataclass_fields__"):
            for name in one.__dataclass_fields__:
                look(getattr(one, name, None))

    look(value)
    return found


def results():
    """Name and figures of what is made of tiny parts."""
    post = Manifold.cube((2, 2, 4)) + Manifold.cube((8, 2, 1)).translate((0, 0, 4))
    ring = Manifold.cylinder(1, 1, 1, 8).translate((6.0, 1.0, 2.0))
    solid = Solid(post + ring)
    mesh = solid.mesh()
    stack = slice_solid(solid, 0.5)
    yield "facts", facts(mesh)
    yield "stack", stack
    yield "overhangs", overhangs(mesh, 45.0)
    found = walk(mesh, stack, spot_mm=0.4, resin=True)
    yield "findings", found
    part = Tree.of(mesh)
    for x, style in ((20.0, Style.TREE), (30.0, Style.LINES), (40.0, Style.GRID), (50.0, Style.PILLAR)):
        spot = CrossSection.square((1, 1)).translate((x, 0))
        patch = Patch("0", ("a spot",), {7: spot}, (x + 0.5, 0.5, 3.5), 1.0, True, 3.5)
        yield f"filament {style.value}", make_filament(stack, [(patch, style)], SupportSettings(), part)
    yield "stilts", make_stilts(Ground(mesh, part, stack, found), 45.0, SupportSettings())
    yield "resting", resting_faces(mesh, facts(mesh), 45.0)
    yield "picture", picture(mesh, 24, 24)
    bar, box_mm = Solid(Manifold.cube((60.0, 20.0, 20.0))), (40.0, 40.0, 40.0)
    cut = split(bar, grid_cuts(bar.bounds, box_mm), box_mm, JointSetting(numbers=True), boxes=True)
    yield "pieces", [facts(piece.mesh) for piece in cut.pieces]
    hollow = hollow_out(Solid(Manifold.sphere(8.0, 24)), HollowSetting(wall_mm=2.0, detail_mm=1.0))
    yield "hollow", hollow
    outlines = [of_plan(CrossSection.square((9.0, 5.0)), 4.0), of_plan(CrossSection.circle(4.0, 16), 4.0)]
    laid = nest(outlines, [0, 0, 1, 1, 1], Room((40.0, 30.0), turns=(0.0, 90.0)))
    yield "nest", laid
    plate = Manifold.cube((16, 10, 1.2)) - Manifold.cylinder(3, 2, 2, 24).translate((10, 5, -1))
    body = plate + Manifold.cube((8, 0.5, 2)) + Manifold.cube((10, 4, 0.8)).translate((-2, 6, 1.2))
    low = slice_solid(Solid(body), 0.4)
    walls = make_walls(low, 2, 0.44)
    surfaces = make_surfaces(low, walls.inside, Skins(1, 1, 0.44))
    for pattern in Pattern:
        beads = lay(low, walls, surfaces, Laying(0.44, pattern, 0.4))
        told, moves = timed(beads, Running(60.0))
        yield f"beads {pattern.value}", beads
        yield f"time {pattern.value}", told
        text = b"".join(written(beads, moves, Writing("-", "-", (200.0,) * 3), Running(60.0), (0.0, 0.0), {}))
        yield f"code {pattern.value}", text.count(b"\n")


if __name__ == "__main__":
    sys.stdout.write(json.dumps({name: figures(value) for name, value in results()}))
