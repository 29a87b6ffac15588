"""A part with everything that its filament supports are made from, as the application puts it together."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from manifold3d import Manifold, OpType

from tests.support import box, mesh_of
from upright_heron.core.geometry.solid import Solid
from upright_heron.core.geometry.subdivision import refined
from upright_heron.core.geometry.tree import Tree
from upright_heron.core.hanging.findings import walk
from upright_heron.core.hanging.islands import find_islands
from upright_heron.core.hanging.overhang_regions import hanging_regions
from upright_heron.core.layers.stack import LayerStack, slice_solid
from upright_heron.core.supports.checks.verify import verify
from upright_heron.core.supports.demand.demand_overrides import wishes
from upright_heron.core.supports.demand.patches import Measure, by_layer, patches
from upright_heron.core.supports.filament.columns import Run, carried_down
from upright_heron.core.supports.filament.styles import chosen_styles, kept_clear, make_filament
from upright_heron.core.supports.model import SupportSettings

USUAL = SupportSettings()


def table():
    """A flat top of 60 x 60 at 30 mm on four legs of 4 x 4."""
    legs = [box(4, 4, 30, (x, y, 0)) for x in (0, 56) for y in (0, 56)]
    return Manifold.batch_boolean([*legs, box(60, 60, 4, (0, 0, 30))], OpType.Add)


class Bench:
    """A part with all that its supports are made from."""

    def __init__(self, body, layer=0.2, limit=45.0, bridge_mm=10.0, marks=None, lift=0.0, **options):
        body = body.translate((0, 0, lift))
        self.mesh = mesh_of(body)
        self.stack = slice_solid(Solid(body), layer)
        regions = tuple(hanging_regions(self.mesh, limit, lifted=lift > 0))
        found = walk(self.mesh, self.stack, spot_mm=0.4, resin=False, on_plate=lift == 0)
        self.hanging = replace(found, regions=regions)
        self.tree = Tree.of(self.mesh)
        self.clear = None
        coat = None
        if marks is not None:
            fine = refined(self.mesh)
            bytes_ = marks(fine)
            coat = (fine.mesh, fine.parent, bytes_)
            self.clear = kept_clear(fine.mesh, bytes_, self.stack)
        asked = wishes(self.stack, self.mesh, regions, bridge_mm, coat)
        pieces = find_islands(self.stack, on_plate=lift == 0)[1]
        self.patches = patches(
            self.stack,
            self.mesh,
            self.hanging,
            pieces,
            Measure(limit, **options),
            wishes=asked,
            tree=self.tree,
        )

    def make(self, style=None, by_patch=None, given=USUAL):
        held = chosen_styles(self.patches, style, by_patch or {})
        return make_filament(self.stack, held, given, self.tree, clear=self.clear)

    def check(self, made, given=USUAL):
        return verify(self.stack, self.patches, made, given, clear=self.clear)

    def runs(self, given=USUAL) -> list[Run]:
        """Outlines of everything that hangs, carried down."""
        return carried_down(self.stack, by_layer(self.patches, len(self.stack)), given)


def levels(runs: list[Run], stack: LayerStack) -> dict[int, Any]:
    """Outline of each level that has one."""
    from manifold3d import CrossSection, FillRule

    found = {}
    for run in runs:
        section = CrossSection(run.rings, FillRule.NonZero)
        found |= dict.fromkeys(range(run.low, run.high + 1), section)
    return found


def prism_mm3(runs: list[Run], stack: LayerStack) -> float:
    """Volume of everything that is carried down, as solid prisms."""
    return sum(section.area() for section in levels(runs, stack).values()) * stack.layer_mm


def hold_part(mesh, stack, limit_deg, settings, *, style=None):
    """Filament supports of a part that is cut already, every patch in one style or what suits it."""
    regions = tuple(hanging_regions(mesh, limit_deg))
    hanging = replace(walk(mesh, stack, spot_mm=0.4, resin=False), regions=regions)
    tree = Tree.of(mesh)
    asked = patches(
        stack,
        mesh,
        hanging,
        find_islands(stack)[1],
        Measure(limit_deg),
        wishes=wishes(stack, mesh, regions, 10.0),
        tree=tree,
    )
    return make_filament(stack, chosen_styles(asked, style, {}), settings, tree)
