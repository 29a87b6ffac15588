"""Reading and writing STL: round trips, and every bad file with the message it gets."""

import struct
import unittest

import numpy as np

from tests.support import ascii_stl, box, mesh_of, raw_stl, sphere, stl
from upright_heron.core import errors
from upright_heron.core.formats.stl import read_stl
from upright_heron.core.geometry.mesh import facts
from upright_heron.core.handoff.stl import write_stl


class RoundTripTest(unittest.TestCase):
    def test_length_and_count(self):
        # StereoLithography interface specification, 1989 (from memory): 80 + 4 + 50 n bytes.
        data = stl(box(1, 1, 1))
        self.assertEqual(len(data), 684)
        self.assertEqual(struct.unpack_from("<I", data, 80), (12,))

    def test_binary_and_ascii_read_alike(self):
        body = sphere(7, 24).translate((100, -3, 4))
        a, b = read_stl(stl(body)).mesh, read_stl(ascii_stl(body)).mesh
        self.assertEqual(a.digest, b.digest)
        self.assertTrue(facts(a).closed)

    def test_binary_whose_header_says_solid(self):
        data = b"solid trap".ljust(80) + stl(box(1, 2, 3))[80:]
        self.assertEqual(len(read_stl(data).mesh.faces), 12)

    def test_ascii_oddities(self):
        text = ascii_stl(box(1, 2, 3)).decode()
        for name, variant in {
            "upper case": text.upper(),
            "tabs and windows line ends": text.replace(" ", "\t").replace("\n", "\r\n"),
            "no last line end": text.rstrip(),
            "two solids": text + text,
        }.items():
            with self.subTest(name):
                self.assertEqual(len(read_stl(variant.encode()).mesh.vertices), 8)

    def test_written_normals_are_unit_and_outward(self):
        mesh = mesh_of(box(2, 2, 2, (-1, -1, -1)))
        records = np.frombuffer(
            write_stl(mesh)[84:], np.dtype([("n", "<f4", 3), ("c", "<f4", (3, 3)), ("a", "<u2")])
        )
        np.testing.assert_allclose(np.linalg.norm(records["n"], axis=1), 1, atol=1e-6)
        self.assertTrue(((records["n"] * records["c"].mean(axis=1)).sum(axis=1) > 0).all())

    def test_inside_out_part_is_turned(self):
        mesh = mesh_of(box(2, 2, 2))
        reading = read_stl(raw_stl(mesh.vertices[mesh.faces[:, ::-1]]))
        self.assertTrue(reading.turned)
        self.assertAlmostEqual(facts(reading.mesh).volume_mm3, 8)


class BadFileTest(unittest.TestCase):
    def refuse(self, data, kind, *words):
        with self.assertRaises(kind) as caught:
            read_stl(data)
        for word in words:
            self.assertIn(word, str(caught.exception))
        self.assertTrue(caught.exception.advice, "the message has to say what to do")

    def test_empty(self):
        self.refuse(b"", errors.EmptyFile, "empty")
        self.refuse(raw_stl(np.zeros((0, 3, 3))), errors.EmptyFile, "no facets")
        self.refuse(b"solid nothing\nendsolid nothing\n", errors.EmptyFile, "no facets")

    def test_not_a_mesh(self):
        self.refuse(b"Dear reader, this is a letter. " * 40, errors.NotAMesh, "neither STL")
        self.refuse(b"solid ground is what this letter is about", errors.NotAMesh)
        self.refuse(b"\x00\x01", errors.NotAMesh)

    def test_truncated(self):
        data = stl(box(1, 1, 1))
        self.refuse(data[:-70], errors.TruncatedFile, "declares 12", "holds 10")
        self.refuse(ascii_stl(box(1, 1, 1))[:-200], errors.TruncatedFile, "incomplete")

    def test_lying_count(self):
        corners = np.random.default_rng(1).random((5, 3, 3))
        self.refuse(raw_stl(corners, 3), errors.LyingCount, "declares 3", "holds 5")
        self.refuse(raw_stl(corners, 4_000_000_000), errors.TruncatedFile, "4,000,000,000")

    def test_numbers_that_are_none(self):
        for bad in (np.nan, np.inf, -np.inf):
            corners = np.random.default_rng(1).random((6, 3, 3))
            corners[4, 1, 2] = bad
            with self.subTest(bad):
                self.refuse(raw_stl(corners), errors.BadCoordinates, "1 of 6", "facet 5")
        text = ascii_stl(box(1, 1, 1))
        self.refuse(text.replace(b"vertex 1.0", b"vertex nan", 1), errors.BadCoordinates)
        self.refuse(text.replace(b"vertex 1.0", b"vertex abc", 1), errors.BadCoordinates)
        self.refuse(text.replace(b"vertex 1.0", b"vertex 1e60", 1), errors.BadCoordinates)

    def test_no_extent(self):
        self.refuse(raw_stl(np.full((4, 3, 3), 7.0)), errors.NoExtent, "no size")
        line = np.zeros((2, 3, 3))
        line[:, :, 0] = [0, 1, 2]
        self.refuse(raw_stl(line), errors.NoExtent, "no size")
