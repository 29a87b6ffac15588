"""Paths beyond walls and infill: ways inside, steep places, strands, two nozzles, stretches of height, moved outlines."""

from __future__ import annotations

import math
import unittest
from collections import Counter
from itertools import pairwise

import numpy as np
from manifold3d import CrossSection, Manifold
from shapely.geometry import LineString, Polygon

from tests.support import box, mesh_of, on_plate
from upright_heron.core.errors import BadValue
from upright_heron.core.footing.footing import FootingKind, FootingSettings, make_footing
from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.geometry.tree import Tree
from upright_heron.core.layers.stack import packed as packed_rings
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.toolpaths.beads import Chain, Event, Kind, packed
from upright_heron.core.toolpaths.bill import Spool, bill
from upright_heron.core.toolpaths.bodies import layers_of_bodies, nearest_bodies, places_on
from upright_heron.core.toolpaths.coverage import bead_area
from upright_heron.core.toolpaths.footing_paths import footing_chains
from upright_heron.core.toolpaths.laying import Laying, lay
from upright_heron.core.toolpaths.notes import PathNotes, path_notes, roof_span_mm
from upright_heron.core.toolpaths.ordering import Order, Seam, seam_index
from upright_heron.core.toolpaths.patterns import Pattern, widest_gap_mm
from upright_heron.core.toolpaths.plate_paths import Placed, merged
from upright_heron.core.toolpaths.purge import SIDE_MM, by_nozzle, last_change, with_stand
from upright_heron.core.toolpaths.steep import SLOW, slowed
from upright_heron.core.toolpaths.strands import SHORTEST_MM, STRAND_MM, strands_of, worth_most
from upright_heron.core.toolpaths.support_paths import Grouped
from upright_heron.core.toolpaths.surfaces import Skins, make_surfaces
from upright_heron.core.toolpaths.timing import Running, speeds_of, timed
from upright_heron.core.toolpaths.travels import LONGEST_MM, inside_ways
from upright_heron.core.toolpaths.walls import Aside, make_walls
from upright_heron.core.toolpaths.zones import Pause, StrandZone, Zone, at_height, events

LINE = 0.44
BUILD = (300.0, 300.0, 340.0)


def plate(wide, tall, at=(0.0, 0.0)):
    return CrossSection.square((wide, tall)).translate(at)


def laid(body, asked=None, layer=0.2, skins=None, walls=2, **more):
    stack = slice_solid(Solid(on_plate(body)), layer)
    made = make_walls(stack, walls, LINE)
    surfaces = make_surfaces(stack, made.inside, skins or Skins(3, 3, LINE))
    return lay(stack, made, surfaces, asked or Laying(LINE), **more)


def bead(places, kind=Kind.OUTER, **more):
    places = np.asarray(places, np.float64)
    return Chain(places, np.full(len(places), LINE), kind, **more)


def of_kind(beads, kind):
    return [c for k in range(len(beads.tops_mm)) for c in beads.chains(k) if c.kind is kind]


class BodiesTest(unittest.TestCase):
    """A slab with a bar sunk into it and standing out, which the second nozzle prints."""

    SLAB, BAR = box(30, 20, 4, (-15, -10, 0)), box(10, 6, 2.8, (-5, -3, 1.6))

    def laid(self, density=0.2, **more):
        stack = slice_solid(Solid(self.SLAB + self.BAR), 0.2)
        second = layers_of_bodies([mesh_of(self.BAR)], stack)
        walls = make_walls(stack, 2, LINE, second=second)
        surfaces = make_surfaces(stack, walls.inside, Skins(3, 3, LINE, bare=True))
        return second, lay(stack, walls, surfaces, Laying(LINE, density=density, **more))

    def test_each_nozzle_stays_in_its_bodies(self):
        second, beads = self.laid()
        high = (second.z_mm > 1.6) & (second.z_mm < 4.4)
        self.assertEqual((len(second), int(high.sum())), (22, 14))
        np.testing.assert_allclose(second.area_mm2, 60.0 * high, atol=1e-9)
        for layer in range(22):
            kinds = {0: set(), 1: set()}
            for chain in beads.chains(layer):
                if chain.kind is Kind.PURGE:
                    continue
                kinds[chain.nozzle].add(chain.kind)
                # How far places lie past the sides of the bar; the middles of beads half a line from them.
                past = (np.abs(chain.places) - (5, 3)).max(axis=1)
                least = -0.02 if chain.kind is Kind.TRAVEL else LINE / 2 - 0.02
                if chain.nozzle:
                    self.assertLess(past.max(), -least, (layer, chain.kind))
                elif high[layer]:
                    self.assertGreater(past.min(), least, (layer, chain.kind))
            self.assertEqual(Kind.OUTER in kinds[1], bool(high[layer]))
            self.assertEqual(Kind.OUTER in kinds[0], layer < 20)
        # The top of the slab under the bar is no top, and the bar stands on it.
        self.assertEqual({c.nozzle for c in of_kind(beads, Kind.TOP)}, {0, 1})

    def test_each_nozzle_lays_the_volume_of_its_bodies(self):
        _, beads = self.laid(density=1.0)
        own = (beads.kind != Kind.PURGE) & (beads.kind != Kind.TRAVEL)
        for nozzle, asked in ((0, 30 * 20 * 4 - 60 * 2.4), (1, 60 * 2.8)):
            laid = float(beads.volumes_mm3[own & (beads.nozzle == nozzle)].sum())
            self.assertAlmostEqual(laid / asked, 1.0, delta=0.015, msg=nozzle)
        # One is purged as high as they take turns, and nothing is told of ahead of that.
        purged = {k for k in range(22) if any(c.kind is Kind.PURGE for c in beads.chains(k))}
        self.assertEqual(purged, set(range(21)))

    def test_smoothed_tops_and_thicker_infill_keep_to_their_nozzle(self):
        _, beads = self.laid(smooth=True, infill_every=2)
        for kind in (Kind.SMOOTHING, Kind.INFILL):
            for nozzle in (0, 1):
                found = [c for c in of_kind(beads, kind) if c.nozzle == nozzle]
                self.assertTrue(found, (kind, nozzle))
            inside = [(np.abs(c.places) < (5, 3)).all() for c in of_kind(beads, kind) if c.nozzle == 1]
            self.assertTrue(all(inside))

    def test_no_skin_of_the_first_nozzle_lies_round_a_body_that_stands_out(self):
        # A rod that stands out of a slab at its side, with outlines that are moved outwards and smoothed.
        rod = Manifold.cylinder(6, 4, 3.7, 90).translate((11, 0, 0))
        for aside in (None, Aside(outline_mm=0.2), Aside(outline_mm=-0.1)):
            stack = slice_solid(Solid(box(22, 20, 3, (-11, -10, 0)) + rod), 0.2)
            second = layers_of_bodies([mesh_of(rod)], stack)
            walls = make_walls(stack, 2, LINE, second=second, aside=aside)
            out = (aside or Aside()).outline_mm
            for layer in range(30):
                chains = walls.beads.chains(layer)
                outer = [c for c in chains if c.kind is Kind.OUTER and c.nozzle == 1]
                wide = float(np.ptp(np.concatenate([c.places for c in outer])[:, 1]))
                there = 4 - 0.3 * (0.2 * layer + 0.1) / 6 + out
                self.assertAlmostEqual(wide, 2 * there - LINE, delta=0.03)
                first = [c for c in chains if c.nozzle == 0]
                self.assertEqual(bool(first), layer < 15, (aside, layer))
                for chain in first:
                    # Round the rod nothing reaches past the side of the slab.
                    self.assertLess(chain.places[:, 0].max(), 11 + out, (aside, layer))

    def test_bodies_are_picked_by_places_on_them(self):
        bodies = [mesh_of(self.SLAB), mesh_of(self.BAR)]
        for places, picked in (
            ([(0, 0, 4.4)], [1]),
            ([(14.9, 0, 4.1)], [0]),
            ([(0, 2, 4.4), (1, 0, 4.4), (-15, 0, 2)], [0, 1]),
            ([], []),
        ):
            self.assertEqual(nearest_bodies(bodies[:1], np.array([(0.0, 0.0, 4.0)])), [])
            found = nearest_bodies(bodies, np.array(places, np.float64).reshape(-1, 3))
            self.assertEqual(
                [one is bodies[k] for one, k in zip(found, picked, strict=True)], [True] * len(picked)
            )

    def test_of_bodies_in_each_other_the_smallest_is_picked(self):
        # A letter let into a whole plate, flush with its top; a core that no place on the outside lies on.
        plate, letter, core = box(20, 10, 4), box(4, 6, 2, (8, 2, 2)), box(2, 2, 2, (2, 2, 1))
        bodies = [mesh_of(one) for one in (plate, letter, core)]
        for place, picked in (
            ((10, 5, 4), 1), ((7.9, 5, 4), 0), ((10, 5, 3), 1), ((3, 3, 2), 2), ((5, 5, 2), 0), ((3, 3, 4), 0),
            ((10, 5, 9), 1), ((30, 5, 2), 0),
        ):  # fmt: skip
            found = nearest_bodies(bodies, np.array([place], np.float64))
            self.assertEqual([found[0] is one for one in bodies].index(True), picked, place)

    def test_each_body_has_a_place_that_picks_it(self):
        # A letter flush with its plate, and one in a plate without room for it; a core inside; the lot moved.
        letter, core = box(4, 6, 2, (8, 2, 2)), box(2, 2, 2, (2, 2, 1))
        for plate in (box(20, 10, 4), box(20, 10, 4) - letter - core):
            bodies = [mesh_of(one.translate((100, -3, 7))) for one in (letter, plate, core)]
            places = places_on(bodies)
            for body, place in zip(bodies, places, strict=True):
                self.assertEqual([one is body for one in nearest_bodies(bodies, place[None])], [True])
                self.assertLess(float(Tree.of(body).distances(place[None])[0]), 1e-9)

    def test_bodies_that_touch_face_to_face_lie_beside_each_other(self):
        # A round peg in its hole, both leaned so that their layers are cut in other places each.
        peg = Manifold.cylinder(4, 5, 5, 90).translate((12, 10, 2))
        turn = (11, -7, 33)
        slab, peg = (one.rotate(turn).translate((0, 0, 9)) for one in (box(24, 20, 6) - peg, peg))
        stack = slice_solid(Solid(slab + peg), 0.2)
        second = layers_of_bodies([mesh_of(peg)], stack)
        walls = make_walls(stack, 2, LINE, second=second)
        surfaces = make_surfaces(stack, walls.inside, Skins(3, 3, LINE, bare=True))
        beads = lay(stack, walls, surfaces, Laying(LINE, density=1.0))
        own = (beads.kind != Kind.PURGE) & (beads.kind != Kind.TRAVEL)
        for nozzle, body in ((0, slab), (1, peg)):
            laid = float(beads.volumes_mm3[own & (beads.nozzle == nozzle)].sum())
            self.assertAlmostEqual(laid / body.volume(), 1.0, delta=0.02, msg=nozzle)
        for layer in range(len(stack)):
            within = [Polygon(ring).buffer(-LINE / 4) for ring in second.rings(layer)]
            for chain in beads.chains(layer):
                if within and chain.nozzle == 0 and chain.kind not in (Kind.TRAVEL, Kind.PURGE):
                    self.assertFalse(LineString(chain.places).intersects(within[0]), (layer, chain.kind))

    def test_an_open_body_is_refused(self):
        whole = mesh_of(self.BAR)
        stack = slice_solid(Solid(self.SLAB), 0.2)
        with self.assertRaisesRegex(BadValue, "not closed"):
            layers_of_bodies([Mesh(whole.vertices, whole.faces[1:])], stack)


class WaysTest(unittest.TestCase):
    """An L of arms 10 mm wide; from the end of one arm to that of the other."""

    SHAPE = plate(40, 10) + plate(10, 40)
    BODY = Polygon([(0, 0), (40, 0), (40, 10), (10, 10), (10, 40), (0, 40)])

    def ways(self, a, b, shape=None, short=2.0):
        rings = packed_rings((shape or self.SHAPE).to_polygons())
        chains = inside_ways([bead([a, a]), bead([b, b])], np.array(a), rings, LINE, short)
        return [c for c in chains if c.kind is Kind.TRAVEL]

    def test_they_go_round_the_corner_and_are_as_short_as_can_be(self):
        (way,) = self.ways((9.0, 20.0), (20.0, 9.0))
        self.assertTrue(self.BODY.contains(LineString(way.places)))
        np.testing.assert_allclose(way.places[[0, -1]], [(9, 20), (20, 9)])
        # Round one corner, which lies 0.4 lines inside of (10, 10).
        corner = np.array((10 - 0.4 * LINE, 10 - 0.4 * LINE))
        shortest = math.dist((9, 20), corner) + math.dist(corner, (20, 9))
        self.assertAlmostEqual(LineString(way.places).length, shortest, delta=0.02)
        self.assertEqual(way.width.tolist(), [0.0] * len(way.places))

    def test_straight_where_nothing_is_in_the_way_and_none_for_short_ones(self):
        (way,) = self.ways((5.0, 5.0), (30.0, 5.0))
        self.assertEqual(way.places.tolist(), [[5, 5], [30, 5]])
        self.assertEqual(self.ways((5.0, 5.0), (6.5, 5.0)), [])

    def test_none_where_it_costs_too_much_or_there_is_no_way(self):
        # A wall between: round it would be far.
        slit = plate(20, 20) - plate(1, 19, (9.5, -1))
        self.assertEqual(self.ways((9.0, 2.0), (11.0, 2.0), slit, short=1.0), [])
        # A short one would still be three times as long, and 9 mm more.
        notch = plate(20, 20) - plate(1, 6, (9.5, -1))
        self.assertEqual(self.ways((9.0, 0.5), (11.0, 0.5), notch, short=1.0), [])
        # One that begins in the outline itself leads nowhere.
        self.assertEqual(self.ways((9.0, 20.0), (20.0, 10 - 0.35 * LINE)), [])
        apart = plate(5, 5) + plate(5, 5, (10, 0))
        self.assertEqual(self.ways((4.0, 2.0), (11.0, 2.0), apart), [])
        self.assertEqual(self.ways((2.0, 5.0), (3.0 + LONGEST_MM, 5.0), plate(60, 10)), [])

    def test_round_a_hole(self):
        body = plate(30, 30) - CrossSection.circle(5, 64).translate((15, 15))
        (way,) = self.ways((8.0, 15.5), (22.0, 15.5), body)
        hole = Polygon([(15 + 5 * math.cos(t), 15 + 5 * math.sin(t)) for t in np.linspace(0, 2 * np.pi, 64)])
        self.assertFalse(LineString(way.places).intersects(hole))
        # The upper side is shorter.
        self.assertGreater(way.places[:, 1].max(), 20)
        self.assertGreater(way.places[:, 1].min(), 15)

    def test_nothing_is_drawn_back_for_them_and_less_in_all(self):
        beads = {
            on: laid(box(30, 20, 4) - box(6, 6, 4, (12, 7, 0)), Laying(LINE, inside=on))
            for on in (True, False)
        }
        told = {on: timed(one, Running(60.0))[0] for on, one in beads.items()}
        self.assertGreater(len(of_kind(beads[True], Kind.TRAVEL)), 10)
        self.assertEqual(of_kind(beads[False], Kind.TRAVEL), [])
        self.assertLess(told[True].retracts, 0.5 * told[False].retracts)
        self.assertAlmostEqual(told[True].volume_mm3, told[False].volume_mm3, places=6)
        body = Polygon([(0, 0), (30, 0), (30, 20), (0, 20)], [[(12, 7), (18, 7), (18, 13), (12, 13)]])
        for way in of_kind(beads[True], Kind.TRAVEL):
            self.assertTrue(body.contains(LineString(way.places)))


class SteepTest(unittest.TestCase):
    def test_a_wall_slows_down_where_it_leaves_what_is_below(self):
        square = np.array([(0, 0), (20, 0), (20, 5), (0, 5), (0, 0)], np.float64)
        below = np.array([(-1, -1), (12, -1), (12, 6), (-1, 6)], np.float64)
        found = slowed(bead(square), below, np.array([0, 4]))
        free = found.places[:, 0] >= 12
        np.testing.assert_array_equal(found.pace, np.where(free, SLOW, 1.0))
        # Along the side that is carried in part it changes within a millimetre of the edge.
        side = found.places[(found.places[:, 1] == 0) & ~free]
        self.assertGreaterEqual(side[:, 0].max(), 11)
        whole = slowed(bead(square), below + (-30, 0), np.array([0, 4]))
        self.assertEqual(whole.pace.tolist(), [SLOW] * len(whole.places))
        self.assertAlmostEqual(LineString(found.places).length, 50.0)

    def test_what_is_carried_stays_as_it_is(self):
        square = np.array([(0, 0), (20, 0), (20, 5), (0, 5), (0, 0)], np.float64)
        chain = bead(square)
        self.assertIs(slowed(chain, square[:4] * 2 - (5, 3), np.array([0, 4])), chain)

    def test_it_takes_longer(self):
        # A cone that leans out by 60 degrees from upright.
        body = on_plate(Solid(CrossSection.circle(6, 64).extrude(4, 0, 0, (2.2, 2.2))).manifold)
        both = [
            timed(laid(body, Laying(LINE, slow_steep=on)), Running(60.0, least_layer_s=0))[0].seconds
            for on in (True, False)
        ]
        self.assertGreater(both[0], both[1] * 1.05)


class StrandsTest(unittest.TestCase):
    def test_turns_are_one_strand_with_the_lengths_of_its_rings(self):
        found = strands_of(plate(40, 30), StrandZone(0, 1, turns=3))
        (strand,) = found.chains
        # Rings of w/2, 3w/2, 5w/2 inwards, and two steps of w.
        rings = sum(2 * (40 + 30) - 8 * (k + 0.5) * STRAND_MM for k in range(3))
        steps = 2 * math.sqrt(2) * STRAND_MM
        self.assertAlmostEqual(found.length_mm, rings + steps, delta=0.1)
        self.assertAlmostEqual(
            float(found.rest.area()), (40 - 6 * STRAND_MM) * (30 - 6 * STRAND_MM), delta=0.01
        )
        self.assertEqual((strand.nozzle, strand.kind), (1, Kind.STRAND))
        self.assertEqual(set(strand.width.tolist()), {STRAND_MM})

    def test_a_hole_has_turns_of_its_own(self):
        found = strands_of(plate(60, 60) - plate(30, 30, (15, 15)), StrandZone(0, 1, turns=2))
        self.assertEqual(len(found.chains), 2)

    def test_across_they_fill_it(self):
        found = strands_of(plate(40, 9 * STRAND_MM), StrandZone(0, 1, turns=0, angle_deg=0))
        self.assertEqual(len(found.chains), 1)
        # Eight lines of 39.1 mm inside, and what joins them.
        self.assertAlmostEqual(found.length_mm, 8 * 39.1 + 7 * STRAND_MM, delta=0.1 * 39.1)
        self.assertTrue(found.rest.is_empty())

    def test_they_are_worth_most_next_to_faces(self):
        low, high = worth_most(0.8, 39.2, 40.0, 0.2)
        self.assertEqual((low.low_mm, low.high_mm, high.low_mm, high.high_mm), (0.8, 2.8, 37.2, 39.2))
        self.assertEqual(worth_most(0.8, 1.4, 2.2, 0.2)[0].high_mm, 1.0)
        self.assertEqual(worth_most(0.8, 1.0, 1.8, 0.2), [])

    def test_lines_too_short_for_a_strand_leave_no_hole(self):
        # A hand of short fingers on a broad palm, whose lines cross in the other direction.
        hand = plate(60, 20)
        for k in range(6):
            hand += plate(2.5, 9, (10 * k, 20))
        for turns, angle in ((0, 0.0), (0, 90.0), (0, 45.0), (2, 0.0)):
            found = strands_of(hand, StrandZone(0, 1, turns=turns, angle_deg=angle))
            there = bead_area(found.chains) + found.rest
            self.assertGreater(float((there ^ hand).area()) / float(hand.area()), 0.93, (turns, angle))

    def test_what_is_too_small_is_told_and_filled_as_elsewhere(self):
        small = plate(6, 6, (100, 0))
        found = strands_of(plate(40, 30) + small, StrandZone(0, 1, turns=1))
        self.assertEqual(len(found.chains), 1)
        self.assertAlmostEqual(found.refused_mm2, 36.0)
        self.assertLess(4 * (6 - STRAND_MM), SHORTEST_MM)
        self.assertAlmostEqual(float((found.rest ^ small).area()), 36.0)

    def test_in_a_print_they_lie_where_they_were_asked_for(self):
        zone = StrandZone(1.0, 1.4, turns=2)
        body = box(40, 30, 3)
        stack = slice_solid(Solid(on_plate(body)), 0.2)
        walls = make_walls(stack, 2, LINE)
        surfaces = make_surfaces(stack, walls.inside, Skins(3, 3, LINE))
        beads = lay(stack, walls, surfaces, Laying(LINE, strands=(zone,)))
        layers = sorted(
            {k for k in range(len(beads.tops_mm)) for c in beads.chains(k) if c.kind is Kind.STRAND}
        )
        self.assertEqual(layers, [5, 6])
        told, _ = timed(beads, Running(60.0))
        notes = path_notes(surfaces, (zone,))
        long = sum(LineString(c.places).length for c in of_kind(beads, Kind.STRAND))
        self.assertAlmostEqual(notes.strand_mm, long, places=6)
        self.assertAlmostEqual(dict(told.volume_by_kind)["strands"], long * STRAND_MM * 0.2, places=6)
        # To the second nozzle, which begins the next layer, and back.
        self.assertEqual(told.changes, 2)
        self.assertGreater(told.second_mm3, long * STRAND_MM * 0.2)


class NozzlesTest(unittest.TestCase):
    def layers(self, *told):
        return [
            [
                bead([(k, 0), (k + 1, 0)], Kind.SUPPORT if n else Kind.OUTER, nozzle=n)
                for k, n in enumerate(row)
            ]
            for row in told
        ]

    def nozzles(self, layers):
        return [[c.nozzle for c in chains] for chains in layers]

    def test_each_layer_begins_with_the_nozzle_that_ended_the_last(self):
        found = by_nozzle(self.layers((1, 0, 1), (0, 1, 0), (0, 0), (), (1, 0)))
        self.assertEqual(self.nozzles(found), [[0, 1, 1], [1, 0, 0], [0, 0], [], [0, 1]])
        self.assertEqual(last_change(found), 4)
        self.assertEqual(last_change(found[2:4]), -1)

    def test_each_begins_on_the_stand_which_is_as_high_as_they_change(self):
        found = with_stand(by_nozzle(self.layers((0, 1), (0, 1), (0, 0), (0, 0))), LINE)
        kinds = [[(c.kind, c.nozzle) for c in chains] for chains in found]
        for chains in found[:2]:
            turn = next(k for k in range(1, len(chains)) if chains[k].nozzle != chains[k - 1].nozzle)
            self.assertIs(chains[turn].kind, Kind.PURGE)
        self.assertNotIn(Kind.PURGE, {kind for row in kinds[2:] for kind, _ in row})
        filled = [sum(len(c.places) for c in chains if c.kind is Kind.PURGE) for chains in found]
        self.assertGreater(filled[0], 30)
        volume = sum(
            LineString(c.places).length * float(c.width.mean()) for c in found[0] if c.kind is Kind.PURGE
        )
        self.assertAlmostEqual(volume / SIDE_MM**2, 1.0, delta=0.05)

    def test_where_none_changes_its_walls_alone_go_up(self):
        found = with_stand(by_nozzle(self.layers((0, 1), (1, 1), (1, 0))), LINE)
        purged = [sum(c.kind is Kind.PURGE for c in chains) for chains in found]
        self.assertLess(purged[1], purged[0])
        self.assertGreater(purged[1], 0)
        self.assertEqual({c.nozzle for c in found[1]}, {1})

    def test_one_nozzle_needs_none(self):
        layers = self.layers((0, 0), (0,))
        self.assertIs(with_stand(layers, LINE), layers)

    def test_it_is_clear_of_everything_and_on_the_plate(self):
        layers = by_nozzle(self.layers((0, 1)))
        far = [bead([(-140, -140), (140, -140)], Kind.BRIM)]
        room = (-150.0, -150.0, 150.0, 150.0)
        (found,) = with_stand([far + layers[0]], LINE, room)
        corners = np.concatenate([c.places for c in found if c.kind is Kind.PURGE])
        self.assertTrue((np.abs(corners) < 150).all())
        for chain in found:
            if chain.kind is not Kind.PURGE:
                apart = np.maximum(
                    chain.places.min(axis=0) - corners.max(axis=0),
                    corners.min(axis=0) - chain.places.max(axis=0),
                )
                self.assertGreater(apart.max(), 5.0)
        with self.assertRaisesRegex(BadValue, "no room for the stand"):
            with_stand(layers, LINE, (0.0, -3.0, 8.0, 3.0))

    def test_a_plate_has_one_stand_for_all_and_events_come_once(self):
        beads = packed(
            with_stand(by_nozzle(self.layers((0, 1), (0, 1))), LINE),
            np.array([0.2, 0.4]), 0.2, (Event(1, pause="nut"),),
        )  # fmt: skip
        whole = merged([Placed(beads, 0, 0, 0), Placed(beads, 60, 0, 90)], LINE, BUILD)
        self.assertEqual(whole.events, (Event(1, pause="nut"),))
        for layer in (0, 1):
            chains = whole.chains(layer)
            self.assertEqual(sum(a.nozzle != b.nozzle for a, b in pairwise(chains)), 1)
        # A layer more below moves them up.
        low = packed(self.layers((0,), (0,)), np.array([0.1, 0.2]), 0.2)
        mixed = merged([Placed(low, 80, 0, 0), Placed(beads, 0, 0, 0)], LINE, BUILD)
        self.assertEqual((len(mixed.tops_mm), mixed.events), (3, (Event(2, pause="nut"),)))
        purge = Counter(c.kind for c in whole.chains(0))[Kind.PURGE]
        self.assertEqual(purge, Counter(c.kind for c in beads.chains(0))[Kind.PURGE])

    def test_a_change_is_drawn_back_for_however_short_the_way(self):
        beads = packed(self.layers((0, 1)), np.array([0.2]), 0.2)
        _, moves = timed(beads, Running(60.0))
        self.assertEqual(moves.back.tolist(), [False, True, False])

    def test_filament_is_reckoned_by_nozzle(self):
        beads = packed(self.layers((0, 0, 1)), np.array([0.2]), 0.2)
        told, _ = timed(beads, Running(60.0))
        paid = bill(told, Spool("A", 1.24, 1.75, 20.0), Spool("B", 1.0, 2.85, 100.0))
        one = LINE * 0.2
        self.assertAlmostEqual(paid.shares[0].mass_g, 2 * one * 1.24 / 1000)
        self.assertAlmostEqual(paid.shares[1].mass_g, one / 1000)
        self.assertAlmostEqual(paid.shares[1].metres, one / (math.pi / 4 * 2.85**2) / 1000)
        self.assertAlmostEqual(paid.cost, (2 * one * 1.24 * 20 + one * 100) / 1e6)
        self.assertEqual(told.changes, 1)
        alone = timed(packed(self.layers((0, 0, 0)), np.array([0.2]), 0.2), Running(60.0))[0]
        self.assertEqual(len(bill(alone, Spool("A", 1.24, 1.75, 20.0)).shares), 1)
        self.assertAlmostEqual(dict(told.by_kind)["changing nozzles"], Running(60.0).change_s)
        self.assertAlmostEqual(sum(v for _, v in told.by_kind), told.seconds)


class HeightsTest(unittest.TestCase):
    def test_the_last_of_several_stretches_counts_from_its_lower_end_on(self):
        zones = (Zone(0, 2, walls=1), Zone(1, 3, walls=2))
        self.assertEqual(
            [z.walls if (z := at_height(zones, h)) else None for h in (0.0, 0.99, 1.0, 2.99, 3.0)],
            [1, 1, 2, 2, None],
        )

    def test_temperatures_and_fans_are_set_and_set_back(self):
        heights = [math.nan, 0.1, 0.3, 0.5, 0.7]
        found = events((Zone(0.2, 0.6, nozzle_c=215.0, fan_percent=30.0),), (), heights, (205.0, 100.0))
        self.assertEqual(found, (Event(2, 215.0, 30.0), Event(4, 205.0, 100.0)))
        # The fan of the first layer stays off.
        first = events((Zone(0.0, 0.2, nozzle_c=215.0, fan_percent=30.0),), (), [0.1, 0.3], (205.0, 100.0))
        self.assertEqual(first, (Event(0, 215.0, None), Event(1, 205.0, None)))

    def test_a_pause_comes_before_the_layer_that_begins_there(self):
        heights = [0.1, 0.3, 0.5, 0.7]
        (one,) = events((), (Pause(0.4, "nut"),), heights, (205.0, 100.0))
        self.assertEqual((one.layer, one.pause), (2, "nut"))
        found = events((), (Pause(0.6, ""), Pause(0.2, "b")), heights, (205.0, 100.0))
        self.assertEqual([(e.layer, e.pause) for e in found], [(1, "b"), (3, "go on when ready")])
        self.assertEqual(events((), (Pause(9.0, "late"),), heights, (205.0, 100.0)), ())

    def test_stretches_have_their_own_walls_infill_and_speed(self):
        stack = slice_solid(Solid(on_plate(box(30, 20, 6))), 0.2)
        zone = Zone(2.0, 4.0, walls=4, density=0.5, pattern=Pattern.LINES, pace=0.5)
        walls = make_walls(stack, 2, LINE, counts=lambda z: 4 if at_height((zone,), z) else 2)
        count = [sum(c.kind in (Kind.OUTER, Kind.WALL) for c in walls.beads.chains(k)) for k in range(30)]
        self.assertEqual(count, [2] * 10 + [4] * 10 + [2] * 10)
        surfaces = make_surfaces(stack, walls.inside, Skins(3, 3, LINE))
        beads = lay(stack, walls, surfaces, Laying(LINE, zones=(zone,)))
        share = [
            sum(LineString(c.places).length for c in beads.chains(k) if c.kind is Kind.INFILL)
            * LINE
            / float(surfaces.sparse.area_mm2[k])
            for k in (7, 14)
        ]
        # Links along the walls come on top.
        self.assertAlmostEqual(share[0], 0.15, delta=0.08)
        self.assertAlmostEqual(share[1], 0.5, delta=0.08)
        self.assertEqual(
            {float(p) for c in beads.chains(14) if c.kind is not Kind.TRAVEL for p in c.pace}, {0.5}
        )
        self.assertEqual({float(p) for c in beads.chains(7) for p in c.pace}, {1.0})

    def test_how_fast_it_really_goes(self):
        beads = packed([[bead([(0, 0), (100, 0)])]], np.array([0.2]), 0.2)
        running = Running(100.0, acceleration_mm_s2=1000.0, first_share=1.0, least_layer_s=0, flow_mm3_s=1e9)
        # 60 mm/s along outer walls: 100 mm take 100 / 60 + 60 / 1000 s.
        self.assertAlmostEqual(float(speeds_of(beads, running).mm_s[1]), 100 / (100 / 60 + 0.06), places=4)


class InsideTest(unittest.TestCase):
    def test_infill_in_every_so_many_layers_is_as_much_in_all(self):
        body = box(30, 30, 6.4)
        told = {n: laid(body, Laying(LINE, infill_every=n)) for n in (1, 2)}
        volume = {
            n: sum(dict(timed(b, Running(60.0))[0].volume_by_kind)[k] for k in ("infill",))
            for n, b in told.items()
        }
        self.assertAlmostEqual(volume[2] / volume[1], 1.0, delta=0.03)
        high = [c.high for c in of_kind(told[2], Kind.INFILL)]
        self.assertEqual(set(high) & {2.0}, {2.0})
        long = {n: sum(LineString(c.places).length for c in of_kind(b, Kind.INFILL)) for n, b in told.items()}
        self.assertLess(long[2], 0.6 * long[1])

    def test_what_layers_of_a_group_do_not_share_is_printed_in_its_own(self):
        regions = [plate(10, 10), plate(10, 20), plate(10, 20), plate(10, 20)]
        grouped = Grouped(regions.__getitem__, 4, 2)
        found = [[(float(r.area()), high) for r, high in grouped.of(k)] for k in range(4)]
        self.assertEqual(found, [[(0, 1)], [(100, 1), (100, 2)], [(0, 1)], [(0, 1), (200, 2)]])
        alone = Grouped(regions.__getitem__, 4, 2, first=1)
        self.assertEqual(
            [[(float(r.area()), h) for r, h in alone.of(k)] for k in (0, 2, 3)],
            [[(100, 1)], [(0, 1), (200, 2)], [(200, 1)]],
        )

    def test_denser_right_under_roofs(self):
        beads = laid(
            box(30, 30, 6), Laying(LINE, density=0.1, roof_density=0.5), skins=Skins(3, 3, LINE, roofed=2)
        )

        def infill(layer):
            return sum(LineString(c.places).length for c in beads.chains(layer) if c.kind is Kind.INFILL)

        # Of 30 layers the last three are roofs.
        self.assertGreater(infill(26), 3 * infill(24))
        self.assertGreater(infill(25), 3 * infill(24))
        self.assertAlmostEqual(infill(24) / infill(20), 1.0, delta=0.1)

    def test_tops_are_smoothed_where_nothing_lies_on_them(self):
        skins = Skins(3, 3, LINE, bare=True)
        beads = laid(box(30, 30, 2) + box(10, 30, 2, (0, 0, 2)), Laying(LINE, smooth=True), skins=skins)
        layers = sorted({k for k in range(20) for c in beads.chains(k) if c.kind is Kind.SMOOTHING})
        self.assertEqual(layers, [9, 19])
        passes = [c for c in beads.chains(9) if c.kind is Kind.SMOOTHING]
        # A tenth of the volume of the 19 mm beside the step.
        volume = sum(LineString(c.places).length * float(c.width[0]) * c.high * 0.2 for c in passes)
        self.assertAlmostEqual(volume, 0.1 * 0.2 * 19 * 28.2, delta=0.12 * 0.1 * 0.2 * 19 * 28.2)
        self.assertGreater(min(c.places[:, 0].min() for c in passes), -6)

    def test_bridges_push_out_as_much_as_asked(self):
        body = box(3, 20, 4) + box(3, 20, 4, (23, 0, 0)) + box(26, 20, 2, (0, 0, 4))
        volume = [
            dict(timed(laid(body, Laying(LINE, bridge_flow=flow)), Running(60.0))[0].volume_by_kind)[
                "bridges"
            ]
            for flow in (1.0, 0.9)
        ]
        self.assertAlmostEqual(volume[1] / volume[0], 0.9)

    def test_nothing_over_supports_is_a_bridge(self):
        body = on_plate(box(3, 20, 4) + box(3, 20, 4, (23, 0, 0)) + box(26, 20, 2, (0, 0, 4)))
        stack = slice_solid(Solid(body), 0.2)
        walls = make_walls(stack, 2, LINE)
        below = plate(20, 20, (3, 0))
        for held, bridges in ((None, True), (lambda k: below if k == 20 else CrossSection(), False)):
            found = make_surfaces(stack, walls.inside, Skins(3, 3, LINE), held)
            self.assertEqual(found.bridge.area_mm2[20] > 100, bridges)

    def test_gaps_that_roofs_span(self):
        # Lines of 15 % are 2.93 mm apart; squares and triangles have twice that.
        self.assertAlmostEqual(widest_gap_mm(Pattern.LINES, 0.15, LINE), LINE / 0.15 - LINE)
        self.assertAlmostEqual(widest_gap_mm(Pattern.GRID, 0.15, LINE), 2 * LINE / 0.15 - LINE)
        # The circle in a triangle of lines three spacings apart has a radius of a third of its height.
        self.assertAlmostEqual(widest_gap_mm(Pattern.TRIANGLES, 0.1, LINE), 2 * (3 * LINE / 0.1) / 3 - LINE)
        self.assertEqual(widest_gap_mm(Pattern.GYROID, 0.0, LINE), math.inf)

    def test_a_roof_spans_the_gap_or_itself(self):
        notes = PathNotes(roof_mm2=100 * math.pi)
        self.assertAlmostEqual(roof_span_mm(notes, Pattern.LINES, 0.1, LINE), LINE / 0.1 - LINE)
        self.assertAlmostEqual(roof_span_mm(notes, Pattern.LINES, 0.0, LINE), 20.0)

    def test_a_roof_over_a_hollow_is_told_with_its_height(self):
        stack = slice_solid(Solid(on_plate(box(30, 30, 6))), 0.2)
        walls = make_walls(stack, 2, LINE)
        notes = path_notes(make_surfaces(stack, walls.inside, Skins(3, 3, LINE)), ())
        self.assertAlmostEqual(notes.roof_z_mm, 5.4)
        self.assertAlmostEqual(notes.roof_mm2, (30 - 4 * LINE) ** 2, delta=5)
        # What is filled by the pattern lies between three layers below and three above.
        self.assertAlmostEqual(notes.inside_mm3, (30 - 4 * LINE) ** 2 * (6 - 6 * 0.2), places=3)


class AsideTest(unittest.TestCase):
    def test_outlines_and_holes_are_moved(self):
        region = plate(20, 20) - plate(6, 6, (7, 7))
        moved = Aside(outline_mm=-0.1, hole_mm=0.15).moved(region, first=False)
        self.assertAlmostEqual(float(moved.area()), 19.8**2 - 6.3**2, places=5)
        # Only the first layer is drawn in there (20 by 30, 0.2 mm: 580.16).
        pressed = Aside(first_mm=-0.2)
        self.assertAlmostEqual(float(pressed.moved(plate(20, 30), first=True).area()), 580.16)
        self.assertAlmostEqual(float(pressed.moved(plate(20, 30), first=False).area()), 600.0)

    def test_what_stands_in_a_hole_is_an_outline_of_its_own(self):
        region = plate(20, 20) - plate(10, 10, (5, 5)) + plate(4, 4, (8, 8))
        moved = Aside(outline_mm=0.1, hole_mm=0.2).moved(region, first=False)
        self.assertAlmostEqual(float(moved.area()), 20.2**2 - 10.4**2 + 4.2**2, places=5)


class SeamsTest(unittest.TestCase):
    RING = np.array([(10.0, 0.0), (0.0, 10.0), (-10.0, 0.0), (0.0, -10.0)])

    def test_along_a_picked_line_by_height(self):
        order = Order(Seam.PICKED, line=((0, -20, 10), (20, 0, 0)))
        found = [seam_index(self.RING, order, np.zeros(2), 0, z) for z in (-5, 0, 10, 50)]
        self.assertEqual(found, [0, 0, 3, 3])
        np.testing.assert_allclose(order.spot(5), (10, -10))

    def test_away_from_the_show_side(self):
        self.assertEqual(seam_index(self.RING, Order(Seam.HIDDEN, 180.0), np.zeros(2), 0), 2)


class PlateSkirtTest(unittest.TestCase):
    def item(self, lines=2):
        made = make_footing(
            plate(20, 20, (-10, -10)),
            FootingSettings(FootingKind.SKIRT, lines=lines, line_width_mm=LINE, distance_mm=2.0),
            0.2,
        )
        chains = footing_chains(made, FootingKind.SKIRT, 0, LINE, frozenset()) if lines else []
        square = [(-9, -9), (9, -9), (9, 9), (-9, 9), (-9, -9)]
        return packed([[*chains, bead(square)]], np.array([0.2]), 0.2)

    def skirts(self, *placed):
        whole = merged([Placed(*one) for one in placed], LINE, BUILD)
        return [Polygon(c.places) for c in whole.chains(0) if c.kind is Kind.SKIRT]

    def test_one_goes_round_all_that_is_near_and_through_none(self):
        item = self.item()
        alone = self.skirts((item, 0, 0, 0))
        own = [Polygon(c.places) for c in item.chains(0) if c.kind is Kind.SKIRT]
        self.assertEqual(len(alone), 2)
        for one, other in zip(sorted(a.area for a in alone), sorted(a.area for a in own), strict=True):
            self.assertAlmostEqual(one, other, delta=0.3)
        near = self.skirts((item, 0, 0, 0), (item, 22, 0, 0))
        self.assertEqual(len(near), 2)
        parts = [Polygon([(x - 10, -10), (x + 10, -10), (x + 10, 10), (x - 10, 10)]) for x in (0, 22)]
        for ring in near:
            for part in parts:
                self.assertTrue(ring.contains(part))
                self.assertGreater(ring.exterior.distance(part), 1.99)
        self.assertEqual(len(self.skirts((item, 0, 0, 0), (item, 80, 0, 0))), 4)

    def test_items_without_one_are_gone_round_too(self):
        near = self.skirts((self.item(), 0, 0, 0), (self.item(0), 22, 0, 45))
        self.assertEqual(len(near), 2)
        bare = Polygon([(22 + x, y) for x, y in ((12.7, 0), (0, 12.7), (-12.7, 0), (0, -12.7))])
        for ring in near:
            self.assertTrue(ring.contains(bare))
        self.assertEqual(self.skirts((self.item(0), 0, 0, 0)), [])

    def test_what_has_no_room_is_left_out(self):
        self.assertEqual(self.skirts((self.item(), 150 - 11, 0, 0)), [])
        self.assertEqual(len(self.skirts((self.item(), 150 - 12 - LINE, 0, 0))), 1)


class FootingPathsTest(unittest.TestCase):
    def chains(self, settings, layer=0, second=frozenset()):
        made = make_footing(plate(20, 30), settings, 0.2)
        return made, footing_chains(made, settings.kind, layer, 0.4, second)

    def test_a_skirt_is_as_long_as_its_loops(self):
        # Two loops of 0.4 mm round 20 by 30, 3 mm away: 242.73 mm by Steiner's formula.
        settings = FootingSettings(FootingKind.SKIRT, lines=2, line_width_mm=0.4, distance_mm=3.0)
        _, chains = self.chains(settings)
        self.assertEqual([c.kind for c in chains], [Kind.SKIRT] * 2)
        self.assertAlmostEqual(sum(LineString(c.places).length for c in chains), 242.7257, delta=0.2)

    def test_a_brim_has_as_many_loops_as_lines(self):
        _, chains = self.chains(FootingSettings(FootingKind.BRIM, lines=5, line_width_mm=0.4))
        self.assertEqual(len(chains), 5)
        self.assertEqual({c.kind for c in chains}, {Kind.BRIM})

    def test_a_raft_is_wide_below_and_close_above(self):
        settings = FootingSettings(
            FootingKind.RAFT, raft_layers=5, line_width_mm=0.4, base_layers=1, top_layers=2
        )
        made, chains = self.chains(settings, 0)
        self.assertEqual([round(w, 6) for _, w in made.weave], [0.72, 0.4, 0.4, 0.4, 0.4])
        area = float(made.outline.area())
        share = []
        for layer in range(5):
            _, chains = self.chains(settings, layer)
            share.append(sum(LineString(c.places).length * float(c.width.mean()) for c in chains) / area)
        np.testing.assert_allclose(share, [0.5, 0.5, 0.5, 1.0, 1.0], atol=0.12)
        told = made.volume_mm3 / (0.2 * area)
        self.assertAlmostEqual(told, 3.5, places=6)
        _, chains = self.chains(settings, 4, frozenset({Kind.RAFT}))
        self.assertEqual({c.nozzle for c in chains}, {1})


if __name__ == "__main__":
    unittest.main()
