"""What resin parts stand on: rafts, pads and ties, with rims and holes, as areas and volumes by closed form."""

import math
import unittest

import numpy as np
import shapely
from manifold3d import CrossSection

from tests.stilted import Stilted
from tests.support import stalactites
from upright_heron.core.errors import BadValue
from upright_heron.core.footing.footing import FootingKind, FootingSettings, footprint, make_footing
from upright_heron.core.footing.resin_base import TIE_MM, _next_to
from upright_heron.core.footing.under_drains import Mouths, UnderDrains, under_drains
from upright_heron.core.geometry.plan_shapes import shape_of
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.stance.pose import Placement
from upright_heron.sheet.changes import SetFooting
from upright_heron.sheet.item import Stance
from upright_heron.sheet.process import Footing, ResinSupports
from upright_heron.work.alone import Alone


def feet(*places, radius=1.5):
    circle = CrossSection.circle(radius, 128)
    return CrossSection.compose([circle.translate(at) for at in places])


def base(kind, first, **asked):
    given = {"margin_mm": 3.0, "raft_layers": 20, "gap_mm": 0.0, "rim_deg": 0.0, "gaps": False, **asked}
    return make_footing(first, FootingSettings(kind=FootingKind(kind), **given), 0.05)


FOUR = ((0, 0), (20, 0), (20, 20), (0, 20))


class BaseTest(unittest.TestCase):
    def test_pads_are_discs_under_each_foot(self):
        made = base("pads", feet(*FOUR))
        self.assertEqual(len(made.outline.decompose()), 4)
        self.assertAlmostEqual(made.volume_mm3, 4 * math.pi * 4.5**2 * 1.0, delta=0.5)
        self.assertEqual((made.layers, made.raise_mm), (20, 1.0))
        # Nothing of it lies above its thickness, and it is one body under each foot.
        self.assertAlmostEqual(made.mesh().size_mm[2], 1.0)
        self.assertAlmostEqual(Solid.from_mesh(made.mesh()).volume_mm3, made.volume_mm3, delta=0.01)

    def test_a_raft_is_one_slab_however_far_feet_stand_apart(self):
        near = base("raft", feet(*FOUR))
        # It fills what lies between the feet, reaches past each by the margin, and no further than a band
        # round all of them: 20² and four sides and corners of 4.5.
        self.assertEqual(len(near.outline.to_polygons()), 1)
        self.assertLess(float((feet(*FOUR, radius=4.49) - near.outline).area()), 0.01)
        self.assertLess(float((feet((10, 10), radius=10) - near.outline).area()), 0.01)
        self.assertLess(near.area_mm2, 20 * 20 + 4 * 20 * 4.5 + math.pi * 4.5**2)
        far = base("raft", feet((0, 0), (150, 0)))
        self.assertEqual(len(far.outline.decompose()), 1)
        self.assertAlmostEqual(far.area_mm2, 150 * 9 + math.pi * 4.5**2, delta=3)

    def test_a_rim_leans_out_and_stays_under_every_foot(self):
        plain, rim = (base("pads", feet((0, 0)), rim_deg=deg) for deg in (0.0, 45.0))
        # A cone frustum of 20 layers: each layer is 0.05 mm narrower than the one above, the top one as before.
        layers = math.pi * (4.5 - 0.05 * np.arange(20)) ** 2 * 0.05
        self.assertAlmostEqual(rim.volume_mm3, float(layers.sum()), delta=0.3)
        self.assertEqual(rim.area_mm2, plain.area_mm2)
        areas = [rim.section(k).area() for k in range(20)]
        self.assertEqual(areas, sorted(areas))
        self.assertAlmostEqual(rim.stack.area_mm2.sum() * 0.05, rim.volume_mm3, places=3)
        self.assertAlmostEqual(Solid.from_mesh(rim.mesh()).volume_mm3, rim.volume_mm3, delta=0.05)
        # However thick and steep: three quarters of the margin at most, and never less than the foot.
        thick = base("pads", feet((0, 0)), rim_deg=60.0, raft_layers=100)
        self.assertAlmostEqual(thick.section(0).area(), math.pi * (4.5 - 0.75 * 3.0) ** 2, delta=0.1)
        narrow = base("ties", feet((0, 0), (9, 0)), rim_deg=60.0, raft_layers=100)
        self.assertLess(float((feet((0, 0), (9, 0)) - narrow.section(0)).area()), 1e-6)
        self.assertEqual(len(narrow.section(0).decompose()), 1)

    def test_holes_of_a_raft_are_clear_of_feet_and_rim(self):
        places = [(12 * x, 12 * y) for x in range(6) for y in range(6)]
        first = feet(*places)
        whole, open_ = (base("raft", first, gaps=gaps) for gaps in (False, True))
        holes = [shapely.Polygon(ring) for ring in shape_of(open_.outline).geoms[0].interiors]
        self.assertGreater(len(holes), 10)
        self.assertAlmostEqual(
            whole.area_mm2 - open_.area_mm2, len(holes) * math.pi * 4, delta=0.05 * len(holes) * 12
        )
        stood = shape_of(first)
        rim = shape_of(whole.outline).geoms[0].exterior
        for hole in holes:
            self.assertGreater(hole.distance(stood), 0.95)
            self.assertGreater(hole.distance(rim), 2.4)

    def test_ties_join_all_feet_and_leave_room_between(self):
        random = np.random.default_rng(3).uniform(0, 80, (40, 2))
        first = feet(*random.tolist(), radius=1.0)
        made = base("ties", first)
        self.assertEqual(len(made.outline.decompose()), 1)
        self.assertLess(float((first - made.outline).area()), 1e-6)
        self.assertLess(made.area_mm2, 0.4 * base("raft", first).area_mm2)
        # Two feet: a bar between their middles.
        two = base("ties", feet((0, 0), (30, 0)))
        round_feet = 2 * math.pi * 2.3**2
        self.assertAlmostEqual(two.area_mm2, round_feet + TIE_MM * (30 - 2 * 2.3), delta=0.5)

    def test_neighbours_are_those_with_no_other_between(self):
        at = np.array([(0, 0), (10, 0), (20, 0), (30, 0)], float)
        self.assertEqual(_next_to(at), [(0, 1), (1, 2), (2, 3)])
        square = np.array(FOUR, float)
        joined = {tuple(sorted(pair)) for pair in _next_to(square)}
        self.assertTrue({(0, 1), (1, 2), (2, 3), (0, 3)} <= joined)
        self.assertEqual(_next_to(at[:1]), [])
        # Against all pairs, each tried with each third.
        random = np.random.default_rng(5).uniform(0, 50, (60, 2))
        far = np.linalg.norm(random[:, None] - random, axis=2)
        plain = {
            (a, b)
            for a in range(60)
            for b in range(a + 1, 60)
            if all(far[a, c] ** 2 + far[b, c] ** 2 >= far[a, b] ** 2 for c in range(60) if c not in (a, b))
        }
        self.assertEqual({tuple(sorted(pair)) for pair in _next_to(random)}, plain)

    def test_nothing_lies_under_a_hole_that_resin_runs_out_of(self):
        # A hole of 3 mm right under the part, one at its side, one above; the part is swung by a quarter.
        outer = ((10.0, 0.0, 0.0), (0.0, 8.0, 5.0), (0.0, 0.0, 20.0))
        inner = ((10.0, 0.0, 3.0), (0.0, 4.0, 5.0), (0.0, 0.0, 16.0))
        holes = Mouths(outer, inner, (3.0, 3.0, 3.0))
        turned = Placement(np.array([[0.0, -1, 0], [1, 0, 0], [0, 0, 1]]), np.array([2.0, 0.0, 0.0]))
        lifted = Placement(turned.rotation, np.array([2.0, 0.0, 5.0]))
        self.assertEqual(under_drains(holes, turned, None, 0.0), UnderDrains(1, 0))
        self.assertEqual(under_drains(holes, lifted, None, 5.0), UnderDrains())
        # Where it comes to lie, at (2, 10), a pad of 1.5 + 3 mm round a foot reaches it from 5.9 mm away.
        for away, over in ((5.9, 1), (6.1, 0)):
            pads = base("pads", feet((2, 10 + away)))
            self.assertEqual(under_drains(holes, lifted, pads, 5.0), UnderDrains(0, over), away)
        raft = base("raft", feet(*FOUR))
        self.assertEqual(under_drains(holes, turned, raft, 0.0), UnderDrains(0, 1))
        # A brim lies beside the part and raises nothing.
        brim = make_footing(feet((2, 10)), FootingSettings(FootingKind.BRIM), 0.05)
        self.assertEqual(under_drains(holes, turned, brim, 0.0), UnderDrains(1, 0))

    def test_stilts_stand_on_it_and_it_is_printed_under_them(self):
        bench = Stilted(stalactites(), 0.2, lift=5.0)
        made = bench.made()
        first = footprint(bench.stack, made.layers, lifted=True)
        for kind in ("raft", "pads", "ties"):
            with self.subTest(kind):
                settings = FootingSettings(
                    kind=FootingKind(kind), margin_mm=2.0, raft_layers=5, gap_mm=0.0, rim_deg=30.0
                )
                under = make_footing(first, settings, 0.2)
                self.assertLess(float((first - under.section(0)).area()), 1e-6)
                self.assertEqual(under.raise_mm, 1.0)

    def test_a_filament_machine_has_no_pads_and_a_job_tells_the_volume(self):
        alone = Alone(
            Stilted(stalactites(), 0.2).mesh, "Tarn 9",
            item={"supports": ResinSupports(), "footing": Footing(kind="ties"), "stance": Stance(lift_mm=5.0)},
        )  # fmt: skip
        made = alone.make("footing")
        self.assertGreater(made.volume_mm3, 0)
        self.assertEqual(made.layers, 20)
        thin = alone.sheet
        self.assertEqual(SetFooting(footing="pads", thick_mm=2).apply(thin).footing.thick_mm, 2)
        filament = Alone(Stilted(stalactites(), 0.2).mesh, "Sedge 300").sheet
        with self.assertRaisesRegex(BadValue, "prints no stilts"):
            SetFooting(footing="ties").apply(filament)


if __name__ == "__main__":
    unittest.main()
