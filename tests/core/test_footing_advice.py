"""Which footing is advised, and why; brims on some sides only, pads at corners, loops."""

from __future__ import annotations

import math
import unittest

from manifold3d import CrossSection

from upright_heron.core.footing.advice import Known, advise
from upright_heron.core.footing.footing import (
    BrimSide,
    FootingKind,
    FootingSettings,
    is_helped,
    make_footing,
    sharp_corners,
    sides_of,
)


def plate(wide, tall, at=(0.0, 0.0)):
    return CrossSection.square((wide, tall)).translate(at)


FLAT = Known(5000.0, 20.0, 40.0, 0, 0.2, True)


def known(**changed):
    return Known(**{**{name: getattr(FLAT, name) for name in FLAT.__slots__}, **changed})


class AdviceTest(unittest.TestCase):
    def test_a_flat_broad_part_needs_none(self):
        found = advise(plate(100, 50), FLAT)
        self.assertIs(found.kind, FootingKind.SKIRT)
        self.assertIn("5000 mm² lie flat", found.reasons[0])

    def test_each_reason_is_told_with_its_figure(self):
        cases = [
            (plate(3, 3), known(contact_mm2=9.0), FootingKind.RAFT, "only 9 mm² touch"),
            (plate(9, 9), known(contact_mm2=81.0), FootingKind.BRIM, "only 81 mm² touch"),
            (plate(50, 50), known(tip_deg=8.0), FootingKind.BRIM, "tips over at 8°"),
            (plate(60, 20), known(height_mm=120.0), FootingKind.BRIM, "6 times as high"),
            (plate(150, 20), known(), FootingKind.BRIM, "long and slim: 150 by 20 mm"),
            (
                plate(80, 60),
                known(heated=False),
                FootingKind.BRIM,
                "80 mm long on a plate that is not heated",
            ),
            (plate(80, 60), known(shrinkage_percent=0.7), FootingKind.CORNERS, "4 sharp corners"),
            (plate(80, 60), known(feet=12), FootingKind.BRIM, "12 feet of supports"),
            (CrossSection(), known(contact_mm2=0.0, feet=5), FootingKind.BRIM, "5 feet of supports alone"),
            (plate(80, 60), known(uneven=True), FootingKind.RAFT, "uneven"),
            (plate(50, 50) + plate(5, 5, (60, 0)), known(), FootingKind.BRIM, "1 of 2 pieces"),
        ]
        for first, facts, kind, words in cases:
            with self.subTest(words):
                found = advise(first, facts)
                self.assertIs(found.kind, kind)
                self.assertIn(words, "; ".join(found.reasons))

    def test_just_within_each_limit_nothing_is_said(self):
        for first, facts in (
            (plate(50, 50), known(tip_deg=12.0)),
            (plate(60, 20), known(height_mm=80.0)),
            (plate(100, 25), known()),
            (plate(80, 60), known(feet=11)),
            (plate(60, 60), known(heated=False)),
            (plate(80, 60), known(shrinkage_percent=0.4)),
            (CrossSection.circle(40, 64), known(shrinkage_percent=0.7)),
        ):
            self.assertIs(advise(first, facts).kind, FootingKind.SKIRT)

    def test_all_reasons_are_told_the_strongest_first(self):
        found = advise(plate(3, 3), known(contact_mm2=9.0, tip_deg=5.0, height_mm=60.0))
        self.assertEqual(found.kind, FootingKind.RAFT)
        self.assertEqual(len(found.reasons), 3)
        self.assertIn("9 mm²", found.reasons[0])


class BrimTest(unittest.TestCase):
    FRAME = plate(30, 30) - plate(20, 20, (5, 5))

    def brim(self, first, **asked):
        settings = FootingSettings(FootingKind.BRIM, lines=5, line_width_mm=0.4, **asked)
        return make_footing(first, settings, 0.2)

    def test_sides_add_up(self):
        # Outside a square of 30 with round corners, inside one of 20 with square ones.
        out = 4 * 30 * 2 + math.pi * 4
        within = 20**2 - 16**2
        areas = {side: self.brim(self.FRAME, side=side).area_mm2 for side in BrimSide}
        self.assertAlmostEqual(areas[BrimSide.OUTSIDE], out, delta=0.02)
        self.assertAlmostEqual(areas[BrimSide.INSIDE], within, delta=0.02)
        self.assertAlmostEqual(areas[BrimSide.ALL], out + within, delta=0.02)

    def test_loops_are_lines_from_the_part_outwards(self):
        for side, rings in ((BrimSide.ALL, 10), (BrimSide.OUTSIDE, 5), (BrimSide.INSIDE, 5)):
            made = self.brim(self.FRAME, side=side)
            self.assertEqual(len(made.loops), rings, side)
        made = self.brim(self.FRAME, side=BrimSide.OUTSIDE)
        wide = [loop[:, 0].max() - 30 for loop in made.loops]
        for k, reach in enumerate(wide):
            self.assertAlmostEqual(reach, (k + 0.5) * 0.4, places=2)

    def test_a_gap_leaves_the_outline_alone(self):
        made = self.brim(self.FRAME, brim_gap_mm=0.2, side=BrimSide.OUTSIDE)
        # Steiner: between 0.2 and 2.2 mm from the outline.
        self.assertAlmostEqual(made.area_mm2, 120 * 2 + math.pi * (2.2**2 - 0.2**2), delta=0.02)
        self.assertAlmostEqual(made.loops[0][:, 0].max(), 30.4, places=2)

    def test_only_where_it_helps(self):
        first = plate(60, 60) + plate(5, 5, (70, 0))
        made = self.brim(first, side=BrimSide.HELPS)
        self.assertAlmostEqual(made.area_mm2, 4 * 5 * 2 + math.pi * 4, delta=0.02)
        self.assertEqual((is_helped(plate(60, 60)), is_helped(plate(5, 5))), (False, True))
        # Long and slim, however it is turned.
        self.assertTrue(is_helped(plate(80, 10).rotate(30)))
        self.assertFalse(is_helped(plate(80, 20).rotate(30)))
        self.assertEqual(self.brim(plate(60, 60), side=BrimSide.HELPS).loops, ())

    def test_sides_of_what_is_turned(self):
        for angle in (0, 17, 45, 90):
            long, wide = sides_of(plate(80, 10).rotate(angle))
            self.assertAlmostEqual(long, 80, places=3)
            self.assertAlmostEqual(wide, 10, places=3)


class CornersTest(unittest.TestCase):
    def test_discs_at_sharp_corners_of_the_outside(self):
        shape = plate(60, 40)
        self.assertEqual(len(sharp_corners(shape)), 4)
        made = make_footing(shape, FootingSettings(FootingKind.CORNERS, corner_mm=5.0), 0.2)
        # Three quarters of each disc are beside the part.
        self.assertAlmostEqual(made.area_mm2, 4 * 0.75 * math.pi * 25, delta=0.6)

    def test_round_ones_have_none(self):
        self.assertEqual(sharp_corners(CrossSection.circle(20, 96)), [])
        self.assertEqual(
            make_footing(CrossSection.circle(20, 96), FootingSettings(FootingKind.CORNERS), 0.2).area_mm2, 0
        )
        # A corner inwards lifts nothing, nor do those of a rib in a bay or of small teeth.
        bent = plate(60, 20) + plate(20, 60)
        self.assertEqual(len(sharp_corners(bent)), 5)
        self.assertEqual(len(sharp_corners(bent + plate(8, 8, (30, 20)))), 5)
        self.assertEqual(len(sharp_corners(plate(60, 20) + plate(3, 3, (60, 8)))), 4)


class SkirtTest(unittest.TestCase):
    def test_lines_are_added_until_the_nozzle_is_primed(self):
        for prime, lines in ((0, 2), (250, 2), (700, 3)):
            settings = FootingSettings(FootingKind.SKIRT, lines=2, distance_mm=2.0, prime_mm=prime)
            made = make_footing(plate(60, 60), settings, 0.2)
            self.assertEqual(len(made.loops), lines)


if __name__ == "__main__":
    unittest.main()
