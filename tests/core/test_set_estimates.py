"""What all pieces take, with other settings and on other machines."""

import unittest
from dataclasses import replace

from upright_heron.core.machines.catalogue import PRINTERS, material, printer
from upright_heron.core.split.set_estimates import (
    Slicing,
    on_other_machines,
    set_estimate,
    with_other_settings,
)
from upright_heron.core.toolpaths.rough_estimate import Amounts, estimate

# Two blocks of 100 by 100 by 40 and 40 by 40 by 40 mm: volume, surface and shortest side.
BLOCKS = [(400_000.0, 36_000.0, 40.0), (64_000.0, 9_600.0, 40.0)]
HOW = Slicing(printer("Sedge 300"), material("PLA"), 0.2, 3, 0.15)


class SetTest(unittest.TestCase):
    def test_all_pieces_are_the_sum_of_each_on_its_broadest_side(self):
        each = [
            estimate(HOW.printer, HOW.material, Amounts(v, a, 200, 0.2), walls=3, infill=0.15)
            for v, a, _ in BLOCKS
        ]
        told = set_estimate(BLOCKS, HOW)
        self.assertAlmostEqual(told.seconds, sum(one.seconds for one in each))
        self.assertAlmostEqual(told.longest_s, each[0].seconds)
        self.assertAlmostEqual(told.mass_g, sum(one.part_g for one in each))
        self.assertAlmostEqual(told.cost, sum(one.cost for one in each))

    def test_one_setting_is_changed_at_a_time_and_more_takes_more(self):
        now = set_estimate(BLOCKS, HOW)
        for other, told in with_other_settings(BLOCKS, HOW):
            changed = [k for k in ("layer_mm", "walls", "infill") if getattr(other, k) != getattr(HOW, k)]
            self.assertEqual(len(changed), 1, other)
            self.assertEqual(told, set_estimate(BLOCKS, other))
            if changed == ["layer_mm"]:
                self.assertEqual(told.seconds < now.seconds, other.layer_mm > HOW.layer_mm, other)
                self.assertAlmostEqual(told.mass_g, now.mass_g)
            else:
                more = getattr(other, changed[0]) > getattr(HOW, changed[0])
                self.assertEqual(told.mass_g > now.mass_g, more, other)
        kinds = {(o.layer_mm != 0.2, o.walls - 3) for o, _ in with_other_settings(BLOCKS, HOW)}
        self.assertEqual(kinds, {(True, 0), (False, -1), (False, 1), (False, 0)})
        # No fewer walls than one, no infill under nothing.
        least = replace(HOW, walls=1, infill=0.0)
        told = [other for other, _ in with_other_settings(BLOCKS, least)]
        self.assertTrue(all(one.walls >= 1 and one.infill >= 0 for one in told))

    def test_other_machines_of_the_kind_with_what_is_too_big_for_them(self):
        sizes = [(100.0, 250.0, 40.0), (40.0, 40.0, 40.0)]
        found = on_other_machines(BLOCKS, sizes, HOW, PRINTERS)
        names = [one.name for one, _, _ in found]
        self.assertNotIn("Sedge 300", names)
        self.assertNotIn("Tarn 9", names)
        reed = found[names.index("Reed 190")]
        self.assertEqual(reed[1], 1)
        self.assertEqual(reed[2], set_estimate(BLOCKS, replace(HOW, printer=printer("Reed 190"))))
        # Those that take all come first.
        self.assertEqual([big > 0 for _, big, _ in found], sorted(big > 0 for _, big, _ in found))


if __name__ == "__main__":
    unittest.main()
