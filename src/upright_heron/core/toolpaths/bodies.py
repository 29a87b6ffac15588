"""Bodies of a part that the second nozzle prints, in a material of their own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from manifold3d import CrossSection, OpType
from numpy.typing import NDArray

from ..errors import BadValue, NotClosed
from ..geometry.mesh import Mesh, facet_normals, mass_properties
from ..geometry.solid import Solid
from ..geometry.tree import Tree
from ..layers.stack import KEPT_TOLERANCE_MM, LayerStack, pack, thinned
from ..progress import Progress, silent, tracked

# A place so near a surface lies on it: places come from the view in single precision.
ON_MM = 1e-3
# So many of the largest facets of a body are tried for a place on it.
PLACES = 60


@dataclass(frozen=True, slots=True)
class SecondBodies:
    """Bodies of the part that the second nozzle prints.

    Attributes
    ----------
    at_mm : tuple of (x, y, z)
        Places on them.
    ends : tuple of int
        Of bodies that the file tells apart: facets up to the last of each. None where it tells none.
    factors : (x, y, z)
        What these are sized with.
    """

    at_mm: tuple[tuple[float, float, float], ...]
    ends: tuple[int, ...] = ()
    factors: tuple[float, float, float] = (1.0, 1.0, 1.0)


def nearest_bodies(bodies: Sequence[Mesh], places_mm: NDArray[np.float64]) -> list[Mesh]:
    """Pick bodies by places on them.

    Parameters
    ----------
    bodies : sequence of Mesh
    places_mm : (n, 3) float64
        Each picks the body that it lies on or in, or else the nearest; of several the smallest: bodies
        may lie in each other, or end in one face.

    Returns
    -------
    list of Mesh
        Each once, in their order; none of a part that is one body, as one may be once it is mended.
    """
    if len(bodies) < 2:
        return []
    if not len(places_mm):
        return []
    trees = [Tree.of(body) for body in bodies]
    away = np.array([np.where(t.winding(places_mm) > 0.5, 0.0, t.distances(places_mm)) for t in trees])
    volumes = np.array([mass_properties(body).volume_mm3 for body in bodies])
    here = away <= away.min(axis=0) + ON_MM
    picked = set(np.where(here, volumes[:, None], np.inf).argmin(axis=0).tolist())
    return [body for number, body in enumerate(bodies) if number in picked]


def places_on(bodies: Sequence[Mesh]) -> NDArray[np.float64]:
    """Find a place on each body that picks it, as ``nearest_bodies`` picks.

    Parameters
    ----------
    bodies : sequence of Mesh

    Returns
    -------
    (n, 3) float64, mm
        The middle of one of its largest facets: the one furthest from all smaller bodies.
    """
    volumes = np.array([mass_properties(body).volume_mm3 for body in bodies])
    found = np.zeros((len(bodies), 3))
    before: list[Tree] = []
    for k in np.argsort(volumes, kind="stable").tolist():
        body = bodies[k]
        _, areas = facet_normals(body)
        largest = np.argsort(-areas, kind="stable")[:PLACES]
        middles = body.vertices[body.faces[largest]].mean(axis=1)
        off = np.full(len(middles), np.inf)
        for tree in before:
            off = np.minimum(off, np.where(tree.winding(middles) > 0.5, 0.0, tree.distances(middles)))
        found[k] = middles[int(off.argmax())]
        before.append(Tree.of(body))
    return found


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
            "Mend the part in section 1, or export that body again; or print it with the first nozzle.",
        ) from error
    layers, areas = [], []
    for z in tracked(stack.z_mm.tolist(), "Cutting layers of bodies", progress):
        region = CrossSection.batch_boolean([solid.section(z) for solid in solids], OpType.Add)
        layers.append(region.to_polygons())
        areas.append(float(region.area()))
    return thinned(pack(layers, areas, stack.layer_mm, stack.base_mm), KEPT_TOLERANCE_MM)
