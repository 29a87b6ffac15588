"""Resin that stays in while a part hangs: volumes and leans by closed form."""

import math
import unittest

from manifold3d import CrossSection, Manifold

from tests.support import box
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.hanging.findings import Family, Hanging, listed
from upright_heron.core.hanging.pools import LEANS_DEG, Pool, find_pools
from upright_heron.core.layers.stack import pack, slice_solid

BLOCK = box(40, 40, 30, (-20, -20, 0))


def pools_of(body, layer=0.1):
    return find_pools(slice_solid(Solid(body), layer))


class PoolsTest(unittest.TestCase):
    def test_a_half_ball_open_below_is_full_and_runs_out_the_other_way_up(self):
        (pool,) = pools_of(BLOCK - Manifold.sphere(15, 96))
        self.assertAlmostEqual(pool.volume_mm3 / (2 / 3 * math.pi * 15**3), 1, delta=0.02)
        # Deepest at its top, where a hole would let it out.
        self.assertLess(max(abs(pool.x_mm), abs(pool.y_mm)), 2.6)
        self.assertAlmostEqual(pool.z_mm, 15, delta=0.6)
        # A ninth of it stays in even at 45 degrees.
        self.assertEqual((pool.stands, pool.lean_deg, pool.side), (False, 0, ""))

    def test_a_cone_runs_out_once_it_leans_more_than_its_side(self):
        for side_deg in (8, 14, 24, 38, 50):
            high = 12 * math.tan(math.radians(side_deg))
            (pool,) = pools_of(BLOCK - Manifold.cylinder(high, 12, 0.01, 96), 0.05)
            self.assertAlmostEqual(pool.volume_mm3 / (math.pi * 144 * high / 3), 1, delta=0.06)
            least = next((lean for lean in LEANS_DEG if lean > side_deg), 0)
            self.assertEqual(pool.lean_deg, least, side_deg)

    def test_a_groove_runs_out_to_its_lower_end(self):
        # Its roof rises by 15 degrees to the right, where it is shut; on the left it is open.
        slope = CrossSection([[(-30, -5), (15, -5), (15, 11.5), (-30, -0.56)]])
        roof = Manifold.extrude(slope, 10).rotate((90, 0, 0))
        (pool,) = pools_of(BLOCK - roof.translate((0, 5, 0)))
        self.assertEqual((pool.lean_deg, pool.side), (20, "right"))
        self.assertGreater(pool.x_mm, 12)

    def test_what_drips_out_or_is_shut_in_is_no_pool(self):
        for body in (
            BLOCK,
            BLOCK - Manifold.sphere(15, 96).translate((0, 0, 30)),
            BLOCK - Manifold.sphere(9, 64).translate((0, 0, 15)),
            BLOCK - Manifold.sphere(15, 96) - Manifold.cylinder(40, 2, 2, 32),
        ):
            self.assertEqual(pools_of(body), [])
        self.assertEqual(find_pools(pack([], [], 0.1, 0.0)), [])

    def test_what_is_no_deeper_than_the_lattice_is_rough_is_none(self):
        # Both hold over half a millilitre where the lattice is coarse; the one is as deep as a step of it.
        for deep, pools in ((0.6, 0), (1.6, 1)):
            dish = Manifold.cylinder(deep, 18, 18, 96)
            self.assertEqual(len(pools_of(BLOCK - dish)), pools, deep)

    def test_a_jar_on_its_side_keeps_it_both_ways(self):
        jar = Manifold.cylinder(40, 14, 14, 64) - Manifold.cylinder(37, 11, 11, 64).translate((0, 0, 2))
        jar -= Manifold.cylinder(10, 4, 4, 32).translate((0, 0, 36))
        lying = jar.rotate((0, 90, 0)).translate((0, 0, 14))
        (pool,) = pools_of(lying)
        self.assertTrue(pool.stands)
        # Below the edge of its mouth: a cylinder of radius 11 filled to 4 mm from its middle, 37 long.
        cap = 121 * math.acos(4 / 11) - 4 * math.sqrt(121 - 16)
        whole = math.pi * 121 - cap
        self.assertLess(pool.volume_mm3, 37 * whole)
        self.assertAlmostEqual(pool.volume_mm3 / (36 * cap), 1, delta=0.08)

    def test_it_is_listed_with_its_mends(self):
        found = Hanging(pools=(Pool(1234.0, 1.0, 2.0, 9.5, False, 20, "back"),))
        (one,) = listed(found, limit_deg=45, bridge_mm=0, material="resin", resin=True)
        self.assertEqual((one.family, one.at_mm, one.kind), (Family.POOL, (1.0, 2.0, 9.5), "bowl"))
        for word in ("1.2 cm³", "20° to the back", "hole at its highest place", "the other way up"):
            self.assertIn(word, one.reason)
        (other,) = listed(
            Hanging(pools=(Pool(1234.0, 1.0, 2.0, 9.5, True),)),
            limit_deg=45,
            bridge_mm=0,
            material="r",
            resin=True,
        )
        self.assertNotIn("leaning", other.reason)
        self.assertNotIn("other way up", other.reason)


if __name__ == "__main__":
    unittest.main()
