"""3MF written here and read by the reference library, lib3mf of the 3MF Consortium."""

import io
import unittest
import zipfile

import lib3mf
import numpy as np

from tests.support import box, mesh_of, sphere
from upright_heron.core.errors import BadValue
from upright_heron.core.formats.threemf import read_3mf
from upright_heron.core.geometry.mesh import Mesh, facts
from upright_heron.core.handoff.threemf import FileObject, Spot, write_3mf


def read(data):
    """Model and objects by the strict reader of the reference library."""
    model = lib3mf.get_wrapper().CreateModel()
    reader = model.QueryReader("3mf")
    reader.SetStrictModeActive(True)
    reader.ReadFromBuffer(bytearray(data))
    if reader.GetWarningCount():
        raise AssertionError(reader.GetWarning(0))
    objects, found = model.GetMeshObjects(), []
    while objects.MoveNext():
        found.append(objects.GetCurrentMeshObject())
    return model, found


def built(data):
    """What is built: names, and the corners (k, 3) where they are built, by the reference library."""
    model, _ = read(data)
    steps, found = model.GetBuildItems(), []
    while steps.MoveNext():
        one = steps.GetCurrent()
        thing = model.GetMeshObjectByID(one.GetObjectResourceID())
        rows = np.array([list(row) for row in one.GetObjectTransform().Fields], float)
        corners = np.array([list(v.Coordinates) for v in thing.GetVertices()], float)
        found.append((thing.GetName(), corners @ rows[:3] + rows[3]))
    return found


def volume(thing):
    """Volume of an object of the reference library, by our own sums."""
    vertices = np.array([list(v.Coordinates) for v in thing.GetVertices()], float)
    faces = np.array([list(t.Indices) for t in thing.GetTriangleIndices()], np.int32)
    return facts(Mesh(vertices, faces)).volume_mm3


class WriteTest(unittest.TestCase):
    def setUp(self):
        self.part = mesh_of(sphere(10, 32).translate((5, 6, 7)))
        self.post = mesh_of(box(2, 2, 9))

    def test_read_back_by_the_reference_library(self):
        data = write_3mf(
            [FileObject("part ü & <1>", self.part), FileObject("support a", self.post, "support")],
            "Hide 3 & more",
        )
        model, objects = read(data)
        self.assertEqual(model.GetUnit(), lib3mf.ModelUnit.MilliMeter)
        self.assertEqual([o.GetName() for o in objects], ["part ü & <1>", "support a"])
        self.assertEqual([o.GetType() for o in objects], [lib3mf.ObjectType.Model, lib3mf.ObjectType.Support])
        self.assertTrue(all(o.IsManifoldAndOriented() for o in objects))
        self.assertAlmostEqual(volume(objects[0]), facts(self.part).volume_mm3, delta=1e-3)
        self.assertAlmostEqual(volume(objects[1]), 36, delta=1e-5)
        box_of = objects[1].GetOutbox()
        self.assertEqual(list(box_of.MaxCoordinate), [2, 2, 9])
        items = model.GetBuildItems()
        self.assertEqual(items.Count(), 2)

    def test_what_is_built_is_tracked_by_the_production_extension(self):
        def names(title, *items):
            model, objects = read(write_3mf([FileObject(*one) for one in items], title))
            given, build = model.GetBuildUUID()
            self.assertTrue(given)
            found, steps = [build], model.GetBuildItems()
            while steps.MoveNext():
                found.append(tuple(steps.GetCurrent().GetUUID())[1])
            return found, [one.GetUUID()[1] for one in objects]

        tracked, objects = names("plate 1", ("a", self.part), ("a", self.part), ("b", self.post))
        self.assertEqual(len({*tracked, *objects}), 1 + 3 + 3)
        self.assertEqual(
            names("plate 1", ("a", self.part), ("a", self.part), ("b", self.post)), (tracked, objects)
        )
        # Another plate with the same part has a build of its own, and the same object.
        other, same = names("plate 2", ("a", self.part))
        self.assertNotIn(other[0], tracked)
        self.assertEqual(same, objects[:1])

    def test_copies_are_one_object_built_several_times(self):
        bar = mesh_of(box(30, 10, 2))
        spots = [Spot(50, -20, 0), Spot(-40.125, 7, 90)]
        data = write_3mf([FileObject("post", self.post), FileObject("bar", bar)], "x", spots={1: spots})
        model, objects = read(data)
        self.assertEqual([one.GetName() for one in objects], ["post", "bar"])
        bounds = [(name, at.min(axis=0).tolist(), at.max(axis=0).tolist()) for name, at in built(data)]
        self.assertEqual(bounds[0], ("post", [0, 0, 0], [2, 2, 9]))
        self.assertEqual(bounds[1], ("bar", [50, -20, 0], [80, -10, 2]))
        # A quarter turn against the clock takes x to y, and y to the left.
        self.assertEqual(bounds[2], ("bar", [-50.125, 7, 0], [-40.125, 37, 2]))
        steps, tracked = model.GetBuildItems(), set()
        while steps.MoveNext():
            tracked.add(steps.GetCurrent().GetUUID()[1])
        self.assertEqual(len(tracked), 3)
        # As our own reader takes them in.
        part = read_3mf(data).whole()
        self.assertAlmostEqual(float(part.mesh.bounds[1][0]), 80, places=5)

    def test_package_parts(self):
        # 3MF Core Specification 1.x: the parts of the package and their types.
        with zipfile.ZipFile(io.BytesIO(write_3mf([FileObject("part", self.post)], "x"))) as package:
            # The same part gives the same bytes on any day.
            self.assertEqual({one.date_time for one in package.infolist()}, {(2020, 1, 1, 0, 0, 0)})
            self.assertEqual(
                set(package.namelist()), {"[Content_Types].xml", "_rels/.rels", "3D/3dmodel.model"}
            )
            self.assertIn(b"3dmanufacturing-3dmodel+xml", package.read("[Content_Types].xml"))
            self.assertIn(b'unit="millimeter"', package.read("3D/3dmodel.model"))

    def test_same_input_same_bytes(self):
        items = [FileObject("part", self.part)]
        self.assertEqual(write_3mf(items, "x"), write_3mf(items, "x"))

    def test_hostile_names(self):
        _, objects = read(
            write_3mf([FileObject('part "\x00\x07\ud800\uffff" \' >', self.post)], "\x01]]>&amp;")
        )
        self.assertEqual(objects[0].GetName(), 'part "" \' >')

    def test_refusals(self):
        with self.assertRaises(BadValue):
            write_3mf([], "x")
        with self.assertRaises(BadValue):
            write_3mf([FileObject("part", self.post, "furniture")], "x")
