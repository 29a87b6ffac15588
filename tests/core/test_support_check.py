"""The check of supports: stricter than what makes them, and written another way."""

import unittest
from dataclasses import replace

import numpy as np
from manifold3d import CrossSection, Manifold, OpType
from scipy import ndimage
from skimage.draw import polygon

from tests.held import USUAL, Bench
from tests.support import box, comb, mesh_of, on_plate, tee
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.layers.stack import pack, slice_solid
from upright_heron.core.supports.checks.verify import rests, verify
from upright_heron.core.supports.demand.patches import Style
from upright_heron.core.supports.demand.side_contacts import steady_heights, steady_patches
from upright_heron.core.supports.filament.styles import chosen_styles, make_filament
from upright_heron.core.supports.filament.tips import RISE_MM, Places, Stands
from upright_heron.sheet.process import FilamentSupports
from upright_heron.work.alone import Alone


def in_mid_air(layers, stack, pixel=0.15):
    """Level and size (mm2) of what of a layer has nothing below it, by scipy's labels of rasters."""
    low = np.minimum(layers.points.min(axis=0), stack.points.min(axis=0)) - 2
    shape = np.ceil(
        (np.maximum(layers.points.max(axis=0), stack.points.max(axis=0)) + 2 - low) / pixel
    ).astype(int)

    def raster(section):
        grid = np.zeros(shape, np.int8)
        for ring in section.to_polygons():
            x, y = ((ring - low) / pixel).T
            rows, columns = polygon(x, y, shape)
            turn = 1 if float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum()) > 0 else -1
            grid[rows, columns] += turn
        return grid > 0

    found, before, parts = [], None, []
    for level in range(len(layers)):
        here = raster(layers.section(level))
        if level and here.any():
            carried = np.logical_or.reduce(parts[-6:]) | ndimage.binary_dilation(before, iterations=6)
            label, count = ndimage.label(here, np.ones((3, 3)))
            share = ndimage.mean(carried, label, range(1, count + 1))
            size = ndimage.sum(here, label, range(1, count + 1)) * pixel**2
            found += [(level, float(s)) for s, c in zip(size, share, strict=True) if c < 0.1 and s > 0.3]
        before = here
        parts.append(raster(stack.section(level)) if level < len(stack) else np.zeros(shape, bool))
    return found


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
        stack = self.made.layers
        sections = [change(stack.section(level), level) for level in range(len(stack))]
        layers = pack(
            [s.to_polygons() for s in sections], [float(s.area()) for s in sections], stack.layer_mm, 0.0
        )
        return replace(self.made, layers=layers)

    def test_sound(self):
        self.assertEqual(self.kinds(self.made), set())

    def test_a_cut_trunk_floats(self):
        cut = self.remade(lambda s, level: CrossSection() if 20 <= level < 25 else s)
        self.assertIn("floats", self.kinds(cut))

    def test_tips_moved_off_hold_nothing(self):
        moved = self.remade(lambda s, level: s.translate((0, 40)))
        self.assertIn("not held", self.kinds(moved))

    def test_a_trunk_through_the_part(self):
        bar = CrossSection.circle(2, 16).translate((20, 5))
        through = self.remade(lambda s, level: s + bar)
        self.assertIn("crosses the part", self.kinds(through))

    def test_an_island_left_out(self):
        bench = Bench(comb())
        some = bench.make(Style.LINES, {bench.patches[0].id: Style.NONE})
        found = verify(bench.stack, bench.patches, some, USUAL)
        self.assertTrue(any(f.kind == "not held" and "island 1" in f.words for f in found))

    def test_posts_stand_under_all_of_a_broad_patch_and_one_under_a_spot(self):
        item = {"supports": FilamentSupports(style=Style.PILLAR)}
        made = Alone(mesh_of(tee()), item=item, job={"limit_deg": 45.0}).make("supports")
        self.assertEqual(made.faults, ())
        # Each arm of 20 x 10 has its posts, none of which come together.
        self.assertGreater(len(made.supports), 8)
        self.assertEqual({len(s.tips) for s in made.supports}, {1})

    def test_contacts_on_the_side_are_held_whatever_holds_the_rest(self):
        ball = Bench(Manifold.sphere(20, 96).translate((0, 0, 20)))
        heights = steady_heights(ball.stack, 2, 0.8)
        asked = [*ball.patches, *steady_patches(ball.stack, ball.mesh, ball.tree, heights, USUAL)]
        for style in (Style.LINES, Style.GRID, Style.PILLAR):
            with self.subTest(style):
                held = chosen_styles(asked, style, {})
                self.assertIn(style, {chosen for _, chosen in held})
                made = make_filament(ball.stack, held, USUAL, ball.tree)
                self.assertEqual([f.words for f in made.faults], [])
        # What was chosen for one patch stays as it was chosen.
        one = chosen_styles(asked, Style.GRID, {asked[-1].id: Style.LINES})
        self.assertEqual(one[-1][1], Style.LINES)

    def test_many_crumbs_in_the_part_are_none_of_them_a_fault(self):
        # 0.06 mm2 each is the noise of contours, all together are more than that in every layer.
        bench = Bench(box(60, 60, 40))
        sticks = [box(1.0, 0.06, 30, (60 - 0.5, 3 * k, 0)) for k in range(1, 15)]
        made = bench.make()
        added = Manifold.batch_boolean(sticks, OpType.Add)
        layers = slice_solid(Solid(added), 0.2)
        self.assertEqual(verify(bench.stack, [], replace(made, layers=layers), USUAL), [])

    def test_tips_of_a_flat_patch_hold_no_more_than_the_check_looks_for(self):
        # A tip whose end is lowered beside what hangs lower holds a slope that comes down to it, no ceiling.
        bench = Bench(tee())
        patch = bench.patches[0]
        self.assertLessEqual(len(patch.plans), 2)
        flat = Places.of(patch, bench.stack, USUAL, 4.0, bench.tree)
        lowered = replace(flat, stands=lambda tips: Stands(tips - [0, 0, 1.4], np.full(len(tips), -np.inf)))
        tip = tuple(flat.at_mm[len(flat.at_mm) // 2])
        self.assertGreater(len(flat.near([tip])[0]), 50)
        self.assertLess(len(lowered.near([tip])[0]), 10)
        self.assertGreater(len(replace(lowered, rise_mm=RISE_MM).near([tip])[0]), 50)

    def test_what_stands_beside_the_part_does_not_carry(self):
        wall = self.bench.stack
        x0, y0, x1, y1 = wall.section(10).bounds()
        strip = CrossSection.square((0.45, y1 - y0))
        # Beside the part by its side clearance: the part lies at its flank, and nothing under it.
        self.assertFalse(rests(wall, strip.translate((x1 + USUAL.clearance_mm, y0)), 12, USUAL))
        self.assertTrue(rests(wall, strip.translate((0.5 * (x0 + x1), y0)), 12, USUAL))
        # Nor does a crumb that its own spread alone would bring over the part.
        crumb = CrossSection.square((0.45, 0.9))
        self.assertFalse(rests(wall, crumb.translate((x1 + 0.05, y0)), 12, USUAL))
        self.assertTrue(rests(wall, crumb.translate((x1 - 0.2, y0)), 12, USUAL))
        # The foot of a thin post is one bead, and that spreads.
        self.assertTrue(rests(wall, crumb.translate((x1 + 0.05, y0)), 12, USUAL, foot=True))
        self.assertFalse(rests(wall, crumb.translate((x1 + 0.3, y0)), 12, USUAL, foot=True))

    def test_a_ribbed_cylinder_on_its_side_has_no_strip_in_the_air(self):
        # By a walk over rasters of another library: what of a layer has neither support nor part below.
        ribs = [box(6, 3, 30, (26, -1.5, 0)).rotate((0, 0, 20 * k + 7)) for k in range(18)]
        tube = Manifold.cylinder(30, 27, 27, 96) - Manifold.cylinder(30, 22, 22, 96)
        body = on_plate(Manifold.batch_boolean([tube, *ribs], OpType.Add).rotate((0, 90, 0)))
        item = {"supports": FilamentSupports(style=Style.LINES, from_plate=False)}
        alone = Alone(mesh_of(body), item=item, job={"limit_deg": 45.0})
        made, stack = alone.make("supports"), alone.make("layers")
        self.assertNotIn("floats", {fault.kind for fault in made.faults})
        self.assertGreater(made.volume_mm3, 500)
        self.assertEqual(in_mid_air(made.layers, stack), [])
        # The walk finds what the check was blind for: a strip beside the part.
        low, high = stack.section(100).bounds()[:2], stack.section(100).bounds()[2:]
        beside = max(high[1], made.layers.section(100).bounds()[3]) + 0.9
        strip = CrossSection.square((high[0] - low[0], 0.45)).translate((low[0], beside))
        sections = [
            made.layers.section(k) + (strip if k == 101 else CrossSection()) for k in range(len(made.layers))
        ]
        layers = pack(
            [s.to_polygons() for s in sections], [float(s.area()) for s in sections], stack.layer_mm, 0.0
        )
        self.assertEqual([level for level, _ in in_mid_air(layers, stack)], [101])
        broken = verify(stack, (), replace(made, layers=layers), alone.sheet.support_settings())
        self.assertIn("floats", {fault.kind for fault in broken})

    def test_a_trunk_too_slender(self):
        thin = replace(self.made.supports[0], nodes=self.made.supports[0].nodes * [1, 1, 1, 0.1])
        self.assertIn("slender", self.kinds(replace(self.made, supports=(thin,))))


if __name__ == "__main__":
    unittest.main()
