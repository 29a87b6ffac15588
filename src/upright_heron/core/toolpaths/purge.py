"""Two nozzles: in which order they print a layer, and the stand that each begins on in its turn."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from manifold3d import CrossSection
from numpy.typing import NDArray

from ..errors import BadValue
from .beads import Chain, Kind
from .patterns import solid
from .walls import walls_of

# The stand is so wide and deep, so far from everything, and has so many walls, mm (common practice).
SIDE_MM, AWAY_MM, WALLS = 12.0, 6.0, 2


def by_nozzle(layers: list[list[Chain]]) -> list[list[Chain]]:
    """Paths of layers with those of a nozzle together: each layer begins with the one that ended the last."""
    active = 0
    found = []
    for chains in layers:
        groups = [[chain for chain in chains if chain.nozzle == nozzle] for nozzle in (active, 1 - active)]
        found.append(groups[0] + groups[1])
        active = found[-1][-1].nozzle if found[-1] else active
    return found


def last_change(layers: list[list[Chain]]) -> int:
    """The last layer, from 0, in which the other nozzle takes its turn; -1 where none does."""
    last, active = -1, 0
    for k, chains in enumerate(layers):
        for chain in chains:
            if chain.nozzle != active:
                active, last = chain.nozzle, k
    return last


def with_stand(
    layers: list[list[Chain]], line_mm: float, room_mm: tuple[float, float, float, float] | None = None
) -> list[list[Chain]]:
    """Put a stand beside the paths that each nozzle begins on, as high as nozzles change.

    Parameters
    ----------
    layers : list of lists of Chain
        Paths by layers, those of a nozzle together.
    line_mm : float
    room_mm : (x0, y0, x1, y1), optional
        Where it may be; anywhere without.

    Returns
    -------
    list of lists of Chain
        As they were where no nozzle changes.

    Raises
    ------
    BadValue
        There is no room for it.
    """
    last = last_change(layers)
    if last < 0:
        return layers
    corner = _corner(layers, room_mm)
    square = CrossSection.square((SIDE_MM, SIDE_MM)).translate(tuple(corner.tolist()))
    walls, inside = walls_of(square, WALLS, line_mm)
    walls = [chain._replace(kind=Kind.PURGE) for chain in walls]
    found, active = [], 0
    for k, chains in enumerate(layers):
        if k > last or not chains:
            found.append(chains)
            continue
        lines = solid(inside, line_mm, (k % 2) * np.pi / 2)
        full = [
            Chain(lines.points[a:b], np.full(b - a, lines.width_mm), Kind.PURGE)
            for a, b in pairwise(lines.start.tolist())
        ]
        turn = next((i for i, chain in enumerate(chains) if chain.nozzle != active), None)
        # Where none changes the walls alone carry what is above.
        at = 0 if turn is None else turn
        active = chains[at].nozzle
        stand = [chain._replace(nozzle=active) for chain in (walls if turn is None else walls + full)]
        found.append(chains[:at] + stand + chains[at:])
    return found


def _corner(
    layers: list[list[Chain]], room_mm: tuple[float, float, float, float] | None
) -> NDArray[np.float64]:
    """Where the stand is, (2,), clear of all paths: to the right where there is room, or else all round."""
    boxes = np.array([
        (*chain.places.min(axis=0), *chain.places.max(axis=0)) for chains in layers for chain in chains
    ])  # fmt: skip
    low, high = boxes[:, :2].min(axis=0), boxes[:, 2:].max(axis=0)
    mid = 0.5 * (low + high - SIDE_MM)
    tried = [
        (high[0] + AWAY_MM, mid[1]),
        (low[0] - AWAY_MM - SIDE_MM, mid[1]),
        (mid[0], high[1] + AWAY_MM),
        (mid[0], low[1] - AWAY_MM - SIDE_MM),
    ]
    if room_mm is not None:
        x0, y0, x1, y1 = room_mm
        steps = [np.arange(a, b - SIDE_MM, AWAY_MM) for a, b in ((x0, x1), (y0, y1))]
        tried += [(x, y) for y in steps[1][::-1] for x in steps[0][::-1]]
    for x, y in tried:
        if room_mm is not None and not (x0 <= x <= x1 - SIDE_MM and y0 <= y <= y1 - SIDE_MM):
            continue
        apart = (
            (boxes[:, 0] > x + SIDE_MM + AWAY_MM)
            | (boxes[:, 2] < x - AWAY_MM)
            | (boxes[:, 1] > y + SIDE_MM + AWAY_MM)
            | (boxes[:, 3] < y - AWAY_MM)
        )
        if apart.all() or room_mm is None:
            return np.array([x, y])
    raise BadValue(
        f"There is no room for the stand of {SIDE_MM:g} mm that nozzles begin on.",
        "Take something off the plate, or print everything with one nozzle.",
    )
