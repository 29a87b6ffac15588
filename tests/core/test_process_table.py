"""How layers of resin are made: steps by hand, times by closed form, and files that are refused."""

import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from upright_heron.core.errors import BadValue
from upright_heron.core.machines.catalogue import material, printer
from upright_heron.core.toolpaths.process_table import (
    COLUMNS,
    Row,
    Stretch,
    as_csv,
    checked,
    from_csv,
    rows_for,
    steps,
    table_of,
    usual_table,
)

BODY = Row(Stretch.BODY, None, 2.0, 5.0, 2.0, 4.0, 0.5, 0.25, 0.03, 0.06)
FIRST = replace(BODY, stretch=Stretch.FIRST, layers=4, exposure_s=32.0, lift_mm=8.0, lift_mm_s=1.0)
BETWEEN = replace(BODY, stretch=Stretch.TRANSITION, layers=5, exposure_s=None)
HEAD = ",".join(COLUMNS)


class StepsTest(unittest.TestCase):
    def test_layers_by_hand(self):
        made = steps((FIRST, BETWEEN, BODY), 12)
        # From 32 to 2 in six even steps, five of them in the transition.
        np.testing.assert_allclose(made.exposure_s, [32] * 4 + [27, 22, 17, 12, 7] + [2] * 3)
        np.testing.assert_allclose(made.lift_mm, [8] * 4 + [5] * 8)
        np.testing.assert_allclose(made.lift_mm_s, [1] * 4 + [2] * 8)
        np.testing.assert_allclose(made.layer_s[0], 0.5 + 32 + 0.25 + 8 / 1 + 8 / 4)
        np.testing.assert_allclose(made.layer_s[-1], 0.5 + 2 + 0.25 + 5 / 2 + 5 / 4)
        self.assertAlmostEqual(made.seconds, 4 * 32 + 85 + 3 * 2 + 12 * 0.75 + 4 * 10 + 8 * 3.75)

    def test_a_typed_exposure_of_the_transition_is_that_of_all_its_layers(self):
        made = steps((FIRST, replace(BETWEEN, exposure_s=9.0), BODY), 11)
        np.testing.assert_allclose(made.exposure_s[4:9], 9.0)

    def test_a_short_print_ends_in_its_first_layers(self):
        self.assertEqual(steps((FIRST, BETWEEN, BODY), 3).exposure_s.tolist(), [32.0] * 3)
        self.assertEqual(steps((FIRST, BETWEEN, BODY), 6).exposure_s.tolist(), [32.0] * 4 + [27.0, 22.0])
        self.assertEqual(len(steps((BODY,), 0)), 0)

    def test_the_usual_is_that_of_material_and_machine(self):
        machine, stuff = printer("Tarn 9"), material("Tough resin")
        made = steps(usual_table(machine, stuff), 100)
        self.assertEqual(made.exposure_s[4], stuff.first_exposure_s)
        self.assertEqual(made.exposure_s[5], stuff.exposure_s)
        way = 2 * 6.0 / machine.speed_mm_s
        self.assertAlmostEqual(made.seconds, 5 * stuff.first_exposure_s + 95 * stuff.exposure_s + 100 * way)

    def test_rows_are_those_for_the_layers(self):
        thick = replace(BODY, thinnest_mm=0.06, thickest_mm=0.1, exposure_s=3.5)
        table = checked([thick, BODY, FIRST])
        self.assertEqual(rows_for(table, 0.05), (FIRST, BODY))
        self.assertEqual(rows_for(table, 0.1), (thick,))
        # Where two ranges meet the thinner one counts.
        self.assertEqual(rows_for(table, 0.06), (FIRST, BODY))
        for none in (0.02, 0.11):
            with self.assertRaisesRegex(BadValue, f"no rows for layers of {none} mm"):
                rows_for(table, none)
        machine, stuff = printer("Tarn 9"), material("Standard resin")
        self.assertEqual(table_of(table, machine, stuff, 0.1), ((thick,), True))
        self.assertEqual(table_of(table, machine, stuff, 0.2), (usual_table(machine, stuff), False))


class FileTest(unittest.TestCase):
    def test_written_and_read_back(self):
        table = checked([replace(BODY, thinnest_mm=0.06, thickest_mm=0.1), BODY, BETWEEN, FIRST])
        self.assertEqual(from_csv(as_csv(table)), table)
        self.assertEqual(from_csv("\ufeff" + as_csv(table).replace("\r\n", "\n\n")), table)

    def test_columns_in_another_order_with_semicolons_and_commas(self):
        text = "exposure_s;stretch;layers;lift_mm;lift_mm_s;return_mm_s\n2,5;Body;;6;2;3,5\n30;FIRST;5;6;1;3"
        first, body = from_csv(text)
        self.assertEqual((body.exposure_s, body.return_mm_s, body.wait_after_s), (2.5, 3.5, 0.0))
        self.assertEqual((first.stretch, first.layers), (Stretch.FIRST, 5))
        self.assertEqual(rows_for((first, body), 0.05), (first, body))

    @settings(max_examples=80, deadline=None)
    @given(
        st.integers(1, 40),
        st.integers(0, 40),
        st.lists(st.floats(0.1, 40, allow_nan=False), min_size=6, max_size=6),
    )
    def test_any_table_comes_back_and_takes_the_sum_of_its_layers(self, first, between, v):
        rows = [Row(Stretch.BODY, None, *v), Row(Stretch.FIRST, first, v[5], *v[1:])]
        if between:
            rows.append(Row(Stretch.TRANSITION, between, None, *v[1:]))
        table = from_csv(as_csv(checked(rows)))
        for one, other in zip(table, checked(rows), strict=True):
            np.testing.assert_allclose(one.lift_mm, other.lift_mm, rtol=1e-9)
        made = steps(table, first + between + 3)
        self.assertEqual(len(made), first + between + 3)
        self.assertTrue(made.exposure_s.min() >= min(v[0], v[5]) - 1e-6)
        self.assertTrue(made.exposure_s.max() <= max(v[0], v[5]) + 1e-6)
        self.assertAlmostEqual(made.seconds, float(made.layer_s.sum()))

    def test_what_makes_no_sense_is_refused_and_its_line_told(self):
        good = as_csv((FIRST, BODY)).splitlines()
        self.assertEqual(len(from_csv("\n".join(good))), 2)

        def line(of, **cells):
            values = dict(zip(COLUMNS, good[of].split(","), strict=True)) | cells
            return ",".join(values[name] for name in COLUMNS)

        for lines, told in (
            ([], "has no column stretch"),
            ([HEAD], "has no row"),
            ([HEAD.replace(",lift_mm,", ","), good[1]], "no column lift_mm"),
            ([HEAD.replace("wait_after_s", "colour"), good[1]], "column is called “colour”"),
            ([HEAD + ",layers", good[1]], "twice"),
            ([HEAD, good[1] + ",7", good[2]], "Line 2 has 11 cells"),
            ([HEAD, good[1], line(2, exposure_s="bright")], "Line 3: exposure_s is “bright”"),
            ([HEAD, good[1], line(2, exposure_s="nan")], "Line 3: exposure_s of the body layers is nan"),
            ([HEAD, good[1], line(2, exposure_s="-1")], "Line 3: exposure_s of the body layers is -1"),
            ([HEAD, good[1], line(2, exposure_s="")], "Line 3: The body layers have no exposure"),
            ([HEAD, good[1], line(2, lift_mm="")], "Line 3: lift_mm is empty"),
            ([HEAD, good[1], line(2, lift_mm_s="0")], "lift_mm_s of the body layers is 0"),
            ([HEAD, good[1], line(2, layers="9")], "body takes all layers"),
            ([HEAD, line(1, layers=""), good[2]], "first layers are not counted"),
            ([HEAD, line(1, layers="2.5"), good[2]], "Line 2: layers is 2.5"),
            ([HEAD, line(1, stretch="roof"), good[2]], "Line 2: “roof” is no stretch"),
            ([HEAD, line(1, thinnest_mm="0.06", thickest_mm="0.03"), good[2]], "from 0.06 to 0.03 mm"),
            ([HEAD, good[1]], "no row of the body"),
            ([HEAD, good[2], good[2]], "two rows of body layers"),
            ([HEAD, line(1, stretch="transition"), good[2]], "no first layers before it"),
            ([HEAD, *good[1:], line(2, thinnest_mm="0.05", thickest_mm="0.1")], "overlap"),
            ([HEAD, *[good[2]] * 61], "61 rows"),
        ):
            with self.subTest(told=told), self.assertRaisesRegex(BadValue, told):
                from_csv("\n".join(lines))


if __name__ == "__main__":
    unittest.main()
