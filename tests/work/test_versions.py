"""A result that comes out otherwise has another version: what is remembered under the old one would be taken for it.

The record holds figures of all results of a few parts; ``kept_results`` says how it is written anew.
"""

import json
import unittest

from tests.work.kept_parts import CASES, made
from tests.work.kept_results import RECORD, arithmetic, others, results, told, what_differs

THEN = json.loads(RECORD.read_text())
HERE = THEN["arithmetic"] == arithmetic()


class VersionTest(unittest.TestCase):
    def as_it_was(self, case):
        now, then = made(case, results, told), THEN[case]
        self.assertEqual(now.keys(), then.keys(), "write the record anew: recipes came or went")
        changed = [
            f"{name} (version {now[name]['version']}): {what_differs(name, now, then, HERE)}"
            for name in others(now, then, HERE)
        ]
        self.assertEqual(changed, [], "raise the versions of these recipes, and write the record anew")
        versions = {name: one["version"] for name, one in now.items()}
        self.assertEqual(versions, {name: one["version"] for name, one in then.items()}, "write it anew")

    def test_supports_in_filament(self):
        self.as_it_was("lines")

    def test_trees_with_two_nozzles_and_heights_of_their_own(self):
        self.as_it_was("leaning")

    def test_grid_from_the_plate(self):
        self.as_it_was("columns")

    def test_stilts_in_resin(self):
        self.as_it_was("resin")

    def test_pieces_of_a_cut(self):
        self.as_it_was("pieces")

    def test_a_part_that_is_open_and_crosses_itself(self):
        self.as_it_was("broken")

    def test_a_plate_of_filament(self):
        self.as_it_was("plate")

    def test_a_plate_of_resin(self):
        self.as_it_was("tray")

    def test_many_stilts_that_join(self):
        self.as_it_was("bristles")

    def test_parts_laid_onto_plates(self):
        self.as_it_was("arranged")

    def test_hollows(self):
        self.as_it_was("hollowed")

    def test_mending(self):
        self.as_it_was("mended")

    def test_joints_of_every_kind(self):
        self.as_it_was("jointed")

    def test_a_body_for_the_second_nozzle(self):
        self.as_it_was("inlaid")

    def test_every_case_is_tried(self):
        self.assertEqual(set(THEN), {"arithmetic", *CASES})
