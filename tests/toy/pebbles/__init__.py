"""A toy stage and a toy section: everything that a new result of the application consists of."""

import time
from dataclasses import dataclass
from pathlib import Path

from upright_heron.core.geometry.mesh import Mesh
from upright_heron.core.graph import recipe
from upright_heron.core.progress import Progress
from upright_heron.core.recipes.settings import LayerHeight
from upright_heron.core.recipes.stance import placed_mesh
from upright_heron.core.tags import stored
from upright_heron.web.section import Section


@stored("pebbles")
@dataclass(frozen=True, slots=True)
class Pebbles:
    """So many pebbles are as high as the part."""

    count: int


@recipe("pebbles", version=1, stage="Counting pebbles", needs=(placed_mesh,), reads=LayerHeight)
def pebbles(mesh: Mesh, layer: LayerHeight, progress: Progress) -> Pebbles:
    """Pebbles as high as a layer that reach to the top of the part."""
    progress("Counting pebbles", 1, 2)
    # Long enough for a page to be drawn meanwhile.
    time.sleep(0.4)
    return Pebbles(round(float(mesh.size_mm[2]) / layer.mm))


@dataclass(frozen=True, slots=True)
class PebblesContext:
    """What is told of the pebbles: their number, or nothing while they are counted."""

    count: int | None


def _context(page, store):
    found = page.now.known.get("pebbles")
    return PebblesContext(found.count if found else None)


SECTION = Section(
    slug="pebbles", title="Pebbles", folder=Path(__file__).parent, wants=("pebbles",), context=_context
)
