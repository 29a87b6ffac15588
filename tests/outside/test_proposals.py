"""Stances that are proposed on a filament machine stand, or what holds them up is counted; and can be held."""

import unittest
from functools import cache

from manifold3d import Manifold, OpType

from tests.core.test_open_meshes import part
from tests.open_meshes import wanted
from tests.support import box, mesh_of, on_plate, sphere
from upright_heron.core.machines.catalogue import material, printer
from upright_heron.core.stance.figures import POST_MM2, POSTS, STANDS_MM2, Setting
from upright_heron.core.stance.large_parts import slicer
from upright_heron.core.stance.pose import place
from upright_heron.core.stance.search import MIXES, search
from upright_heron.core.supports.demand.patches import Style
from upright_heron.core.supports.support_set import FaultKind
from upright_heron.demo.shapes import SHAPES
from upright_heron.sheet.process import FilamentSupports
from upright_heron.work.alone import Alone

LAYER_MM = 0.4
OURS = ("sphere", "table", "bolt", "bracket", "heron")


def table():
    legs = [Manifold.cylinder(40, 1, 4, 24).translate((x, y, 0)) for x in (8, 52) for y in (8, 52)]
    return Manifold.batch_boolean([box(60, 60, 4, (0, 0, 40)), *legs], OpType.Add)


def bolt():
    """A bolt on its side: a head of 13 mm, a shank of 8 mm and a collar, along x."""

    def rod(radius, start, end):
        return (
            Manifold.cylinder(end - start, radius, radius, 48).rotate((0, 90, 0)).translate((start, 0, 6.5))
        )

    return Manifold.batch_boolean([rod(6.5, 0, 5), rod(4, 4, 60), rod(5.5, 50, 54)], OpType.Add)


@cache
def parts():
    found = {
        "sphere": mesh_of(on_plate(sphere(12, 48))),
        "table": mesh_of(table()),
        "bolt": mesh_of(bolt()),
        "bracket": SHAPES["telescope-bracket"](),
        "heron": SHAPES["heron-figurine"](),
    }
    return found | {name: part(name)[1] for name in ("anchor", "joint", "hand", "rotor", "dragknob")}


@cache
def proposed(name):
    mesh = parts()[name]
    given = Setting(printer("Sedge 300"), material("PLA"), 45.0, LAYER_MM)
    cut = slicer(mesh, True, LAYER_MM)
    return search(mesh, cut, given, MIXES["filament"], directions=60).proposals


@wanted
class ProposalsTest(unittest.TestCase):
    def test_none_balances_unless_what_holds_it_is_counted(self):
        standing = 0
        for name in parts():
            for proposal in proposed(name):
                with self.subTest(f"{name}, {proposal.letter}"):
                    found = proposal.figures
                    if found.contact_area_mm2 >= STANDS_MM2:
                        self.assertEqual(found.holding_mm3, 0)
                        standing += 1
                        continue
                    # Posts to the height of the centre of mass, three of 12 mm2: common practice.
                    height = max(found.centre_mm[2], 5.0)
                    self.assertAlmostEqual(found.holding_mm3, POSTS * POST_MM2 * height, delta=1e-6)
                    self.assertGreaterEqual(found.touch_area_mm2, POSTS * 4.0)
            best = proposed(name)[0]
            if any(p.figures.contact_area_mm2 >= STANDS_MM2 for p in proposed(name)):
                self.assertGreaterEqual(best.figures.contact_area_mm2, 1.0, name)
        self.assertGreater(standing, 12)

    def test_in_every_style_the_strict_check_passes_in_the_stance_that_is_proposed_first(self):
        for name in parts():
            rotation = proposed(name)[0].rotation
            mesh = place(parts()[name], rotation, centred=False).apply(parts()[name])
            every = (Style.LINES, Style.GRID, Style.TREE, Style.PILLAR)
            for style in every if name in OURS else (Style.GRID, Style.TREE):
                with self.subTest(f"{name}, {style.value}"):
                    asked = FilamentSupports(style=style)
                    made = Alone(mesh, item={"supports": asked}, job={"layer_mm": LAYER_MM}).make("supports")
                    kinds = {fault.kind for fault in made.faults}
                    self.assertFalse(
                        kinds & {FaultKind.FLOATS, FaultKind.CROSSES, FaultKind.TOO_NEAR},
                        [fault.words for fault in made.faults],
                    )


if __name__ == "__main__":
    unittest.main()
