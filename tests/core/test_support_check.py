"""The check of supports: stricter than what makes them, and written another way."""

import unittest
from dataclasses import replace

from tests.held import USUAL, Bench
from tests.support import comb, tee
from upright_heron.core.supports.checks.verify import verify
from upright_heron.core.supports.demand.patches import Style


class CheckTest(unittest.TestCase):
    """Supports broken on purpose: the check finds each."""

    @classmethod
    def setUpClass(cls):
        cls.bench = Bench(tee())
        cls.made = cls.bench.make(Style.TREE)

    def kinds(self, made):
        return {fault.kind for fault in self.bench.check(made)}

    def remade(self, change):
        """The same supports with every layer changed: (section, level) to section."""
        from upright_heron.core.layers.stack import pack

        stack = self.made.layers
        sections = [change(stack.section(level), level) for level in range(len(stack))]
        layers = pack(
            [s.to_polygons() for s in sections], [float(s.area()) for s in sections], stack.layer_mm, 0.0
        )
        return replace(self.made, layers=layers)

    def test_sound(self):
        self.assertEqual(self.kinds(self.made), set())

    def test_a_cut_trunk_floats(self):
        from manifold3d import CrossSection

        cut = self.remade(lambda s, level: CrossSection() if 20 <= level < 25 else s)
        self.assertIn("floats", self.kinds(cut))

    def test_tips_moved_off_hold_nothing(self):
        moved = self.remade(lambda s, level: s.translate((0, 40)))
        self.assertIn("not held", self.kinds(moved))

    def test_a_trunk_through_the_part(self):
        from manifold3d import CrossSection

        bar = CrossSection.circle(2, 16).translate((20, 5))
        through = self.remade(lambda s, level: s + bar)
        self.assertIn("crosses the part", self.kinds(through))

    def test_an_island_left_out(self):
        bench = Bench(comb())
        some = bench.make(Style.LINES, {bench.patches[0].id: Style.NONE})
        found = verify(bench.stack, bench.patches, some, USUAL)
        self.assertTrue(any(f.kind == "not held" and "island 1" in f.words for f in found))

    def test_a_trunk_too_slender(self):
        thin = replace(self.made.supports[0], nodes=self.made.supports[0].nodes * [1, 1, 1, 0.1])
        self.assertIn("slender", self.kinds(replace(self.made, supports=(thin,))))


if __name__ == "__main__":
    unittest.main()
