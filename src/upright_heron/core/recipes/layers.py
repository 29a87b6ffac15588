"""Layers of the part in its stance."""

from __future__ import annotations

from ..geometry.mesh import Mesh
from ..geometry.solid import Solid
from ..graph import recipe
from ..layers.stack import LayerStack, cut
from ..progress import Progress
from .settings import LayerHeight
from .stance import placed_mesh, placed_solid


@recipe("layers", version=2, stage="Cutting layers", needs=(placed_mesh, placed_solid), reads=LayerHeight)
def layers(mesh: Mesh, body: Solid | None, layer: LayerHeight, progress: Progress) -> LayerStack:
    """Layers of the part."""
    return cut(mesh, body, layer.mm, progress=progress)
