"""What is left standing in a hollow: its volume by other libraries, that it holds itself, and drains."""

from __future__ import annotations

import unittest

import numpy as np
import shapely
from manifold3d import Manifold, OpType
from shapely.affinity import translate

from tests.support import box
from upright_heron.core.errors import BadValue
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.geometry.subdivision import refined
from upright_heron.core.hanging.findings import walk
from upright_heron.core.hollow.cavity import HollowSetting, find_cavity
from upright_heron.core.hollow.filling import Filling
from upright_heron.core.hollow.hollowed import hollow_out, hollow_tree
from upright_heron.core.layers.stack import slice_solid

BLOCK = Solid(box(40, 40, 40, (-20, -20, -20)))
EMPTY = find_cavity(BLOCK, HollowSetting())


def crosses(apart, thick, half):
    """Area of upright ribs in a square of half a side, by shapely: crosses with open ends."""
    long = 0.6 * apart
    cross = shapely.box(-long / 2, -thick / 2, long / 2, thick / 2).union(
        shapely.box(-thick / 2, -long / 2, thick / 2, long / 2)
    )
    steps = np.arange(-3, 4) * apart
    every = shapely.union_all([translate(cross, x, y) for x in steps for y in steps])
    return every.intersection(shapely.box(-half, -half, half, half)).area


def struts(apart, thick, half):
    """Volume of struts in a cube of half a side, by bodies of another library."""
    cell = np.array([apart, apart, 1.05 * np.sqrt(2) * apart])
    bodies = []
    for number in np.ndindex(5, 5, 3):
        middle = (np.array(number) - (2, 2, 1)) * cell
        for x, y in ((1, 1), (1, -1), (-1, 1), (-1, -1)):
            way = cell * (x, y, 1) / 2
            length = 2 * float(np.linalg.norm(way))
            bar = Manifold.cylinder(length, thick / 2, thick / 2, 24, True)
            lean = np.degrees(np.arccos(2 * way[2] / length))
            turn = np.degrees(np.arctan2(way[1], way[0]))
            bodies.append(bar.rotate((0, lean, 0)).rotate((0, 0, turn)).translate(middle))
    room = box(2 * half, 2 * half, 2 * half, (-half, -half, -half))
    return (Manifold.batch_boolean(bodies, OpType.Add) ^ room).volume()


class VolumeTest(unittest.TestCase):
    def left(self, setting, **options):
        """Volume that a setting leaves in the block more than an empty hollow does, and the hollow."""
        cavity = find_cavity(BLOCK, setting, **options)
        return EMPTY.volume_mm3 - cavity.volume_mm3, cavity

    def test_ribs_by_their_area(self):
        half = EMPTY.volume_mm3 ** (1 / 3) / 2
        for apart, thick in ((13.0, 1.2), (9.0, 2.0)):
            left, cavity = self.left(HollowSetting(filling=Filling.RIBS, apart_mm=apart, thick_mm=thick))
            self.assertAlmostEqual(left / (crosses(apart, thick, half) * 2 * half), 1.0, delta=0.02)
            # They part nothing off, and the wall is told as without them.
            self.assertEqual(len(cavity.pockets), 1)
            self.assertAlmostEqual(cavity.wall.mean_mm, EMPTY.wall.mean_mm, delta=0.01)
            self.assertAlmostEqual(cavity.wall.least_mm, EMPTY.wall.least_mm, delta=1e-6)

    def test_struts_by_the_bodies_of_another_library(self):
        half = EMPTY.volume_mm3 ** (1 / 3) / 2
        left, cavity = self.left(HollowSetting(filling=Filling.STRUTS, apart_mm=14.0, thick_mm=2.0))
        self.assertAlmostEqual(left / struts(14.0, 2.0, half), 1.0, delta=0.04)
        self.assertEqual(len(cavity.pockets), 1)

    def test_ribs_stand_upright_where_the_part_lies(self):
        setting = HollowSetting(filling=Filling.RIBS, apart_mm=14.0, thick_mm=1.2)
        for down in ((0.0, 0.0, -1.0), (1.0, 0.0, 0.0)):
            _, cavity = self.left(setting, down=down)
            axis = int(np.argmax(np.abs(down)))
            # A cut across ribs is the same at all heights; one along them is not.
            room = cavity.depth_mm > 0
            axes = (2 - axis, (3 - axis) % 3)
            spread = [
                np.ptp([np.count_nonzero(np.take(room, k, axis=one)) for k in (12, 17, 26, 33, 42)])
                for one in axes
            ]
            self.assertLess(spread[0], 10)
            self.assertGreater(spread[1], 200)


class BuildTest(unittest.TestCase):
    def test_they_begin_nowhere_in_mid_air(self):
        plain = find_cavity(BLOCK, HollowSetting(detail_mm=1.0))
        for kind, thick in ((Filling.RIBS, 2.0), (Filling.STRUTS, 3.0)):
            made = hollow_out(
                BLOCK, HollowSetting(detail_mm=1.0, filling=kind, apart_mm=16.0, thick_mm=thick)
            )
            solid = Solid.from_mesh(made.mesh)
            found = walk(made.mesh, slice_solid(solid, 0.5), spot_mm=0.15, resin=True, on_plate=True)
            self.assertEqual(found.islands, ())
            self.assertLess(made.cavity_mm3, 0.97 * plain.volume_mm3)

    def test_resin_runs_out_between_them(self):
        for kind in (Filling.RIBS, Filling.STRUTS):
            setting = HollowSetting(filling=kind, apart_mm=14.0, thick_mm=1.6)
            # Arms of ribs come to the walls here, and are made shorter: they would part the corners off.
            made = hollow_out(BLOCK, setting, proposed_mm=4.0)
            self.assertEqual(made.pockets, 1)
            self.assertEqual(made.sealed_mm3, 0.0)
            self.assertLess(made.standing_mm3, 0.005 * made.cavity_mm3)
            # One hole to drain and one for air do for all of it.
            self.assertEqual(len(made.drains), 2)


class PaintTest(unittest.TestCase):
    def test_behind_painted_places_it_stays_solid(self):
        fine = refined(BLOCK.mesh())
        top = fine.middles_mm[(fine.normals[:, 2] > 0.5) & (np.abs(fine.middles_mm[:, :2]).max(axis=1) < 8)]
        for behind in (6.0, 9.0):
            cavity = find_cavity(BLOCK, HollowSetting(behind_mm=behind), solid_at_mm=top)
            rays = np.array([[0.0, 0, -12], [5, 5, -12], [17, 17, -12]])
            up = np.tile([0.0, 0, 1], (3, 1))
            reach = -12 + hollow_tree(cavity).first_hits(rays, up)[0]
            np.testing.assert_allclose(reach[:2], 20 - behind, atol=0.35)
            self.assertAlmostEqual(reach[2], 18, delta=0.1)
            # The wall elsewhere is as asked, and told without what stays solid.
            self.assertAlmostEqual(cavity.wall.mean_mm, 2.03, delta=0.05)
            self.assertGreater(cavity.wall.least_mm, 1.95)

    def test_the_whole_surface_painted_leaves_no_hollow(self):
        fine = refined(BLOCK.mesh())
        with self.assertRaises(BadValue):
            find_cavity(BLOCK, HollowSetting(behind_mm=23.0), solid_at_mm=fine.middles_mm[::9])


class RefusedTest(unittest.TestCase):
    def test_nonsense(self):
        ribs = {"filling": Filling.RIBS}
        for asked in (
            {"thick_mm": 0.6, **ribs},
            {"thick_mm": 30.0, "apart_mm": 150.0, **ribs},
            {"apart_mm": 4.0, **ribs},
            {"apart_mm": 300.0, **ribs},
            {"width_mm": 8.0, "apart_mm": 12.0, **ribs},
            {"behind_mm": -1.0},
        ):
            with self.subTest(asked), self.assertRaises(BadValue):
                HollowSetting(**asked).checked()
        # Without ribs their sizes do not matter.
        HollowSetting(thick_mm=0.1).checked()


if __name__ == "__main__":
    unittest.main()
