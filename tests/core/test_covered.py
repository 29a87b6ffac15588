"""Everything that has to be held is, by a look of its own: every cell of every patch, by scipy's distances.

The check looks at some points of a patch, and makers ask it what they left bare: this look shares nothing
with either.
"""

import unittest
from dataclasses import replace

import numpy as np
from manifold3d import CrossSection

from tests import open_meshes
from tests.covered import bare_share
from tests.held import USUAL, Bench, table
from tests.support import stalactites, tee
from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.layers.stack import pack
from upright_heron.core.supports.demand.patches import Style

STYLES = (None, Style.LINES, Style.GRID, Style.PILLAR, Style.TREE)
# Cells at the rim of a patch lie a cell further from what holds it.
RIM = 0.05


class CoveredTest(unittest.TestCase):
    def shares(self, bench, layers):
        return [bare_share(p, layers, bench.stack, USUAL) for p in bench.patches if not p.spots]

    def test_the_look_measures_what_is_taken_away(self):
        bench = Bench(table())
        made = bench.make(Style.LINES)
        within = 0.75 * max(USUAL.spacing_mm, USUAL.line_spacing_mm) + USUAL.clearance_mm
        self.assertEqual(self.shares(bench, made.layers), [0.0])
        # Without what stands at x > 30 all of the top is bare beyond the reach of the rest.
        left = CrossSection.square((60, 90)).translate((-30, -10))
        rings = [(made.layers.section(k) ^ left).to_polygons() for k in range(len(made.layers))]
        reached = 30 + within
        half = pack(rings, [0.0] * len(rings), bench.stack.layer_mm, 0.0)
        (share,) = self.shares(bench, half)
        (patch,) = bench.patches
        x0, _, x1, _ = patch.footprint.bounds()
        self.assertAlmostEqual(share, (x1 - reached) / (x1 - x0), delta=0.03)
        # What ends half a centimetre lower holds nothing of a level top.
        low = replace(made, supports=()).layers
        keep = low.layer_mm * (len(low) - 25)
        cut = [low.section(k).to_polygons() if k * low.layer_mm < keep - 5 else [] for k in range(len(low))]
        self.assertEqual(self.shares(bench, pack(cut, [0.0] * len(cut), low.layer_mm, 0.0)), [1.0])

    def test_made_parts_in_every_style(self):
        for body in (table(), tee(), stalactites()):
            bench = Bench(body)
            for style in STYLES:
                with self.subTest(patches=len(bench.patches), style=style):
                    self.assertLess(max(self.shares(bench, bench.make(style).layers)), RIM)

    @open_meshes.wanted
    def test_parts_that_nobody_here_made(self):
        # Lines leave crumbs of the figure bare, and of the rotor what lies over round tops.
        for path, size in (("geometry/rotor.off", 90), ("geometry/armadillo.off", 60)):
            mesh = open_meshes.load(path, size)
            solid = Solid.from_mesh(Mesh(np.asarray(mesh.vertices), np.asarray(mesh.faces, np.int32)))
            bench = Bench(solid.manifold.translate((0, 0, -float(mesh.bounds[0, 2]))))
            for style in (Style.LINES, Style.PILLAR):
                with self.subTest(path=path, style=style):
                    self.assertLess(max(self.shares(bench, bench.make(style).layers)), 0.1)


if __name__ == "__main__":
    unittest.main()
