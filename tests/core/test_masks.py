"""Masks of layers: exact coverage, and what is read back from the file."""

from __future__ import annotations

import io
import json
import math
import unittest
import zipfile

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from manifold3d import CrossSection
from PIL import Image
from skimage.draw import polygon2mask

from tests.stilted import Stilted
from tests.support import box
from upright_heron.core.errors import BadValue
from upright_heron.core.footing.footing import FootingKind, FootingSettings, make_footing
from upright_heron.core.handoff.masks import MANIFEST, Screen, checked, read_masks, write_masks
from upright_heron.core.layers.coverage import accumulate, words_for
from upright_heron.core.layers.printed_layers import PrintedLayers
from upright_heron.core.layers.stack import packed
from upright_heron.core.toolpaths.process_table import Row, Stretch, steps

SCREEN = Screen("Tarn 9", 400, 250, 0.046)


def covered(rings, low=(0.0, 0.0), pixel=1.0, shape=(12, 16)):
    total = np.zeros((shape[0], shape[1] + 2))
    marks = np.zeros((shape[0], words_for(shape[1])), np.uint64)
    accumulate(*packed([np.asarray(r, float) for r in rings]), *low, pixel, total, marks)
    # Nothing was added where there is no mark.
    bits = np.unpackbits(marks.view(np.uint8), axis=1, bitorder="little")[:, : shape[1] + 2]
    assert not total[bits == 0].any()
    return np.cumsum(total, axis=1)[:, : shape[1]]


def circle(radius, x=0.0, y=0.0, sides=256):
    turn = 2 * np.pi * np.arange(sides) / sides
    return np.stack([x + radius * np.cos(turn), y + radius * np.sin(turn)], axis=1)


def write(layers, screen=SCREEN, layer_mm=0.05):
    every = np.concatenate([ring for rings in layers for ring in rings])
    bounds = np.stack([every.min(axis=0), every.max(axis=0)])
    first = Row(Stretch.FIRST, 1, 30.0, 7.0, 1.0, 2.0, 0.5, 0.25)
    body = Row(Stretch.BODY, None, 2.5, 5.0, 2.0, 4.0)
    return write_masks(layers, screen, layer_mm, steps((first, body), len(layers)), bounds)


def pictures(data):
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        names = sorted(n for n in archive.namelist() if n.endswith(".png"))
        return [np.asarray(Image.open(io.BytesIO(archive.read(n)))) for n in names]


class CoverageTest(unittest.TestCase):
    def test_a_square_by_hand(self):
        found = covered([[(1.25, 2.5), (3.5, 2.5), (3.5, 4.0), (1.25, 4.0)]])
        expected = np.zeros((12, 16))
        expected[2, 1:4] = [0.375, 0.5, 0.25]
        expected[3, 1:4] = [0.75, 1.0, 0.5]
        np.testing.assert_allclose(found, expected, atol=1e-12)

    def test_a_triangle_by_hand(self):
        # Under the line from (0, 0) to (4, 2): half a pixel rise a pixel.
        found = covered([[(0, 0), (4, 0), (4, 2)]])
        np.testing.assert_allclose(found[0, :4], [0.25, 0.75, 1, 1], atol=1e-12)
        np.testing.assert_allclose(found[1, :4], [0, 0, 0.25, 0.75], atol=1e-12)
        np.testing.assert_allclose(found[2:], 0, atol=1e-12)

    def test_holes_stay_open(self):
        found = covered([[(0, 0), (8, 0), (8, 8), (0, 8)], [(2, 2), (2, 6), (6, 6), (6, 2)]])
        self.assertAlmostEqual(found.sum(), 48)
        np.testing.assert_allclose(found[2:6, 2:6], 0, atol=1e-12)

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.tuples(st.floats(0.5, 15.5), st.floats(0.5, 11.5)), min_size=3, max_size=9))
    def test_any_outline_has_its_area_and_every_pixel_its_share(self, corners):
        shape = CrossSection([np.array(corners)]) if corners else CrossSection()
        rings = shape.to_polygons()
        if not rings:
            return
        found = covered(rings)
        self.assertAlmostEqual(found.sum(), shape.area(), places=6)
        self.assertTrue(((found >= -1e-9) & (found <= 1 + 1e-9)).all())
        # Each pixel by itself, cut out by another library.
        for row, column in ((3, 4), (6, 8), (9, 12)):
            pixel = CrossSection.square((1, 1)).translate((column, row))
            self.assertAlmostEqual(found[row, column], (shape ^ pixel).area(), places=6)

    def test_it_is_the_mean_of_a_finer_raster(self):
        ring = circle(4.3, 7.2, 6.1)
        fine = polygon2mask((12 * 40, 16 * 40), (ring * 40 - 0.5)[:, ::-1])
        means = fine.reshape(12, 40, 16, 40).mean(axis=(1, 3))
        self.assertLess(np.abs(covered([ring]) - means).max(), 0.02)


class FileTest(unittest.TestCase):
    def test_areas_are_those_of_the_outlines(self):
        radii = (2.0, 3.0, 3.7)
        found = read_masks(write([[circle(r, 0.4, -0.3)] for r in radii]))
        for read, line, r in zip(found.area_mm2, found.layers, radii, strict=True):
            exact = 128 * math.sin(2 * math.pi / 256) * r**2
            self.assertAlmostEqual(line.area_mm2 / exact, 1, places=9)
            self.assertAlmostEqual(read / exact, 1, delta=1e-4)
        self.assertEqual(found.steps.exposure_s.tolist(), [30.0, 2.5, 2.5])
        np.testing.assert_allclose([line.top_mm for line in found.layers], [0.05, 0.1, 0.15])

    def test_pixels_lie_where_the_manifest_says(self):
        """Seen from above, the first row at the back, the middle of the plate in the middle."""
        (seen,) = pictures(write([[np.array([(1.0, 2.0), (2.0, 2.0), (2.0, 3.0), (1.0, 3.0)])]]))
        self.assertEqual((seen.shape, seen.dtype), ((250, 400), np.uint8))
        rows, columns = np.nonzero(seen)
        x = (columns + 0.5 - 200) * 0.046
        y = (125 - rows - 0.5) * 0.046
        self.assertTrue(0.97 < x.min() < 1.03 and 1.97 < x.max() < 2.03)
        self.assertTrue(1.97 < y.min() < 2.03 and 2.97 < y.max() < 3.03)
        self.assertEqual(seen.max(), 255)

    def test_layers_leave_nothing_behind_for_the_next(self):
        large, small = circle(3.0), circle(0.5, 1.0)
        data = write([[large], [], [small], [large]])
        seen = pictures(data)
        self.assertEqual(read_masks(data).area_mm2[1], 0)
        self.assertEqual(int(seen[1].max()), 0)
        np.testing.assert_array_equal(seen[0], seen[3])
        np.testing.assert_array_equal(seen[2], pictures(write([[small]]))[0])

    def test_the_window_may_touch_every_edge_of_the_screen(self):
        w, h = 200 * 0.046, 125 * 0.046
        (seen,) = pictures(write([[np.array([(-w, -h), (w, -h), (w, h), (-w, h)])]]))
        self.assertTrue((seen == 255).all())

    def test_a_picture_that_does_not_show_its_layer_is_found(self):
        large, small = circle(3.0), circle(2.98)
        good = write([[large], [large]])
        self.assertEqual(len(checked(good).layers), 2)
        # The second picture is that of a layer a fiftieth of a millimetre smaller.
        other = write([[small], [small]])
        out = io.BytesIO()
        with (
            zipfile.ZipFile(io.BytesIO(good)) as one,
            zipfile.ZipFile(io.BytesIO(other)) as two,
            zipfile.ZipFile(out, "w") as mixed,
        ):
            for name in one.namelist():
                mixed.writestr(name, (two if name == "00002.png" else one).read(name))
        self.assertEqual(len(read_masks(out.getvalue()).layers), 2)
        with self.assertRaisesRegex(BadValue, "mask of layer 2"):
            checked(out.getvalue())
        # Black and white only, an outline between pixels is still that of its layer.
        for levels in (2, 4):
            checked(write([[large], [small]], Screen("Tarn 9", 400, 250, 0.046, levels)))

    def test_levels_of_grey(self):
        for levels in (2, 4, 256):
            screen = Screen("Tarn 9", 400, 250, 0.046, levels)
            (seen,) = pictures(write([[circle(3.0)]], screen))
            self.assertLessEqual(len(np.unique(seen)), levels)
            self.assertTrue({0, 255} <= set(np.unique(seen).tolist()))
        # Half a pixel and more is white where there is no grey.
        edge = 0.046 * 10
        for share, white in ((0.4, 10), (0.6, 11)):
            wide = edge + share * 0.046
            ring = np.array([(0, 0), (wide, 0), (wide, 0.46), (0, 0.46)])
            (seen,) = pictures(write([[ring]], Screen("Tarn 9", 400, 250, 0.046, 2)))
            self.assertEqual(int((seen[120] == 255).sum()), white)

    def test_what_lies_beside_the_screen_is_refused(self):
        with self.assertRaises(BadValue) as told:
            write([[circle(3.0, 9.0)]])
        self.assertIn("400 x 250 pixels", str(told.exception))

    def test_broken_files_are_refused(self):
        good = write([[circle(3.0)]])
        with zipfile.ZipFile(io.BytesIO(good)) as archive:
            held = {name: archive.read(name) for name in archive.namelist()}
        told = json.loads(held[MANIFEST])

        def packed_again(**changes):
            out = io.BytesIO()
            with zipfile.ZipFile(out, "w") as archive:
                for name, data in (held | changes).items():
                    if data is not None:
                        archive.writestr(name, data)
            return out.getvalue()

        small = io.BytesIO()
        Image.new("L", (10, 10)).save(small, "PNG")
        cases = [
            b"", good[:200], packed_again(**{"00001.png": None}), packed_again(**{"00001.png": b"x"}),
            packed_again(**{"00001.png": small.getvalue()}), packed_again(**{MANIFEST: b"{}"}),
            packed_again(**{MANIFEST: json.dumps(told | {"width_px": 10**9}).encode()}),
            packed_again(**{MANIFEST: b"not json"}),
        ]  # fmt: skip
        for case in cases:
            with self.assertRaises(BadValue):
                read_masks(case)


class PrintedTest(unittest.TestCase):
    """What is printed in each layer: the part, what holds it, and what it stands on."""

    def test_a_raft_raises_part_and_stilts_and_what_meets_is_united(self):
        bench = Stilted(box(20, 20, 5), 0.25, lift=5.0)
        made = bench.made()
        given = FootingSettings(FootingKind.RAFT, raft_layers=4, gap_mm=0)
        raft = make_footing(bench.stack.section(0), given, 0.25)
        printed = PrintedLayers(bench.stack, made.layers, raft)
        self.assertEqual(len(printed), 4 + 20 + 20)
        areas = [CrossSection(rings).area() if rings else 0.0 for rings in printed]
        for level in (0, 3):
            self.assertAlmostEqual(areas[level], raft.area_mm2, places=6)
        # Feet next, then the part with what of the tips is in it.
        self.assertAlmostEqual(areas[4], made.layers.area_mm2[0], delta=0.01)
        # At its edges tips stand out of its first layers a little.
        self.assertAlmostEqual(areas[24], 400.0, delta=0.5)
        self.assertAlmostEqual(areas[43], 400.0, places=2)
        x0, y0, x1, y1 = raft.outline.bounds()
        hull = printed.hull
        np.testing.assert_allclose([hull.min(axis=0), hull.max(axis=0)], [[x0, y0], [x1, y1]])

    def test_a_brim_lies_round_the_first_layers_only(self):
        bench = Stilted(box(20, 20, 5), 0.25)
        brim = make_footing(bench.stack.section(0), FootingSettings(FootingKind.BRIM), 0.25)
        areas = [CrossSection(rings).area() for rings in PrintedLayers(bench.stack, None, brim)]
        self.assertGreater(areas[0], 430)
        np.testing.assert_allclose(areas[brim.layers :], 400.0, atol=1e-3)


if __name__ == "__main__":
    unittest.main()
