"""The part itself: its solid, its fine mesh, its defects, its channels, its picture."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..errors import NotClosed
from ..geometry.mesh import Mesh, facts
from ..geometry.picture import picture as drawn
from ..geometry.solid import Solid
from ..geometry.subdivision import Fine, refined
from ..geometry.tree import Tree
from ..graph import Keep, Source, recipe
from ..health.defects import MOST_CROSSINGS
from ..health.moves import moved_mm
from ..health.report import Report, report
from ..marking.channels import Channel, find_channels, gaps_mm
from ..marking.marks import Marks, as_marks
from ..stance.pose import from_quaternion, place
from ..stance.resting import RestingFace, resting_faces
from .settings import ChannelWidth, Limit, PartFacts, Sized, ThinWall, Turn
from .values import Picture

# The surface as it was mended and sized.
MESH: Source[Mesh] = Source("mesh", Mesh)
# The surface as it came, where it was mended.
CAME: Source[Mesh] = Source("came", Mesh)
# Bodies that the file tells apart, as they came, side by side in one mesh.
BODIES: Source[Mesh] = Source("bodies", Mesh)
# What is painted on it: of its marks one part decides what is held, another which side is spared.
MARKS_DEMAND: Source[NDArray[np.uint8]] = Source("marks-demand", np.ndarray)
MARKS_SHOW: Source[NDArray[np.uint8]] = Source("marks-show", np.ndarray)


@recipe("printed", version=1, needs=(MESH,), keep=Keep.PASSING)
def printed(mesh: Mesh) -> Mesh:
    """The surface that is printed. All that follows hangs on it, never on the mesh of a file."""
    return mesh


@recipe("solid", version=1, stage="Building the solid", needs=(printed,), reads=PartFacts, keep=Keep.PASSING)
def solid(mesh: Mesh, part: PartFacts) -> Solid | None:
    """The part as a solid, or ``None`` for an open one."""
    if not part.closed:
        return None
    try:
        return Solid.from_mesh(mesh)
    except NotClosed:
        return None


@recipe("fine", version=1, stage="Dividing the surface for the brush", needs=(printed,))
def fine(mesh: Mesh) -> Fine:
    """The mesh that marks are painted on."""
    return refined(mesh)


@recipe("picture", version=1, stage="Drawing the picture", needs=(printed,), reads=Turn)
def picture(mesh: Mesh, turn: Turn) -> Picture:
    """Card picture in the stance."""
    return Picture(drawn(place(mesh, from_quaternion(turn.quaternion)).apply(mesh)))


@recipe("crossings", version=1, stage="Looking for crossings", needs=(printed,))
def crossings(mesh: Mesh) -> NDArray[np.int64]:
    """Pairs of facets that pass through each other."""
    return Tree.of(mesh).crossings(MOST_CROSSINGS)


@recipe("health", version=3, stage="Looking for defects", needs=(printed, crossings), reads=ThinWall)
def health(mesh: Mesh, crossed: NDArray[np.int64], wall: ThinWall) -> Report:
    """Defects of the part and where they are."""
    return report(mesh, wall.thinnest_mm, crossed)


@recipe("moved", version=1, stage="Measuring what moved", needs=(printed, CAME), reads=Sized)
def moved(mesh: Mesh, came: Mesh, size: Sized) -> NDArray[np.float32]:
    """How far each corner of a mended surface lies from where the surface was, (n,) mm."""
    return moved_mm(came.sized(size.factors), mesh).astype(np.float32)


@recipe("resting", version=1, stage="Finding resting faces", needs=(printed,), reads=Limit)
def resting(mesh: Mesh, limit: Limit) -> tuple[RestingFace, ...]:
    """Resting faces, best first."""
    return tuple(resting_faces(mesh, facts(mesh), limit.deg))


@recipe("gaps", version=1, stage="Looking into holes", needs=(fine,))
def gaps(mesh: Fine) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """How far each facet of the fine mesh sees the part again, and where."""
    return gaps_mm(mesh)


@recipe("channels", version=1, stage="Finding channels", needs=(fine, gaps), reads=ChannelWidth)
def channels(
    mesh: Fine, seen: tuple[NDArray[np.float64], NDArray[np.int64]], wanted: ChannelWidth
) -> tuple[Channel, ...]:
    """Holes and channels under the width that the technician set."""
    return tuple(find_channels(mesh, wanted.width_mm, seen))


@recipe("marks_demand", version=1, needs=(fine, MARKS_DEMAND), keep=Keep.PASSING)
def marks_demand(mesh: Fine, marks: NDArray[np.uint8]) -> Marks:
    """What is painted to be held or kept clear, a byte a facet of the fine mesh."""
    return as_marks(mesh, marks)


@recipe("marks_show", version=1, needs=(fine, MARKS_SHOW), keep=Keep.PASSING)
def marks_show(mesh: Fine, marks: NDArray[np.uint8]) -> Marks:
    """The painted show side, a byte a facet of the fine mesh."""
    return as_marks(mesh, marks)
