"""Runs every kernel once on a tiny part, so that a process compiles or loads them before work comes."""

from __future__ import annotations

import numpy as np
from manifold3d import CrossSection, Manifold

from .formats.stl import read_stl
from .geometry.mesh import facts
from .geometry.picture import picture
from .geometry.solid import Solid
from .geometry.tree import Tree
from .handoff.stl import write_stl
from .hanging.findings import walk
from .hanging.overhangs import overhangs
from .hollow.cavity import HollowSetting
from .hollow.hollowed import hollow_out
from .layers.stack import LayerStack, slice_solid
from .machines.catalogue import Peel
from .split.fittings import JointSetting
from .split.grid import grid_cuts
from .split.pieces import split
from .split.planner import plans
from .stance.resting import resting_faces
from .supports.demand.patches import Patch, Style
from .supports.filament.styles import make_filament
from .supports.model import SupportSettings
from .supports.resin.hands import with_hands
from .supports.resin.site import NOTHING, ByHand, Ground, Site
from .supports.resin.stilt_sets import edited, finished
from .supports.resin.stilts import stand
from .toolpaths.gcode import Writing, written
from .toolpaths.laying import Laying, lay
from .toolpaths.patterns import Pattern
from .toolpaths.surfaces import Skins, make_surfaces
from .toolpaths.timing import Running, timed
from .toolpaths.walls import make_walls


def _hold_one(stack: LayerStack) -> None:
    """Hold a small spot beside the part of a stack by a tree, and one by lines."""
    part = Tree.of(Solid(Manifold.cube((2, 2, 4))).mesh())
    for x, style in ((20.0, Style.TREE), (30.0, Style.LINES)):
        spot = CrossSection.square((1, 1)).translate((x, 0))
        patch = Patch("0", ("warming up",), {7: spot}, (x + 0.5, 0.5, 3.5), 1.0, True, 3.5)
        make_filament(stack, [(patch, style)], SupportSettings(), part)


def _cut_one() -> None:
    """Plan cuts of a bar, cut it, and join the pieces with pegs and numbers."""
    bar = Solid(Manifold.cube((60.0, 20.0, 20.0)))
    box_mm = (40.0, 40.0, 40.0)
    plans(bar, box_mm)
    split(bar, grid_cuts(bar.bounds, box_mm), box_mm, JointSetting(numbers=True), boxes=True)


def _hollow_one() -> None:
    """Hollow a ball."""
    hollow_out(Solid(Manifold.sphere(8.0, 24)), HollowSetting(wall_mm=2.0, detail_mm=1.0))


def _lay_one() -> None:
    """Lay, time and write paths of a plate with a hole, a fin, and a step that leans out."""
    plate = Manifold.cube((16, 10, 1.2)) - Manifold.cylinder(3, 2, 2, 24).translate((10, 5, -1))
    body = plate + Manifold.cube((8, 0.5, 2)) + Manifold.cube((10, 4, 0.8)).translate((-2, 6, 1.2))
    stack = slice_solid(Solid(body), 0.4)
    walls = make_walls(stack, 1, 0.44)
    surfaces = make_surfaces(stack, walls.inside, Skins(1, 1, 0.44))
    running = Running(60.0)
    for pattern in (Pattern.GRID, Pattern.GYROID):
        beads = lay(stack, walls, surfaces, Laying(0.44, pattern, 0.5))
        _, moves = timed(beads, running)
        writing = Writing("-", "-", (200.0, 200.0, 200.0))
        for _ in written(beads, moves, writing, running, (0.0, 0.0), {}):
            pass


def _stand_some(ground: Ground) -> None:
    """Stilts, and one more by hand."""
    site = Site(ground, SupportSettings(), Peel.USUAL, 45.0)
    stood = stand(site)
    put = ByHand(np.array([[7.0, 1.0, 4.0]]), np.zeros((0, 3)))
    edited(finished(stood, site), with_hands(stood, site, NOTHING, put), site)


def warm() -> None:
    """Compile all kernels, or load them from numba's cache."""
    post = Manifold.cube((2, 2, 4)) + Manifold.cube((8, 2, 1)).translate((0, 0, 4))
    ring = Manifold.cylinder(1, 1, 1, 8).translate((6.0, 1.0, 2.0))
    mesh = read_stl(write_stl(Solid(post + ring).mesh())).mesh
    stack = slice_solid(Solid.from_mesh(mesh), 0.5)
    overhangs(mesh, 45.0)
    walk(mesh, stack, spot_mm=0.4, resin=True)
    _hold_one(stack)
    _lay_one()
    ground = Ground(mesh, Tree.of(mesh), stack, walk(mesh, stack, spot_mm=0.4, resin=True))
    _stand_some(ground)
    resting_faces(mesh, facts(mesh), 45.0)
    picture(mesh, 16, 16)
    _cut_one()
    _hollow_one()
