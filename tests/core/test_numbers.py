"""Where the numbers of pieces go in a face."""

import unittest
from itertools import pairwise

import numpy as np
import shapely
import shapely.affinity
from manifold3d import CrossSection

from upright_heron.core.geometry.plan_shapes import shape_of
from upright_heron.core.split.numbers import AWAY_MM, HEIGHTS_MM, outline, place_for

TEXT = "12/3"
# Places that are tried lie this far apart in the faces below, at most.
BETWEEN_MM = 1.0


def face(wide, high):
    return CrossSection.square([wide, high], center=True)


class PlaceTest(unittest.TestCase):
    def needed(self, height):
        x0, y0, x1, y1 = outline(TEXT, height).bounds()
        return np.array([x1 - x0, y1 - y0]) + 2 * AWAY_MM

    def test_it_is_as_large_as_there_is_room_and_keeps_off_the_edge(self):
        for larger, smaller in pairwise(HEIGHTS_MM):
            wide, high = self.needed(larger)
            for lacks, expected in (
                ((-BETWEEN_MM, -BETWEEN_MM), larger),
                ((0.2, -BETWEEN_MM), smaller),
                ((-BETWEEN_MM, 0.2), smaller),
            ):
                for turn in (0, 90):
                    room = face(wide - lacks[0], high - lacks[1]).rotate(turn)
                    with self.subTest(height=larger, lacks=lacks, turn=turn):
                        x, y, turned, height = place_for(TEXT, room)
                        self.assertEqual((turned, height), (turn, expected))
                        drawn = shapely.affinity.rotate(
                            shape_of(outline(TEXT, height)), turned, origin=(0, 0)
                        )
                        drawn = shapely.affinity.translate(drawn, x, y)
                        off = shape_of(room).boundary.distance(drawn)
                        self.assertTrue(shape_of(room).contains(drawn))
                        self.assertGreater(off, AWAY_MM - 1e-6)

    def test_no_room_is_said(self):
        wide, high = self.needed(HEIGHTS_MM[-1])
        self.assertIsNone(place_for(TEXT, face(wide + 5, high - 0.2)))
        self.assertIsNone(place_for(TEXT, face(wide - 0.2, high + 3)))
        self.assertIsNone(place_for(TEXT, face(AWAY_MM, AWAY_MM)))
