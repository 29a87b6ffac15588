"""Supports that came with a file, as columns of their layers: kept like those that hands made."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from manifold3d import CrossSection, FillRule

from ...geometry.mesh import Mesh, edges
from ...geometry.solid import Solid, concatenated
from ...health.patching import separated
from ...layers.layer_components import bodies, links, pieces
from ...layers.stack import LayerStack, pack
from ..model import Column, Slab, support_id

REASON = "came with the file"
# A support that ends so few layers below the part touches it; programs differ in the gap that they leave.
TOUCHING_LAYERS = 3


def brought_columns(mesh: Mesh, stack: LayerStack) -> tuple[list[Column], int]:
    """Make columns of supports that a file brought.

    Parameters
    ----------
    mesh : Mesh
        All of them, where they stand below the part; the plate is at z = 0.
    stack : LayerStack
        Layers of the part in that stance: the columns have the same.

    Returns
    -------
    list of Column
        One for each body in the layers, its slabs the cross-sections at the middles of the layers.
    int
        Bodies that are left out because their surface is open.
    """
    shells = separated(mesh)
    closed = [shell for shell in shells if edges(shell).closed]
    if not closed:
        return [], len(shells)
    # Shells that reach into each other are one in a cross-section.
    solid = Solid.from_mesh(concatenated(closed))
    h = stack.layer_mm
    low, high = (float(v) for v in solid.bounds[:, 2])
    first = max(0, math.ceil(low / h - 0.5 - 1e-6))
    levels = range(first, max(first, math.ceil(high / h - 0.5 - 1e-6)))
    sections = [solid.section((level + 0.5) * h) for level in levels]
    rings = [section.to_polygons() for section in sections]
    sorted_ = pieces(pack(rings, [float(s.area()) for s in sections], h, first * h))
    body_of = bodies(len(sorted_), links(sorted_))
    found: list[Column] = []
    for body in range(int(body_of.max(initial=-1)) + 1):
        members = np.flatnonzero(body_of == body)
        slabs = []
        for layer in np.unique(sorted_.layer[members]).tolist():
            own = [ring for m in members[sorted_.layer[members] == layer] for ring in sorted_.rings(int(m))]
            slabs.append(Slab((first + layer) * h, (first + layer + 1) * h, tuple(own)))
        found.append(_column(slabs, stack, len(found)))
    return found, len(shells) - len(closed)


def _column(slabs: Sequence[Slab], stack: LayerStack, number: int) -> Column:
    h = stack.layer_mm
    top = slabs[-1]
    x, y = (float(v) for v in top.rings[0].mean(axis=0))
    touch = (x, y, top.high_mm)
    return Column(
        id=support_id(f"brought {number}", *touch),
        reason=REASON,
        touch_mm=touch,
        on_part=slabs[0].low_mm > h / 2,
        volume_mm3=sum(float(slab.section.area()) * h for slab in slabs),
        slabs=tuple(slabs),
        contact_mm2=_contact_mm2(slabs, stack),
        hand="made",
    )


def _contact_mm2(slabs: Sequence[Slab], stack: LayerStack) -> float:
    """Area of the part right above its ends, and right below where it stands on it."""
    h = stack.layer_mm
    area = 0.0
    for k, slab in enumerate(slabs):
        level = round(slab.low_mm / h)
        above = slabs[k + 1].section if k + 1 < len(slabs) else CrossSection()
        area += _meets(slab.section - above, stack, range(level + 1, level + 1 + TOUCHING_LAYERS))
        below = slabs[k - 1].section if k else CrossSection()
        area += _meets(slab.section - below, stack, range(level - TOUCHING_LAYERS, level))
    return area


def _meets(end: CrossSection, stack: LayerStack, levels: range) -> float:
    """Area of an end that the part meets in some levels from the plate."""
    lift = round(stack.base_mm / stack.layer_mm)
    there = [level - lift for level in levels if 0 <= level - lift < len(stack)]
    rings = [ring for layer in there for ring in stack.rings(layer)]
    return float((end ^ CrossSection(rings, FillRule.NonZero)).area()) if rings else 0.0
