"""What a technician would see go wrong, one by one: by closed forms and by what leaves, not by our own constants."""

import io
import math
import subprocess
import sys
import unittest
from dataclasses import replace

import numpy as np
import trimesh
from manifold3d import CrossSection, Manifold
from numpy.testing import assert_allclose

from tests.core.test_mending import dirty
from tests.open_meshes import wanted
from tests.support import box, mesh_of, tee
from upright_heron.core.formats.read import read
from upright_heron.core.formats.stl import read_stl
from upright_heron.core.geometry.mesh import facts
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.geometry.subdivision import refined
from upright_heron.core.handoff.stl import write_stl
from upright_heron.core.hanging.islands import find_islands
from upright_heron.core.hanging.overhang_regions import hanging_regions
from upright_heron.core.health.mend import mend
from upright_heron.core.health.patching import separated
from upright_heron.core.layers.peel import peel_curve
from upright_heron.core.layers.stack import pack, slice_solid
from upright_heron.core.machines.catalogue import MATERIALS, Peel, material, printer
from upright_heron.core.marking.channels import find_channels
from upright_heron.core.stance.figures import Setting
from upright_heron.core.stance.large_parts import slicer
from upright_heron.core.stance.search import MIXES, search
from upright_heron.core.toolpaths.rough_estimate import Amounts, estimate


def shear():
    """A body that is not its own mirror image along any axis: three arms of unlike lengths at a corner."""
    return box(4, 4, 4) + box(30, 2, 2) + box(2, 20, 2) + box(2, 2, 12)


class MirrorTest(unittest.TestCase):
    def test_a_mirrored_part_leaves_facing_outwards_along_every_axis(self):
        mesh = mesh_of(shear())
        volume = facts(mesh).volume_mm3
        for signs in np.array(np.meshgrid([1, -1], [1, -1], [1, -1])).T.reshape(-1, 3):
            with self.subTest(signs=signs.tolist()):
                sized = mesh.sized(tuple(float(s) for s in signs))
                back = trimesh.load(io.BytesIO(write_stl(sized)), file_type="stl")
                self.assertAlmostEqual(back.volume, volume, delta=1e-3 * volume)
                assert_allclose(np.abs(sized.bounds[[0, 1]]).max(axis=0), (30, 20, 12))


class HandednessTest(unittest.TestCase):
    def test_glb_keeps_right_and_left(self):
        # glTF 2.0, 3.4: right-handed, y up; z points to the front. A body of three unlike arms from the origin.
        body = mesh_of(shear())
        glb = trimesh.Trimesh(body.vertices / 1000.0, body.faces).export(file_type="glb")
        found = read(glb, "arms.glb").whole().mesh
        # Its x arm stays, its y arm points up, its z arm comes to the front, which is -y on a plate.
        assert_allclose(found.bounds[1], (30, 0, 20), atol=1e-3)
        assert_allclose(found.bounds[0], (0, -12, 0), atol=1e-3)
        self.assertGreater(facts(found).volume_mm3, 0)


class WrapTest(unittest.TestCase):
    @wanted
    def test_what_nothing_else_closes_is_wrapped(self):
        # A surface of another hand, torn and crossing itself, that neither patches nor cuts make closed.
        done = mend(dirty("ALSTOM_TEST4.off"))
        self.assertIn(("rewrap", True), [(way.step, way.kept) for way in done.ways])
        back = trimesh.load(io.BytesIO(write_stl(done.mesh)), file_type="stl")
        self.assertTrue(back.is_watertight)


class BridgeTest(unittest.TestCase):
    def hung(self, body):
        return hanging_regions(mesh_of(body), 45.0)

    def test_a_ceiling_that_is_held_along_three_fifths_of_its_ends_is_no_bridge(self):
        # A slab 20 x 50 between two walls that hold it along 30 of 50 mm: the rest hangs free at both ends.
        slab = box(28, 30, 3, (-4, 0, 20)) + box(20, 50, 3, (0, 0, 20))
        walls = box(4, 30, 20, (-4, 0, 0)) + box(4, 30, 20, (20, 0, 0))
        (region, *others) = sorted(self.hung(walls + slab), key=lambda r: -r.area_mm2)
        self.assertIsNone(region.bridge)
        self.assertEqual([r.bridge for r in others if r.area_mm2 > 20], [])
        whole = box(4, 50, 20, (-4, 0, 0)) + box(4, 50, 20, (20, 0, 0)) + box(28, 50, 3, (-4, 0, 20))
        (region,) = self.hung(whole)
        self.assertAlmostEqual(region.bridge.span_mm, 20, places=6)

    def test_an_arch_sags(self):
        # Its underside rises by 2 mm over a span of 20: past the limit everywhere, and held at both ends.
        arch = CrossSection(
            [[(-10, 0), (-5, 1.5), (0, 2.0), (5, 1.5), (10, 0), (14, 0), (14, 5), (-14, 5), (-14, 0)]]
        )
        body = arch.extrude(12).rotate((90, 0, 0)).translate((0, 6, 20))
        legs = box(4, 12, 20, (-14, -6, 0)) + box(4, 12, 20, (10, -6, 0))
        regions = [r for r in self.hung(body + legs) if r.area_mm2 > 100]
        self.assertEqual([r.bridge for r in regions], [None] * len(regions))
        self.assertGreaterEqual(len(regions), 1)


class CrossingWallsTest(unittest.TestCase):
    def test_a_thin_wall_across_another_is_no_island(self):
        # No corner and no inner point of one lies in the other: only their outlines cross.
        along, across = np.array([(-10, -0.2), (10, -0.2), (10, 0.2), (-10, 0.2)]), None
        across = along[:, ::-1][::-1] + (3.0, 4.0)
        for shift in ((0.0, 0.0), (-3.0, 0.0)):
            upper = across + shift
            stack = pack([[along], [upper]], [8.0, 8.0], 0.2, 0.0)
            self.assertEqual(find_islands(stack)[0], [])
        aside = pack([[along], [across + (0.0, 7.0)]], [8.0, 8.0], 0.2, 0.0)
        self.assertEqual(len(find_islands(aside)[0]), 1)


class ChannelTest(unittest.TestCase):
    def test_a_round_channel_is_as_long_as_it_was_bored(self):
        body = box(20, 20, 40) - Manifold.cylinder(40, 2, 2, 96).translate((10, 10, 0))
        (found,) = find_channels(refined(mesh_of(body)), 5.0)
        self.assertAlmostEqual(found.width_mm, 4, delta=0.1)
        self.assertAlmostEqual(found.length_mm, 40, delta=1.5)


class TimeTest(unittest.TestCase):
    def test_a_lifted_resin_part_waits_for_every_layer_below_it_too(self):
        machine, stuff = printer("Tarn 9"), material("Standard resin")
        from upright_heron.work.alone import Alone

        flat, lifted = (
            Alone(mesh_of(box(10, 10, 10)), "Tarn 9", item={"stance": {"lift_mm": lift}})
            .make("estimate")
            .seconds
            for lift in (0.0, 5.0)
        )
        # A hundred layers of 0.05 mm more, each exposed, lifted and lowered (2 x 6 mm at 2 mm/s).
        self.assertAlmostEqual(
            lifted - flat, 100 * (stuff.exposure_s + 2 * 6 / machine.speed_mm_s), delta=1e-6
        )

    def test_walls_printed_in_every_third_layer_take_a_third_of_the_way(self):
        machine, stuff = printer("Sedge 300"), material("PLA")
        usual = Amounts(1000.0, 600.0, 100, 0.2, support_mm3=900.0, support_share=1.0)
        every = replace(usual, thick_mm3=900.0, every=3)
        one, third = (estimate(machine, stuff, a, walls=2, infill=0.1) for a in (usual, every))
        without = estimate(machine, stuff, replace(usual, support_mm3=0.0), walls=2, infill=0.1)
        self.assertAlmostEqual(third.seconds - without.seconds, (one.seconds - without.seconds) / 3, places=6)
        self.assertEqual(third.support_g, one.support_g)


class TwinsTest(unittest.TestCase):
    def given(self):
        return Setting(printer("Sedge 300"), material("PLA"), 45.0, 0.5)

    def found(self, body):
        mesh, solid = mesh_of(body), Solid(body)
        return search(
            mesh, slicer(mesh, solid is not None, 0.5), self.given(), MIXES["filament"], directions=150
        )

    def test_proposals_differ_to_the_eye(self):
        for body in (tee(), Manifold.sphere(12, 64) ^ box(24, 24, 20, (-12, -12, -8))):
            downs = np.array([p.down for p in self.found(body).proposals])
            apart = np.degrees(np.arccos(np.clip(downs @ downs.T, -1, 1)))[np.triu_indices(len(downs), 1)]
            self.assertGreaterEqual(apart.min(initial=180), 15 - 1e-6)

    def test_the_faces_of_a_cube_are_one_proposal(self):
        self.assertEqual(len(self.found(box(20, 20, 20)).proposals), 1)
        # A slab lies, or stands on one of two unlike edges.
        self.assertEqual(len(self.found(box(40, 20, 5)).proposals), 3)


class PeelTest(unittest.TestCase):
    def test_materials_weigh_what_data_sheets_say(self):
        # g/cm3 by ISO 1183, as on typical data sheets (from memory); liquid resins are about a tenth above water.
        sheets = {"PLA": 1.24, "PETG": 1.27, "ABS": 1.04, "ASA": 1.07, "TPU": 1.21, "PA": 1.14}
        for one in MATERIALS:
            with self.subTest(one.name):
                self.assertAlmostEqual(one.density_g_cm3, sheets.get(one.name, 1.1), delta=0.03)

    def test_hard_resin_pulls_hardest(self):
        stack = slice_solid(Solid(box(20, 20, 1)), 0.05)
        easy, usual, hard = (
            float(peel_curve(stack, peel).max()) for peel in (Peel.EASY, Peel.USUAL, Peel.HARD)
        )
        self.assertLess(2 * easy, 1.01 * usual)
        self.assertLess(usual * 1.99, hard)
        self.assertEqual({m.name: m.peel for m in MATERIALS if m.peel is not Peel.USUAL},
                         {"Tough resin": Peel.HARD, "Castable resin": Peel.EASY})  # fmt: skip


class BodiesTest(unittest.TestCase):
    def test_the_largest_body_comes_first(self):
        bodies = separated(mesh_of(box(2, 2, 2) + box(9, 9, 9, (20, 0, 0)) + box(5, 5, 5, (40, 0, 0))))
        self.assertEqual([round(facts(b).volume_mm3) for b in bodies], [729, 125, 8])


class MemoryTest(unittest.TestCase):
    def test_looking_a_surface_over_takes_less_than_250_bytes_a_facet(self):
        # So that five million facets, with all that is read of their file, take less than 2 GB.
        script = """
import resource
import numpy as np
from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.health.defects import examine

def torus(n):
    u = np.linspace(0, 2 * np.pi, n, endpoint=False)
    a, b = np.meshgrid(u, u, indexing="ij")
    points = np.stack([(40 + 15 * np.cos(b)) * np.cos(a), (40 + 15 * np.cos(b)) * np.sin(a), 15 * np.sin(b)], -1)
    k = np.arange(n)
    i, j = np.meshgrid(k, k, indexing="ij")
    p, q, r, s = (((i + di) % n * n + (j + dj) % n).ravel() for di, dj in ((0, 0), (1, 0), (1, 1), (0, 1)))
    faces = np.concatenate([np.stack([p, q, r], 1), np.stack([p, r, s], 1)]).astype(np.int32)
    return Mesh(points.reshape(-1, 3).astype(np.float32).astype(float), faces)

examine(torus(20))
mesh = torus(600)
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
assert examine(mesh).verdict.sound
print((resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) * 1024 / len(mesh.faces))
"""
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
        self.assertLess(float(done.stdout), 250)


class FileTest(unittest.TestCase):
    def test_what_is_read_is_what_was_written(self):
        mesh = mesh_of(shear())
        assert_allclose(read_stl(write_stl(mesh)).mesh.bounds, mesh.bounds, atol=1e-6)
        self.assertTrue(math.isclose(facts(mesh).volume_mm3, 64 + 26 * 4 + 16 * 4 + 8 * 4, rel_tol=1e-6))


if __name__ == "__main__":
    unittest.main()
