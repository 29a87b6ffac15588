"""Layers of the part in its stance."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..geometry.mesh import Mesh
from ..geometry.solid import Solid
from ..graph import recipe
from ..layers.closed_slicer import cut_layers
from ..layers.stack import LayerStack
from ..progress import Progress
from .part import crossings
from .settings import LayerHeight
from .stance import placed_mesh, placed_solid


@recipe(
    "layers",
    version=3,
    stage="Cutting layers",
    needs=(placed_mesh, placed_solid, crossings),
    reads=LayerHeight,
)
def layers(
    mesh: Mesh, body: Solid | None, crossed: NDArray[np.int64], layer: LayerHeight, progress: Progress
) -> LayerStack:
    """Layers of the part."""
    return cut_layers(mesh, body, layer.mm, crossed=bool(len(crossed)), progress=progress)
