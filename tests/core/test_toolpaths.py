"""Paths: how they cover parts, how the inside is filled, how long they take."""

from __future__ import annotations

import math
import unittest
from itertools import pairwise

import numpy as np
from manifold3d import CrossSection, FillRule, Manifold
from scipy.spatial import cKDTree
from shapely import unary_union
from shapely.geometry import LineString, Point, Polygon

from tests.support import box, on_plate
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.toolpaths.beads import Chain, Kind, packed
from upright_heron.core.toolpaths.coverage import covered_share
from upright_heron.core.toolpaths.laying import Laying, lay
from upright_heron.core.toolpaths.motion import Limits, seconds
from upright_heron.core.toolpaths.ordering import Order, Seam, ordered, seam_index
from upright_heron.core.toolpaths.patterns import Pattern, filled, solid
from upright_heron.core.toolpaths.price import Pricing
from upright_heron.core.toolpaths.rough_estimate import filament_length_mm
from upright_heron.core.toolpaths.surfaces import Skins, make_surfaces
from upright_heron.core.toolpaths.timing import Running, timed
from upright_heron.core.toolpaths.walls import make_walls, walls_of
from upright_heron.core.toolpaths.zones import Pause

LINE = 0.44


def plate(wide, tall, at=(0.0, 0.0)):
    return CrossSection.square((wide, tall)).translate(at)


def ring(radius, thick):
    return CrossSection.circle(radius, 240) - CrossSection.circle(radius - thick, 240)


def bead_shapes(chains):
    """Each path as a shape: hulls of circles along it, by another library."""
    shapes = []
    for chain in chains:
        parts = []
        for k in range(1, len(chain.places)):
            a = Point(chain.places[k - 1]).buffer(0.5 * chain.width[k - 1], 24)
            b = Point(chain.places[k]).buffer(0.5 * chain.width[k], 24)
            parts.append(unary_union([a, b]).convex_hull)
        shapes.append(unary_union(parts))
    return shapes


def shape_of(region):
    """A region as a shape of another library."""
    rings = [Polygon(r) for r in region.to_polygons()]
    whole = unary_union([p for p in rings if p.exterior.is_ccw])
    return whole.difference(unary_union([p for p in rings if not p.exterior.is_ccw]))


def measured(region, walls=3):
    """Shares (%) of a region that beads cover, cover twice, and leave past it; the inside counts as covered."""
    chains, inside = walls_of(region, walls, LINE)
    body, shapes = shape_of(region), bead_shapes(chains)
    every = unary_union(shapes)
    twice = sum(one.area for one in shapes) - every.area
    there = unary_union([every, shape_of(inside)]) if not inside.is_empty() else every
    return (
        100 * there.intersection(body).area / body.area,
        100 * twice / body.area,
        100 * every.difference(body).area / body.area,
    )


class CoverTest(unittest.TestCase):
    def test_plates_of_any_thickness_are_covered_once(self):
        for thick in (0.15, 0.3, 0.45, 0.5, 0.7, 0.75, 0.88, 0.95, 1.0, 1.1, 1.3, 1.5, 1.75, 1.9, 2.2, 2.4):
            with self.subTest(thick):
                covered, twice, past = measured(plate(30, thick))
                self.assertGreater(covered, 98.5)
                self.assertLess(twice, 1.5)
                self.assertLess(past, 0.5)

    def test_rings_of_any_thickness_are_covered_once(self):
        for thick in (0.3, 0.6, 0.9, 1.1, 1.4, 2.0, 2.4):
            with self.subTest(thick):
                covered, twice, past = measured(ring(10, thick))
                self.assertGreater(covered, 98.5)
                self.assertLess(twice, 1.5)
                self.assertLess(past, 0.8)

    def test_stars_wedges_and_crossings_lose_little(self):
        star = [
            ((10 if k % 2 == 0 else 4) * math.cos(math.pi * k / 5), (10 if k % 2 == 0 else 4) * math.sin(math.pi * k / 5))
            for k in range(10)
        ]  # fmt: skip
        shapes = {"star": CrossSection([star])}
        for deg in (15, 45):
            tall = 20 * math.tan(math.radians(deg / 2))
            shapes[f"wedge {deg}"] = CrossSection([[(0, 0), (20, -tall), (20, tall)]])
        for thick in (0.6, 1.0, 1.4):
            arm = plate(20, thick, (-10, -thick / 2))
            shapes[f"cross {thick}"] = arm + arm.rotate(90)
            shapes[f"leaning cross {thick}"] = arm + arm.rotate(45)
            shapes[f"T {thick}"] = arm + plate(thick, 10, (-thick / 2, 0))
        for name, shape in shapes.items():
            with self.subTest(name):
                covered, twice, past = measured(shape)
                self.assertGreater(covered, 96.0)
                self.assertLess(twice, 2.0)
                self.assertLess(past, 0.5)

    def test_pins_thinner_than_their_walls_are_not_lost(self):
        for thick in (0.3, 0.5, 0.8, 1.0):
            for shape in (CrossSection.circle(thick / 2, 24), plate(thick, thick)):
                covered, twice, past = measured(shape)
                self.assertGreater(covered, 90)
                self.assertLess(twice, 6)
                self.assertLess(past, 4)

    def test_walls_lie_whole_lines_inward(self):
        chains, inside = walls_of(plate(20, 10), 3, LINE)
        self.assertEqual([c.kind for c in chains], [Kind.OUTER, Kind.WALL, Kind.WALL])
        for k, chain in enumerate(chains):
            inset = (k + 0.5) * LINE
            low, high = chain.places.min(axis=0), chain.places.max(axis=0)
            np.testing.assert_allclose([*low, *high], [inset, inset, 20 - inset, 10 - inset], atol=1e-6)
            np.testing.assert_array_equal(chain.places[0], chain.places[-1])
        self.assertAlmostEqual(inside.area(), (20 - 6 * LINE) * (10 - 6 * LINE), delta=1e-6)

    def test_layers_alike_get_the_same_walls(self):
        walls = make_walls(slice_solid(Solid(box(10, 10, 4)), 0.2), 2, LINE)
        first, last = walls.beads.chains(0), walls.beads.chains(19)
        self.assertEqual(len(first), 2)
        for one, other in zip(first, last, strict=True):
            np.testing.assert_array_equal(one.places, other.places)


class FillTest(unittest.TestCase):
    def test_density_is_as_asked(self):
        region = CrossSection.circle(60, 200) - CrossSection.circle(20, 100).translate((10, 0))
        for pattern in Pattern:
            for density in (0.15, 0.4):
                with self.subTest(f"{pattern} {density}"):
                    # Where lines lie against the outline is chance: over many heights it evens out.
                    laid = []
                    for k in range(24):
                        moved = region.translate((3.7 * k % 5, 2.3 * k % 7))
                        found = filled(moved, pattern, density, LINE, 0.1 + 0.7 * k, k)
                        laid.append((length_of(found) - found.links_mm) * found.width_mm)
                    inner = region.offset(-0.25 * LINE).area()
                    # Rings end in a middle that is no whole spacing wide.
                    off = 0.012 if pattern is Pattern.CONCENTRIC else 0.006
                    self.assertAlmostEqual(np.mean(laid) / inner / density, 1.0, delta=off)

    def test_lines_lie_as_far_apart_as_the_density_asks(self):
        # w / s = 20 %: s = 2.25 mm (area fraction); in a square of 90 mm along its sides, 40 lines.
        found = filled(plate(90.225, 90.225), Pattern.ZIGZAG, 0.2, 0.45, 0.1, 1)
        across = np.unique(np.round(found.points[:, 0], 3))
        np.testing.assert_allclose(np.diff(across)[1:-1], 2.25, atol=1e-3)
        self.assertEqual(len(across), 40)

    def test_lines_stay_inside_and_are_joined_along_the_outline(self):
        region = CrossSection.circle(20, 100) - plate(8, 8, (-4, -4))
        found = filled(region, Pattern.LINES, 0.2, LINE, 0.1, 0)
        body = shape_of(region).buffer(-0.2 * LINE)
        chains = np.split(found.points, found.start[1:-1])
        self.assertLess(len(chains), 8)
        for chain in chains:
            self.assertTrue(body.buffer(0.01).contains(LineString(chain)))
        self.assertGreater(found.links_mm, 10)

    def test_no_pattern_leaves_the_region(self):
        region = plate(31, 23) - CrossSection.circle(5, 40).translate((14, 11))
        body = shape_of(region)
        for pattern in Pattern:
            for k in range(6):
                found = filled(region, pattern, 0.2, LINE, 0.1 + 0.9 * k, k)
                self.assertEqual(found.links_mm > 0, pattern.joined)
                for chain in np.split(found.points, found.start[1:-1]):
                    self.assertTrue(body.contains(LineString(chain)), pattern)

    def test_cubes_stand_on_their_corners(self):
        # Sections of a face at 54.74 degrees move by its cotangent: 0.7071 mm a mm of height.
        def lowest(z):
            found = filled(plate(60, 60), Pattern.CUBIC, 0.1, LINE, z, 0)
            level = [c for c in np.split(found.points, found.start[1:-1]) if np.ptp(c[:2, 1]) < 1e-9]
            return min(float(c[0, 1]) for c in level)

        self.assertAlmostEqual(lowest(2.0) - lowest(1.0), math.sqrt(0.5), delta=1e-6)

    def test_whole_areas_are_covered(self):
        region = CrossSection.circle(12, 80)
        found = solid(region, LINE, 0.6)
        lines = [LineString(c).buffer(LINE / 2) for c in np.split(found.points, found.start[1:-1])]
        body = shape_of(region)
        self.assertGreater(unary_union(lines).intersection(body).area / body.area, 0.985)

    def test_gyroid_keeps_its_surface_from_layer_to_layer(self):
        # Neighbouring layers lie near each other: no line hangs in the air.
        region = plate(60, 60)
        for k in range(36):
            below, here = (
                filled(region, Pattern.GYROID, 0.15, LINE, z, 0).points
                for z in (0.2 * k + 0.1, 0.2 * k + 0.3)
            )
            away = cKDTree(below).query(here)[0]
            self.assertLess(np.percentile(away, 97), 0.7)

    def test_tops_bottoms_and_bridges(self):
        # A lid of 3 mm on two walls 20 mm apart, and a step on top.
        body = (
            box(3, 20, 10)
            + box(3, 20, 10, (23, 0, 0))
            + box(26, 20, 3, (0, 0, 10))
            + box(10, 20, 2, (0, 0, 13))
        )
        stack = slice_solid(Solid(body), 0.2)
        walls = make_walls(stack, 2, LINE)
        found = make_surfaces(stack, walls.inside, Skins(4, 3, LINE))
        inner = walls.inside.area_mm2
        # The lid begins over air, and is a bridge across: lines along x.
        self.assertGreater(found.bridge.area_mm2[50], 0.8 * 20 * 19)
        self.assertAlmostEqual(math.cos(2 * found.angles[50]), 1.0, delta=0.02)
        self.assertEqual(found.bridge.area_mm2[[49, 51]].tolist(), [0, 0])
        # Whole: three bottoms of the legs, and of the lid; four tops under the step, and of the lid beside it.
        for layer in (0, 1, 2):
            self.assertAlmostEqual(found.bottom.area_mm2[layer] / inner[layer], 1.0, delta=0.01)
        self.assertEqual(found.bottom.area_mm2[[3, 53]].tolist(), [0, 0])
        self.assertGreater(found.bottom.area_mm2[52], 300)
        self.assertAlmostEqual(found.sparse.area_mm2[56], inner[56], delta=0.1 * inner[56])
        for layer in (71, 72, 73, 74):
            self.assertAlmostEqual(found.top.area_mm2[layer] / inner[layer], 1.0, delta=0.01)
        for layer in (61, 64):
            self.assertAlmostEqual(found.top.area_mm2[layer], 16 * 19, delta=40)
        self.assertLess(found.top.area_mm2[60], 1)
        total = sum(s.area_mm2 for s in (found.top, found.bottom, found.bridge, found.sparse))
        np.testing.assert_allclose(total, inner, rtol=1e-3, atol=0.5)


def length_of(found):
    steps = np.hypot(*np.diff(found.points, axis=0).T)
    steps[found.start[1:-1] - 1] = 0
    return steps.sum()


class WholeTest(unittest.TestCase):
    def test_whole_layers_cross_each_other(self):
        stack = slice_solid(Solid(box(20, 20, 1)), 0.2)
        walls = make_walls(stack, 1, LINE)
        beads = lay(stack, walls, make_surfaces(stack, walls.inside, Skins(9, 9, LINE)), Laying(LINE))
        turns = []
        for layer in range(3):
            longest = max(
                (b - a for c in beads.chains(layer)[1:] for a, b in pairwise(c.places)),
                key=lambda v: np.hypot(*v),
            )
            turns.append(math.degrees(math.atan2(longest[1], longest[0])) % 180)
        np.testing.assert_allclose(np.array(turns[1:]) - turns[:2], [90, -90], atol=1e-6)


class OrderTest(unittest.TestCase):
    SQUARE = np.array([[0, 0], [4, 0], [4, 4], [2.2, 4], [2, 3], [1.8, 4], [0, 4]], float)

    def test_seams_lie_where_they_are_asked_for(self):
        def at(seam, degrees=0.0, where=(9.0, 9.0), layer=0):
            index = seam_index(self.SQUARE, Order(seam, degrees), np.array(where), layer)
            return tuple(self.SQUARE[index])

        self.assertEqual(at(Seam.BACK)[1], 4)
        self.assertEqual(at(Seam.DIRECTION, 180)[0], 0)
        self.assertEqual(at(Seam.DIRECTION, -45), (4, 0))
        self.assertEqual(at(Seam.NEAREST, where=(0.1, 0.2)), (0, 0))
        # The notch turns most, and inwards.
        self.assertEqual(at(Seam.CORNER), (2, 3))
        self.assertGreater(len({at(Seam.SCATTERED, layer=k) for k in range(12)}), 3)

    def test_closed_paths_begin_at_their_seam_and_stay_whole(self):
        places = np.concatenate([self.SQUARE, self.SQUARE[:1]])
        chain = Chain(places, np.full(len(places), LINE), Kind.OUTER)
        (found,), at = ordered([chain], [(0, 0)], np.zeros(2), Order(Seam.CORNER), 0)
        self.assertEqual(found.places[0].tolist(), [2, 3])
        # Inner walls begin where it is nearest, whatever the outer one does.
        inner = chain._replace(kind=Kind.WALL)
        (near,), _ = ordered([inner], [(0, 0)], np.array([4.0, -1.0]), Order(Seam.CORNER), 0)
        self.assertEqual(near.places[0].tolist(), [4, 0])
        np.testing.assert_array_equal(found.places[0], found.places[-1])
        np.testing.assert_array_equal(at, [2, 3])
        self.assertEqual({tuple(p) for p in found.places}, {tuple(p) for p in self.SQUARE})

    def test_what_belongs_together_follows_each_other_and_travel_is_short(self):
        rng = np.random.default_rng(2)
        chains, ranks = [], []
        for group, corner in enumerate(((0, 0), (50, 0))):
            for k in range(30):
                a = rng.uniform(0, 20, 2) + corner
                chains.append(Chain(np.array([a, a + rng.uniform(-3, 3, 2)]), np.full(2, LINE), Kind.INFILL))
                ranks.append((group, k % 2))
        found, _ = ordered(chains, ranks, np.zeros(2), Order(), 0)
        self.assertEqual(len(found), 60)
        self.assertTrue(all(c.places[:, 0].min() < 30 for c in found[:30]))

        def travel(order):
            return sum(math.dist(a.places[-1], b.places[0]) for a, b in pairwise(order))

        self.assertLess(travel(found), 0.5 * travel(chains))

    def test_walls_come_in_the_order_asked(self):
        stack = slice_solid(Solid(box(12, 12, 1)), 0.2)
        walls = make_walls(stack, 3, LINE)
        surfaces = make_surfaces(stack, walls.inside, Skins(1, 1, LINE))
        for outer_first, kinds in ((True, [0, 1, 1]), (False, [1, 1, 0])):
            beads = lay(stack, walls, surfaces, Laying(LINE, order=Order(outer_first=outer_first)))
            self.assertEqual([int(c.kind) for c in beads.chains(2) if c.kind is not Kind.TRAVEL][:3], kinds)
            self.assertEqual(beads.chains(2)[-1].kind, Kind.INFILL)


class TimeTest(unittest.TestCase):
    def took(self, places, feed, acceleration=1000.0, deviation=0.0):
        places = np.column_stack([np.array(places, float), np.zeros(len(places))])
        feeds = np.full(len(places) - 1, float(feed))
        return seconds(
            places, feeds, np.zeros(len(feeds), bool), Limits(acceleration, acceleration, deviation)
        )

    def test_closed_forms(self):
        # Constant acceleration, from rest to rest: d/v + v/a, and 2 sqrt(d/a) where v is not reached.
        self.assertAlmostEqual(self.took([(0, 0), (100, 0)], 100)[0], 1.1, places=9)
        self.assertAlmostEqual(self.took([(0, 0), (2.5, 0)], 100)[0], 0.1, places=9)
        self.assertAlmostEqual(self.took([(0, 0), (10, 0)], 100)[0], 0.2, places=9)

    def test_straight_on_it_does_not_slow_down(self):
        whole = self.took([(0, 0), (100, 0)], 100).sum()
        self.assertAlmostEqual(self.took([(0, 0), (30, 0), (31, 0), (100, 0)], 100).sum(), whole, places=9)

    def test_corners_by_junction_deviation(self):
        # v2 = a d s / (1 - s), s = sin 45 degrees, for a right angle.
        speed = math.sqrt(1000 * 0.02 * math.sqrt(0.5) / (1 - math.sqrt(0.5)))
        ramp = (100 - speed) / 1000
        length = 100 - (100**2 + 100**2 - speed**2) / 2000
        expected = 2 * (0.1 + ramp + length / 100)
        found = self.took([(0, 0), (100, 0), (100, 100)], 100, deviation=0.02).sum()
        self.assertAlmostEqual(found, expected, places=9)
        # Straight back it stops.
        back = self.took([(0, 0), (100, 0), (0, 0)], 100, deviation=0.02).sum()
        self.assertAlmostEqual(back, 2.2, places=6)

    def test_a_slow_move_behind_a_quick_one_is_entered_slowly(self):
        places = np.array([[0, 0, 0], [100, 0, 0], [200, 0, 0]], float)
        limits = Limits(1000.0, 1000.0, 0.02)
        found = seconds(places, np.array([100.0, 20.0]), np.zeros(2, bool), limits)
        # From rest to 100 mm/s, down to 20, and from 20 to rest.
        quick = 0.1 + 0.08 + (100 - 5 - (100**2 - 20**2) / 2000) / 100
        slow = 0.02 + (100 - 20**2 / 2000) / 20
        np.testing.assert_allclose(found, [quick, slow], rtol=1e-9)

    def test_against_a_simulator_that_steps_through_time(self):
        rng = np.random.default_rng(7)
        turn = np.cumsum(rng.uniform(-0.7, 0.7, 60))
        steps = rng.uniform(0.3, 12, 60)[:, None] * np.column_stack([np.cos(turn), np.sin(turn)])
        places = np.concatenate([[[0, 0]], np.cumsum(steps, axis=0)])
        found = self.took(places, 60, deviation=0.02).sum()
        self.assertAlmostEqual(found / simulated(places, 60.0, 1000.0, 0.02), 1.0, delta=0.01)

    def test_filament_of_common_masses(self):
        # 5 g of PLA (1.24 g/cm3) are 0.632 m of 2.85 mm; 46 g are 15.42 m of 1.75 mm.
        self.assertAlmostEqual(filament_length_mm(5 / 1.24e-3, 2.85), 632.0752, places=3)
        self.assertAlmostEqual(filament_length_mm(46 / 1.24e-3, 1.75) / 1000, 15.42, delta=0.01)


def simulated(places, feed, acceleration, deviation, step=2e-4):
    """Time along a path, stepped: as fast as the feed, and as can still slow down for every corner ahead."""
    ways = np.diff(places, axis=0)
    long = np.hypot(*ways.T)
    unit = ways / long[:, None]
    at = np.concatenate([[0.0], np.cumsum(long)])
    corners = [(at[-1], 0.0)]
    for k in range(1, len(ways)):
        half = math.sqrt((1 + float(unit[k - 1] @ unit[k])) / 2)
        # Half the angle between both moves, from the cosine of how far they turn.
        sine = half
        limit = min(feed**2, acceleration * deviation * sine / max(1 - sine, 1e-12))
        corners.append((at[k], math.sqrt(limit)))
    corners.sort()
    s = v = t = 0.0
    nearest = 0
    while s < at[-1] - 1e-7:
        while nearest < len(corners) and corners[nearest][0] <= s + 1e-12:
            nearest += 1
        allowed = feed
        for place, speed in corners[nearest : nearest + 25]:
            allowed = min(allowed, math.sqrt(speed**2 + 2 * acceleration * max(place - s, 0.0)))
        v = max(min(v + acceleration * step, allowed), 0.02)
        s += v * step
        t += step
    return t


class LiftedTest(unittest.TestCase):
    def test_a_part_that_is_lifted_begins_where_it_hangs(self):
        stack = slice_solid(Solid(box(10, 10, 2, (0, 0, 1)) + box(4, 4, 2, (0, 0, 3))), 0.2)
        self.assertAlmostEqual(stack.base_mm, 1.0)
        walls = make_walls(stack, 2, LINE)
        beads = lay(stack, walls, make_surfaces(stack, walls.inside, Skins(2, 2, LINE)), Laying(LINE))
        self.assertEqual(len(beads.tops_mm), 25)
        self.assertEqual([len(beads.chains(k)) > 0 for k in (0, 4, 5, 24)], [False, False, True, True])
        self.assertAlmostEqual(float(np.ptp(beads.chains(14)[0].places[:, 0])), 10 - 3 * LINE, places=6)
        self.assertAlmostEqual(float(np.ptp(beads.chains(15)[0].places[:, 0])), 4 - 3 * LINE, places=6)


class FirstTest(unittest.TestCase):
    def laid(self, body, asked, **more):
        """What was told of first, and all of it."""
        stack = slice_solid(Solid(on_plate(body)), 0.2)
        walls = make_walls(stack, 2, LINE)
        surfaces = make_surfaces(stack, walls.inside, Skins(3, 3, LINE))
        told = []
        return told, lay(stack, walls, surfaces, asked, first=told.append, **more)

    def test_the_lowest_layers_are_told_of_as_they_will_be(self):
        # It grows thinner, so that no layer is laid as the one below it.
        cone = Manifold.cylinder(18, 14, 6, 64)
        pause = Pause(5.0, "a nut")
        for asked in (
            Laying(LINE, Pattern.GYROID, 0.3, infill_every=2, pauses=(pause,)),
            Laying(LINE, order=Order(Seam.SCATTERED)),
        ):
            (some,), whole = self.laid(cone, asked)
            self.assertEqual((len(some.tops_mm), len(whole.tops_mm)), (40, 90))
            self.assertEqual(some.events, whole.events)
            np.testing.assert_array_equal(some.tops_mm, whole.tops_mm[:40])
            for layer in range(40):
                for one, other in zip(some.chains(layer), whole.chains(layer), strict=True):
                    np.testing.assert_array_equal(one.places, other.places)
                    np.testing.assert_array_equal(one.width, other.width)
                    self.assertEqual((one.kind, one.high), (other.kind, other.high))

    def test_nothing_is_told_ahead_of_little_or_of_what_a_second_nozzle_prints(self):
        told, whole = self.laid(box(10, 10, 16), Laying(LINE))
        self.assertEqual((told, len(whole.tops_mm)), ([], 80))
        tall = box(10, 10, 18)
        self.assertEqual(len(self.laid(tall, Laying(LINE))[0]), 1)
        self.assertEqual(self.laid(tall, Laying(LINE, second=frozenset({Kind.RAFT})))[0], [])
        # A support that is laid by the second nozzle, higher up than what would be told of.
        line = Chain(np.array([[8.0, 0.0], [9.0, 0.0]]), np.full(2, LINE), Kind.SUPPORT, nozzle=1)
        props = packed([[] for _ in range(60)] + [[line]], 0.2 * np.arange(1, 62), 0.2)
        told, whole = self.laid(tall, Laying(LINE), supports=props)
        self.assertEqual(told, [])
        self.assertIn(int(Kind.PURGE), whole.kind[whole.of_layer(0)].tolist())


class PriceTest(unittest.TestCase):
    def test_by_gram_with_a_least_charge(self):
        # 0.35 a gram, at least 5.00: 46 g are 16.10, and up to 14.29 g the least counts (common practice).
        shop = Pricing(per_gram=0.35, least=5.0)
        self.assertAlmostEqual(shop.price(46, 0), 16.10)
        self.assertEqual(shop.price(14.28, 3600), 5.0)
        self.assertGreater(shop.price(14.30, 3600), 5.0)

    def test_by_the_hour_with_setting_up_and_rounded_up(self):
        shop = Pricing(per_hour=2.0, setup=3.0, round_to=0.5)
        self.assertEqual(shop.price(0, 1.25 * 3600), 5.5)
        self.assertEqual(shop.price(0, 1.26 * 3600), 6.0)
        self.assertEqual(Pricing(per_gram=0.1, round_to=0.1).price(7, 0), 0.7000000000000001)


class PrintTest(unittest.TestCase):
    @staticmethod
    def laid(body, layer=0.2, density=0.15, walls=3, pattern=Pattern.GRID):
        stack = slice_solid(Solid(on_plate(body)), layer)
        made = make_walls(stack, walls, LINE)
        surfaces = make_surfaces(stack, made.inside, Skins(4, 4, LINE))
        return stack, surfaces, lay(stack, made, surfaces, Laying(LINE, pattern, density))

    def test_half_the_layer_height_takes_about_twice_as_long(self):
        # Common practice: 1.6 to 2.3 times.
        bodies = (
            box(40, 30, 20),
            Manifold.sphere(18, 64),
            box(40, 40, 30) - box(36, 36, 28, (2, 2, 2)),
        )
        for body in bodies:
            times = []
            for layer in (0.2, 0.1):
                _, _, beads = self.laid(body, layer)
                times.append(timed(beads, Running(60.0))[0].seconds)
            self.assertTrue(1.6 < times[1] / times[0] < 2.3, times)

    def test_a_solid_cube_takes_its_volume(self):
        # 20 mm, filled whole: 3,326 mm of 1.75 mm filament, by volume.
        _, _, beads = self.laid(box(20, 20, 20), density=1.0, pattern=Pattern.LINES)
        told, _ = timed(beads, Running(60.0))
        self.assertAlmostEqual(filament_length_mm(told.volume_mm3, 1.75) / 3326.014, 1.0, delta=0.01)
        self.assertAlmostEqual(float(beads.volumes_mm3.sum()), told.volume_mm3, delta=1e-6 * told.volume_mm3)

    def test_more_walls_and_more_infill_take_more(self):
        base = timed(self.laid(box(40, 30, 20))[2], Running(60.0))[0]
        for options in ({"walls": 4}, {"density": 0.3}):
            more = timed(self.laid(box(40, 30, 20), **options)[2], Running(60.0))[0]
            self.assertGreater(more.seconds, base.seconds)
            self.assertGreater(more.volume_mm3, base.volume_mm3)

    def test_quick_layers_are_slowed_down_until_they_cool(self):
        beads = self.laid(box(6, 6, 4))[2]
        told, moves = timed(beads, Running(60.0, least_layer_s=8.0, slowest_mm_s=3.0))
        self.assertGreater(told.layer_s[1:].min(), 7.0)
        self.assertLess(moves.feed[~moves.travel].min(), 36)
        hurried, _ = timed(beads, Running(60.0, least_layer_s=0.0))
        self.assertLess(hurried.layer_s.max(), 6.0)
        self.assertAlmostEqual(told.volume_mm3, hurried.volume_mm3)

    def test_the_first_layer_is_slow_and_drawing_back_takes_its_time(self):
        beads = self.laid(box(30, 30, 2) + box(5, 5, 2, (50, 0, 0)))[2]
        running = Running(60.0, least_layer_s=0.0, first_share=0.5, retract_mm=2.0, retract_mm_s=20.0)
        told, moves = timed(beads, running)
        layer = beads.layer[moves.path]
        outer = ~moves.travel & (beads.kind[moves.path] == Kind.OUTER)
        self.assertEqual(set(moves.feed[outer & (layer == 0)]), {18.0})
        self.assertEqual(set(moves.feed[outer & (layer == 5)]), {36.0})
        # Over to the other island and back in each layer at least; 0.2 s each time.
        self.assertGreater(told.retracts, 10)
        self.assertAlmostEqual(dict(told.by_kind)["drawing back"], 0.2 * told.retracts)
        self.assertAlmostEqual(told.seconds, sum(s for _, s in told.by_kind))

    def test_coverage_is_that_of_another_library(self):
        stack, surfaces, beads = self.laid(Manifold.cylinder(3, 8, 6, 60))
        share = covered_share(stack, beads, surfaces.sparse)
        self.assertGreater(share, 0.985)
        layer = 7
        laid = unary_union(bead_shapes([c for c in beads.chains(layer) if c.kind is not Kind.INFILL]))
        rest = CrossSection(surfaces.sparse.rings(layer), FillRule.NonZero)
        whole = shape_of(stack.section(layer))
        there = unary_union([laid, shape_of(rest)]).intersection(whole).area
        self.assertGreater(there / whole.area, 0.985)

    def test_every_layer_is_there_and_flow_is_kept_in_bounds(self):
        stack, _, beads = self.laid(box(10, 10, 5))
        self.assertEqual(len(beads.tops_mm), len(stack))
        np.testing.assert_allclose(beads.tops_mm, 0.2 * np.arange(1, 26))
        self.assertTrue(all(beads.chains(k) for k in range(25)))
        _, moves = timed(beads, Running(400.0, flow_mm3_s=10.0, least_layer_s=0.0))
        laid = ~moves.travel
        self.assertLess(float((moves.area * moves.feed)[laid].max()), 10.0 + 1e-9)
