"""Layers of a plate: where they stand, how outlines move, and slices as the reference library reads them."""

import io
import math
import unittest
import zipfile

import lib3mf
import numpy as np
from manifold3d import CrossSection, Manifold
from PIL import Image

from tests.core.test_threemf import read
from tests.support import box, mesh_of
from upright_heron.core.errors import BadValue
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.handoff.masks import Screen, cutout, write_masks
from upright_heron.core.handoff.plate_layers import Outline, PlateLayers, Standing
from upright_heron.core.handoff.slices import SliceObject, write_slices
from upright_heron.core.layers.printed_layers import PrintedLayers
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.toolpaths.process_table import Row, Stretch, steps

LAYER = 0.25


def layers_of(body):
    return PrintedLayers(slice_solid(Solid(body), LAYER))


def areas(rings):
    return CrossSection(rings).area() if rings else 0.0


def sliced(data):
    """Of each stack of slices: heights of their tops, and their areas by the shoelace formula."""
    model, objects = read(data)
    stacks, found = model.GetSliceStacks(), []
    while stacks.MoveNext():
        stack = stacks.GetCurrentSliceStack()
        tops, sizes = [], []
        for k in range(stack.GetSliceCount()):
            one = stack.GetSlice(k)
            points = np.array([list(v.Coordinates) for v in one.GetVertices()]).reshape(-1, 2)
            size = 0.0
            for ring in range(one.GetPolygonCount()):
                around = list(one.GetPolygonIndices(ring))
                assert around[0] == around[-1]
                x, y = points[around].T
                size += 0.5 * float((x[:-1] * y[1:] - x[1:] * y[:-1]).sum())
            tops.append(one.GetZTop())
            sizes.append(size)
        found.append((stack.GetBottomZ(), tops, sizes))
    return model, objects, found


class PlateTest(unittest.TestCase):
    def test_items_stand_swung_and_moved(self):
        bar = layers_of(box(20, 4, 1).translate((-10, -2, 0)))
        cube = layers_of(box(3, 3, 2))
        plate = PlateLayers([Standing(bar, 30.0, 5.0, 90.0), Standing(cube, -8.0, -6.0)])
        self.assertEqual(len(plate), 8)
        np.testing.assert_allclose(plate.bounds, [[-8, -6], [32, 15]], atol=1e-9)
        shape = CrossSection(plate.rings(0))
        self.assertAlmostEqual(shape.area(), 89, places=6)
        # Swung by a quarter the bar lies along y: from -5 to 15.
        self.assertAlmostEqual(
            (shape ^ CrossSection.square((4, 20)).translate((28, -5))).area(), 80, places=6
        )
        self.assertAlmostEqual(areas(plate.rings(5)), 9, places=6)

    def test_swung_by_some_degrees_it_turns_to_the_left(self):
        bar = layers_of(box(20, 2, 1).translate((0, -1, 0)))
        (ring,) = PlateLayers([Standing(bar, swing_deg=30.0)]).rings(0)
        far = ring[np.argmax(np.hypot(*ring.T))]
        self.assertAlmostEqual(math.degrees(math.atan2(far[1], far[0])), 30, delta=4)
        self.assertAlmostEqual(float(ring.mean(axis=0)[1]), 10 * math.sin(math.radians(30)), places=6)

    def test_what_is_round_reaches_no_further_when_it_is_swung(self):
        disc = layers_of(Manifold.cylinder(1, 5, 5, 96))
        for swing in (0.0, 30.0, 45.0):
            plate = PlateLayers([Standing(disc, 1.0, 2.0, swing)])
            np.testing.assert_allclose(plate.bounds, [[-4, -3], [6, 7]], atol=0.02)

    def test_outlines_move_outwards_with_round_corners_and_inwards_square(self):
        cube = layers_of(box(10, 10, 2))
        plate = PlateLayers([Standing(cube)], Outline(0.5, -1.0, first=3))
        for level in (0, 2):
            self.assertAlmostEqual(areas(plate.rings(level)), 64, places=6)
        for level in (3, 7):
            self.assertAlmostEqual(areas(plate.rings(level)), 11**2 - (4 - math.pi) * 0.25, delta=0.01)
        np.testing.assert_allclose(plate.bounds, [[-0.5, -0.5], [10.5, 10.5]])
        # A hole gets smaller by as much.
        ring = layers_of(box(10, 10, 1) - box(4, 4, 1, (3, 3, 0)))
        (_outer, inner) = sorted(PlateLayers([Standing(ring)], Outline(0.5)).rings(1), key=len, reverse=True)
        self.assertAlmostEqual(abs(CrossSection([inner[::-1]]).area()), 9, delta=0.01)
        # Thinner than twice the way inwards nothing is left.
        self.assertEqual(PlateLayers([Standing(layers_of(box(10, 1, 1)))], Outline(-0.6)).rings(0), [])

    def test_a_cutout_is_the_mask_itself(self):
        screen = Screen("Tarn 9", 400, 250, 0.1)
        body = Manifold.cylinder(2, 4, 2, 64) + box(3, 9, 1, (5, 0, 0))
        plate = PlateLayers([Standing(layers_of(body), 3.33, -2.17, 25.0)])
        made = steps((Row(Stretch.BODY, None, 2.0, 5.0, 2.0, 4.0),), len(plate))
        data = write_masks(map(plate.rings, range(len(plate))), screen, LAYER, made, plate.bounds)
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            whole = np.asarray(Image.open(io.BytesIO(archive.read("00003.png"))))
        one = cutout(plate.rings(2), screen, plate.bounds)
        part = np.asarray(Image.open(io.BytesIO(one.png)))
        self.assertEqual(part.shape, (one.height_px, one.width_px))
        top = screen.height_px - one.bottom_px - one.height_px
        there = whole[top : top + one.height_px, one.left_px : one.left_px + one.width_px]
        np.testing.assert_array_equal(part, there)
        self.assertEqual(int(part.astype(int).sum()), int(whole.astype(int).sum()))
        self.assertGreater(part.max(), 250)


class SlicesTest(unittest.TestCase):
    def test_a_cone_is_read_back_layer_by_layer(self):
        body = Manifold.cylinder(6, 10, 4, 128) - Manifold.cylinder(6, 2, 2, 64)
        layers = layers_of(body)
        places = [Standing(layers, 20.0, -10.0, 90.0), Standing(layers, -30.0, 0.0)]
        data = write_slices([SliceObject("part ü & <1>", mesh_of(body), places)], "Plate & 1")
        model, objects, (stack,) = sliced(data)
        bottom, tops, sizes = stack
        self.assertEqual(bottom, 0)
        np.testing.assert_allclose(tops, LAYER * np.arange(1, 25), atol=1e-6)
        ngon = lambda n, r: 0.5 * n * math.sin(2 * math.pi / n) * r**2  # noqa: E731
        radius = 10 - 6 * (np.arange(24) + 0.5) * LAYER / 6
        np.testing.assert_allclose(sizes, [ngon(128, r) - ngon(64, 2) for r in radius], rtol=1e-4)
        (one,) = objects
        self.assertEqual(one.GetName(), "part ü & <1>")
        self.assertTrue(one.HasSlices(False))
        self.assertEqual(one.GetSlicesMeshResolution(), lib3mf.SlicesMeshResolution.Lowres)
        items, at = model.GetBuildItems(), []
        while items.MoveNext():
            at.append(np.array(items.GetCurrent().GetObjectTransform().Fields))
        # Rows of points times the matrix: x goes to y where it is swung by a quarter to the left.
        np.testing.assert_allclose(at[0], [[0, 1, 0], [-1, 0, 0], [0, 0, 1], [20, -10, 0]], atol=1e-6)
        np.testing.assert_allclose(at[1], [[1, 0, 0], [0, 1, 0], [0, 0, 1], [-30, 0, 0]], atol=1e-6)

    def test_layers_with_nothing_in_them_and_moved_outlines(self):
        apart = box(8, 8, 1) + box(8, 8, 1, (0, 0, 2))
        data = write_slices(
            [SliceObject("part", mesh_of(apart), [Standing(layers_of(apart))])], "x", Outline(-0.5, -1.0, 1)
        )
        _, _, ((_, tops, sizes),) = sliced(data)
        self.assertEqual(len(tops), 12)
        np.testing.assert_allclose(sizes, [36, 49, 49, 49, 0, 0, 0, 0, 49, 49, 49, 49], atol=1e-3)

    def test_nothing_is_refused(self):
        with self.assertRaises(BadValue):
            write_slices([], "x")


if __name__ == "__main__":
    unittest.main()
