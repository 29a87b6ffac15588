"""A layer drawn from the file that a machine was sent."""

import io
import re
import unittest
import zipfile

from PIL import Image

from upright_heron.core.errors import BadValue
from upright_heron.stand_in.layer_drawing import layer_drawing

TEXT = b"""; machine: Reed 190
G28
; layer 1 of 2 at 0.200 mm
G0 X10.000 Y20.000 F9000
; outer wall
G1 X30.000 Y20.000 E1.0 F1800
G1 X30.000 Y40.000 E1.0
G1 E-1.00000 F2100
G0 X50.000 Y50.000 F9000
G1 E1.00000 F2100
G1 X60.000 Y50.000 E0.5 ; E9
; layer 2 of 2 at 0.400 mm
G1 X61.000 Y51.000 E0.5
"""


class DrawingTest(unittest.TestCase):
    def runs(self, data, layer):
        drawn = layer_drawing(data, layer, (190.0, 170.0))
        self.assertEqual(drawn.media, "image/svg+xml")
        # Round the first layer and this one, from above: x from 10 to 61, y from 20 to 51.
        low, high = (10, 170 - (51 if layer == 2 else 50)), (61 if layer == 2 else 60, 150)
        seen = f'viewBox="{low[0] - 8} {low[1] - 8} {high[0] - low[0] + 16} {high[1] - low[1] + 16}"'
        self.assertIn(seen.encode(), drawn.data)
        path = re.search(rb' d="([^"]*)"', drawn.data)[1].decode()
        return [[tuple(map(float, at.split())) for at in run.split("L")] for run in path.split("M")[1:]]

    def test_beads_of_a_layer_and_no_travels(self):
        # The front is below: y counts downwards in a picture.
        self.assertEqual(self.runs(TEXT, 1), [[(10, 150), (30, 150), (30, 130)], [(50, 120), (60, 120)]])

    def test_the_frame_holds_the_first_layer_too(self):
        data = TEXT.replace(b"G1 X61.000 Y51.000", b"G0 X60.000 Y50.000\nG1 X61.000 Y51.000")
        self.assertEqual(self.runs(data, 2), [[(60, 120), (61, 119)]])

    def test_a_layer_that_is_not_there(self):
        for layer in (0, 3, 22):
            with self.assertRaisesRegex(BadValue, "no layer"):
                layer_drawing(TEXT, layer, (190.0, 170.0))

    def test_of_masks_the_mask(self):
        out = io.BytesIO()
        picture = io.BytesIO()
        Image.new("L", (8, 5), 77).save(picture, "PNG")
        with zipfile.ZipFile(out, "w") as folder:
            folder.writestr("manifest.json", '{"layers": [{"file": "a.png"}, {"file": "b.png"}]}')
            folder.writestr("a.png", b"other")
            folder.writestr("b.png", picture.getvalue())
        drawn = layer_drawing(out.getvalue(), 2, (190.0, 170.0))
        self.assertEqual((drawn.media, drawn.data), ("image/png", picture.getvalue()))
        for data, layer in ((out.getvalue(), 3), (out.getvalue(), 0), (b"PK nothing", 1)):
            with self.assertRaises(BadValue):
                layer_drawing(data, layer, (190.0, 170.0))


if __name__ == "__main__":
    unittest.main()
