"""What is tied together on a plate: moved, swung, arranged and parted as one."""

import unittest

import numpy as np
import shapely
import shapely.affinity
from manifold3d import CrossSection

from tests.sheet.test_items import job
from upright_heron.core.errors import BadValue
from upright_heron.core.plates.outline import of_plan
from upright_heron.core.recipes.plate import on_plates
from upright_heron.sheet.changes import Arrange, MakeCopies, PlaceOnPlate, SetPlating, TieTogether, Untie
from upright_heron.sheet.changes.base import altered
from upright_heron.work.bind_job import arranged
from upright_heron.work.bind_plates import to_arrange


def poses(sheet):
    return {
        (one.item, one.copy_number): (one.x_mm, one.y_mm, one.swing_deg)
        for plate in sheet.plates
        for one in plate.instances
    }


def arrow(at):
    """A shape without symmetry where it lies, by another library."""
    x, y, swing = at
    shape = shapely.Polygon([(0, 0), (9, 0), (9, 2), (3, 2), (3, 5), (0, 5)])
    return shapely.affinity.translate(shapely.affinity.rotate(shape, swing, origin=(0, 0)), x, y)


def tied(*others):
    """Items of a job with a place each, the first three tied together on plate 1."""
    made = job(4)
    names = [item.id for item in made.items]
    at = dict(zip(names, [(10, 5, 0), (30, 5, 90), (12, 40, -15), (-60, -60, 0)], strict=True))
    members = [
        {"item": name, "copy_number": 1, "x_mm": x, "y_mm": y, "swing_deg": swing}
        for name, (x, y, swing) in at.items()
    ]
    made = TieTogether(plate=1, members=members[:3]).made(made, "")
    return PlaceOnPlate(x_mm=-60, y_mm=-60).made(made, names[3]), names


class TieTest(unittest.TestCase):
    def rigid(self, before, after, names):
        """The shapes lie to each other as they did."""
        for k, one in enumerate(names):
            for other in names[k + 1 :]:
                was = arrow(before[one, 1]).distance(arrow(before[other, 1]))
                self.assertAlmostEqual(arrow(after[one, 1]).distance(arrow(after[other, 1])), was, delta=0.02)
            turned = (after[one, 1][2] - before[one, 1][2]) - (after[names[0], 1][2] - before[names[0], 1][2])
            self.assertAlmostEqual((turned + 180) % 360, 180, delta=0.01)

    def test_what_is_tied_moves_and_swings_as_one(self):
        made, names = tied()
        before = poses(made)
        moved = PlaceOnPlate(x_mm=-20.5, y_mm=3.25, swing_deg=60).made(made, names[1])
        after = poses(moved)
        self.assertEqual(after[names[1], 1], (-20.5, 3.25, 60))
        self.rigid(before, after, names[:3])
        # The whole of it, turned by another library about the one that was moved.
        group = shapely.union_all([arrow(before[name, 1]) for name in names[:3]])
        wanted = shapely.affinity.rotate(group, -30, origin=(30, 5))
        wanted = shapely.affinity.translate(wanted, -50.5, -1.75)
        came = shapely.union_all([arrow(after[name, 1]) for name in names[:3]])
        self.assertLess(came.symmetric_difference(wanted).area, 0.05)
        self.assertEqual(after[names[3], 1], before[names[3], 1])
        for _, _, swing in after.values():
            self.assertLessEqual(abs(swing), 180)

    def test_to_another_plate_it_goes_as_it_stands(self):
        made, names = tied()
        moved = PlaceOnPlate(plate=2).made(made, names[2])
        self.assertEqual([one.item for one in moved.plates[1].instances], names[:3])
        self.assertEqual(poses(moved), poses(made))
        with self.assertRaisesRegex(BadValue, "tied to others"):
            PlaceOnPlate().made(made, names[2])
        freed = Untie().made(made, names[2])
        self.assertEqual({one.tie for one in freed.plates[0].instances}, {0})
        alone = PlaceOnPlate(x_mm=1, y_mm=1).made(freed, names[0])
        self.assertEqual(poses(alone)[names[1], 1], poses(made)[names[1], 1])
        with self.assertRaises(BadValue):
            Untie().made(freed, names[0])

    def test_only_what_stands_on_the_plate_is_tied(self):
        made, names = tied()
        far = PlaceOnPlate(plate=2).made(made, names[3])
        for members in ((names[0], names[3]), (names[0], names[0]), (names[0], "nobody")):
            asked = [{"item": name, "x_mm": 0, "y_mm": 0} for name in members]
            with self.assertRaises(BadValue):
                TieTogether(plate=1, members=asked).made(far, "")
        # A second tie takes one out of the first.
        asked = [{"item": name, "x_mm": 0, "y_mm": 0} for name in (names[0], names[3])]
        again = TieTogether(plate=1, members=asked).made(made, "")
        ties = [one.tie for one in again.plates[0].instances]
        self.assertEqual([ties[0] == ties[3], ties[1] == ties[2], ties[0] == ties[1]], [True, True, False])

    def laid(self, made):
        outline = of_plan(CrossSection([np.array(arrow((0, 0, 0)).exterior.coords)[:-1]]), 4.0)
        asked = to_arrange(made, [0])
        found = on_plates.function(tuple(outline for _ in asked.items), asked, lambda *_: None)
        return arranged(made, [found]).made(made, "")

    def test_arranging_keeps_it_together_and_every_gap_to_others(self):
        made, names = tied()
        for turning in ("none", "quarters", "freely"):
            with self.subTest(turning):
                asked = SetPlating(gap_mm=4, turning=turning).made(
                    MakeCopies(count=6).made(made, names[3]), ""
                )
                after = self.laid(asked)
                self.assertEqual(len(after.plates), 1)
                places = poses(after)
                self.rigid(poses(made), places, names[:3])
                group = shapely.union_all([arrow(places[name, 1]) for name in names[:3]])
                others = [arrow(at) for (name, _), at in places.items() if name == names[3]]
                for k, one in enumerate(others):
                    self.assertGreaterEqual(one.distance(group), 4)
                    self.assertTrue(all(one.distance(other) >= 4 for other in others[k + 1 :]))
                # It came nearer: what waits far off is brought beside it.
                self.assertLess(shapely.union_all([group, *others]).convex_hull.area, 6000)
        self.assertEqual([one.tie > 0 for one in after.plates[0].instances][:3], [True] * 3)

    def test_locked_it_stays_where_it_is(self):
        made, names = tied()
        x, y, swing = poses(made)[names[2], 1]
        lock = {"lock_x": True, "lock_y": True, "lock_swing": True}
        made = PlaceOnPlate(x_mm=x, y_mm=y, swing_deg=swing, **lock).made(made, names[2])
        after = poses(self.laid(made))
        for name in names[:3]:
            np.testing.assert_allclose(after[name, 1], poses(made)[name, 1], atol=2e-3)
        self.assertNotEqual(after[names[3], 1], (-60, -60, 0))

    def test_each_lock_of_one_holds_all_of_it(self):
        made, names = tied()
        x, y, swing = poses(made)[names[2], 1]
        for locked in ("lock_x", "lock_y", "lock_swing"):
            held = PlaceOnPlate(x_mm=x, y_mm=y, swing_deg=swing, **{locked: True}).made(made, names[2])
            ((_, _, *locks),) = to_arrange(held, [0]).locks
            told = dict(zip(("lock_x", "lock_y", "lock_swing"), locks, strict=True))
            self.assertEqual([name for name, is_held in told.items() if is_held], [locked])

    def test_where_one_is_too_high_none_of_it_is_laid(self):
        made, names = tied()
        low = of_plan(CrossSection.square((9.0, 5.0)), 4.0)
        high = of_plan(CrossSection.square((9.0, 5.0)), 999.0)
        asked = to_arrange(made, [0])
        outlines = tuple(high if name == names[1] else low for name in asked.items)
        found = on_plates.function(outlines, asked, lambda *_: None)
        self.assertEqual(found.items, (names[3],))
        self.assertEqual({name for name, _ in found.left}, set(names[:3]))

    def test_ties_survive_what_else_is_done(self):
        made, names = tied()
        more = MakeCopies(count=3).made(made, names[0])
        self.assertEqual(sorted(one.tie for one in more.plates[0].instances), [0, 0, 0, 1, 1, 1])
        same = Arrange(plates=tuple(plate.instances for plate in more.plates)).made(more, "")
        self.assertEqual(same.plates, more.plates)
        # One whose companions are gone is arranged like any other.
        left = altered(
            made, plates=(made.plates[0].model_copy(update={"instances": made.plates[0].instances[:1]}),)
        )
        self.assertEqual(to_arrange(left, [0]).ties, ())


if __name__ == "__main__":
    unittest.main()
