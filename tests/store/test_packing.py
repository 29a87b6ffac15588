"""Objects set out in rows for a file: none over another, nothing lost."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import box, mesh_of
from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.handoff.threemf import FileObject
from upright_heron.work.packing import ROW_GAP_MM, in_rows, moved

sides = st.tuples(*[st.floats(1, 120)] * 3)
places = st.tuples(*[st.floats(-200, 200)] * 2)


def item(size, at, name="part"):
    return FileObject(name, mesh_of(box(*size, (*at, 0))))


class RowsTest(unittest.TestCase):
    @settings(max_examples=30, deadline=None)
    @given(st.lists(st.tuples(sides, places), min_size=1, max_size=9))
    def test_no_two_come_nearer_than_the_gap(self, parts):
        items = in_rows([[item(size, at)] for size, at in parts])
        self.assertEqual(len(items), len(parts))
        boxes = [i.mesh.bounds for i in items]
        for (size, _), found in zip(parts, boxes, strict=True):
            np.testing.assert_allclose(found[1] - found[0], size, atol=1e-4)
            self.assertAlmostEqual(found[0][2], 0, places=6)
        for k, a in enumerate(boxes):
            for b in boxes[k + 1 :]:
                apart = np.maximum(a[0] - b[1], b[0] - a[1])[:2].max()
                self.assertGreaterEqual(apart, ROW_GAP_MM - 1e-3)

    def test_what_belongs_together_stays_together(self):
        part, support = item((10, 10, 10), (50, 60)), item((2, 2, 30), (70, 60), "support")
        alone, (first, second) = item((5, 5, 5), (0, 0)), (0, 1)
        found = in_rows([[part, support], [alone]])
        between = found[second].mesh.bounds[0] - found[first].mesh.bounds[0]
        np.testing.assert_allclose(between, [20, 0, 0], atol=1e-5)
        self.assertEqual([i.name for i in found], ["part", "support", "part"])

    def test_an_empty_object_is_kept_as_it_is(self):
        nothing = Mesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32))
        self.assertIs(moved(nothing, 5.0), nothing)
        found = in_rows([[item((5, 5, 5), (0, 0)), FileObject("support", nothing)]])
        self.assertEqual(len(found), 2)


if __name__ == "__main__":
    unittest.main()
