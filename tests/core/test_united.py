"""What is printed in each level, united and checked only where something changed: the same as all at once."""

import unittest

import numpy as np
import shapely
from manifold3d import CrossSection, FillRule
from shapely.ops import unary_union

from tests.support import box
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.layers.closed_slicer import cut_layers
from upright_heron.core.layers.stack import pack, slice_solid
from upright_heron.core.supports.checks.verify import verify
from upright_heron.core.supports.model import Branches, Column, Slab, SupportSettings
from upright_heron.core.supports.outlines import Known, branch_rings, level_outlines
from upright_heron.core.supports.support_set import SupportSet
from upright_heron.demo.shapes import SHAPES
from upright_heron.work.alone import Alone

USUAL = SupportSettings()


def ring(x0, y0, x1, y1):
    return np.array([(x0, y0), (x1, y0), (x1, y1), (x0, y1)], float)


def column(name, *slabs):
    made = tuple(Slab(low, high, tuple(rings)) for low, high, rings in slabs)
    return Column(name, "a test", (0.0, 0.0, 1.0), False, 1.0, made)


def post(name, x, y, top, radius=1.0, at_top=None):
    u, v = at_top or (x, y)
    nodes = np.array([(u, v, top, radius), (x, y, 0.0, radius)], float)
    return Branches(name, "a test", (u, v, top), False, 1.0, nodes, np.array([1, -1]))


def by_shapely(supports, level, h):
    shapes = []
    for support in supports:
        if isinstance(support, Branches):
            rings = branch_rings(support, 200, h, USUAL).get(level, [])
        else:
            middle = (level + 0.5) * h
            rings = [r for s in support.slabs if s.low_mm < middle < s.high_mm for r in s.rings]
        section = CrossSection(rings, FillRule.NonZero)
        polygons = [shapely.Polygon(r) for r in section.to_polygons()]
        shapes.append(unary_union([p for p in polygons if p.exterior.is_ccw])
                      - unary_union([p for p in polygons if not p.exterior.is_ccw]))  # fmt: skip
    return unary_union(shapes).area


class UnitedTest(unittest.TestCase):
    """A frame, two columns that overlap, and posts: inside the frame, through its wall, and aside."""

    def setUp(self):
        frame = [ring(0, 0, 40, 40), ring(2, 2, 38, 38)[::-1]]
        self.supports = [
            column("frame", (0, 8, frame), (8, 12, [ring(0, 0, 40, 2)])),
            column("a", (0, 6, [ring(50, 0, 54, 4)]), (6, 12, [ring(50, 0, 58, 4)])),
            column("b", (0, 12, [ring(56, 0, 60, 4)])),
            post("inside", 20, 20, 12),
            post("wall", 1, 20, 12),
            post("leans", 30, 30, 12, at_top=(39, 30)),
            post("aside", 80, 20, 12),
        ]

    def test_areas_are_those_of_all_shapes_together(self):
        rings, areas = level_outlines(self.supports, 60, 0.2, USUAL)
        for level in range(60):
            self.assertAlmostEqual(areas[level], by_shapely(self.supports, level, 0.2), 4, level)
            drawn = CrossSection(rings[level], FillRule.NonZero)
            self.assertAlmostEqual(drawn.area(), areas[level], 6)
            # No ring lies over another: each counts once.
            signed = sum(0.5 * (r[:, 0] @ np.roll(r[:, 1], -1) - np.roll(r[:, 0], -1) @ r[:, 1])
                         for r in rings[level])  # fmt: skip
            self.assertAlmostEqual(signed, areas[level], 6)

    def test_what_was_united_before_is_not_taken_for_something_else(self):
        known = Known()
        level_outlines(self.supports, 60, 0.2, USUAL, known=known)
        for left in (
            self.supports[1:],
            self.supports[:4],
            [*self.supports[:3], post("new", 20, 20, 12, 2.0)],
        ):
            again = level_outlines(left, 60, 0.2, USUAL, known=known)
            fresh = level_outlines(left, 60, 0.2, USUAL)
            np.testing.assert_allclose(again[1], fresh[1])

    def test_a_needle_is_not_drawn_but_a_thin_line_and_a_small_hole_are(self):
        needle = np.array([(-220, 0), (-220, 0.4), (-220.0001, 0.2)], float)
        line, frame = ring(-200, 0, -199.6, 3), [ring(-210, 0, -206, 4), ring(-209, 1, -208.7, 1.3)[::-1]]
        rings, areas = level_outlines(
            [column("needle", (0, 1, [needle])), column("line", (0, 1, [line])), column("frame", (0, 1, frame))],
            5, 0.2, USUAL,
        )  # fmt: skip
        for level in range(5):
            self.assertEqual(len(rings[level]), 3)
            self.assertAlmostEqual(areas[level], 1.2 + 16 - 0.09, 6)


class CheckTest(unittest.TestCase):
    """Upright supports in a part that changes round them."""

    def faults(self, body, rings, high, clear=None):
        stack = slice_solid(Solid(body), 0.2)
        levels = round(high / 0.2)
        area = CrossSection(rings, FillRule.NonZero).area()
        layers = pack([rings] * levels, [area] * levels, 0.2, 0.0)
        made = SupportSet((), layers, 0.0, ())
        return [(f.kind.value, round(f.at_mm[2], 1)) for f in verify(stack, [], made, USUAL, clear=clear)]

    def test_a_ceiling_far_from_any_edge(self):
        body = box(60, 60, 20) - box(50, 50, 10, (5, 5, 0))
        self.assertEqual(self.faults(body, [ring(28, 28, 32, 32)], 10), [])
        self.assertEqual(self.faults(body, [ring(28, 28, 32, 32)], 14), [("crosses the part", 10.1)])

    def test_told_once_where_it_begins_and_again_where_it_begins_again(self):
        body = box(60, 60, 4, (0, 0, 6)) + box(60, 60, 4, (0, 0, 14)) + box(4, 60, 18)
        found = self.faults(body, [ring(28, 28, 32, 32), ring(50, 50, 52, 52)], 18)
        self.assertEqual(found, [("crosses the part", 6.1)] * 2 + [("crosses the part", 14.1)] * 2)

    def test_what_is_kept_clear_for_a_while(self):
        body = box(4, 60, 18)
        plan = CrossSection([ring(20, 20, 40, 40)])
        clear = [plan if 20 <= level < 30 else None for level in range(90)]
        self.assertEqual(self.faults(body, [ring(28, 28, 32, 32)], 18, clear), [("too near", 4.1)])


class WalkedTest(unittest.TestCase):
    """Layers by walking where nothing crosses, by the solid where something does: the same either way."""

    def test_layers_of_the_application(self):
        for name in ("telescope-bracket", "heron-figurine"):
            alone = Alone(SHAPES[name](), job={"layer_mm": 0.5})
            crossed = bool(len(alone.make("crossings")))
            # The heron has bodies that pass through each other.
            self.assertEqual(crossed, name == "heron-figurine")
            found = alone.make("layers")
            solid = slice_solid(Solid.from_mesh(alone.make("placed_mesh")), 0.5)
            np.testing.assert_allclose(found.area_mm2, solid.area_mm2, rtol=1e-7, atol=1e-4)
            self.assertEqual(found.base_mm, solid.base_mm)

    def test_of_equal_layers_the_lowest_is_the_largest(self):
        body = box(10, 10, 20, (15, 0, 0)) + box(40, 10, 10, (0, 0, 20))
        mesh = Solid(body).mesh()
        found = cut_layers(mesh, Solid.from_mesh(mesh), 0.2, crossed=False)
        self.assertEqual((found.largest, slice_solid(Solid(body), 0.2).largest), (100, 100))

    def test_a_lifted_part_keeps_its_height_and_place(self):
        mesh = Solid(box(10, 20, 5, (3, -4, 7))).mesh()
        found = cut_layers(mesh, Solid.from_mesh(mesh), 0.5, crossed=False)
        self.assertEqual((found.base_mm, len(found)), (7.0, 10))
        np.testing.assert_allclose(found.points.min(axis=0), (3, -4))
        np.testing.assert_allclose(found.area_mm2, 200)


if __name__ == "__main__":
    unittest.main()
