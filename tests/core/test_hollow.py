"""Hollow parts: the wall that stays, holes, and what runs out of them, against closed forms."""

import io
import math
import unittest
from dataclasses import replace

import numpy as np
import trimesh
from manifold3d import CrossSection, Manifold
from scipy.ndimage import distance_transform_edt

from tests.support import box
from tests.work.kept_parts import cup
from upright_heron.core.errors import BadValue
from upright_heron.core.geometry.mesh import facts
from upright_heron.core.geometry.solid import Solid, concatenated
from upright_heron.core.geometry.tree import Tree
from upright_heron.core.handoff.stl import write_stl
from upright_heron.core.hollow.cavity import HollowSetting, find_cavity, shelled
from upright_heron.core.hollow.depths import depths, inside, lattice_of
from upright_heron.core.hollow.filling import Filling
from upright_heron.core.hollow.hollowed import Hole, hollow_out, hollow_tree
from upright_heron.core.hollow.plugs import plug
from upright_heron.core.hollow.sweeps import squared_steps
from upright_heron.core.hollow.trapped import Basin

USUAL = HollowSetting()
SPHERE = Manifold.sphere(20, 160)
DOWN = np.array([0.0, 0.0, -1.0])


def read_back(mesh):
    return trimesh.load(io.BytesIO(write_stl(mesh)), file_type="stl")


class WallTest(unittest.TestCase):
    """The hollow keeps the wall that was asked for, everywhere."""

    def assert_wall(self, cavity, wall=2.0):
        self.assertGreater(cavity.wall.least_mm, 0.95 * wall)
        self.assertAlmostEqual(cavity.wall.mean_mm, wall, delta=0.1)

    def test_bodies_by_closed_form(self):
        # A sphere and a box (hollow volumes by the usual formulae), and a torus, 2 pi^2 R r^2.
        ring = Manifold.revolve(CrossSection.circle(10, 96).translate((30, 0)), 160)
        for body, told in (
            (SPHERE, 4 / 3 * np.pi * 18**3),
            (box(40, 30, 20), 36.0 * 26 * 16),
            (ring, 2 * np.pi**2 * 30 * 8**2),
        ):
            cavity = find_cavity(Solid(body), USUAL)
            self.assertAlmostEqual(cavity.volume_mm3 / told, 1.0, delta=0.01)
            self.assertEqual(len(cavity.pockets), 1)
            self.assert_wall(cavity)
            self.assertLess(cavity.volume_mm3, told)

    def test_the_wall_measured_by_another_library(self):
        # Not a body of flat sides along the axes: all that is told of the wall is measured anew.
        body = (box(40, 30, 24) + Manifold.cylinder(40, 12, 6, 40).translate((14, 12, 0))).rotate(
            (20, 35, 10)
        )
        cavity = find_cavity(Solid(body), USUAL)
        surface = Solid(body).mesh()
        outer = trimesh.Trimesh(surface.vertices, surface.faces, process=False)
        inner = Solid(cavity.pockets[0]).mesh()
        some = inner.vertices[:: len(inner.vertices) // 400]
        _, away, _ = trimesh.proximity.closest_point_naive(outer, some)
        self.assertGreater(away.min(), cavity.wall.least_mm - 1e-6)
        self.assertGreater(away.min(), 1.9)
        self.assertLess(away.max(), 2.6)
        self.assertAlmostEqual(away.mean(), 2.0, delta=0.06)
        place = np.array([cavity.wall.at_mm])
        _, (least,), _ = trimesh.proximity.closest_point_naive(outer, place)
        self.assertAlmostEqual(least, cavity.wall.least_mm, 5)

    def test_a_slot_finer_than_the_lattice_keeps_its_walls_too(self):
        slot = box(0.1, 30, 12, (19.83, -1, 10))
        body = box(40, 28, 22) - slot
        cavity = find_cavity(Solid(body), USUAL)
        self.assert_wall(cavity)
        self.assertTrue(all((one ^ slot).volume() == 0 for one in cavity.pockets))
        # Under the slot both halves are one room still.
        self.assertEqual(len(cavity.pockets), 1)

    def test_shells_that_cross_have_no_wall_within(self):
        two = concatenated([Solid(box(30, 30, 30)).mesh(), Solid(box(30, 30, 30, (15, 3, 4))).mesh()])
        apart = find_cavity(Solid.from_mesh(two), USUAL)
        united = find_cavity(Solid(box(30, 30, 30) + box(30, 30, 30, (15, 3, 4))), USUAL)
        self.assertAlmostEqual(apart.volume_mm3, united.volume_mm3, delta=2)
        self.assert_wall(apart)

    def test_a_hollow_that_was_there_keeps_its_wall(self):
        body = box(50, 50, 50) - box(10, 10, 10, (20, 20, 20))
        cavity = find_cavity(Solid(body), USUAL)
        self.assert_wall(cavity)
        # 46^3 less a rounded cube of 14: Steiner's formula for an offset.
        core = 10**3 + 6 * 100 * 2 + np.pi * 30 * 4 + 4 / 3 * np.pi * 8
        self.assertAlmostEqual(cavity.volume_mm3 / (46**3 - core), 1.0, delta=0.01)
        self.assertAlmostEqual(shelled(cavity).volume(), body.volume() - cavity.volume_mm3, 3)

    def test_what_is_too_narrow_or_too_small_stays_solid(self):
        # Plates of 5 and 7 mm: rooms of 1 and 3 mm.
        plates = box(40, 40, 5) + box(40, 40, 7, (0, 0, 4)).translate((0, 0, 20)) + box(4, 40, 24, (0, 0, 3))
        wide = find_cavity(Solid(plates), USUAL)
        narrow = find_cavity(Solid(plates), replace(USUAL, width_mm=0.5, detail_mm=0.25))
        self.assertEqual((len(wide.pockets), len(narrow.pockets)), (1, 2))
        self.assertAlmostEqual(wide.volume_mm3, 36 * 36 * 3, delta=120)
        self.assertAlmostEqual(narrow.volume_mm3, 36 * 36 * 4, delta=160)
        two = box(30, 30, 30) + box(9, 9, 9, (40, 0, 0)) + box(12, 3, 3, (29, 2, 2))
        self.assertEqual(len(find_cavity(Solid(two), USUAL).pockets), 2)
        self.assertEqual(len(find_cavity(Solid(two), replace(USUAL, pocket_mm3=200.0)).pockets), 1)
        for setting in (replace(USUAL, wall_mm=16, detail_mm=0.5), replace(USUAL, pocket_mm3=1e6)):
            with self.assertRaises(BadValue):
                find_cavity(Solid(box(30, 30, 30)), setting)

    def test_nonsense_is_refused(self):
        for wrong in (
            {"wall_mm": 0.1}, {"wall_mm": 1000.0}, {"wall_mm": float("nan")}, {"detail_mm": 1.5},
            {"detail_mm": 0.0}, {"pocket_mm3": -1.0}, {"width_mm": -1.0},
        ):  # fmt: skip
            with self.subTest(wrong), self.assertRaises(BadValue):
                replace(USUAL, **wrong).checked()


class LatticeTest(unittest.TestCase):
    def test_depths_are_those_of_the_library(self):
        body = SPHERE.rotate((10, 20, 0))
        tree = Tree.of(Solid(body).mesh())
        lattice, shape = lattice_of(Solid(body).bounds, 1.1)
        within = inside(Solid(body), lattice, shape)
        nodes = np.argwhere(within)
        deep = depths(within, lattice, tree, 6.0)
        told = deep[tuple(nodes.T)]
        exact = tree.distances(lattice.at(nodes))
        near = exact < 6.0
        self.assertGreater(near.sum(), 1000)
        # To a facet always; seldom to one beside the nearest.
        self.assertGreater((told - exact)[near].min(), -1e-3)
        self.assertLess((told - exact)[near].max(), 0.1 * lattice.step_mm)
        self.assertTrue((told[~near] >= 6.0 - 1e-3).all())
        self.assertTrue((deep[~within] == 0).all())
        # Middles of nodes lie inside by the winding number as well.
        at = lattice.at(np.argwhere(np.ones(shape, bool)))
        np.testing.assert_array_equal(tree.winding(at) > 0.5, within.ravel())

    def test_steps_to_the_nearest_are_those_of_scipy(self):
        rng = np.random.default_rng(3)
        for share in (0.4, 0.02, 0.0005):
            core = rng.random((19, 30, 41)) < share
            core[5, 6, 7] = True
            np.testing.assert_allclose(squared_steps(core), distance_transform_edt(~core) ** 2, atol=1e-6)
        self.assertTrue(np.isinf(squared_steps(np.zeros((3, 4, 5), bool))).all())

    def test_so_large_a_part_gets_a_coarser_lattice(self):
        lattice, shape = lattice_of(np.array([[0, 0, 0], [900, 600, 500.0]]), 0.5)
        self.assertLess(np.prod(shape), 26_000_000)
        self.assertGreater(lattice.step_mm, 2.0)
        self.assertTrue((lattice.low_mm < 0).all())
        # Too coarse for the wall that is promised: refused, and nothing is guessed.
        with self.assertRaisesRegex(BadValue, "so large"):
            find_cavity(Solid(box(900, 600, 500)), USUAL)


class PlugTest(unittest.TestCase):
    def test_it_fills_its_hole_but_for_the_clearance(self):
        # Along a slant, 5 mm wide and narrowing to 4 over 3 mm.
        outer, inner = (1.0, 2.0, 0.0), (1.0, 2.0 + 3 * math.sin(0.5), 3 * math.cos(0.5))
        made = plug(outer, inner, 5.0, 4.0, 0.1)
        self.assertTrue(facts(made).closed)
        (x0, _, z0), (x1, _, z1) = made.bounds
        self.assertAlmostEqual(z0, 0.0)
        self.assertAlmostEqual(z1, 3.0, places=9)
        self.assertAlmostEqual(x1 - x0, 4.8, delta=0.02)
        cone = math.pi * 3.0 / 3 * (2.4**2 + 2.4 * 1.9 + 1.9**2)
        # Less the bevel: a ring of 0.4 by 0.4 mm, half of it away.
        self.assertAlmostEqual(facts(made).volume_mm3 / (cone - math.pi * 1.9 * 0.4**2), 1, delta=0.02)
        # Nothing of it lies outside the hole, and the wide end is below, as it is printed.
        hole = Manifold.cylinder(3, 2.5, 2.0, 256)
        body = Solid.from_mesh(made).manifold
        self.assertAlmostEqual(float((body - hole).volume()), 0, delta=1e-6)
        self.assertGreater(float(body.slice(0.05).area()), float(body.slice(2.5).area()))
        # Its end is bevelled by 0.4 mm, for it is pushed in that way.
        self.assertAlmostEqual(float(body.slice(2.9999).area()) / (math.pi * 1.5**2), 1, delta=0.01)

    def test_too_thin_a_plug_is_refused(self):
        with self.assertRaisesRegex(BadValue, "too thin"):
            plug((0, 0, 0), (0, 0, 2), 1.0, 1.0, 0.15)


class DrainTest(unittest.TestCase):
    """What stays in, and holes that let it out."""

    def test_a_sealed_sphere_and_its_holes(self):
        solid = Solid(SPHERE)
        sealed = hollow_out(solid, USUAL)
        self.assertEqual((sealed.drains, sealed.pockets), ((), 1))
        for told in (sealed.sealed_mm3, sealed.standing_mm3, sealed.hanging_mm3):
            self.assertAlmostEqual(told, sealed.cavity_mm3, delta=1)
        self.assertEqual(len(read_back(sealed.mesh).split()), 2)
        drained = hollow_out(solid, USUAL, proposed_mm=3.0)
        low, high = drained.drains
        np.testing.assert_allclose(low.at_mm, (0, 0, -20), atol=0.05)
        np.testing.assert_allclose(low.inner_mm, (0, 0, -18), atol=0.05)
        np.testing.assert_allclose(high.at_mm, (0, 0, 20), atol=0.05)
        self.assertEqual((low.vent, high.vent), (False, True))
        self.assertEqual((drained.sealed_mm3, drained.standing_mm3, drained.hanging_mm3), (0, 0, 0))
        back = read_back(drained.mesh)
        self.assertTrue(back.is_watertight and back.is_winding_consistent)
        self.assertEqual(len(back.split()), 1)
        # Two holes through: a handle, and what two cylinders of the wall take away.
        self.assertEqual(back.euler_number, 0)
        self.assertAlmostEqual(read_back(sealed.mesh).volume - back.volume, 2 * np.pi * 1.5**2 * 2, delta=0.6)

    def test_what_is_proposed_never_refuses_the_hollow(self):
        """Ribs leave corners in it that a way back from the surface just misses."""
        setting = HollowSetting(1.2, 0.5, 5.0, 1.5, Filling.RIBS, 6.0, 1.5, 3.0).checked()
        found = hollow_out(Solid(cup()), setting, proposed_mm=1.5, down=(0.2, 0.1, -0.97))
        self.assertGreaterEqual(len(found.drains), 2)
        self.assertTrue(any(one.vent for one in found.drains))
        self.assertLess(found.standing_mm3, 0.02 * found.cavity_mm3)
        with self.assertRaisesRegex(BadValue, "wide"):
            hollow_out(Solid(cup()), setting, proposed_mm=0.01)

    def test_a_hole_with_no_hollow_behind_it_is_refused_with_its_place(self):
        club = SPHERE + box(70, 6, 6, (0, -3, -3))
        setting = HollowSetting(2.0, 1.0, 50.0, 8.0).checked()
        with self.assertRaisesRegex(BadValue, r"no hollow behind 60\.0, 0\.0, 3\.0"):
            hollow_out(Solid(club), setting, [Hole((60.0, 0.0, 3.0), 2.0)])
        self.assertEqual(len(hollow_out(Solid(club), setting, [Hole((0.0, 0.0, 20.0), 2.0)]).drains), 1)

    def test_below_a_hole_in_the_side_it_stays(self):
        # Up to the lower side of the mouth: a cap of a sphere of 18 mm that is 16.5 mm high.
        told = np.pi * 16.5**2 * (3 * 18 - 16.5) / 3
        found = hollow_out(Solid(SPHERE), USUAL, [Hole((20, 0, 0), 3.0)])
        self.assertAlmostEqual(found.standing_mm3 / told, 1.0, delta=0.02)
        self.assertAlmostEqual(found.hanging_mm3 / told, 1.0, delta=0.02)
        self.assertEqual(found.sealed_mm3, 0)
        # Turned so that the hole is below nothing stays.
        turned = hollow_out(Solid(SPHERE), USUAL, [Hole((20, 0, 0), 3.0)], down=(1, 0, 0))
        self.assertEqual(turned.standing_mm3, 0)
        self.assertGreater(turned.hanging_mm3, 0.98 * turned.cavity_mm3)

    def test_a_tank_with_a_wall_in_it(self):
        # Two rooms that are joined over a wall up to 12 mm under the ceiling; the hole drains one of them.
        body = box(64, 30, 30) - box(4, 30, 16, (30, 0, -1))
        solid = Solid(body)
        found = hollow_out(solid, USUAL, [Hole((10, 15, 0), 3.0)])
        # The wall: 15 mm of slot and 2 mm of wall over it; the other room is 26 mm long and wide.
        told = 26 * 26 * (15 + 2 - 2)
        self.assertAlmostEqual(found.standing_mm3 / told, 1.0, delta=0.03)
        basin = Basin(find_cavity(solid, USUAL))
        left = basin.trapped(found.drains, DOWN)
        self.assertAlmostEqual(left.pool_mm3, left.volume_mm3, 6)
        self.assertGreater(left.lowest_mm[0], 34)
        self.assertAlmostEqual(left.lowest_mm[2], 2.3, delta=0.4)
        # Holes that are proposed: one in each room, and air.
        proposed = hollow_out(solid, USUAL, proposed_mm=3.0)
        self.assertEqual(sorted(one.vent for one in proposed.drains), [False, False, True])
        self.assertEqual(proposed.standing_mm3, 0)
        x = sorted(one.at_mm[0] for one in proposed.drains if not one.vent)
        self.assertLess(x[0], 30)
        self.assertGreater(x[1], 34)
        # One that is there already is not put twice.
        again = hollow_out(solid, USUAL, [Hole((x[0], 15, 0), 3.0)], proposed_mm=3.0)
        self.assertEqual(sum(not one.vent for one in again.drains), 2)

    def test_pointed_holes_go_square_to_the_surface_and_through(self):
        body = box(60, 30, 20).rotate((0, 25, 0))
        solid = Solid(body)
        corner = np.array(body.bounding_box())
        plain = hollow_out(solid, USUAL)
        up = np.array([np.sin(np.radians(25)), 0, np.cos(np.radians(25))])
        top = 30 * np.array([up[2], 0, -up[0]]) + [0, 15, 0] + 20 * up
        self.assertGreater(top[2], corner[2])
        for taper, removed in ((0.0, np.pi * 4 * 2), (20.0, None)):
            hole = Hole(tuple(top), 4.0, taper)
            found = hollow_out(solid, USUAL, [hole])
            (one,) = found.drains
            np.testing.assert_allclose(np.subtract(one.at_mm, one.inner_mm) / 2.0, up, atol=0.03)
            took = Solid.from_mesh(plain.mesh).volume_mm3 - Solid.from_mesh(found.mesh).volume_mm3
            deep = np.linalg.norm(np.subtract(one.at_mm, one.inner_mm))
            self.assertAlmostEqual(deep, 2.0, delta=0.04)
            narrow = 2 - deep * np.tan(np.radians(taper))
            cone = np.pi * deep * (4 + 2 * narrow + narrow**2) / 3
            self.assertAlmostEqual(took / (removed or cone), 1.0, delta=0.02)
            self.assertAlmostEqual(one.inner_diameter_mm, 2 * narrow, 2)
            self.assertTrue(read_back(found.mesh).is_watertight)

    def test_pointed_holes_go_straight_up_or_down_where_asked(self):
        aslant = 20 * np.array([np.sin(0.7), 0, -np.cos(0.7)])
        for down in (DOWN, -DOWN):
            for at in (aslant, aslant * [1, 1, -1]):
                hole = Hole(tuple(at), 3.0, upright=True)
                made = hollow_out(Solid(SPHERE), USUAL, [hole], down=tuple(down))
                (one,) = made.drains
                np.testing.assert_allclose(one.inner_mm[:2], at[:2], atol=1e-6)
                # Through a wall of 2 mm that lies aslant.
                deep = abs(at[2]) - np.sqrt(18**2 - at[0] ** 2)
                self.assertAlmostEqual(abs(one.inner_mm[2] - at[2]), deep, delta=0.1)
                self.assertEqual(made.sealed_mm3, 0.0)
        with self.assertRaises(BadValue):
            hollow_out(Solid(SPHERE), USUAL, [Hole((20.0, 0.0, 0.0), 3.0, upright=True)])

    def test_a_hole_comes_out_all_round_where_the_wall_is_bent(self):
        # Wide holes in a narrow tube: the wall under their rim is further than under their middle.
        tube = Manifold.cylinder(40, 8, 8, 96)
        found = hollow_out(Solid(tube), USUAL, [Hole((8 * np.cos(np.pi / 96), 0, 20), 6.0)])
        back = read_back(found.mesh)
        self.assertEqual((len(back.split()), back.euler_number), (1, 2))
        # Along the hole nothing is left in its way.
        ray = np.array([[12, y, z] for y, z in ((0, 20), (2.7, 20), (-2.7, 20), (0, 22.7))], float)
        hits, _ = Tree.of(found.mesh).first_hits(ray, np.tile([-1.0, 0, 0], (4, 1)))
        self.assertTrue((hits > 12).all(), hits)
        # And the far wall is whole.
        self.assertTrue((hits < 20).all(), hits)

    def test_nonsense_is_refused(self):
        solid = Solid(box(40, 30, 20))
        for hole in (
            Hole((20, 15, 30), 3.0), Hole((0.5, 0.5, 0), 3.0), Hole((20, 15, 0), 0.1), Hole((20, 15, 0), 3.0, 80.0),
        ):  # fmt: skip
            with self.subTest(hole), self.assertRaises(BadValue):
                hollow_out(solid, USUAL, [hole])

    def test_the_tree_of_a_hollow_has_all_its_pockets(self):
        two = find_cavity(
            Solid(box(20, 20, 20) + box(20, 20, 20, (30, 0, 0)) + box(12, 3, 3, (19, 2, 2))), USUAL
        )
        self.assertEqual(len(two.pockets), 2)
        facets = sum(len(Solid(one).mesh().faces) for one in two.pockets)
        self.assertEqual(len(hollow_tree(two).corners), facets)
