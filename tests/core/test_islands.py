"""Islands on shapes with known counts."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import Manifold, OpType
from shapely import unary_union
from shapely.geometry import MultiPolygon, Polygon

from tests.support import box, comb, on_plate, portal, sphere, stalactites, tee, torus
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.hanging.islands import find_islands
from upright_heron.core.layers.layer_components import bodies, links, pieces
from upright_heron.core.layers.stack import pack, slice_solid


def islands(body, layer=0.2, **options):
    return find_islands(slice_solid(Solid(body), layer), **options)[0]


class KnownCountsTest(unittest.TestCase):
    def test_comb(self):
        found = islands(comb())
        self.assertEqual([i.layer for i in found], [25, 50])
        np.testing.assert_allclose([i.z_mm for i in found], [5.0, 10.0])
        np.testing.assert_allclose([i.area_mm2 for i in found], [25.0, 25.0], rtol=1e-9)
        self.assertTrue(20 < found[0].x_mm < 25 and 0 < found[0].y_mm < 5)

    def test_table_with_five_legs(self):
        starts = (0, 3, 7, 11, 15.1)
        legs = [box(4, 4, 30 - z, (12 * k, 0, z)) for k, z in enumerate(starts)]
        found = islands(Manifold.batch_boolean([*legs, box(60, 4, 3, (0, 0, 30))], OpType.Add))
        self.assertEqual([i.layer for i in found[:3]], [15, 35, 55])
        # The last leg begins exactly at the middle of layer 75: either neighbour is right.
        self.assertIn(found[3].layer, (75, 76))
        self.assertEqual(len(found), 4)

    def test_stalactites(self):
        found = islands(stalactites())
        self.assertEqual(len(found), 16)
        self.assertEqual(len({i.layer for i in found}), 1)
        self.assertEqual([i.number for i in found], list(range(1, 17)))

    def test_none(self):
        for name, body in {
            "T": tee(),
            "doorway": portal(),
            "hollow sphere": sphere(10, 64) - sphere(8, 64),
        }.items():
            with self.subTest(name):
                self.assertEqual(islands(on_plate(body)), [])

    def test_interlocked_rings(self):
        upright = torus(20, 5, 96).rotate((90, 0, 0)).translate((20, 0, 0))
        self.assertEqual(len(islands(on_plate(Manifold.compose([upright, torus(20, 5, 96)])))), 1)

    def test_two_hundred_points(self):
        # 200 spikes under a plate: each is an island, no more and no fewer.
        spikes = [
            Manifold.cylinder(6, 0.05, 1.2, 12).translate(
                (3 + 4 * (k % 20), 3 + 4 * (k // 20), 4.0 + 0.01 * k)
            )
            for k in range(200)
        ]
        body = Manifold.batch_boolean([*spikes, box(84, 44, 3, (0, 0, 9)), box(1, 1, 10)], OpType.Add)
        self.assertEqual(len(islands(body, 0.1)), 200)

    def test_lifted_part_starts_in_mid_air(self):
        self.assertEqual(len(islands(tee(), on_plate=False)), 1)
        self.assertEqual(islands(tee(), on_plate=True), [])

    def test_pieces_that_touch_at_a_corner_do_not_hold(self):
        body = Manifold.compose([box(5, 5, 5), box(5, 5, 5, (5, 5, 5))])
        self.assertEqual(len(islands(body)), 1)

    @settings(max_examples=12, deadline=None)
    @given(st.floats(0, 360))
    def test_count_stays_when_swung_about_the_vertical(self, degrees):
        self.assertEqual(len(islands(comb().rotate((0, 0, degrees)))), 2)


class PiecesTest(unittest.TestCase):
    def test_holes_and_nested_pieces(self):
        ring = box(20, 20, 1) - box(16, 16, 1, (2, 2, 0))
        inner = box(8, 8, 1, (6, 6, 0)) - box(2, 2, 1, (9, 9, 0))
        found = pieces(slice_solid(Solid(Manifold.compose([ring, inner])), 1.0))
        np.testing.assert_allclose(sorted(found.area_mm2), [60.0, 144.0])

    def test_points_lie_inside(self):
        body = on_plate((torus(20, 5, 64) + box(50, 2, 2)).rotate((70, 15, 0)))
        found = pieces(slice_solid(Solid(body), 0.5))
        for k in range(len(found)):
            rings = sorted(found.rings(k), key=lambda r: -Polygon(r).area)
            if found.area_mm2[k] > 1e-3:
                self.assertTrue(
                    Polygon(rings[0], rings[1:]).buffer(1e-6).contains(_point(found.inside_mm[k]))
                )

    def test_links_agree_with_shapely(self):
        body = on_plate(stalactites().rotate((8, 5, 0)))
        stack = slice_solid(Solid(body), 0.6)
        found = pieces(stack)
        shapes = [_shape(found.rings(k)) for k in range(len(found))]
        expected = {
            (u, d)
            for u in range(len(found))
            for d in range(len(found))
            if found.layer[d] == found.layer[u] - 1 and shapes[u].intersection(shapes[d]).area > 1e-6
        }
        self.assertEqual({(int(a), int(b)) for a, b in links(found)}, expected)

    def test_links_of_long_outlines_and_holes_agree_with_shapely(self):
        # Outlines of hundreds of corners that wind, with pins, rings and plates in their bays and holes.
        turn = 2 * np.pi * np.arange(400) / 400
        rng = np.random.default_rng(4)

        def layer(inner, outer):
            wide = 20 + 3 * np.sin(9 * turn + rng.uniform(0, 6)) + 1.5 * np.sin(31 * turn)
            rings = [np.column_stack([wide * np.cos(turn), wide * np.sin(turn)])]
            hole = rng.uniform(5, 9) + 0 * turn
            rings.append(np.column_stack([hole * np.cos(-turn), hole * np.sin(-turn)]))
            around = turn[::10]
            rings.append(np.column_stack([inner * np.cos(around), inner * np.sin(around)]))
            rings.append(np.column_stack([outer * np.cos(around), outer * np.sin(around)]) + [27, 5])
            for x, y in rng.uniform(-26, 26, (60, 2)):
                pin = 0.4 * np.column_stack([np.cos(around), np.sin(around)]) + (x, y)
                if not unary_union([Polygon(r) for r in rings[2:]]).intersects(Polygon(pin)):
                    body = Polygon(rings[0], [rings[1]])
                    if body.disjoint(Polygon(pin)):
                        rings.append(pin)
            return rings

        stack = pack([layer(*rng.uniform(2, 4, 2)) for _ in range(12)], [0.0] * 12, 1.0, 0.0)
        found = pieces(stack)
        self.assertGreater(len(found), 200)
        shapes = [_shape(found.rings(k)) for k in range(len(found))]
        expected = {
            (u, d)
            for u in range(len(found))
            for d in range(len(found))
            if found.layer[d] == found.layer[u] - 1 and shapes[u].intersection(shapes[d]).area > 1e-6
        }
        self.assertEqual({(int(a), int(b)) for a, b in links(found)}, expected)

    def test_pieces_that_reach_round_each_other_without_touching_are_not_linked(self):
        # Two combs, teeth between teeth: boxes overlap everywhere, outlines nowhere.
        def comb(x, y, up):
            teeth = [box(2, 20, 1, (x + 6 * k, y, 0)) for k in range(5)]
            return box(26, 2, 1, (x, y + (20 if up else -2), 0)) + Manifold.batch_boolean(teeth, OpType.Add)

        below, above = comb(0, 0, False), comb(3, 3, True).translate((0, 0, 1))
        stack = slice_solid(Solid(below + above), 1.0, thin_mm=0.0)
        found = pieces(stack)
        self.assertEqual(len(found), 2)
        self.assertEqual(len(links(found)), 0)
        touching = slice_solid(Solid(below + above.translate((0.5, 0, 0)) + box(4, 1, 1, (2, 5, 1))), 1.0)
        self.assertGreater(len(links(pieces(touching))), 0)

    def test_rings_that_share_area_where_no_outlines_meet_are_linked(self):
        def ring(inner, outer, z):
            return (
                Manifold.cylinder(1, outer, outer, 64) - Manifold.cylinder(1, inner, inner, 64)
            ).translate((0, 0, z))

        stack = slice_solid(Solid(Manifold.compose([ring(2, 7, 0), ring(6, 12, 1)])), 1.0)
        self.assertEqual(links(pieces(stack)).tolist(), [[1, 0]])

    def test_bodies(self):
        pairs = np.array([[2, 0], [4, 2], [3, 1]])
        self.assertEqual(bodies(6, pairs).tolist(), [0, 1, 0, 1, 0, 2])
        self.assertEqual(bodies(0, pairs[:0]).tolist(), [])


def _point(xy):
    from shapely.geometry import Point

    return Point(*xy)


def _shape(rings):
    outer = [Polygon(r) for r in rings if Polygon(r).exterior.is_ccw]
    holes = [Polygon(r) for r in rings if not Polygon(r).exterior.is_ccw]
    shape = MultiPolygon(outer) if len(outer) > 1 else outer[0]
    for hole in holes:
        shape = shape.difference(hole)
    return shape
