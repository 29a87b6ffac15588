"""Coupons measured from their facets."""

import unittest

import numpy as np
import shapely

from upright_heron.core.errors import BadValue
from upright_heron.core.geometry.mesh import facet_normals
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.hanging.islands import find_islands
from upright_heron.core.hanging.overhangs import facet_angles_deg, overhangs
from upright_heron.core.health.defects import examine
from upright_heron.core.layers.stack import slice_solid
from upright_heron.core.machines import coupons

# Segments of a digit of seven, as they are usually lettered: a on top, then round by the right, g in the middle.
DIGITS = {
    "abcdef": "0", "bc": "1", "abdeg": "2", "abcdg": "3", "bcfg": "4",
    "acdfg": "5", "acdefg": "6", "abc": "7", "abcdefg": "8", "abcdfg": "9",
}  # fmt: skip


def number_at(mesh, x, y, z):
    """The number whose relief has its middle at a place, read from a section at a level."""
    rings = [
        shapely.Polygon(ring)
        for ring in Solid.from_mesh(mesh).section(z).to_polygons()
        if np.abs(ring - (x, y)).max() < 5.0
    ]
    x0, y0, x1, y1 = shapely.unary_union(rings).bounds
    columns = np.arange(x0, x1, 0.1)
    bare = ~shapely.intersects(shapely.unary_union(rings), shapely.box(columns, y0, columns + 0.05, y1))
    ends = [*columns[1:][bare[1:] & ~bare[:-1]], x1]
    text = ""
    for right in ends:
        a, b, c = right - 3 + 0.4, right - 1.5, right - 0.4
        low, under, middle, over, high = y0 + 0.4, y0 + 1.5, (y0 + y1) / 2, y1 - 1.5, y1 - 0.4
        spots = {
            "a": (b, high),
            "b": (c, over),
            "c": (c, under),
            "d": (b, low),
            "e": (a, under),
            "f": (a, over),
        }
        lit = [
            name
            for name, at in {**spots, "g": (b, middle)}.items()
            if sum(ring.contains(shapely.Point(at)) for ring in rings) % 2
        ]
        text += DIGITS["".join(lit)]
    return int(text)


class CouponTest(unittest.TestCase):
    def test_numbers_stand_beside_what_they_tell(self):
        slopes, bridges, fits = coupons.slope_coupon(), coupons.bridge_coupon(), coupons.fit_coupon()
        for place, degrees in enumerate(coupons.SLOPES_DEG):
            self.assertEqual(number_at(slopes, 12 * place + 4.5, -11, 2.4), degrees)
        for row, span in enumerate(coupons.SPANS_MM):
            self.assertEqual(number_at(bridges, -7, 10 * row + 2.5, 2.0), span)
        high = float(fits.vertices[fits.vertices[:, 1] > 5, 2].max())
        for place, clearance in enumerate(coupons.CLEARANCES_MM):
            self.assertEqual(number_at(fits, 12 * place, 9.5, high - 0.4), round(100 * clearance))

    def test_each_is_sound_and_stands(self):
        for kind in coupons.KINDS:
            with self.subTest(kind):
                mesh = coupons.coupon(kind)
                health = examine(mesh)
                # The coupon of fits has a peg beside it.
                bodies = 2 if kind == "fits" else 1
                self.assertEqual((health.defects, health.bodies, health.verdict.sound), (0, bodies, True))
                self.assertEqual(mesh.bounds[0, 2], 0)
                self.assertGreater(overhangs(mesh, 45).contact_area_mm2, 500)
                islands, _ = find_islands(slice_solid(Solid.from_mesh(mesh), 0.2))
                self.assertEqual(islands, [])
                self.assertLess(mesh.size_mm.max(), 180)
        with self.assertRaises(BadValue):
            coupons.coupon("spoon")

    def test_slopes_are_those_that_the_numbers_say(self):
        mesh = coupons.slope_coupon()
        angles, (normals, areas) = facet_angles_deg(mesh), facet_normals(mesh)
        under = (normals[:, 2] < -1e-6) & (angles < 89.9)
        found = {}
        for angle, area in zip(np.round(angles[under], 3), areas[under], strict=True):
            found[angle] = found.get(angle, 0.0) + area
        self.assertEqual(sorted(found), [float(d) for d in coupons.SLOPES_DEG])
        # Each underside is as wide and as long as the wing.
        np.testing.assert_allclose(list(found.values()), 9.0 * 16.0, rtol=1e-3)

    def test_bridges_span_what_the_numbers_say(self):
        mesh = coupons.bridge_coupon()
        normals, areas = facet_normals(mesh)
        middle = mesh.vertices[mesh.faces].mean(axis=1)
        under = (normals[:, 2] < -0.99) & (np.abs(middle[:, 2] - 9) < 1e-6)
        rows = np.floor((middle[under, 1] + 2.5) / 10).astype(int)
        spans = np.bincount(rows, areas[under]) / 5.0
        np.testing.assert_allclose(spans, coupons.SPANS_MM, rtol=1e-4)

    def test_fits_are_those_that_the_numbers_say(self):
        mesh = coupons.fit_coupon()
        high = mesh.bounds[1, 2]
        rings = Solid.from_mesh(mesh).section(float(high) - 5.0).to_polygons()
        squares = [ring for ring in rings if np.ptp(ring[:, 0]) < 20]
        peg = [ring for ring in squares if ring[:, 1].mean() < -10]
        holes = sorted((r for r in squares if r[:, 1].mean() > -10), key=lambda r: r[:, 0].mean())
        np.testing.assert_allclose(np.ptp(peg[0], axis=0), 6.0, atol=1e-4)
        # It stands in the middle of what it is held by.
        grip = Solid.from_mesh(mesh).section(1.0).to_polygons()
        below = next(ring for ring in grip if ring[:, 1].mean() < -10)
        np.testing.assert_allclose(peg[0].mean(axis=0), below.mean(axis=0), atol=1e-4)
        widths = [np.ptp(ring[:, 0]) for ring in holes]
        np.testing.assert_allclose(widths, [6.0 + 2 * c for c in coupons.CLEARANCES_MM], atol=1e-4)
        self.assertEqual(coupons.CLEARANCES_MM[:4], (0.0, 0.05, 0.1, 0.15))

    def test_what_the_limit_finds_on_the_fan(self):
        mesh = coupons.slope_coupon()
        for limit in (42.0, 57.0, 72.0):
            past = sum(d > limit for d in coupons.SLOPES_DEG)
            self.assertAlmostEqual(overhangs(mesh, limit).overhang_area_mm2 / (past * 144.0), 1, delta=1e-3)


if __name__ == "__main__":
    unittest.main()
