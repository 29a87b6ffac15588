"""Line drawings: what is drawn of solids whose edges are known, and what is hidden."""

import unittest

import numpy as np

from tests.support import box
from upright_heron.core.geometry.line_drawing import line_drawing
from upright_heron.core.geometry.picture import view
from upright_heron.core.geometry.solid import Solid


def mesh(body):
    return Solid(body).mesh()


def length(drawing, number=0):
    lines = [line for line, of in zip(drawing.lines, drawing.of, strict=True) if of == number]
    return sum(float(np.hypot(*np.diff(line, axis=0).T).sum()) for line in lines)


def edges_of_a_cube(drawn):
    """Lengths of the edges of a cube along each axis in the drawing: it fills it but for the margins."""
    turn = view(-35.0, 28.0)
    corners = np.array(np.meshgrid([0, 1], [0, 1], [0, 1])).reshape(3, -1).T @ turn.T
    span = np.ptp(corners[:, :2], axis=0)
    scale = min((drawn.width - 28) / span[0], (drawn.height - 28) / span[1])
    return scale * np.hypot(turn[0], turn[1])


class LineDrawingTest(unittest.TestCase):
    def test_a_cube_shows_nine_of_its_twelve_edges_and_no_diagonals(self):
        drawn = line_drawing([mesh(box(30, 30, 30))])
        self.assertAlmostEqual(length(drawn), 3 * edges_of_a_cube(drawn).sum(), delta=12)
        points = np.concatenate(drawn.lines)
        self.assertTrue((points >= 0).all() and (points <= [drawn.width, drawn.height]).all())

    def test_what_stands_behind_is_hidden_and_has_no_mark(self):
        eye = view(-35.0, 28.0)[2]
        small = mesh(box(6, 6, 6, (12, 12, 12)))
        behind = small.moved(*(-60 * eye))
        drawn = line_drawing([mesh(box(30, 30, 30)), behind])
        self.assertEqual(length(drawn, 1), 0.0)
        self.assertTrue(np.isnan(drawn.marks[1]).all())
        before = line_drawing([mesh(box(30, 30, 30)), small.moved(*(60 * eye))])
        self.assertGreater(length(before, 1), 3 * 5)
        self.assertTrue(np.isfinite(before.marks).all())

    def test_a_ball_has_its_contour_and_no_other_line(self):
        from manifold3d import Manifold

        drawn = line_drawing([mesh(Manifold.sphere(20, 96))], 400, 400)
        radius = (400 - 28) / 2
        self.assertAlmostEqual(length(drawn), 2 * np.pi * radius, delta=0.04 * 2 * np.pi * radius)
        away = np.hypot(*(np.concatenate(drawn.lines) - 200).T)
        self.assertGreater(away.min(), radius - 4)

    def test_the_mark_lies_in_the_middle_of_what_is_seen(self):
        drawn = line_drawing([mesh(box(30, 30, 30))])
        self.assertLess(np.abs(drawn.marks[0] - [drawn.width / 2, drawn.height / 2]).max(), 40)
