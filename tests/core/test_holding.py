"""Which supports hold which finding, and how a tool gets at them: specimens whose answers are plain."""

import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import Manifold

from tests.held import USUAL, Bench, table
from tests.stilted import Stilted
from tests.support import box, comb, mesh_of, on_plate, stalactites
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.geometry.tree import Tree
from upright_heron.core.hanging.findings import Family, finding_id
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.supports.checks.holding import holding, probes
from upright_heron.core.supports.checks.removal import Out, reach
from upright_heron.core.supports.demand.patches import Style
from upright_heron.core.supports.filament.finish import edited
from upright_heron.core.supports.model import Branches
from upright_heron.core.supports.support_set import SupportSet


def island(found, number):
    """Id of an island by its number."""
    one = next(i for i in found.islands if i.number == number)
    return finding_id(Family.ISLAND, one.x_mm, one.y_mm, one.z_mm)


class HoldingTest(unittest.TestCase):
    def test_each_leg_of_the_comb_by_what_stands_below_it(self):
        bench = Bench(comb())
        points = probes(bench.hanging, bench.mesh)
        for style in (Style.LINES, Style.GRID, Style.TREE, Style.PILLAR):
            with self.subTest(style):
                made = bench.make(style)
                held = holding(points, made, USUAL)
                for number, x in ((1, 22.5), (2, 42.5)):
                    by = held[island(bench.hanging, number)]
                    for support in (s for s in made.supports if s.id in by):
                        self.assertLess(abs(support.touch_mm[0] - x), 5.0)

    def test_what_is_taken_out_holds_no_longer(self):
        bench = Bench(comb())
        points = probes(bench.hanging, bench.mesh)
        held = [(patch, Style.PILLAR) for patch in bench.patches]
        made = bench.make(Style.PILLAR)
        first = island(bench.hanging, 1)
        gone = holding(points, made, USUAL)[first]
        left = holding(points, edited(made, bench.stack, held, gone, [], USUAL), USUAL)
        self.assertNotIn(first, left)
        self.assertIn(island(bench.hanging, 2), left)

    def test_half_of_a_broad_underside_is_enough_and_less_is_not(self):
        bench = Bench(table())
        points = probes(bench.hanging, bench.mesh)
        (top,) = (
            finding_id(Family.OVERHANG, *region.lowest_mm)
            for region in bench.hanging.regions
            if region.area_mm2 > 1000
        )
        made = bench.make(Style.PILLAR, given=replace(USUAL, spacing_mm=4.0))
        trees = bench.make(Style.TREE)
        self.assertEqual(set(holding(points, trees, USUAL)[top]), {s.id for s in trees.supports})
        # All posts together hold it, one in the middle only a spacing round it: far from half of 60 x 60.
        self.assertIn(top, holding(points, made, USUAL))
        by_way = sorted(made.supports, key=lambda s: np.hypot(s.touch_mm[0] - 30, s.touch_mm[1] - 30))
        self.assertGreater(len(by_way), 50)
        held = [(patch, Style.PILLAR) for patch in bench.patches]
        one = edited(made, bench.stack, held, {s.id for s in by_way[1:]}, [], USUAL)
        self.assertNotIn(top, holding(points, one, USUAL))

    def test_nothing_is_held_by_nothing(self):
        bench = Bench(comb())
        bare = SupportSet((), slice_solid(Solid(comb()), 0.2), 0.0, ())
        self.assertEqual(holding(probes(bench.hanging, bench.mesh), bare, USUAL), {})
        self.assertEqual(holding({}, bench.make(Style.LINES), USUAL), {})

    def test_stilts_hold_the_points_they_end_at(self):
        bench = Stilted(on_plate(stalactites()), 0.2, lift=5.0)
        hanging, made = bench.hanging, bench.made()
        held = holding(probes(hanging, bench.mesh), made, USUAL)
        for one in hanging.islands:
            by = held[island(hanging, one.number)]
            ends = [s.touch_mm for s in made.supports if s.id in by]
            away = [np.hypot(x - one.x_mm, y - one.y_mm) for x, y, _ in ends]
            self.assertLess(min(away), 0.5)


class ToolTest(unittest.TestCase):
    """A post in the middle of a bore that opens downwards: a tool gets in if it is narrower than the bore."""

    def found(self, diameter, tool, deep=12.0):
        body = box(40, 40, 20) - Manifold.cylinder(deep, diameter / 2, diameter / 2, 96).translate(
            (20, 20, 0)
        )
        nodes = np.array([[20, 20, deep - 0.2, 0.36], [20, 20, 0, 1.0]])
        post = Branches(
            "p", "bore", (20.0, 20.0, deep - 0.2), False, 1.0, nodes, np.array([1, -1]), ("p",), "pillar"
        )
        (access,) = reach([post], Tree.of(mesh_of(body)), tool)
        return access

    @settings(max_examples=30, deadline=None)
    @given(st.floats(5, 20), st.floats(0.2, 0.9))
    def test_narrower_than_the_bore_it_reaches_and_wider_it_does_not(self, diameter, share):
        inside, outside = self.found(diameter, share * diameter), self.found(diameter, 1.1 * diameter)
        self.assertEqual((inside.out, inside.tool_share), (Out.FREE, 1.0))
        self.assertEqual(outside.tool_share, 0.0)

    def test_a_wider_tool_never_reaches_more(self):
        made = Bench(comb()).make(Style.TREE)
        part = Tree.of(mesh_of(comb()))
        shares = [
            sum(access.tool_share for access in reach(made.supports, part, tool))
            for tool in (1.0, 4.0, 12.0, 40.0)
        ]
        self.assertEqual(shares, sorted(shares, reverse=True))
        self.assertGreater(shares[0], 0)


if __name__ == "__main__":
    unittest.main()
