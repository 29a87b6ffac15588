"""What the record makes of prints: where they failed, and figures by month."""

import datetime as dt
import unittest

from upright_heron.core.errors import BadValue
from upright_heron.core.machines.catalogue import PRINTERS
from upright_heron.store.prints import Print, Stage
from upright_heron.work.record import failures, found, kept_free, months, outcome_of, place_of, with_worn

AT = dt.datetime(2026, 11, 3, 12, 0)


def one(
    at_mm=None, *, stage=Stage.FAILED, outcome="", layer=10, layers=100, ended=AT, reason="warped", **more
):
    given = {
        "job_id": "j", "job_name": "Perch", "step_id": 1, "plate": 1, "items": (("perch", 2),), "settings": {},
        "station": "Left", "model": "Sedge 300", "material": "PLA", "file_name": "a.gcode", "told_s": 7200.0,
        "told_g": 50.0, "id": "p", "rank": 1, "created": AT, "started": AT, "real_s": 3600.0, "excuse": "",
        "cleared": True, "who": "Wren", "notes": "",
    }  # fmt: skip
    given |= {"stage": stage, "outcome": outcome, "layer": layer, "layers": layers, "ended": ended}
    return Print(**(given | {"reason": reason, "at_mm": at_mm} | more))


class FailuresTest(unittest.TestCase):
    def test_places_heights_and_spots_by_machine(self):
        some = [
            one((30, -40), layer=4), one((38, -44), layer=97, layers=97), one((31, -41), layer=55),
            one((-90, 90)), one(None, layer=99), one((0, 0), stage=Stage.DONE),
            one((1, 1), stage=Stage.DONE, outcome="failed", model="Reed 190"),
        ]  # fmt: skip
        sedge, reed = failures(some, {"Sedge 300": (300, 300), "Reed 190": (190, 170)})
        self.assertEqual((sedge.model, len(sedge.places), sum(sedge.by_height)), ("Sedge 300", 4, 5))
        self.assertEqual((sedge.by_height[0], sedge.by_height[5], sedge.by_height[9]), (1, 1, 2))
        # The three that lie together are one spot at their mean; the one by itself is none.
        self.assertEqual(sedge.spots, ((33.0, -41.7, 3),))
        self.assertEqual((reed.build_mm, reed.places, reed.spots), ((190, 170), ((1, 1, "warped"),), ()))
        self.assertEqual(failures(some, {}), [])

    def test_a_place_where_several_failed_is_kept_free(self):
        sedge = PRINTERS[0]
        kept = with_worn(sedge, 33.0, -41.7)
        self.assertEqual((kept.core().worn, kept.core().build_mm), (((33.0, -41.7, 15.0),), sedge.build_mm))
        self.assertEqual(kept.core().head_mm, sedge.head_mm)
        self.assertFalse(kept_free(sedge, (33.0, -41.7, 3)))
        self.assertTrue(kept_free(kept.core(), (40.0, -45.0, 3)))
        self.assertFalse(kept_free(kept.core(), (48.5, -41.7, 3)))
        twice = with_worn(kept.core(), -100.0, 149.0)
        self.assertEqual([spot[:2] for spot in twice.worn], [(33.0, -41.7), (-100.0, 149.0)])
        with self.assertRaisesRegex(BadValue, "beside the plate"):
            with_worn(sedge, 0.0, 150.5)

    def test_a_place_is_read_or_refused(self):
        self.assertEqual(place_of(" 30, -40 "), (30, -40))
        self.assertEqual(place_of("1 in; 0"), (25.4, 0))
        self.assertIsNone(place_of("  "))
        for words in ("30", "30, x", "1, 2, 3", "9000, 0", "nan, 0"):
            with self.assertRaises(BadValue):
                place_of(words)

    def test_figures_of_a_month_count_what_was_used(self):
        some = [
            one(layer=50, layers=100), one(stage=Stage.DONE, layer=100, layers=100, reason=""),
            one(stage=Stage.CANCELLED, layer=0, real_s=None, reason=""), one(ended=dt.datetime(2026, 10, 30)),
        ]  # fmt: skip
        november, october = months(some)
        self.assertEqual((november.name, november.prints, november.failed), ("2026-11", 3, 1))
        self.assertAlmostEqual(november.kg, (25 + 50) / 1000)
        self.assertAlmostEqual(november.hours, 2.0)
        self.assertEqual((november.reasons, october.name), ((("warped", 1),), "2026-10"))

    def test_every_word_has_to_be_there_and_people_know_better_than_machines(self):
        good = one(stage=Stage.DONE, outcome="failed")
        self.assertEqual(outcome_of(good), "failed")
        self.assertEqual(found([good], "perch wren", "failed"), [good])
        self.assertEqual(found([good], "perch plover", ""), [])
        self.assertEqual(found([good], "", "done"), [])


if __name__ == "__main__":
    unittest.main()
