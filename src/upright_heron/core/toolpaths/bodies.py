"""Bodies of a part that the second nozzle prints, in a material of their own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from manifold3d import CrossSection, OpType
from numpy.typing import NDArray

from ..errors import BadValue, NotClosed
from ..geometry.mesh import Mesh
from ..geometry.solid import Solid
from ..geometry.tree import Tree
from ..layers.stack import KEPT_TOLERANCE_MM, LayerStack, pack, thinned
from ..progress import Progress, silent, tracked


@dataclass(frozen=True, slots=True)
class SecondBodies:
    """Bodies of the part that the second nozzle prints, by places (x, y, z) on them, mm."""

    at_mm: tuple[tuple[float, float, float], ...]


def nearest_bodies(bodies: Sequence[Mesh], places_mm: NDArray[np.float64]) -> list[Mesh]:
    """Pick bodies by places on them.

    Parameters
    ----------
    bodies : sequence of Mesh
    places_mm : (n, 3) float64
        Each picks the body whose surface is nearest to it.

    Returns
    -------
    list of Mesh
        Each once, in their order; none of a part that is one body, as one may be once it is mended.
    """
    if len(bodies) < 2:
        return []
    away = np.array([Tree.of(body).distances(places_mm) for body in bodies]).reshape(len(bodies), -1)
    picked: set[int] = set(np.argmin(away, axis=0).tolist()) if away.size else set()
    return [body for number, body in enumerate(bodies) if number in picked]


def layers_of_bodies(bodies: Sequence[Mesh], stack: LayerStack, *, progress: Progress = silent) -> LayerStack:
    """Cut bodies of a part at the heights that the part is cut at.

    Parameters
    ----------
    bodies : sequence of Mesh
        Where the part stands.
    stack : LayerStack
        Of the whole part.
    progress : Progress

    Returns
    -------
    LayerStack
        As many layers as the part has, at the same heights.

    Raises
    ------
    BadValue
        One of them is open.
    """
    try:
        solids = [Solid.from_mesh(body) for body in bodies]
    except NotClosed as error:
        raise BadValue(
            "A body that is picked for the second nozzle is not closed: nobody knows what is inside it.",
            "Mend the part in section 1, or print that body with the first nozzle.",
        ) from error
    layers, areas = [], []
    for z in tracked(stack.z_mm.tolist(), "Cutting layers of bodies", progress):
        region = CrossSection.batch_boolean([solid.section(z) for solid in solids], OpType.Add)
        layers.append(region.to_polygons())
        areas.append(float(region.area()))
    return thinned(pack(layers, areas, stack.layer_mm, stack.base_mm), KEPT_TOLERANCE_MM)
