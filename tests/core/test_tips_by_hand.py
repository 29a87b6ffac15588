"""Single tips by hand: the others stay, layers and faults are those that all together would have."""

import unittest
from dataclasses import replace

import numpy as np
import shapely
from manifold3d import Manifold

from tests.stilted import USUAL, Stilted
from tests.support import box
from upright_heron.core.geometry.tree import Tree
from upright_heron.core.machines.catalogue import Peel
from upright_heron.core.supports.checks.stilt_check import _floating, verify_changed, verify_stilts
from upright_heron.core.supports.resin.braces import brace
from upright_heron.core.supports.resin.hands import with_hands
from upright_heron.core.supports.resin.site import NOTHING, ByHand, Ground, Site
from upright_heron.core.supports.resin.sizes import Stoutness, size_for
from upright_heron.core.supports.resin.stilt import Stilt
from upright_heron.core.supports.resin.stilt_layers import stilt_layers
from upright_heron.core.supports.resin.stilt_sets import edited, finished
from upright_heron.core.supports.resin.stilts import stand
from upright_heron.core.supports.resin.tip_places import undersides

LIFT = 4.0


def hands(put=(), out=(), sized=()):
    """What hands did: places put and taken out, and pairs of a place and a size."""
    return ByHand(
        np.array(put, float).reshape(-1, 3),
        np.array(out, float).reshape(-1, 3),
        np.array([at for at, _ in sized], float).reshape(-1, 3),
        tuple(size for _, size in sized),
    )


def silent(*_):
    """Tell nobody."""


class Table(unittest.TestCase):
    """A ceiling on a post, a peg that begins in mid-air, and a low shelf to stand on."""

    @classmethod
    def setUpClass(cls):
        body = box(36, 24, 3, (0, 0, 30)) + box(4, 24, 33, (-4, 0, 0)) + box(1.2, 1.2, 12, (18, 10, 20))
        cls.bench = Stilted(body + box(8, 8, 2, (26, 14, 0)), layer=0.1, lift=LIFT)
        ground = Ground(cls.bench.mesh, cls.bench.tree, cls.bench.stack, cls.bench.hanging)
        cls.site = Site(ground, USUAL, Peel.USUAL, cls.bench.limit)
        cls.stood = stand(cls.site)
        cls.made = finished(cls.stood, cls.site)
        cls.under = undersides(cls.bench.mesh)

    def after(self, now, around=NOTHING, stood=None):
        """The stilts after what hands did."""
        return with_hands(stood or self.stood, self.site, around, now)

    def alike(self, one, other):
        """Two sets have the same layers and faults, to the bit and in their order."""
        for name in ("points", "ring_start", "layer_start", "area_mm2"):
            np.testing.assert_array_equal(getattr(one.layers, name), getattr(other.layers, name), name)
        self.assertEqual(one.faults, other.faults)
        self.assertEqual((one.notes, one.unheld_islands), (other.notes, other.unheld_islands))
        self.assertEqual(one.held_area_mm2, other.held_area_mm2)

    def unmoved(self, after, but=()):
        """All that stood stand as they did, but for some ids; their ids."""
        now = {one.id: one for one in after.stilts}
        stays = [one for one in self.stood.stilts if one.id not in but]
        for one in stays:
            np.testing.assert_array_equal(now[one.id].circles, one.circles)
            self.assertEqual((now[one.id].size, now[one.id].stands_on), (one.size, one.stands_on))
        kept = {bar.id for bar in after.braces}
        for bar in self.stood.braces:
            if not set(bar.between) & set(but):
                self.assertIn(bar.id, kept)
        return {one.id for one in stays}


class HandTest(Table):
    def test_the_others_stay_and_the_new_one_is_as_stout_as_its_load_asks(self):
        at = (7.3, 8.1, 30.0 + LIFT)
        after = self.after(hands(put=[at]))
        ids = self.unmoved(after)
        (new,) = [one for one in after.stilts if one.id not in ids]
        self.assertEqual((new.touch_mm, new.reason, new.stands_on), (at, "by hand", ""))
        np.testing.assert_allclose(new.circles[-2, :3], at)
        self.assertEqual(new.circles[0, 2], 0.0)
        self.assertEqual(new.size, size_for(new.load_n, self.site.sizes, Peel.USUAL).name.value)
        # It stands no longer by itself than the check lets pass; no others get more braces.
        before = {bar.id for bar in self.stood.braces}
        fresh = [bar for bar in after.braces if bar.id not in before]
        self.assertTrue(fresh)
        for bar in fresh:
            self.assertIn(new.id, bar.between)
        told = finished(after, self.site)
        self.assertFalse([fault for fault in told.faults if fault.kind.value != "overloaded"])
        self.assertEqual(self.bench.in_mid_air(told, 0.2), [])

    def test_loads_are_those_of_all_that_stand(self):
        carried = {one.stands_on for one in self.stood.stilts}
        most = max((s for s in self.stood.stilts if s.id not in carried), key=lambda one: one.load_n)
        after = self.after(hands(out=[most.touch_mm]))
        self.assertEqual(self.unmoved(after, but=[most.id]), {one.id for one in after.stilts})
        tips = np.array([one.touch_mm for one in after.stilts])
        np.testing.assert_allclose([one.load_n for one in after.stilts], self.site.borne(tips).load_n)
        # Those beside it bear what it bore.
        before = {one.id: one.load_n for one in self.stood.stilts}
        more = sum(one.load_n - before[one.id] for one in after.stilts)
        self.assertGreater(more, 0.2 * most.load_n)

    def hung_on(self, one):
        """It and those that stand on its shaft."""
        return [one.id, *(other.id for other in self.stood.stilts if other.stands_on == one.id)]

    def test_only_the_nearest_goes_and_those_on_its_shaft_stand_otherwise(self):
        trunk = next(one for one in self.stood.stilts if self.holds_no_island(one))
        x, y, z = trunk.touch_mm
        after = self.after(hands(out=[(x + 0.05, y, z)]))
        self.unmoved(after, but=self.hung_on(trunk))
        now = {one.id: one for one in after.stilts}
        self.assertNotIn(trunk.id, now)
        orphans = [now[name] for name in self.hung_on(trunk)[1:] if name in now]
        self.assertTrue(orphans)
        for one in orphans:
            self.assertEqual(one.stands_on, "")
            self.assertTrue(one.on_part or one.circles[0, 2] == 0.0)
        self.assertEqual(len(after.stilts) + after.fell + 1, len(self.stood.stilts))
        self.assertFalse([bar for bar in after.braces if trunk.id in bar.between])
        told = finished(after, self.site)
        self.assertFalse(
            [f for f in told.faults if f.kind.value in ("floats", "crosses the part", "slender")]
        )
        # Further off than a millimetre nothing is meant.
        self.assertEqual(self.after(hands(out=[(x, y, z - 5.0)])).stilts, self.stood.stilts)

    def test_one_that_bears_too_much_for_a_change_gets_stouter_where_it_stands(self):
        carried = {one.stands_on for one in self.stood.stilts}
        alone = [s for s in self.stood.stilts if s.id not in carried and s.size == "fine"]
        grown = 0
        for many in range(1, len(alone), 4):
            after = self.after(hands(out=[one.touch_mm for one in alone[:many]]))
            before = {s.id: s for s in self.stood.stilts}
            for now in after.stilts:
                self.assertFalse(now.overloaded and now.size != "stout", (many, now.id))
                if now.size != before[now.id].size:
                    grown += 1
                    self.assertGreater(now.load_n, before[now.id].bears_n)
                    self.assertEqual(now.touch_mm, before[now.id].touch_mm)
        self.assertGreater(grown, 0)

    def holds_no_island(self, trunk):
        """Whether it carries others, and neither holds an island nor do they."""
        number = {one.id: n for one, n in zip(self.stood.stilts, self.stood.island, strict=True)}
        names = self.hung_on(trunk)
        return len(names) > 1 and not any(number[name] for name in names)

    def test_an_island_is_left_bare_and_held_again_by_a_tip_beside(self):
        peg = max(
            (k for k, n in enumerate(self.stood.island) if n), key=lambda k: self.stood.stilts[k].touch_mm[2]
        )
        number = self.stood.island[peg]
        out = [s.touch_mm for s, n in zip(self.stood.stilts, self.stood.island, strict=True) if n == number]
        bare = self.after(hands(out=out))
        self.assertEqual([one.number for one in bare.bare], [number])
        told = edited(self.made, bare, self.site)
        self.assertEqual(told.unheld_islands, tuple(one.number for one in bare.bare))
        self.assertIn("floats", {fault.kind.value for fault in told.faults})
        self.alike(told, finished(bare, self.site))
        held = self.after(hands(put=[(18.5, 10.5, 20.0 + LIFT)], out=out))
        self.assertEqual(held.bare, ())
        again = edited(told, held, self.site)
        self.assertNotIn("floats", {fault.kind.value for fault in again.faults})
        self.alike(again, finished(held, self.site))

    def test_sizes_are_chosen_and_let_go(self):
        one = next(s for s in self.stood.stilts if not s.stands_on and s.size == "fine")
        sized = hands(sized=[(one.touch_mm, Stoutness.STOUT)])
        after = self.after(sized)
        self.unmoved(after, but=self.hung_on(one))
        stout = next(s for s in after.stilts if s.id == one.id)
        self.assertEqual(stout.size, "stout")
        self.assertGreater(stout.tip_mm, one.tip_mm)
        self.assertGreater(stout.bears_n, one.bears_n)
        # Where it was stout from the beginning, and is not any more.
        stood = stand(self.site, by_hand=sized)
        back = with_hands(stood, self.site, sized, NOTHING)
        self.assertEqual(next(s for s in back.stilts if s.id == one.id).size, "fine")

    def test_one_that_was_put_goes_again_and_one_in_the_way_finds_none(self):
        at = (7.3, 8.1, 30.0 + LIFT)
        around = hands(put=[at])
        stood = stand(self.site, by_hand=around)
        self.assertIn(at, [one.touch_mm for one in stood.stilts])
        after = with_hands(stood, self.site, around, NOTHING)
        self.assertNotIn(at, [one.touch_mm for one in after.stilts])
        self.assertEqual(len(after.stilts) + 1 + after.fell, len(stood.stilts))
        # On top nothing stands; it is told, and nothing else changes.
        above = self.after(hands(put=[(10.0, 10.0, 33.0 + LIFT)]))
        self.assertIn("Tips put by hand that find no way", " ".join(finished(above, self.site).notes) or "")
        self.unmoved(above)
        # Nor is there anything at a wall.
        self.assertEqual(self.after(hands(put=[(-4.0, 12.0, 20.0 + LIFT)])).astray, 1)

    def test_a_row_of_changes_gives_what_all_together_gives(self):
        for seed in range(2):
            rng = np.random.default_rng(seed)
            put, out, sized, before = [], [], [], self.made
            for _ in range(9):
                what, some = rng.integers(3), before.stilts[rng.integers(len(before.stilts))].touch_mm
                if what == 0:
                    put.append(self.under.at_mm[rng.integers(len(self.under.at_mm))])
                elif what == 1:
                    out.append(some)
                else:
                    sized.append((some, (Stoutness.FINE, Stoutness.STOUT)[rng.integers(2)]))
                after = self.after(hands(put, out, sized))
                now = edited(before, after, self.site)
                self.alike(now, finished(after, self.site))
                before = now
            self.assertTrue(put and out and sized)
        # What is told of mid-air is so by labels of rasters too.
        floats = [f for f in before.faults if f.kind.value == "floats"]
        self.assertEqual(bool(floats), bool(self.bench.in_mid_air(before, 0.2)))

    def test_a_shaft_that_nothing_braces_is_thick_enough(self):
        slim = replace(self.site, settings=replace(USUAL, slender=14.0))
        alone = replace(
            self.stood, stilts=(), braces=(), outward=np.zeros((0, 3)), island=np.zeros(0, np.int64)
        )
        (new,) = with_hands(alone, slim, NOTHING, hands(put=[(7.3, 8.1, 30.0 + LIFT)])).stilts
        long = new.circles[-1, 2] - new.circles[0, 2]
        self.assertGreater(new.shaft_mm, long / 14.0)
        self.assertLess(new.shaft_mm, 1.1 * long / 14.0)


def post(x, y=0.0):
    """A straight stilt with its foot on the plate."""
    rows = ((0, 1.5), (1.2, 0.5), (20, 0.5), (22, 0.2), (22.2, 0.2))
    circles = np.array([(x, y, z, r) for z, r in rows])
    return Stilt(f"p{x:g}:{y:g}", "post", (x, y, 22.0), False, 1.0, circles, 2, "medium")


class PointTest(unittest.TestCase):
    """A cone that hangs with its point down."""

    @classmethod
    def setUpClass(cls):
        cls.bench = Stilted(Manifold.cylinder(8, 0.02, 6, 48), layer=0.1, lift=8.0)
        ground = Ground(cls.bench.mesh, cls.bench.tree, cls.bench.stack, cls.bench.hanging)
        cls.site = Site(ground, USUAL, Peel.USUAL, cls.bench.limit)
        cls.stood = stand(cls.site)

    def test_a_point_is_bare_only_when_the_last_beside_it_is_gone(self):
        beside = [s for s, n in zip(self.stood.stilts, self.stood.island, strict=True) if n]
        self.assertGreater(len(beside), 1)
        for gone in range(1, len(beside) + 1):
            now = hands(out=[one.touch_mm for one in beside[:gone]])
            after = with_hands(self.stood, self.site, NOTHING, now)
            self.assertEqual(len(after.bare), int(gone == len(beside)), gone)

    def test_looking_at_some_levels_tells_what_is_in_them(self):
        # Those of the point go, so that something is told; or all stay, and nothing is.
        beside = [s.touch_mm for s, n in zip(self.stood.stilts, self.stood.island, strict=True) if n]
        for out in ([], beside):
            after = with_hands(self.stood, self.site, NOTHING, hands(out=out))
            made = finished(after, self.site)
            whole = _floating(made, self.bench.stack)
            self.assertEqual(bool(whole), bool(out))
            start = round(8.0 / 0.1)
            for first, last in (
                (start - 10, start - 2),
                (start - 3, start + 1),
                (start - 1, start + 2),
                (start + 2, start + 9),
                (0, 40),
            ):
                inside = [f for f in whole if first <= round(f.at_mm[2] / 0.1) < last]
                self.assertEqual(_floating(made, self.bench.stack, first, last), inside, (first, last))


class BracesTest(unittest.TestCase):
    def test_one_that_comes_is_braced_to_its_neighbours_and_to_no_more(self):
        roof = Tree.of(Stilted(box(60, 10, 2, (-5, -5, 22)), layer=0.5).mesh)
        row = [post(4.0 * k) for k in range(6)]
        there = brace(row, roof, USUAL)
        counts = {one.id: sum(one.id in bar.between for bar in there) for one in row}
        self.assertTrue(all(count >= 2 for count in counts.values()), counts)
        every = [*row, post(10.0)]
        only = np.array([False] * 6 + [True])
        fresh = brace(every, roof, USUAL, there, only)
        self.assertEqual(len(fresh), 2)
        self.assertEqual({name for bar in fresh for name in bar.between}, {"p8:0", "p10:0", "p12:0"})
        # Though the others have none, they get none but with it.
        for bar in brace(every, roof, USUAL, [], only):
            self.assertIn("p10:0", bar.between)


class LayersTest(Table):
    def test_what_was_known_changes_no_layer(self):
        rng = np.random.default_rng(5)
        stilts, braces = np.array(self.stood.stilts), np.array(self.stood.braces)

        def some(share):
            mine = stilts[rng.random(len(stilts)) < share].tolist()
            mine = [
                replace(one, circles=one.circles + [*rng.normal(0, 0.6, 2), 0, 0])
                if rng.random() < 0.2
                else one
                for one in mine
            ]
            return mine, braces[rng.random(len(braces)) < share].tolist()

        for share in (1.0, 0.9, 0.5, 0.0):
            one, other = some(0.9), some(share)
            known = stilt_layers(*one, self.bench.stack, silent)
            with self.subTest(share):
                plain = stilt_layers(*other, self.bench.stack, silent)
                quick = stilt_layers(*other, self.bench.stack, silent, before=(known, one))
                twice = stilt_layers(*one, self.bench.stack, silent, before=(quick, other))
                for a, b in ((plain, quick), (known, twice)):
                    for name in ("points", "ring_start", "layer_start", "area_mm2"):
                        np.testing.assert_array_equal(getattr(a, name), getattr(b, name))

    def test_groups_that_reach_round_each_other_are_told_apart(self):
        # One that begins further up goes: what is left there is as it was below.
        pair = [post(6.0, 1.0), post(6.8, 1.0)]
        upper = replace(post(7.4, 1.0), circles=post(7.4, 1.0).circles[1:] + [0, 0, 9, 0])
        self.same_without(pair, [*pair, upper])
        # Two side by side within the box of a row aslant, of which the last goes.
        two = [post(6.0, 1.0), post(6.8, 1.0)]
        row = [post(0.7 * k, 0.7 * k) for k in range(14)]
        self.same_without([*two, *row[:-1]], [*two, *row])

    def same_without(self, stilts, before):
        """Layers of stilts come out the same where those of others were known."""
        known = stilt_layers(before, [], self.bench.stack, silent)
        plain = stilt_layers(stilts, [], self.bench.stack, silent)
        quick = stilt_layers(stilts, [], self.bench.stack, silent, before=(known, (before, [])))
        np.testing.assert_array_equal(plain.points, quick.points)
        np.testing.assert_array_equal(plain.ring_start, quick.ring_start)

    def test_each_level_is_the_union_of_what_it_cuts(self):
        """Held against shapely, at levels with braces and without."""
        layers, h = self.made.layers, self.made.layers.layer_mm
        turn = 2 * np.pi * np.arange(12) / 12
        ring = np.column_stack([np.cos(turn), np.sin(turn)])
        tried = 0
        for level in range(3, len(layers), 17):
            z = (level + 0.5) * h
            shapes = []
            for one in self.stood.stilts:
                low, high = one.circles[0, 2], one.circles[-1, 2]
                if low <= z <= high:
                    x, y, r = (np.interp(z, one.circles[:, 2], one.circles[:, c]) for c in (0, 1, 3))
                    shapes.append(shapely.Polygon(ring * r + [x, y]))
            for bar in self.stood.braces:
                if bar.ends_mm[0, 2] <= z < bar.ends_mm[1, 2]:
                    shapes.append(shapely.Polygon(bar.rings(np.array([z]))[0]))
                    tried += 1
            want = shapely.union_all(shapes)
            self.assertAlmostEqual(layers.area_mm2[level], want.area, delta=1e-6 + 1e-7 * want.area)
            mine = shapely.Polygon()
            for corners in layers.rings(level):
                mine = mine.symmetric_difference(shapely.Polygon(corners))
            self.assertLess(mine.symmetric_difference(want).area, 1e-5)
        self.assertGreater(tried, 10)


class ChangedCheckTest(Table):
    def check(self, name, after):
        """What is checked again finds what checking all does, and a fault of a kind."""
        quick = verify_changed(after, self.made, self.bench.stack, self.bench.tree)
        whole = verify_stilts(after, self.bench.stack, self.bench.tree)
        self.assertEqual(quick, whole)
        self.assertIn(name, {fault.kind.value for fault in quick})
        # Mended again it is as before: what was found goes.
        broken = replace(after, faults=tuple(quick))
        back = verify_changed(self.made, broken, self.bench.stack, self.bench.tree)
        self.assertEqual(tuple(back), self.made.faults)

    def broken(self, k, **fields):
        """All of them, with one that is otherwise."""
        one = self.made.stilts[k]
        other = replace(one, **{name: change(one) for name, change in fields.items()})
        stilts = [*self.made.stilts]
        stilts[k] = other
        layers = stilt_layers(stilts, self.made.braces, self.bench.stack, silent)
        return replace(self.made, supports=tuple(stilts), layers=layers)

    def test_broken_ones_are_found_as_by_checking_all(self):
        alone = self.only_one()
        shaft = next(k for k, one in enumerate(self.made.stilts) if self.by_itself(one))
        self.check("not held", self.broken(alone, circles=lambda s: s.circles - [0, 0, 1.5, 0]))
        self.check("floats", self.broken(shaft, circles=lambda s: s.circles[1:]))
        self.check("crosses the part", self.broken(shaft, circles=lambda s: s.circles + [0, 0, 12.0, 0]))
        self.check("slender", self.broken(shaft, circles=lambda s: s.circles * [1, 1, 1, 0.1]))
        self.check("overloaded", self.broken(shaft, load_n=lambda s: 2 * s.bears_n))

    def only_one(self):
        """The only stilt of the island that begins highest; none stands on it."""
        numbers = self.stood.island.tolist()
        single = [k for k, n in enumerate(numbers) if n and numbers.count(n) == 1]
        return max(single, key=lambda k: self.made.stilts[k].touch_mm[2])

    @staticmethod
    def by_itself(one):
        """Whether it stands on the plate by itself."""
        return not one.stands_on and not one.on_part

    def test_what_was_found_elsewhere_stays(self):
        alone = self.only_one()
        first = self.broken(alone, circles=lambda s: s.circles - [0, 0, 1.5, 0])
        faults = tuple(verify_stilts(first, self.bench.stack, self.bench.tree))
        self.assertIn("floats", {fault.kind.value for fault in faults})
        first = replace(first, faults=faults)
        far = max(
            (k for k, one in enumerate(first.stilts) if self.by_itself(one) and k != alone),
            key=lambda k: first.stilts[k].touch_mm[2],
        )
        stilts = [one for k, one in enumerate(first.stilts) if k != far]
        names = {one.id for one in stilts}
        stilts = [one for one in stilts if not one.stands_on or one.stands_on in names]
        braces = tuple(bar for bar in first.braces if names.issuperset(bar.between))
        layers = stilt_layers(stilts, braces, self.bench.stack, silent)
        second = replace(first, supports=tuple(stilts), braces=braces, layers=layers)
        quick = verify_changed(second, first, self.bench.stack, self.bench.tree)
        self.assertEqual(quick, verify_stilts(second, self.bench.stack, self.bench.tree))
        self.assertTrue([fault for fault in quick if fault in faults])


if __name__ == "__main__":
    unittest.main()
