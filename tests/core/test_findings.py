"""The list of findings: islands followed upwards, low points, steps and necks, and what holds them."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import Manifold, OpType

from tests.held import hold_part
from tests.support import box, comb, mesh_of, on_plate, portal, sphere, stalactites, tee, torus
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.hanging.findings import Family, Hanging, State, listed, walk
from upright_heron.core.hanging.layer_steps import layer_steps, thin_necks
from upright_heron.core.hanging.lowest_points import low_points
from upright_heron.core.hanging.overhang_regions import hanging_regions
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.supports.checks.holding import holding, probes
from upright_heron.core.supports.demand.patches import Style
from upright_heron.core.supports.model import SupportSettings


def layers(body, layer=0.2):
    return slice_solid(Solid(body), layer)


def walked(body, layer=0.2, **options):
    asked = {"spot_mm": 0.4, "resin": False} | options
    return walk(mesh_of(body), layers(body, layer), **asked)


class IslandsTest(unittest.TestCase):
    def test_comb_legs_join_at_the_plate_with_their_volume(self):
        # Legs of 5 x 5 that begin at 5 and 10 under a plate at 20 (checks by construction).
        found = walked(comb()).islands
        self.assertEqual([i.joins_z_mm for i in found], [20.0, 20.0])
        for island, volume in zip(found, (25 * 15, 25 * 10), strict=True):
            self.assertAlmostEqual(island.hanging_mm3, volume, delta=1e-6)
            self.assertFalse(island.point, "a flat start of 25 mm2 is no point")
            self.assertEqual(island.joins, 0)

    def test_cones_are_points_with_the_volume_of_a_cone(self):
        found = walked(stalactites()).islands
        self.assertEqual([i.point for i in found], [True] * 16)
        self.assertEqual({i.joins_z_mm for i in found}, {25.0})
        # A cone of radius 3 and height 11.5, of 48 sides: pi r2 h / 3 less its polygon.
        self.assertAlmostEqual(found[0].hanging_mm3 / 108.4, 1, delta=0.01)
        self.assertGreater(found[0].grown_mm2, found[0].area_mm2)

    def test_the_later_of_two_islands_joins_the_earlier(self):
        # Two legs hang from a beam that hangs from a roof on a post: the lower leg carries all of it.
        body = Manifold.batch_boolean(
            [
                box(4, 4, 40), box(60, 4, 4, (0, 0, 40)),
                box(4, 4, 10, (30, 0, 10)), box(4, 4, 5, (50, 0, 15)), box(24, 4, 4, (30, 0, 20)),
                box(4, 4, 16, (40, 0, 24)),
            ],
            OpType.Add,
        )  # fmt: skip
        low, high = walked(body).islands
        self.assertEqual((high.joins, high.joins_z_mm), (low.number, 20.0))
        self.assertEqual((low.joins, low.joins_z_mm), (0, 40.0))
        self.assertAlmostEqual(high.hanging_mm3, 16 * 5, delta=1e-6)
        self.assertAlmostEqual(low.hanging_mm3, 16 * 10 + 16 * 5 + 24 * 16 + 16 * 16, delta=1e-6)

    def test_what_never_joins_is_said(self):
        upright = torus(20, 5, 96).rotate((90, 0, 0)).translate((20, 0, 0))
        (ring,) = walked(on_plate(Manifold.compose([upright, torus(20, 5, 96)]))).islands
        self.assertIsNone(ring.joins_z_mm)
        # Pappus: 2 pi2 R r2 = 9869.6.
        self.assertAlmostEqual(ring.hanging_mm3 / 9869.6, 1, delta=0.01)

    def test_two_hundred_points_are_two_hundred(self):
        for sharp in (0.0, 0.05):
            spikes = [
                Manifold.cylinder(6, sharp, 1.2, 12).translate(
                    (3 + 4 * (k % 20), 3 + 4 * (k // 20), 4.0 + 0.013 * k)
                )
                for k in range(200)
            ]
            body = Manifold.batch_boolean([*spikes, box(84, 44, 3, (0, 0, 9)), box(1, 1, 10)], OpType.Add)
            with self.subTest(sharp):
                found = walked(body)
                self.assertEqual((len(found.islands), len(found.lows)), (200, 0))
                self.assertEqual(sum(i.point for i in found.islands), 200)

    @settings(max_examples=8, deadline=None)
    @given(st.floats(0, 360))
    def test_points_and_joins_stay_when_swung_about_the_vertical(self, degrees):
        found = walked(stalactites().rotate((0, 0, degrees)))
        self.assertEqual(sum(i.point for i in found.islands), 16)
        self.assertEqual({round(i.joins_z_mm, 6) for i in found.islands}, {25.0})

    def test_a_lifted_part_hangs_as_a_whole(self):
        (island,) = walked(tee().translate((0, 0, 5)), on_plate=False).islands
        self.assertIsNone(island.joins_z_mm)
        self.assertAlmostEqual(island.hanging_mm3, 10 * 10 * 20 + 40 * 10 * 5, delta=10)


class LowPointsTest(unittest.TestCase):
    def test_counted_shapes(self):
        for name, body, count in (
            ("box", box(10, 10, 10), 1),
            ("upright ring", torus(20, 5).rotate((90, 0.7, 0)), 1),
            ("stalactites and their leg", stalactites(), 17),
            ("hollow ball: its floor is a pit", sphere(10, 64) - sphere(8, 64), 1),
        ):
            with self.subTest(name):
                self.assertEqual(len(low_points(mesh_of(body))), count)

    def test_a_tip_between_two_layers_is_no_island_but_is_listed(self):
        # A boss of 0.15 mm under a shelf: no layer of 0.4 mm shows it by itself.
        body = box(10, 10, 20) + box(30, 10, 5, (0, 0, 15)) + box(2, 2, 0.15, (20, 4, 14.85))
        found = walked(body, 0.4)
        self.assertEqual([i.layer for i in found.islands], [])
        (low,) = found.lows
        self.assertAlmostEqual(low.depth_mm, 0.15, places=5)
        self.assertAlmostEqual(low.wide_mm, 8**0.5, places=5)
        self.assertEqual(walked(body, 0.8).lows, (), "texture, where a layer is five times as high")


class StepsTest(unittest.TestCase):
    def test_a_shelf_on_a_post_grows_and_a_tower_on_a_base_drops(self):
        (grows,) = layer_steps(layers(tee()))
        self.assertEqual((grows.grows, round(grows.z_mm, 6)), (True, 20.0))
        self.assertAlmostEqual(grows.ratio, 4.0, delta=1e-6)
        (drops,) = layer_steps(layers(box(40, 40, 4) + box(10, 10, 20)))
        self.assertFalse(drops.grows)
        self.assertEqual(layer_steps(layers(box(10, 10, 20) + box(19, 10, 5, (0, 0, 15)))), [])
        self.assertEqual(len(layer_steps(layers(box(10, 10, 20) + box(19, 10, 5, (0, 0, 15))), 1.5)), 1)

    def test_a_ball_has_no_step_and_a_ball_on_a_stick_a_neck(self):
        self.assertEqual(layer_steps(layers(on_plate(sphere(10, 64)))), [])
        self.assertEqual(thin_necks(layers(box(10, 10, 60))), [])
        stick = box(30, 30, 4, (-15, -15, 0)) + box(3, 3, 20, (-1.5, -1.5, 4))
        (neck,) = thin_necks(layers(stick + sphere(15, 64).translate((0, 0, 38))))
        self.assertAlmostEqual(neck.area_mm2, 9.0, delta=1e-6)
        self.assertTrue(4 < neck.z_mm < 24)
        self.assertGreater(neck.above_mm3, 14000)


class ListTest(unittest.TestCase):
    def found(self, body, **options):
        walk_found = walked(body, **options)
        regions = tuple(hanging_regions(mesh_of(body), 45.0))
        return Hanging(
            walk_found.islands, walk_found.lows, regions, walk_found.steps, walk_found.necks, walk_found.cups
        )

    def listed(self, found, **options):
        asked = {"limit_deg": 45.0, "bridge_mm": 10.0, "material": "PLA", "resin": False} | options
        return listed(found, **asked)

    def test_bridges_carry_themselves_by_material_and_never_in_resin(self):
        found = self.found(portal())
        (short,) = (f for f in self.listed(found, bridge_mm=20.0) if f.family is Family.OVERHANG)
        self.assertEqual((short.kind, short.state), ("bridge", State.CARRIES))
        self.assertIn("20 mm", short.reason)
        (long,) = (f for f in self.listed(found) if f.family is Family.OVERHANG)
        self.assertEqual(long.state, State.TODO)
        (resin,) = (f for f in self.listed(found, resin=True) if f.family is Family.OVERHANG)
        self.assertEqual((resin.kind, resin.state), ("ceiling", State.TODO))
        (painted,) = (
            f
            for f in self.listed(found, bridge_mm=20.0, propped=frozenset({1}))
            if f.family is Family.OVERHANG
        )
        self.assertEqual(painted.state, State.TODO)

    def test_accepting_by_id_and_order_from_the_plate_up(self):
        found = self.found(comb())
        first = self.listed(found)
        self.assertEqual([f.z_mm for f in first], sorted(f.z_mm for f in first))
        self.assertEqual(len({f.id for f in first}), len(first))
        again = self.listed(found, accepted={first[0].id: "cut off later"})
        self.assertEqual((again[0].state, again[0].note), (State.ACCEPTED, "cut off later"))
        self.assertTrue(all(f.state is State.TODO for f in again[1:] if f.family is Family.ISLAND))

    def test_supports_hold_what_they_stand_under(self):
        body = comb()
        found, stack, part = self.found(body), layers(body), mesh_of(body)
        made = hold_part(part, stack, 45.0, SupportSettings(), style=Style.LINES)
        held = holding(probes(found, part), made, SupportSettings())
        states = self.listed(found, holding=held)
        for finding in states:
            if finding.family in (Family.ISLAND, Family.OVERHANG):
                with self.subTest(finding.name):
                    self.assertEqual(finding.state, State.HELD)
                    self.assertTrue(set(finding.by) <= {s.id for s in made.supports})

    def test_without_its_column_a_shelf_is_not_held(self):
        body = tee()
        found, stack, part = self.found(body), layers(body), mesh_of(body)
        made = hold_part(part, stack, 45.0, SupportSettings(), style=Style.LINES)
        self.assertEqual(len(made.supports), 2)
        kept = type(made)(made.supports[:1], made.layers, made.held_area_mm2, (), ())
        held = holding(probes(found, part), kept, SupportSettings())
        shelves = [f for f in self.listed(found, holding=held) if f.family is Family.OVERHANG]
        self.assertEqual(sorted(f.state for f in shelves), [State.HELD, State.TODO])


if __name__ == "__main__":
    unittest.main()
