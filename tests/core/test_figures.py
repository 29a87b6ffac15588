"""Figures of a stance: statics, cups, peel and load, each by hand."""

import math
import unittest
from dataclasses import replace

import numpy as np
from manifold3d import Manifold

from tests.support import box, mesh_of, on_plate, sphere, tee
from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.hanging.cups import find_cups
from upright_heron.core.layers.peel import NEWTONS, peel_curve
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.machines.catalogue import Peel, material, printer
from upright_heron.core.stance.figures import MEANING, Base, Setting, figures
from upright_heron.core.stance.names import lean, name_of
from upright_heron.core.stance.pose import about_axis, along_x_deg, place
from upright_heron.core.stance.steadiness import steadiness

FILAMENT = Setting(printer("Sedge 300"), material("PLA"), 45.0, 0.2)
RESIN = Setting(printer("Tarn 9"), material("Standard resin"), 60.0, 0.1)


def figure(body, rotation=None, setting=FILAMENT):
    rotation = np.eye(3) if rotation is None else rotation
    mesh, solid = mesh_of(body), Solid(body)
    where = place(mesh, rotation, setting.lift_mm)
    stack = slice_solid(solid.transformed(where.rotation, where.offset_mm), setting.layer_mm)
    return figures(mesh, rotation, stack, setting)


class KeptClearTest(unittest.TestCase):
    def test_overhang_on_what_is_kept_clear(self):
        # The undersides of the bar of a tee, 30 x 10 in all, of which one side of 15 x 10 is kept clear.
        mesh = mesh_of(tee())
        middles = mesh.vertices[mesh.faces].mean(axis=1)
        below = (np.abs(middles[:, 2] - 20) < 1e-6) & (middles[:, 0] > 10)
        clear = Mesh(mesh.vertices, mesh.faces[below])
        base = Base.of(mesh, FILAMENT, clear=clear)

        def found(rotation, setting=FILAMENT):
            where = place(mesh, rotation, setting.lift_mm)
            stack = slice_solid(Solid.from_mesh(where.apply(mesh)), 0.5)
            return figures(mesh, rotation, stack, setting, base=base).clear_overhang_mm2

        self.assertAlmostEqual(found(np.eye(3)), 150, places=6)
        # Upside down nothing of it hangs; on its side neither.
        self.assertEqual(found(about_axis("x", 180.0)), 0)
        self.assertEqual(found(about_axis("x", 90.0)), 0)
        # What lies on the plate hangs once the part is lifted.
        lying = Base.of(mesh, FILAMENT, clear=Mesh(mesh.vertices, mesh.faces[middles[:, 2] < 1e-6]))
        for lift, area in ((0.0, 0.0), (5.0, 100.0)):
            given = replace(FILAMENT, lift_mm=lift)
            where = place(mesh, np.eye(3), lift)
            stack = slice_solid(Solid.from_mesh(where.apply(mesh)), 0.5)
            self.assertAlmostEqual(
                figures(mesh, np.eye(3), stack, given, base=lying).clear_overhang_mm2, area, places=6
            )


class StaticsTest(unittest.TestCase):
    def test_boxes_and_prisms_tip_at_the_angle_of_statics(self):
        # atan(half the width / height of the centre).
        tall = figure(box(20, 20, 100))
        self.assertAlmostEqual(tall.tip_angle_deg, 11.30993, places=4)
        self.assertAlmostEqual(tall.slenderness, 5, places=6)
        self.assertAlmostEqual(figure(Manifold.cylinder(40, 10, 0, 720)).tip_angle_deg, 45, delta=0.01)
        half = on_plate(sphere(10, 256)) ^ box(40, 40, 10, (-20, -20, 10))
        # 3/8 R up: atan(8/3).
        self.assertAlmostEqual(figure(half).tip_angle_deg, 69.444, delta=0.05)
        triangle = Manifold.cylinder(15, 20 / math.sqrt(3), 20 / math.sqrt(3), 3)
        self.assertAlmostEqual(
            figure(triangle).tip_angle_deg, math.degrees(math.atan(5.7735 / 7.5)), places=3
        )

    def test_what_is_not_over_its_foot_falls(self):
        inverted = box(10, 10, 10) + box(40, 10, 10, (0, 0, 10))
        found = figure(inverted)
        self.assertAlmostEqual(found.centre_mm[0], 17, places=4)
        self.assertEqual(found.tip_angle_deg, 0)
        self.assertTrue(math.isinf(figure(box(10, 10, 10), about_axis("x", 45.0)).slenderness))

    def test_a_lifted_part_lies_on_nothing(self):
        found = figure(tee(), setting=replace(FILAMENT, lift_mm=4.0))
        self.assertEqual((found.contact_area_mm2, found.tip_angle_deg), (0, 0))
        self.assertAlmostEqual(found.overhang_area_mm2, 400, places=4)
        self.assertAlmostEqual(found.height_mm, 29, places=4)


class SteadinessTest(unittest.TestCase):
    def test_by_statics(self):
        """Of a box: half its foot over half its height, and its height over its narrower side."""
        found = steadiness(mesh_of(box(10, 30, 40, (7, -3, 5))), closed=True)
        self.assertAlmostEqual(found.tip_deg, math.degrees(math.atan2(5, 20)), places=6)
        self.assertAlmostEqual(found.slenderness, 4.0, places=6)
        # What stands out above it is no foot, and draws the centre up and aside.
        body = box(10, 10, 30) + box(30, 10, 5, (0, 0, 30))
        volumes, xs, zs = (3000, 1500), (5, 15), (15, 32.5)
        x, z = (sum(v * c for v, c in zip(volumes, some, strict=True)) / 4500 for some in (xs, zs))
        found = steadiness(mesh_of(body), closed=True)
        self.assertAlmostEqual(found.tip_deg, math.degrees(math.atan2(10 - x, z)), places=4)
        self.assertAlmostEqual(found.slenderness, 3.5, places=6)
        # On an edge it does not stand at all; of an open one the middle of its box is taken.
        edge = mesh_of(box(10, 10, 10).rotate((45, 0, 0)))
        self.assertEqual(steadiness(edge, closed=True).tip_deg, 0.0)
        self.assertEqual(steadiness(edge, closed=True).slenderness, math.inf)
        opened = steadiness(mesh_of(body), closed=False)
        self.assertEqual(opened.tip_deg, 0.0)


class FiguresTest(unittest.TestCase):
    def test_every_figure_of_the_tee(self):
        found = figure(tee())
        self.assertAlmostEqual(found.overhang_area_mm2, 300, places=4)
        self.assertAlmostEqual(found.support_volume_mm3, 6000, delta=6)
        self.assertAlmostEqual(found.support_mass_g, 6 * 0.2 * 1.24, delta=0.01)
        self.assertAlmostEqual(found.touch_area_mm2, 300, places=4)
        self.assertAlmostEqual(found.contact_area_mm2, 100, places=4)
        self.assertEqual((found.layer_count, found.islands, found.fits), (125, 0, True))
        self.assertAlmostEqual(found.largest_layer.value, 400, places=4)
        self.assertAlmostEqual(found.largest_growth.z_mm, 20.1, places=6)
        self.assertAlmostEqual(found.flat_area_mm2, 300, places=4)
        self.assertEqual(set(MEANING) - set(type(found).__dataclass_fields__), set())

    def test_the_show_side_is_what_faces_it(self):
        under = figure(tee(), setting=replace(FILAMENT, show=(0, 0, -1)))
        self.assertAlmostEqual(under.touch_show_mm2, 300, places=4)
        side = figure(tee(), setting=replace(FILAMENT, show=(1, 0, 0)))
        self.assertEqual(side.touch_show_mm2, 0)

    def test_load_runs_along_the_layers_or_across_them(self):
        for load, angle in (((0, 0, -2), 90), ((3, 0, 0), 0), ((1, 0, 1), 45)):
            self.assertAlmostEqual(figure(tee(), setting=replace(FILAMENT, load=load)).load_angle_deg, angle)
        turned = figure(tee(), about_axis("x", 90.0), replace(FILAMENT, load=(0, 0, 1)))
        self.assertAlmostEqual(turned.load_angle_deg, 0, places=6)


class CupsTest(unittest.TestCase):
    CUP = Manifold.cylinder(27, 12, 12, 128) - Manifold.cylinder(25, 10, 10, 128)
    # pi r^2 h of the polygon with 128 corners.
    VOLUME = 0.5 * 128 * math.sin(2 * math.pi / 128) * 100 * 25

    def cups(self, body, setting=RESIN):
        return figure(body, setting=setting).cups

    def test_open_below_it_is_closed_by_the_plate_for_good(self):
        (cup,) = self.cups(self.CUP)
        self.assertAlmostEqual(cup.volume_mm3 / self.VOLUME, 1, delta=1e-3)
        self.assertTrue(cup.trapped)

    def test_open_above_it_is_closed_by_the_film_while_it_is_made(self):
        (cup,) = self.cups(self.CUP.rotate((180, 0, 0)).translate((0, 0, 27)))
        self.assertAlmostEqual(cup.volume_mm3 / self.VOLUME, 1, delta=1e-3)
        self.assertFalse(cup.trapped)

    def test_a_vent_in_the_roof_frees_it_in_the_end_and_one_at_the_plate_at_once(self):
        roof = self.cups(self.CUP - Manifold.cylinder(60, 1.5, 1.5, 64))
        self.assertEqual([cup.trapped for cup in roof], [False])
        side = Manifold.cylinder(60, 1.5, 1.5, 64, True).rotate((90, 0, 0)).translate((0, 0, 1))
        self.assertEqual(self.cups(self.CUP - side), ())

    def test_lifted_the_plate_closes_nothing(self):
        self.assertEqual(self.cups(self.CUP, replace(RESIN, lift_mm=5.0)), ())

    def test_a_closed_hollow_is_trapped_and_a_solid_part_has_none(self):
        hollow = sphere(20, 96) - sphere(18, 96)
        (cup,) = self.cups(on_plate(hollow))
        # The void of a hollow sphere: 4/3 pi r^3 = 24429 mm3.
        self.assertAlmostEqual(cup.volume_mm3 / 24429, 1, delta=0.01)
        self.assertTrue(cup.trapped)
        self.assertEqual(self.cups(tee()), ())

    def test_an_arch_closes_over_what_is_open_below(self):
        ring = box(30, 30, 20) - box(20, 20, 30, (5, 5, -5)) - box(40, 10, 10, (-5, 10, 0))
        stack = slice_solid(Solid(ring), 0.5)
        self.assertEqual(find_cups(stack), [])


class PeelTest(unittest.TestCase):
    def test_area_and_outline_of_a_box(self):
        stack = slice_solid(Solid(box(20, 10, 5)), 0.1)
        for peel in Peel:
            by_area, by_edge = NEWTONS[peel]
            np.testing.assert_allclose(peel_curve(stack, peel), 200 * by_area + 60 * by_edge, rtol=1e-6)


class NamesTest(unittest.TestCase):
    def test_what_is_down_and_where_it_leans(self):
        for rotation, name in (
            (np.eye(3), "as it came"),
            (about_axis("x", 180.0), "upside down"),
            (about_axis("x", 90.0), "on its front"),
            (about_axis("x", -90.0), "on its back"),
            (about_axis("y", 90.0), "on its right side"),
            (about_axis("y", -90.0), "on its left side"),
            (lean(np.eye(3), 15, 180), "as it came, leaning 15° left"),
            (lean(about_axis("x", 180.0), 20, 45), "upside down, leaning 20° back right"),
        ):
            self.assertEqual(name_of(rotation), name)

    def test_longest_side_along_x(self):
        for swing in (0, 20, 90, 135, -33):
            turned = mesh_of(box(40, 10, 5)).vertices @ about_axis("z", float(swing)).T
            laid = turned @ about_axis("z", along_x_deg(turned)).T
            np.testing.assert_allclose(np.ptp(laid, axis=0)[:2], (40, 10), atol=1e-6)


if __name__ == "__main__":
    unittest.main()
