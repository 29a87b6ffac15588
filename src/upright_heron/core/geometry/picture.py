"""Small shaded pictures of parts for cards and travellers: a depth buffer in a kernel, no window system."""

from __future__ import annotations

import io
from collections.abc import Sequence

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .mesh import Mesh, facet_normals

# Seen from the front right, a little from above, as a technician stands before a machine.
TURN_DEG, TILT_DEG = -35.0, 22.0
PART = np.array([138.0, 158.0, 170.0])
SHADE = np.array([62.0, 82.0, 95.0])
# Colours of pieces, as in the view.
WHEEL = np.array(
    [
        (138.0, 166.0, 181.0),
        (194.0, 168.0, 120.0),
        (157.0, 176.0, 138.0),
        (181.0, 150.0, 168.0),
        (127.0, 167.0, 156.0),
        (194.0, 154.0, 134.0),
        (163.0, 160.0, 189.0),
        (179.0, 179.0, 125.0),
    ]
)


@njit(cache=True)
def rasterise(points, faces, tones, depth, shade):  # type: ignore[no-untyped-def]
    """Draw facets into a depth buffer (h, w), larger nearer, and their tones (m,) into another."""
    height, width = depth.shape
    for f in range(faces.shape[0]):
        a, b, c = points[faces[f, 0]], points[faces[f, 1]], points[faces[f, 2]]
        ux, uy, uz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
        wx, wy, wz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
        area = ux * wy - uy * wx
        if abs(area) < 1e-12:
            continue
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
                    shade[j, i] = tones[f]


def view(turn_deg: float, tilt_deg: float) -> NDArray[np.float64]:
    """Turn (3, 3) to where x runs to the right, y up and z towards the eye."""
    t, p = np.radians(turn_deg), np.radians(tilt_deg)
    swing = np.array([[np.cos(t), -np.sin(t), 0], [np.sin(t), np.cos(t), 0], [0, 0, 1]])
    # Screen x to the right, y up, z towards the eye.
    tilt = np.array([[1, 0, 0], [0, np.sin(p), np.cos(p)], [0, -np.cos(p), np.sin(p)]])
    result: NDArray[np.float64] = tilt @ swing
    return result


def _tones(points: NDArray[np.float64], faces: NDArray[np.int32]) -> NDArray[np.float64]:
    """How bright facets (m,) are, from 0.3 to 1; those of open parts seen from behind as from before."""
    normals, _ = facet_normals(Mesh(points, faces))
    normals = np.where(normals[:, 2:] < 0, -normals, normals)
    light = np.array([-0.35, -0.65, 0.67])
    found: NDArray[np.float64] = 0.30 + 0.70 * np.maximum(normals @ (light / np.linalg.norm(light)), 0.0)
    return found


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
    return _drawn(mesh, np.zeros(len(mesh.faces)), PART[None], SHADE[None], (width, height), sampling)


def pieces_picture(meshes: Sequence[Mesh], width: int = 320, height: int = 220, sampling: int = 2) -> bytes:
    """Draw parts where they lie as a PNG with a clear background, each in a colour beside its neighbours'.

    Parameters
    ----------
    meshes : sequence of Mesh
    width, height : int
        Pixels.
    sampling : int
        Samples a pixel along each axis.

    Returns
    -------
    bytes
    """
    colours = [WHEEL[k % len(WHEEL)] for k in range(len(meshes))]
    return coloured_picture(meshes, np.array(colours), width, height, sampling)


def coloured_picture(
    meshes: Sequence[Mesh],
    colours: NDArray[np.float64],
    width: int = 320,
    height: int = 220,
    sampling: int = 2,
) -> bytes:
    """Draw meshes where they lie as a PNG with a clear background.

    Parameters
    ----------
    meshes : sequence of Mesh
    colours : (k, 3) float64
        Of each mesh, 0 to 255.
    width, height : int
        Pixels.
    sampling : int
        Samples a pixel along each axis.

    Returns
    -------
    bytes
    """
    begin = np.cumsum([0, *(len(mesh.vertices) for mesh in meshes)])
    whole = Mesh(
        np.concatenate([mesh.vertices for mesh in meshes]),
        np.concatenate([mesh.faces + k for mesh, k in zip(meshes, begin[:-1].tolist(), strict=True)]),
    )
    owner = np.repeat(np.arange(len(meshes)), [len(mesh.faces) for mesh in meshes])
    return _drawn(whole, owner.astype(np.float64), colours, 0.45 * colours, (width, height), sampling)


def _drawn(
    mesh: Mesh,
    owner: NDArray[np.float64],
    bright: NDArray[np.float64],
    dark: NDArray[np.float64],
    size: tuple[int, int],
    sampling: int,
) -> bytes:
    """Draw facets, each in the colours (k, 3) of its owner (m,)."""
    from PIL import Image

    width, height = size
    w, h = width * sampling, height * sampling
    seen = mesh.vertices @ view(TURN_DEG, TILT_DEG).T
    low, high = seen.min(axis=0), seen.max(axis=0)
    span = np.maximum(high - low, 1e-9)
    scale = 0.90 * min(w / span[0], h / span[1])
    points = (seen - (low + high) / 2) * scale
    points[:, 0] += w / 2
    points[:, 1] = h / 2 - points[:, 1]  # rows of a picture run downwards
    depth = np.full((h, w), -np.inf)
    shade = np.zeros((h, w))
    # The flip of y mirrors the facets: every normal is turned to the eye.
    points = np.ascontiguousarray(points)
    # A tone is at most 1: what lies before its point says whose it is.
    rasterise(points, mesh.faces, 2.0 * owner + _tones(points, mesh.faces), depth, shade)
    rgba = np.zeros((h, w, 4))
    there = np.isfinite(depth)
    whose = (shade // 2).astype(np.int64)
    rgba[..., :3] = dark[whose] + (bright[whose] * 1.28 - dark[whose]) * (shade - 2.0 * whose)[..., None]
    rgba[..., 3] = 255.0 * there
    rgba[~there, :3] = 0.0
    image = Image.fromarray(np.clip(rgba, 0, 255).astype(np.uint8), "RGBA")
    out = io.BytesIO()
    image.resize((width, height), Image.Resampling.BOX).save(out, "PNG", optimize=True)
    return out.getvalue()
