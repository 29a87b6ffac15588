"""How much the marks of tips are seen: by whoever walks round the part as it came."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...geometry.frames import frame
from ...geometry.tree import Tree

# The part is looked at from so many sides, at eye height and from a little above.
SIDES, FROM_ABOVE_DEG = 16, (0.0, 20.0)
# A mark is looked at from so far off the surface.
OFF_MM = 0.05


def seen_from(up: NDArray[np.float64]) -> NDArray[np.float64]:
    """Directions (n, 3) to the eyes of those who walk round a part whose way up is ``up`` (3,)."""
    side, over, up = frame(up / np.linalg.norm(up))
    turn = 2 * np.pi * np.arange(SIDES)[:, None] / SIDES
    flat = np.cos(turn) * side + np.sin(turn) * over
    return np.concatenate([np.cos(t) * flat + np.sin(t) * up for t in np.radians(FROM_ABOVE_DEG)])


def seen_shares(
    places: NDArray[np.float64], outward: NDArray[np.float64], part: Tree, up: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Share of the eyes round a part that see each place.

    Parameters
    ----------
    places, outward : (n, 3) float64
        On the surface, mm, and its directions there.
    part : Tree
    up : (3,) float64
        The way up of the part as it came.

    Returns
    -------
    (n,) float64
        From 0, hidden from all sides, to 1.
    """
    eyes = seen_from(up)
    off = places + OFF_MM * outward
    start = np.repeat(off, len(eyes), axis=0)
    ways = np.tile(eyes, (len(places), 1))
    faces = (np.repeat(outward, len(eyes), axis=0) * ways).sum(axis=1) > 0
    seen = np.zeros(len(start), np.bool_)
    if faces.any():
        length, _ = part.first_hits(start[faces], ways[faces])
        seen[faces] = np.isinf(length)
    return np.asarray(seen.reshape(len(places), len(eyes)).mean(axis=1), np.float64)
