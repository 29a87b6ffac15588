"""Where stilts are to stand: a part, the room round it, what hangs together in it, and what hands ask for."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ...geometry.mesh import Mesh, facet_normals
from ...geometry.tree import Tree
from ...hanging.findings import Hanging
from ...hanging.overhangs import overhangs
from ...layers.layer_components import Pieces, links, piece_at, pieces
from ...layers.peel import pulls
from ...layers.stack import LayerStack
from ...machines.catalogue import Peel
from ...tags import stored
from ..model import SupportSettings
from ..show_side import Shown
from .loads import Borne, walk_loads
from .routes import Router, Way
from .seen import seen_shares
from .sizes import StiltSize, Stoutness, sizes
from .stilt import Brace, Stilt

# A size that was chosen by hand is for the tip so near, and what hands put or took out is as near to itself.
SIZED_MM = 0.5
SAME_MM = 1e-6
# So much is known of places by heart.
MOST_KNOWN = 3000


@dataclass(frozen=True, eq=False)
class Ground:
    """A part where it stands, with what is known of it.

    Attributes
    ----------
    mesh : Mesh
    part : Tree
        Of the mesh.
    stack : LayerStack
    hanging : Hanging
        What was found walking up its layers.
    up : (x, y, z)
        The way up of the part as it came.
    shown : Shown, optional
        The show side; without one what is seen walking round the part counts.
    """

    mesh: Mesh
    part: Tree
    stack: LayerStack
    hanging: Hanging
    up: tuple[float, float, float] = (0.0, 0.0, 1.0)
    shown: Shown | None = None


@dataclass(frozen=True, eq=False)
class ByHand:
    """What hands did to tips where the part stands.

    Attributes
    ----------
    put_mm : (n, 3) float64
        Places on the part that are to have one.
    out_mm : (m, 3) float64
        Places round which there is to be none of the automatic ones.
    sized_mm : (k, 3) float64
        Places whose tips have sizes of their own,
    sizes : tuple of Stoutness
        and which.
    """

    put_mm: NDArray[np.float64]
    out_mm: NDArray[np.float64]
    sized_mm: NDArray[np.float64] = field(default_factory=lambda: np.zeros((0, 3)))
    sizes: tuple[Stoutness, ...] = ()

    def size_at(self, at: NDArray[np.float64]) -> Stoutness | None:
        """The size that was chosen for the tip at a place (3,); ``None`` where its load decides."""
        if not len(self.sized_mm):
            return None
        away = np.linalg.norm(self.sized_mm - at, axis=1)
        k = int(away.argmin())
        return self.sizes[k] if away[k] <= SIZED_MM else None


NOTHING = ByHand(np.zeros((0, 3)), np.zeros((0, 3)))


def among(at: NDArray[np.float64], places: NDArray[np.float64]) -> bool:
    """Whether a place (3,) is one of some (n, 3)."""
    return bool(len(places)) and bool((np.abs(places - at).max(axis=1) <= SAME_MM).any())


@stored("bare-island")
@dataclass(frozen=True, slots=True)
class BareIsland:
    """An island that no stilt holds.

    Attributes
    ----------
    number : int
    at_mm : (x, y, z)
        Where it begins, or where its last tip was.
    """

    number: int
    at_mm: tuple[float, float, float]


@stored("stood-stilts")
@dataclass(frozen=True, eq=False)
class Stood:
    """Stilts with their braces, before they are cut into layers and checked.

    Attributes
    ----------
    stilts : tuple of Stilt
    outward : (n, 3) float64
        Direction of the surface at each tip.
    island : (n,) int64
        Number of the island that each holds, or 0.
    braces : tuple of Brace
    bare : tuple of BareIsland
        Islands without any.
    kept_out, blocked, astray, fell : int
        Places in hollows that are left free; overhangs with no room below; tips by hand that find no way;
        stilts that stood on one that hands took out, and find no other way.
    """

    stilts: tuple[Stilt, ...]
    outward: NDArray[np.float64]
    island: NDArray[np.int64]
    braces: tuple[Brace, ...]
    bare: tuple[BareIsland, ...] = ()
    kept_out: int = 0
    blocked: int = 0
    astray: int = 0
    fell: int = 0

    @property
    def notes(self) -> tuple[str, ...]:
        """What could not be done, in words."""
        told = []
        if self.bare:
            told.append(f"Islands with no room for a stilt below them: {len(self.bare)}.")
        if self.kept_out:
            told.append(f"Places inside hollows, which are left free as asked: {self.kept_out}.")
        if self.blocked:
            told.append(f"Places under overhangs with no room for a stilt: {self.blocked}.")
        if self.astray:
            told.append(f"Tips put by hand that find no way, or where the part looks up: {self.astray}.")
        if self.fell:
            told.append(f"Stilts that stood on one that was taken out, and find no other way: {self.fell}.")
        return tuple(told)


@dataclass(frozen=True, eq=False)
class Site:
    """A part where it stands, with what stilts are worked out from, whatever hands do.

    Attributes
    ----------
    ground : Ground
    settings : SupportSettings
        Tip, shaft and foot are those of the medium size.
    peel : Peel
        Class of the material: how hard it is pulled, and what its tips bear.
    limit_deg : float
        From vertical.
    """

    ground: Ground
    settings: SupportSettings
    peel: Peel
    limit_deg: float

    @cached_property
    def sizes(self) -> tuple[StiltSize, StiltSize, StiltSize]:
        """Fine, medium and stout."""
        return sizes(self.settings)

    @property
    def medium(self) -> StiltSize:
        """The size that ways are looked for with."""
        return self.sizes[1]

    def size(self, name: Stoutness | None) -> StiltSize | None:
        """The size of a name; ``None`` for none."""
        return next((one for one in self.sizes if one.name is name), None)

    @cached_property
    def router(self) -> Router:
        """What finds ways."""
        return Router(self.ground.part, self.ground.stack, self.settings)

    @cached_property
    def normals(self) -> NDArray[np.float64]:
        """Directions (m, 3) of the facets of the part."""
        return facet_normals(self.ground.mesh)[0]

    @cached_property
    def _known(self) -> LRUCache[tuple[object, ...], Any]:
        """What was found for places before: the same are asked for as hands go on."""
        return LRUCache(MOST_KNOWN)

    def outward(self, at: NDArray[np.float64]) -> NDArray[np.float64]:
        """Direction (3,) of the surface nearest to a place (3,)."""
        key = (at.tobytes(),)
        if key not in self._known:
            self._known[key] = self.normals[self.ground.part.nearest(at)[0]]
        found: NDArray[np.float64] = self._known[key]
        return found

    def way(self, at: NDArray[np.float64], outward: NDArray[np.float64], size: StiltSize) -> Way | None:
        """A way from a place (3,) with the direction (3,) of the surface there, of ``Router.way``."""
        key = at.tobytes(), outward.tobytes(), size
        if key not in self._known:
            self._known[key] = self.router.way(at, outward, size)
        found: Way | None = self._known[key]
        return found

    @cached_property
    def pieces(self) -> Pieces:
        """Pieces of the layers of the part."""
        return pieces(self.ground.stack)

    @cached_property
    def pairs(self) -> NDArray[np.int64]:
        """Pairs (K, 2) of them that share area, upper and lower."""
        return links(self.pieces)

    @cached_property
    def pull(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """What pulls at each piece, N, (N,), and where, mm, (N, 2)."""
        return pulls(self.pieces, self.peel)

    def prepare(self) -> None:
        """Work out all that does not depend on where tips are."""
        for what in ("router", "normals", "pull", "pairs", "_hanging"):
            getattr(self, what)
        self.ground.part.winding(np.zeros((1, 3)))

    def pieces_of(self, places: NDArray[np.float64]) -> NDArray[np.int64]:
        """Piece of its layer that each place (n, 3) touches; -1 for none."""
        stack = self.ground.stack
        first = np.ceil((places[:, 2] - stack.base_mm) / stack.layer_mm - 0.5).astype(np.int64)
        found = np.full(len(places), -1, np.int64)
        # A tip on a slope lies in the piece of the next layers; beside a point a little further up.
        for more in range(4):
            open_ = found < 0
            layers = np.maximum(first[open_] + more, 0)
            found[open_] = piece_at(self.pieces, layers, np.ascontiguousarray(places[open_, :2]))
        return found

    def borne(
        self,
        tips: NDArray[np.float64],
        spare: tuple[NDArray[np.float64], NDArray[np.int64]] | None = None,
        most_n: float = math.inf,
    ) -> Borne:
        """What tips (t, 3) bear, with others where one bears more than ``most_n``, of ``walk_loads``."""
        none = np.zeros((0, 2)), np.zeros(0, np.int64)
        where = tips[:, :2], self.pieces_of(tips)
        on_plate = self.ground.stack.base_mm <= 0
        return walk_loads(self.pieces, self.pairs, self.pull, where, spare or none, most_n, on_plate=on_plate)

    def seen(self, at: NDArray[np.float64], outward: NDArray[np.float64]) -> list[float]:
        """How much the mark of each tip (n, 3), with its direction (n, 3), is seen, 0 to 1."""
        if not len(at):
            return []
        if self.ground.shown is not None:
            return [float(on) for on in self.ground.shown.over(at)]
        return [float(v) for v in seen_shares(at, outward, self.ground.part, np.array(self.ground.up))]

    @cached_property
    def _hanging(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Middles (n, 3) and areas (n,) of the facets past the limit."""
        mesh, plate = self.ground.mesh, 0.0 if self.ground.stack.base_mm <= 0 else None
        past = overhangs(mesh, self.limit_deg, plate_mm=plate).past
        return mesh.vertices[mesh.faces[past]].mean(axis=1), facet_normals(mesh)[1][past]

    def held_mm2(self, tips: NDArray[np.float64]) -> float:
        """Area of the facets past the limit within two spacings of a tip (t, 3), which slopes have, mm2."""
        middles, areas = self._hanging
        if not len(tips) or not len(middles):
            return 0.0
        reach = 2 * self.settings.spacing_mm
        away = cKDTree(tips).query(middles, distance_upper_bound=np.nextafter(reach, np.inf))[0]
        return float(areas[away <= reach].sum())
