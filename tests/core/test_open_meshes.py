"""Parts nobody made for this test: scans, machine parts and broken files, against trimesh."""

import unittest
from functools import cache

import numpy as np
import trimesh

from tests import open_meshes
from tests.core.test_split import into_boxes
from tests.held import hold_part
from tests.stilted import Stilted
from upright_heron.core.formats.stl import read_stl
from upright_heron.core.geometry.mesh import facts
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.hanging.islands import find_islands
from upright_heron.core.hanging.lowest_points import low_points
from upright_heron.core.hanging.overhangs import overhangs
from upright_heron.core.layers.stack import cut, slice_solid
from upright_heron.core.stance.resting import resting_faces
from upright_heron.core.supports.demand.patches import Style
from upright_heron.core.supports.filament.finish import settled
from upright_heron.core.supports.model import Column, SupportSettings
from upright_heron.core.supports.outlines import Known

# Triangles, genus (from Euler's number) and lowest points of the surface, counted apart from this project.
# T. Banchoff, "Critical points and curvature for embedded polyhedral surfaces", Amer. Math. Monthly 77, 1970.
SOUND = {
    "armadillo": (52000, 0, 86),
    "elephant": (5558, 3, 15),
    "camel": (19536, 0, 18),
    "hand": (2390, 0, 2),
    "anchor": (1050, 4, 3),
    "couplingdown": (3714, 9, 6),
    "fandisk": (12946, 0, 3),
    "rotor": (1200, 1, 3),
    "pinion": (1300, 1, 5),
    "joint": (446, 2, 2),
    "turbine": (18460, 11, 4),
    "knot1": (6400, 1, 4),
    "dragknob": (318, 0, 1),
    "retinal": (7282, 0, 4),
}
MACHINE_PARTS = ("anchor", "fandisk", "joint", "rotor", "couplingdown", "pinion")
SIZE_MM = 60.0


@cache
def part(name):
    """The part in trimesh, and as this project reads it from a binary STL, lowest point at z = 0."""
    mesh = open_meshes.load(f"geometry/{name}.off", SIZE_MM)
    mesh.apply_translation([0, 0, -mesh.bounds[0, 2]])
    mesh.vertices = np.asarray(mesh.vertices, np.float32).astype(np.float64)
    return mesh, read_stl(trimesh.exchange.stl.export_stl(mesh)).mesh


@cache
def cut_part(name, layer=0.25):
    solid = Solid.from_mesh(part(name)[1])
    return solid, slice_solid(solid, layer)


@open_meshes.wanted
class LowPointsTest(unittest.TestCase):
    def test_as_many_as_corners_lower_than_all_their_neighbours(self):
        for name in ("armadillo", "elephant", "knot1", "retinal", "camel"):
            with self.subTest(name):
                mesh, ours = part(name)
                height = mesh.vertices[:, 2]
                order = np.lexsort((mesh.vertices[:, 1], mesh.vertices[:, 0], height))
                rank = np.empty(len(order), int)
                rank[order] = np.arange(len(order))
                minima = [v for v, near in enumerate(mesh.vertex_neighbors) if all(rank[v] < rank[near])]
                self.assertEqual(len(minima), SOUND[name][2])
                down = [v for v in minima if mesh.vertex_normals[v, 2] < 0]
                self.assertEqual(len(low_points(ours)), len(down))


@open_meshes.wanted
class SoundPartTest(unittest.TestCase):
    def test_facts(self):
        for name, (triangles, genus, _) in SOUND.items():
            with self.subTest(name):
                theirs, mine = part(name)
                found = facts(mine)
                self.assertEqual(len(mine.faces), triangles)
                self.assertTrue(found.closed)
                self.assertEqual(found.shells, 1)
                self.assertEqual(len(mine.vertices) - len(mine.faces) / 2, 2 - 2 * genus)
                self.assertAlmostEqual(found.volume_mm3 / theirs.volume, 1, delta=1e-6)
                self.assertAlmostEqual(found.area_mm2 / theirs.area, 1, delta=1e-6)

    def test_overhang_area_from_facet_normals(self):
        for name in SOUND:
            theirs, mine = part(name)
            lying = (theirs.triangles[:, :, 2] <= 1e-4).all(axis=1)
            for limit in (30, 45, 60):
                with self.subTest(name, limit=limit):
                    past = -theirs.face_normals[:, 2] > np.sin(np.radians(limit))
                    expected = theirs.area_faces[past & ~lying].sum()
                    found = overhangs(mine, limit).overhang_area_mm2
                    # Facets exactly at the limit may fall on either side.
                    edge = np.abs(-theirs.face_normals[:, 2] - np.sin(np.radians(limit))) < 1e-4
                    slack = theirs.area_faces[edge].sum() + 1e-4 * theirs.area
                    self.assertAlmostEqual(found, expected, delta=slack)

    def test_layer_areas(self):
        for name in SOUND:
            theirs, _ = part(name)
            _, stack = cut_part(name)
            for i in np.linspace(2, len(stack) - 3, 5).astype(int):
                with self.subTest(name, layer=i):
                    section = theirs.section(plane_origin=[0, 0, stack.z_mm[i]], plane_normal=[0, 0, 1])
                    area = section.to_2D()[0].area if section is not None else 0.0
                    self.assertAlmostEqual(stack.area_mm2[i], area, delta=1e-3 * max(area, 1.0))
            volume = float(stack.area_mm2.sum()) * stack.layer_mm
            self.assertAlmostEqual(volume / theirs.volume, 1, delta=0.01)

    def test_every_island_begins_at_a_lowest_point(self):
        for name, (_, _, lowest) in SOUND.items():
            with self.subTest(name):
                islands, found = find_islands(cut_part(name)[1])
                standing = int((found.layer == 0).sum())
                self.assertLessEqual(len(islands) + standing, lowest + standing)
                if lowest == 1:
                    self.assertEqual(islands, [])

    def test_resting_faces_are_stable_poses(self):
        # Goldberg et al., "Part pose statistics", IEEE Trans. Robotics and Automation 15(5), 1999, as in trimesh.
        for name in MACHINE_PARTS:
            with self.subTest(name):
                theirs, mine = part(name)
                poses, _ = trimesh.poses.compute_stable_poses(theirs)
                downs = np.array([-pose[2, :3] for pose in poses])
                found = np.array([face.down for face in resting_faces(mine, facts(mine), 45.0)])
                nearest = np.degrees(np.arccos(np.clip((found @ downs.T).max(axis=1), -1, 1)))
                self.assertLess(nearest.max(), 1.0)

    def test_pieces_make_the_whole(self):
        for name in ("armadillo", "anchor", "elephant", "turbine"):
            with self.subTest(name):
                theirs, mine = part(name)
                found = into_boxes(Solid.from_mesh(mine), (25.0, 25.0, 25.0))
                whole = sum(piece.volume_mm3 for piece in found.pieces) + found.lost_mm3
                self.assertLess(found.lost_mm3, found.slivers + 1e-9)
                self.assertAlmostEqual(whole / theirs.volume, 1, delta=1e-6)
                self.assertTrue(all(max(piece.size_mm) <= 25.0 + 1e-6 for piece in found.pieces))


@open_meshes.wanted
class SupportedPartTest(unittest.TestCase):
    """What has to hold of supports whatever the part."""

    def test_lines(self):
        for name in ("elephant", "camel", "anchor", "pinion", "turbine"):
            with self.subTest(name):
                stack = cut_part(name)[1]
                made = hold_part(part(name)[1], stack, 45.0, SupportSettings(), style=Style.LINES)
                kinds = {fault.kind for fault in made.faults}
                self.assertEqual(kinds & {"crosses the part", "too near"}, set())
                self.assertGreater(made.held_area_mm2, 0)
                # Branches hold what lines leave bare, and touch it with their tips.
                lines = [s for s in made.supports if isinstance(s, Column)]
                layers = settled(stack, lines, SupportSettings(), Known())[1]
                for i in range(0, len(stack), 7):
                    support = layers.section(i)
                    # A third of a pixel for trembling outlines and a quarter for thinning them.
                    self.assertLess((support ^ stack.section(i).offset(0.45 - 0.11)).area(), 1e-3)
                    if i + 1 < len(stack):
                        self.assertLess((support ^ stack.section(i + 1).offset(-0.11)).area(), 1e-3)
                total, united = sum(c.volume_mm3 for c in lines), layers.area_mm2.sum() * layers.layer_mm
                self.assertAlmostEqual(total / united, 1, delta=1e-2)

    def test_trees_reach_every_tip_and_hold_every_patch(self):
        # Part standing as its file has it, lowest point at z = 0; the check looks at the finished layers.
        # Organic shapes, gear teeth, blades 2 mm apart, and edges a millimetre over the plate.
        for name in (
            "armadillo",
            "elephant",
            "camel",
            "hand",
            "knot1",
            "pinion",
            "turbine",
            "anchor",
            "rotor",
        ):
            with self.subTest(name):
                made = hold_part(part(name)[1], cut_part(name)[1], 45.0, SupportSettings(), style=Style.TREE)
                self.assertEqual([p.lost for p in made.patches if p.lost], [])
                self.assertEqual(made.faults, ())
                self.assertTrue(all(p.held for p in made.patches))
                self.assertLessEqual(max(s.lean_deg for s in made.supports), 40.1)

    def test_what_begins_in_a_bolt_hole_goes_down_in_it(self):
        # Three bolt holes of 8 mm through its flange, narrower from 7.25 mm on: their shoulders are held.
        mesh, stack = part("couplingdown")[1], cut_part("couplingdown")[1]
        made = hold_part(mesh, stack, 45.0, SupportSettings(), style=Style.TREE)
        self.assertEqual((made.faults, [p.lost for p in made.patches if p.lost]), ((), []))
        shoulders = [p for p in made.patches if abs(p.at_mm[2] - 7.2) < 0.1]
        self.assertEqual(len(shoulders), 3)
        for shoulder in shoulders:
            for tree in (s for s in made.supports if shoulder.id in s.patches):
                self.assertFalse(tree.on_part)
                away = tree.nodes[:, :2] - np.array(shoulder.at_mm[:2])
                self.assertLess(float(np.hypot(*away.T).max()), 6.5, "it stays in its hole")

    def test_stilts(self):
        for name in ("elephant", "hand", "knot1"):
            with self.subTest(name):
                solid, _ = cut_part(name)
                bench = Stilted(solid.manifold, 0.1, lift=5.0)
                mesh, made = bench.mesh, bench.made()
                self.assertEqual(made.unheld_islands, ())
                self.assertEqual([f.words for f in made.faults if f.kind.value != "slender"], [])
                theirs = trimesh.Trimesh(np.array(mesh.vertices), np.array(mesh.faces), process=False)
                tips = np.array([s.touch_mm for s in made.supports])
                self.assertLess(trimesh.proximity.closest_point(theirs, tips)[1].max(), 0.15)


@open_meshes.wanted
class BrokenPartTest(unittest.TestCase):
    """Open and crossed surfaces are taken as they are and cut as far as their contours close."""

    def test_open_surfaces(self):
        for path in (
            "geometry/elephant-with-holes.off",
            "geometry/mech-holes-shark.off",
            "geometry/blobby_3cc.off",
            "geometry/ALSTOM_TEST4.off",
            "mechanical/surface1.stl",
            "mechanical/aneurysm_data.stl",
        ):
            with self.subTest(path):
                theirs = open_meshes.load(path, SIZE_MM)
                mine = read_stl(trimesh.exchange.stl.export_stl(theirs)).mesh
                found = facts(mine)
                self.assertFalse(found.closed)
                self.assertGreater(found.edges.open, 0)
                self.assertAlmostEqual(found.area_mm2 / theirs.area, 1, delta=1e-5)
                stack = cut(mine, None, 1.0)
                self.assertGreater(len(stack), 0)
                self.assertGreaterEqual(overhangs(mine, 45.0).overhang_area_mm2, 0)

    def test_machine_parts_in_millimetres(self):
        # Volume and area in the table of the package's own meshes, by trimesh 5.2.
        for name, triangles, volume, area in (
            ("t13_data", 1580, 67815.8, 48896.4),
            ("lever", 774, 102310.0, 33551.9),
        ):
            with self.subTest(name):
                data = (open_meshes.ROOT / f"mechanical/{name}.stl").read_bytes()
                found = facts(read_stl(data).mesh)
                self.assertTrue(found.closed)
                self.assertEqual(len(read_stl(data).mesh.faces), triangles)
                self.assertAlmostEqual(found.volume_mm3 / volume, 1, delta=1e-5)
                self.assertAlmostEqual(found.area_mm2 / area, 1, delta=1e-5)

    def test_the_same_part_as_text_and_binary(self):
        folder = open_meshes.ROOT / "intake/models/STL"
        text, binary = (
            read_stl((folder / f"Spider_{kind}.stl").read_bytes()) for kind in ("ascii", "binary")
        )
        for reading in (text, binary):
            # 56 facets have two corners in one point.
            self.assertEqual((len(reading.mesh.faces), reading.dropped), (1312, 56))
        self.assertAlmostEqual(facts(text.mesh).area_mm2 / facts(binary.mesh).area_mm2, 1, delta=1e-5)


if __name__ == "__main__":
    unittest.main()
