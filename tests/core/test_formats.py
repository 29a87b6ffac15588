"""Reading files of every kind: written by other libraries, taken from packages, and broken on purpose."""

import ctypes
import io
import struct
import unittest
import warnings
import zipfile

import lib3mf
import numpy as np
import trimesh
from lib3mf import get_wrapper

from tests import bombs, open_meshes
from tests.support import box, mesh_of, stl, tee
from upright_heron.core import errors
from upright_heron.core.formats import archive
from upright_heron.core.formats.contents import Body
from upright_heron.core.formats.read import read
from upright_heron.core.formats.reading import finish, kept_apart
from upright_heron.core.geometry.mesh import edges, facts
from upright_heron.core.geometry.solid import taken_apart
from upright_heron.core.handoff.threemf import FileObject, write_3mf


def theirs(body):
    mesh = mesh_of(body)
    return trimesh.Trimesh(np.array(mesh.vertices), np.array(mesh.faces), process=False)


class WrittenElsewhereTest(unittest.TestCase):
    """The T of 20 x 10 x 25 mm as trimesh writes it."""

    def check(self, data, name, unit, scale=1.0):
        contents = read(data, name)
        found = facts(contents.whole().mesh)
        self.assertEqual(contents.unit, unit)
        self.assertTrue(found.closed)
        expected = facts(mesh_of(tee()))
        self.assertAlmostEqual(found.volume_mm3, expected.volume_mm3 * scale**3, delta=1e-3 * scale**3)
        np.testing.assert_allclose(sorted(found.size_mm), np.sort(expected.size_mm) * scale, rtol=1e-5)
        return contents

    def test_stl(self):
        self.check(stl(tee()), "a.stl", None)

    def test_obj(self):
        self.check(theirs(tee()).export(file_type="obj").encode(), "a.OBJ", None)

    def test_ply_binary_and_text(self):
        for encoding in ("binary", "ascii"):
            self.check(trimesh.exchange.ply.export_ply(theirs(tee()), encoding=encoding), "a.ply", None)

    def test_glb_is_in_metres_with_y_upwards(self):
        mesh = theirs(tee())
        upwards = mesh.copy()
        upwards.vertices = mesh.vertices[:, [0, 2, 1]] * [1, 1, -1]
        contents = self.check(upwards.export(file_type="glb"), "a.glb", "meter", 1000.0)
        height = contents.whole().mesh.size_mm[2]
        self.assertAlmostEqual(height, mesh.extents[2] * 1000, delta=0.1)

    def test_the_bytes_decide_and_not_the_name(self):
        self.check(trimesh.exchange.ply.export_ply(theirs(tee())), "a.stl", None)
        self.check(write_3mf([FileObject("part", mesh_of(tee()))], "t"), "a.stl", "millimeter")


class ThreeMfTest(unittest.TestCase):
    """Files that lib3mf, the consortium's library, writes."""

    def model(self):
        wrapper = get_wrapper()
        model = wrapper.CreateModel()
        source = mesh_of(box(2, 3, 4))
        mesh = model.AddMeshObject()
        mesh.SetName("block")
        vertices = []
        for v in source.vertices:
            position = lib3mf.Position()
            position.Coordinates = (lib3mf.ctypes.c_float * 3)(*v)
            vertices.append(position)
        triangles = []
        for f in source.faces:
            triangle = lib3mf.Triangle()
            triangle.Indices = (lib3mf.ctypes.c_uint32 * 3)(*[int(i) for i in f])
            triangles.append(triangle)
        mesh.SetGeometry(vertices, triangles)
        return wrapper, model, mesh

    def written(self, model):
        buffer = model.QueryWriter("3mf").WriteToBuffer()
        return bytes(buffer)

    def test_units(self):
        for unit, name, mm in (
            (lib3mf.ModelUnit.Inch, "inch", 25.4),
            (lib3mf.ModelUnit.CentiMeter, "centimeter", 10.0),
            (lib3mf.ModelUnit.MilliMeter, "millimeter", 1.0),
            (lib3mf.ModelUnit.Foot, "foot", 304.8),
        ):
            wrapper, model, mesh = self.model()
            model.SetUnit(unit)
            model.AddBuildItem(mesh, wrapper.GetIdentityTransform())
            contents = read(self.written(model), "a.3mf")
            self.assertEqual(contents.unit, name)
            np.testing.assert_allclose(contents.whole().mesh.size_mm, np.array([2, 3, 4]) * mm, rtol=1e-6)

    def test_components_and_transforms(self):
        wrapper, model, mesh = self.model()
        pair = model.AddComponentsObject()
        pair.SetName("pair")
        pair.AddComponent(mesh, wrapper.GetIdentityTransform())
        pair.AddComponent(mesh, wrapper.GetTranslationTransform(10, 0, 0))
        model.AddBuildItem(pair, wrapper.GetTranslationTransform(0, 0, 5))
        model.AddBuildItem(mesh, wrapper.GetScaleTransform(-2, 1, 1))
        model.AddBuildItem(mesh, wrapper.GetScaleTransform(0.5, 0.4, 0.25))
        contents = read(self.written(model), "a.3mf")
        self.assertEqual([body.name for body in contents.bodies], ["block"] * 4)
        first, aside, second, third = (finish(body.corners) for body in contents.bodies)
        np.testing.assert_allclose(first.mesh.bounds, [[0, 0, 5], [2, 3, 9]])
        np.testing.assert_allclose(aside.mesh.bounds, [[10, 0, 5], [12, 3, 9]])
        np.testing.assert_allclose(second.mesh.bounds, [[-4, 0, 0], [0, 3, 4]])
        np.testing.assert_allclose(third.mesh.bounds, [[0, 0, 0], [1, 1.2, 1]], rtol=1e-6)
        # A mirrored copy still faces outwards, and so does a smaller one.
        self.assertFalse(second.turned or third.turned)

    def test_objects_put_together_to_one_stay_bodies(self):
        # A plate with a letter let into it, as a part in two materials comes.
        plate = box(20, 10, 4) - box(4, 6, 2, (8, 2, 2))
        wrapper, model, _ = self.model()
        whole = model.AddComponentsObject()
        whole.SetName("sign")
        for name, body in (("plate", plate), ("", box(4, 6, 2, (8, 2, 2)))):
            mesh, added = mesh_of(body), model.AddMeshObject()
            added.SetName(name)
            for corner in mesh.vertices:
                at = lib3mf.Position()
                at.Coordinates = (ctypes.c_float * 3)(*corner)
                added.AddVertex(at)
            for facet in mesh.faces:
                corners = lib3mf.Triangle()
                corners.Indices = (ctypes.c_uint32 * 3)(*facet)
                added.AddTriangle(corners)
            whole.AddComponent(added, wrapper.GetTranslationTransform(1, 0, 0))
        model.AddBuildItem(whole, wrapper.GetIdentityTransform())
        contents = read(self.written(model), "a.3mf")
        self.assertEqual([body.name for body in contents.bodies], ["plate", "sign 2"])
        apart = kept_apart(contents.bodies)
        self.assertEqual(apart.names, ("plate", "sign 2"))
        found = taken_apart(apart.mesh, apart.ends)
        for mesh, volume in zip(found, (20 * 10 * 4 - 48, 48), strict=True):
            self.assertTrue(edges(mesh).closed)
            self.assertAlmostEqual(facts(mesh).volume_mm3, volume, places=3)
        self.assertAlmostEqual(found[1].bounds[0][0], 9)
        # Welded together their corners meet: four facets at an edge.
        self.assertGreater(edges(contents.whole().mesh).crowded, 0)
        # One that has no size is left out, and one alone is not apart from anything.
        flat = Body("flat", np.zeros((1, 3, 3), np.float32))
        self.assertEqual(kept_apart([*contents.bodies, flat]).ends, apart.ends)
        self.assertIsNone(kept_apart([contents.bodies[0], flat]))

    def package(self, **parts):
        buffer = io.BytesIO()
        with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as z:
            for name, text in parts.items():
                z.writestr(name.replace("__", "/").replace("_dot_", "."), text)
        return buffer.getvalue()

    MESH = (
        "<mesh><vertices><vertex x='0' y='0' z='0'/><vertex x='9' y='0' z='0'/><vertex x='0' y='9' z='0'/>"
        "<vertex x='0' y='0' z='9'/></vertices><triangles><triangle v1='0' v2='2' v3='1'/>"
        "<triangle v1='0' v2='1' v3='3'/><triangle v1='1' v2='2' v3='3'/><triangle v1='2' v2='0' v3='3'/>"
        "</triangles></mesh>"
    )

    def test_production_paths(self):
        root = (
            "<model unit='millimeter' xmlns:p='urn:p'><resources><object id='1'><components>"
            "<component p:path='/3D/other.model' objectid='7'/></components></object></resources>"
            "<build><item objectid='1'/></build></model>"
        )
        other = f"<model><resources><object id='7' name='corner'>{self.MESH}</object></resources></model>"
        contents = read(self.package(**{"3D__3dmodel_dot_model": root, "3D__other_dot_model": other}))
        self.assertAlmostEqual(facts(contents.whole().mesh).volume_mm3, 9**3 / 6)

    def refuse(self, root, kind, word):
        with self.assertRaises(kind) as caught:
            read(self.package(**{"3D__3dmodel_dot_model": root}), "a.3mf")
        self.assertIn(word, str(caught.exception))
        self.assertTrue(caught.exception.advice)

    def test_traps_are_refused(self):
        item = "<build><item objectid='1'/></build></model>"
        circle = "<object id='1'><components><component objectid='1'/></components></object>"
        self.refuse(f"<model><resources>{circle}</resources>{item}", errors.NotAMesh, "circle")
        self.refuse(f"<model><resources></resources>{item}", errors.NotAMesh, "does not hold")
        self.refuse("<model><resources>", errors.TruncatedFile, "damaged")
        self.refuse("<model unit='cubit'/>", errors.NotAMesh, "unit")
        self.refuse("<model><build/></model>", errors.EmptyFile, "nothing")
        bomb = "<?xml version='1.0'?><!DOCTYPE m [<!ENTITY a 'ha'><!ENTITY b '&a;&a;&a;&a;&a;'>]><model>&b;</model>"
        self.refuse(bomb, errors.NotAMesh, "entities")
        self.refuse("<a>" * 100 + "</a>" * 100, errors.NotAMesh, "deep")
        wide = self.MESH.replace("v1='0' v2='2' v3='1'", "v1='0' v2='2' v3='99'")
        self.refuse(
            f"<model><resources><object id='1'>{wide}</object></resources>{item}", errors.NotAMesh, "corners"
        )

    def test_an_archive_that_unpacks_to_too_much_is_not_unpacked(self):
        with self.assertRaises(errors.TooLarge):
            read(self.package(**{"3D__3dmodel_dot_model": " " * 40_000_000}), "a.3mf")
        self.assertGreater(40_000_000 / archive.MOST_RATIO, 100_000)

    def test_a_package_that_builds_one_facet_too_many_is_refused_before_it_is_built(self):
        many = f'<object id="1">{bombs.soup(2000)}</object>'
        thousands = '<component objectid="1"/>' * 3000
        more = f'<object id="2"><components>{thousands}</components></object><object id="3">{bombs.soup(1)}</object>'
        data = bombs.package(many + more, '<item objectid="2"/><item objectid="3"/>')
        with self.assertRaisesRegex(errors.TooLarge, "6,000,001 facets"):
            read(data, "a.3mf")

    def test_other_archives(self):
        with self.assertRaises(errors.NotAMesh):
            read(self.package(readme_dot_txt="hello"), "a.zip")
        with self.assertRaises(errors.TruncatedFile):
            read(b"PK\x03\x04 and then nothing", "a.3mf")


class AmfTest(unittest.TestCase):
    BODY = (
        "<object id='0'><mesh><vertices>"
        + "".join(
            f"<vertex><coordinates><x>{x}</x><y>{y}</y><z>{z}</z></coordinates></vertex>"
            for x, y, z in ((0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1))
        )
        + "</vertices><volume>"
        + "".join(
            f"<triangle><v1>{a}</v1><v2>{b}</v2><v3>{c}</v3></triangle>"
            for a, b, c in ((0, 2, 1), (0, 1, 3), (1, 2, 3), (2, 0, 3))
        )
        + "</volume></mesh></object>"
    )

    def test_plain_and_zipped(self):
        text = f"<?xml version='1.0'?><amf unit='inch'>{self.BODY}</amf>".encode()
        buffer = io.BytesIO()
        with zipfile.ZipFile(buffer, "w") as z:
            z.writestr("part.amf", text)
        for data in (text, buffer.getvalue()):
            contents = read(data, "a.amf")
            self.assertEqual(contents.unit, "inch")
            self.assertAlmostEqual(facts(contents.whole().mesh).volume_mm3, 25.4**3 / 6, delta=1e-2)

    def test_volumes_of_an_object_are_bodies(self):
        more = (
            "<volume><triangle><v1>0</v1><v2>1</v2><v3>2</v3></triangle>"
            "<triangle><v1>3</v1><v2>1</v2><v3>0</v3></triangle></volume></mesh>"
        )
        contents = read(f"<amf>{self.BODY.replace('</mesh>', more)}</amf>".encode(), "a.amf")
        told = [(body.name, len(body.corners)) for body in contents.bodies]
        self.assertEqual(told, [("object 0, volume 1", 4), ("object 0, volume 2", 2)])
        self.assertEqual(contents.bodies[1].corners[1].tolist(), [[0, 0, 1], [1, 0, 0], [0, 0, 0]])
        # Facets that are in no volume are of a body all the same.
        bare = self.BODY.replace("<volume>", "").replace("</volume>", "")
        (one,) = read(f"<amf>{bare}</amf>".encode(), "a.amf").bodies
        self.assertEqual((one.name, len(one.corners)), ("object 0", 4))

    def test_broken(self):
        for text, kind in (
            ("<amf unit='ell'/>", errors.NotAMesh),
            ("<amf><object id='0'/></amf>", errors.EmptyFile),
            (f"<amf>{self.BODY}".replace("<v1>0</v1>", "<v1>x</v1>"), errors.NotAMesh),
            (f"<amf>{self.BODY}", errors.TruncatedFile),
            ("<svg></svg>", errors.NotAMesh),
        ):
            with self.assertRaises(kind):
                read(text.encode(), "a.amf")


class ObjTest(unittest.TestCase):
    def test_groups_polygons_and_counting_back(self):
        text = (
            "g lid\nv 0 0 0\nv 4 0 0\nv 4 4 0\nv 2 1 0\nv 0 4 0\nf 1 2 3 4 5\n"
            "o box\nv 0 0 3\nv 1 0 3\nv 0 1 3\nf -3/1/1 -2//2 -1\n"
        )
        contents = read(text.encode(), "a.obj")
        self.assertEqual([body.name for body in contents.bodies], ["lid", "box"])
        corners = contents.bodies[0].corners.astype(float)
        area = 0.5 * np.linalg.norm(
            np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1
        )
        # Shoelace: the square of 16 less the notch of 4 x 3 / 2.
        self.assertAlmostEqual(area.sum(), 10.0)
        self.assertEqual(len(contents.bodies[1].corners), 1)

    def test_encodings(self):
        text = "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"
        for encoding in ("utf-8", "utf-8-sig", "utf-16"):
            self.assertEqual(len(read(text.encode(encoding), "a.obj").bodies[0].corners), 1)

    def test_broken(self):
        for text, kind in (
            ("v 0 0 0\n", errors.EmptyFile),
            ("v 0 zero 0\n", errors.BadCoordinates),
            ("v 0 0 0\nf 1 2 3\n", errors.NotAMesh),
            ("v 0 0 0\nf 1 2 three\n", errors.NotAMesh),
            ("Dear reader,\n", errors.NotAMesh),
        ):
            with self.assertRaises(kind):
                read(text.encode(), "a.obj").whole()


class BudgetTest(unittest.TestCase):
    def test_many_small_bombs_are_one_large_one(self):
        # Each model part unpacks to less than the limit; together they do not.
        refer = "".join(
            f"<object id='{k}'><components><component p:path='/3D/{k}.model' objectid='1'/></components></object>"
            for k in range(9)
        )
        items = "".join(f"<item objectid='{k}'/>" for k in range(9))
        root = f"<model xmlns:p='urn:p'><resources>{refer}</resources><build>{items}</build></model>"
        padded = f"<model><!--{' ' * 2_000_000}--><resources><object id='1'>{ThreeMfTest.MESH}</object></resources></model>"
        buffer = io.BytesIO()
        with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as z:
            z.writestr("3D/3dmodel.model", root)
            for k in range(9):
                z.writestr(f"3D/{k}.model", padded)
        with self.assertRaises(errors.TooLarge):
            read(buffer.getvalue(), "a.3mf")


class BrokenTest(unittest.TestCase):
    def test_ply(self):
        whole = trimesh.exchange.ply.export_ply(theirs(tee()))
        liar = b"ply\nformat ascii 1.0\nelement vertex 900000000\nproperty float x\nend_header\n1\n"
        for data in (whole[:-40], liar, b"ply\nformat"):
            with self.assertRaises(errors.BadFile):
                read(data, "a.ply").whole()

    def test_glb(self):
        whole = theirs(tee()).export(file_type="glb")
        for data in (whole[:200], whole[:12], whole[:20] + b"x" * (len(whole) - 20)):
            with self.assertRaises(errors.BadFile):
                read(data, "a.glb").whole()
        outside = b'{"asset":{"version":"2.0"},"buffers":[{"uri":"/etc/passwd","byteLength":9}],"meshes":[]}'
        outside += b" " * (-len(outside) % 4)
        data = (
            b"glTF" + struct.pack("<II", 2, 20 + len(outside)) + struct.pack("<II", len(outside), 0x4E4F534A)
        )
        with self.assertRaises(errors.BadFile):
            read(data + outside, "a.glb").whole()

    def test_step(self):
        with self.assertRaises(errors.BadFile):
            read(b"ISO-10303-21;\nHEADER;\nENDSEC;\nDATA;\n#1=CARTE", "a.step")
        with self.assertRaises(errors.BadValue):
            read(b"ISO-10303-21;", "a.step", tolerance_mm=0)

    def test_names_do_not_make_a_file(self):
        for name in ("a.ply", "a.glb", "a.step", "a.stp", "a.amf"):
            with self.assertRaises(errors.NotAMesh):
                read(b"hello there, this is a letter" * 20, name)


@open_meshes.wanted
class PackagesTest(unittest.TestCase):
    def test_step_against_its_own_figures(self):
        # An assembly's cube of 100 mm, and a part of 18 428.7 mm3 (gmsh-doc), tessellated at 0.1 mm.
        folder = open_meshes.ROOT / "mechanical"
        cube = facts(read((folder / "step_boundary_colors.stp").read_bytes(), "a.stp").whole().mesh)
        self.assertAlmostEqual(cube.volume_mm3 / 1e6, 1, delta=1e-6)
        contents = read((folder / "component8.step").read_bytes(), "a.step")
        found = facts(contents.whole().mesh)
        self.assertEqual(contents.unit, "millimeter")
        self.assertTrue(found.closed)
        self.assertAlmostEqual(found.volume_mm3 / 18428.7, 1, delta=2e-3)
        np.testing.assert_allclose(found.size_mm, [36.95, 32.63, 32.0], atol=0.02)

    def test_a_finer_tolerance_keeps_closer_to_a_curved_face(self):
        data = (open_meshes.ROOT / "mechanical/component8.step").read_bytes()
        coarse, fine = (read(data, "a.step", tolerance_mm=t).whole().mesh for t in (1.0, 0.01))
        self.assertGreater(len(fine.faces), 1.5 * len(coarse.faces))

    def test_every_file_is_a_part_or_a_clear_refusal(self):
        root = open_meshes.ROOT / "intake/models"
        suffixes = {".stl", ".obj", ".ply", ".3mf", ".glb", ".amf", ".off"}
        files = [
            path
            for path in sorted(root.rglob("*"))
            if path.is_file() and (path.suffix.lower() in suffixes or "invalid" in path.parts)
        ]
        self.assertGreater(len(files), 60)
        parts = 0
        for path in files:
            with self.subTest(str(path.relative_to(root))), warnings.catch_warnings():
                warnings.simplefilter("ignore")
                try:
                    mesh = read(path.read_bytes(), path.name).whole().mesh
                except errors.BadFile as error:
                    self.assertTrue(str(error) and error.advice)
                    continue
                parts += 1
                self.assertGreater(len(mesh.faces), 0)
        self.assertGreater(parts, 30)

    def test_volumes_against_trimesh(self):
        root = open_meshes.ROOT / "intake/models"
        for name in (
            "OBJ/spider.obj",
            "OBJ/WusonOBJ.obj",
            "PLY/Wuson.ply",
            "PLY/cube_binary.ply",
            "STL/Wuson.stl",
        ):
            with self.subTest(name):
                expected = trimesh.load(root / name, force="mesh", process=False)
                found = facts(read((root / name).read_bytes(), name).whole().mesh)
                self.assertAlmostEqual(found.area_mm2 / expected.area, 1, delta=1e-4)


if __name__ == "__main__":
    unittest.main()
