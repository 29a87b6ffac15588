"""Small shaded pictures of parts for cards and travellers: a depth buffer in a kernel, no window system."""

from __future__ import annotations

import io

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .mesh import Mesh

# Seen from the front right, a little from above, as a technician stands before a machine.
TURN_DEG, TILT_DEG = -35.0, 22.0
PART = np.array([138.0, 158.0, 170.0])
SHADE = np.array([62.0, 82.0, 95.0])


@njit(cache=True)
def _raster_kernel(points, faces, light, depth, shade):  # type: ignore[no-untyped-def]
    height, width = depth.shape
    for f in range(faces.shape[0]):
        a, b, c = points[faces[f, 0]], points[faces[f, 1]], points[faces[f, 2]]
        ux, uy, uz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        wx, wy, wz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
        nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
        length = np.sqrt(nx * nx + ny * ny + nz * nz)
        area = ux * wy - uy * wx
        if length == 0.0 or abs(area) < 1e-12:
            continue
        if nz < 0.0:  # facets of open parts seen from behind
            nx, ny, nz = -nx, -ny, -nz
        lit = (nx * light[0] + ny * light[1] + nz * light[2]) / length
        tone = 0.30 + 0.70 * max(0.0, lit)
        x0, x1 = min(a[0], b[0], c[0]), max(a[0], b[0], c[0])
        y0, y1 = min(a[1], b[1], c[1]), max(a[1], b[1], c[1])
        for j in range(max(0, int(np.ceil(y0 - 0.5))), min(height - 1, int(np.floor(y1 - 0.5))) + 1):
            for i in range(max(0, int(np.ceil(x0 - 0.5))), min(width - 1, int(np.floor(x1 - 0.5))) + 1):
                px, py = i + 0.5 - a[0], j + 0.5 - a[1]
                s = (px * wy - py * wx) / area
                t = (ux * py - uy * px) / area
                if s < -1e-9 or t < -1e-9 or s + t > 1.0 + 1e-9:
                    continue
                z = a[2] + s * uz + t * wz
                if z > depth[j, i]:
                    depth[j, i] = z
                    shade[j, i] = tone


def _view(turn_deg: float, tilt_deg: float) -> NDArray[np.float64]:
    t, p = np.radians(turn_deg), np.radians(tilt_deg)
    swing = np.array([[np.cos(t), -np.sin(t), 0], [np.sin(t), np.cos(t), 0], [0, 0, 1]])
    # Screen x to the right, y up, z towards the eye.
    tilt = np.array([[1, 0, 0], [0, np.sin(p), np.cos(p)], [0, -np.cos(p), np.sin(p)]])
    result: NDArray[np.float64] = tilt @ swing
    return result


def picture(mesh: Mesh, width: int = 320, height: int = 220, sampling: int = 2) -> bytes:
    """Draw a part in its stance as a PNG with a clear background.

    Parameters
    ----------
    mesh : Mesh
        In its stance.
    width, height : int
        Pixels.
    sampling : int
        Samples a pixel along each axis.

    Returns
    -------
    bytes
    """
    from PIL import Image

    w, h = width * sampling, height * sampling
    seen = mesh.vertices @ _view(TURN_DEG, TILT_DEG).T
    low, high = seen.min(axis=0), seen.max(axis=0)
    span = np.maximum(high - low, 1e-9)
    scale = 0.90 * min(w / span[0], h / span[1])
    points = (seen - (low + high) / 2) * scale
    points[:, 0] += w / 2
    points[:, 1] = h / 2 - points[:, 1]  # rows of a picture run downwards
    depth = np.full((h, w), -np.inf)
    shade = np.zeros((h, w))
    light = np.array([-0.35, -0.65, 0.67])
    # The flip of y mirrors the facets; the kernel turns every normal to the eye.
    _raster_kernel(np.ascontiguousarray(points), mesh.faces, light / np.linalg.norm(light), depth, shade)
    rgba = np.zeros((h, w, 4))
    there = np.isfinite(depth)
    rgba[..., :3] = SHADE + (PART * 1.28 - SHADE) * shade[..., None]
    rgba[..., 3] = 255.0 * there
    rgba[~there, :3] = 0.0
    image = Image.fromarray(np.clip(rgba, 0, 255).astype(np.uint8), "RGBA")
    out = io.BytesIO()
    image.resize((width, height), Image.Resampling.BOX).save(out, "PNG", optimize=True)
    return out.getvalue()
