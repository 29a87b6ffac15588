"""Footing areas after Steiner's formula for parallel bodies."""

import math
import unittest

from manifold3d import CrossSection

from tests.support import box, tee
from upright_heron.core.footing.footing import FootingKind, FootingSettings, filled, footprint, make_footing
from upright_heron.core.geometry.mesh import edges, facts
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.layers.stack import slice_solid


def rectangle(x, y, at=(0, 0)):
    return CrossSection.square((x, y)).translate(at)


def brim(section, width):
    settings = FootingSettings(FootingKind.BRIM, lines=10, line_width_mm=width / 10)
    return make_footing(section, settings, 0.2)


class BrimTest(unittest.TestCase):
    def test_steiner(self):
        triangle = CrossSection([[[0, 0], [40, 0], [0, 30]]])
        ell = rectangle(30, 10) + rectangle(10, 30)
        ring = CrossSection.circle(20, 720) - CrossSection.circle(10, 720)
        cases = {
            "rectangle": (rectangle(20, 30), 5, 500 + 25 * math.pi),
            "triangle": (triangle, 4, 480 + 16 * math.pi),
            "circle": (CrossSection.circle(10, 720), 5, math.pi * (225 - 100)),
            # Five convex corners and a concave one, which loses d^2.
            "L": (ell, 4, 480 + 20 * math.pi - 16),
            "ring, inside too": (ring, 5, math.pi * (625 - 400) + math.pi * (100 - 25)),
        }
        for name, (section, width, expected) in cases.items():
            with self.subTest(name):
                self.assertAlmostEqual(brim(section, width).area_mm2 / expected, 1, delta=1e-3)

    def test_touching_brims_are_one(self):
        # Inclusion-exclusion: two 10 mm squares 4 mm apart, brim 3: 470.3527 with the squares.
        found = brim(rectangle(10, 10) + rectangle(10, 10, (14, 0)), 3)
        self.assertAlmostEqual(found.area_mm2 / (470.3527 - 200), 1, delta=1e-3)


class SkirtTest(unittest.TestCase):
    def test_area_of_two_loops(self):
        # Centre lines 3.2 and 3.6 mm out: 2 P + 2 pi (3.2 + 3.6) = 242.73 mm, times the line width.
        settings = FootingSettings(FootingKind.SKIRT, lines=2, line_width_mm=0.4, distance_mm=3.0)
        found = make_footing(rectangle(20, 30), settings, 0.2)
        self.assertAlmostEqual(found.area_mm2 / (242.7257 * 0.4), 1, delta=1e-3)

    def test_only_round_the_outside(self):
        frame = rectangle(60, 60) - rectangle(40, 40, (10, 10))
        settings = FootingSettings(FootingKind.SKIRT, lines=1, line_width_mm=0.4)
        whole = make_footing(rectangle(60, 60), settings, 0.2)
        self.assertAlmostEqual(make_footing(frame, settings, 0.2).area_mm2, whole.area_mm2, delta=1e-6)


class RaftTest(unittest.TestCase):
    def test_slab(self):
        settings = FootingSettings(
            FootingKind.RAFT, margin_mm=5, raft_layers=3, gap_mm=0.25, base_layers=0, top_layers=3
        )
        found = make_footing(rectangle(20, 30), settings, 0.28)
        self.assertAlmostEqual(found.volume_mm3 / ((600 + 500 + 25 * math.pi) * 0.84), 1, delta=1e-3)
        self.assertAlmostEqual(found.raise_mm, 0.84 + 0.25)
        mesh = found.mesh()
        self.assertTrue(edges(mesh).closed)
        self.assertAlmostEqual(facts(mesh).volume_mm3, found.volume_mm3, delta=1e-3)


class FootprintTest(unittest.TestCase):
    def test_part_supports_and_lift(self):
        stack = slice_solid(Solid(tee()), 0.2)
        other = slice_solid(Solid(box(5, 5, 4, (20, 0, 0))), 0.2)
        self.assertAlmostEqual(footprint(stack, None, lifted=False).area(), 100, delta=1e-6)
        self.assertAlmostEqual(footprint(stack, other, lifted=False).area(), 125, delta=1e-6)
        self.assertAlmostEqual(footprint(stack, other, lifted=True).area(), 25, delta=1e-6)

    def test_none(self):
        found = make_footing(rectangle(5, 5), FootingSettings(), 0.2)
        self.assertEqual((found.volume_mm3, found.raise_mm, len(found.mesh().faces)), (0, 0, 0))

    def test_filled(self):
        self.assertAlmostEqual(filled(rectangle(9, 9) - rectangle(3, 3, (3, 3))).area(), 81)
