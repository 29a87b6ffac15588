"""What is printed of lines and grids: walls one line wide under solid interface layers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
from manifold3d import CrossSection, FillRule, JoinType, OpType

from ..demand.patches import Patch, Style
from ..model import Column, Slab, SupportSettings, support_id
from ..outlines import strips

# Gap of a slit, in lines.
SLIT_LINES = 1.5
# Thinner than twice this, what ends is not drawn solid.
THIN_MM = 0.1
# Bits with less than this are dropped: no machine draws them.
CRUMB_MM2 = 0.05

# Levels from the first to the last, and their outline.
Stretch = tuple[int, int, CrossSection]


def columns_of(
    patch: Patch,
    style: Style,
    bodies: Sequence[list[Stretch]],
    ends: Mapping[int, CrossSection],
    layer_mm: float,
    settings: SupportSettings,
    plate: CrossSection,
) -> list[Column]:
    """Make the columns of a patch from its outlines.

    Parameters
    ----------
    patch : Patch
    style : Style
        Lines or grid.
    bodies : sequence of lists of Stretch
        Connected outlines from the plate up, the largest first.
    ends : mapping of int to CrossSection
        What is held right above which level.
    layer_mm : float
    settings : SupportSettings
    plate : CrossSection
        Where no rim may be on the plate.

    Returns
    -------
    list of Column
    """
    found: list[Column] = []
    for own in bodies:
        held = patch.area_mm2 if len(bodies) == 1 else _held_mm2(own, ends)
        column = _column(patch, style, own, held, layer_mm, settings, plate)
        if column is None:
            continue
        # The largest keeps its name whatever else there is; the others are named after their places.
        found.append(replace(column, id=support_id("column", *(column.touch_mm if found else patch.at_mm))))
    return found


def _held_mm2(own: list[Stretch], ends: Mapping[int, CrossSection]) -> float:
    """Area of what is held right above an outline."""
    return sum(
        float((plan ^ section).area())
        for low, high, section in own
        for level, plan in ends.items()
        if low <= level <= high
    )


def _column(
    patch: Patch,
    style: Style,
    own: list[Stretch],
    held_mm2: float,
    h: float,
    settings: SupportSettings,
    plate: CrossSection,
) -> Column | None:
    slabs = []
    volume = 0.0
    near = _Ends(own, settings.interface_layers)
    walls, solids = _printed(near, style, settings)
    if settings.brim_mm > 0 and own[0][0] == 0:
        rim = own[0][2].offset(settings.brim_mm) - plate
        slabs.append(Slab(0.0, h, tuple(rim.to_polygons())))
        volume += (float(rim.area()) - float(walls[0][2].area())) * h
    for low, high, section in _thick(walls, settings.every):
        area = float(section.area())
        if area > CRUMB_MM2:
            slabs.append(Slab(low * h, (high + 1) * h, tuple(section.to_polygons())))
            volume += area * (high + 1 - low) * h
    for low, high, section, beside in solids:
        if section.area() > CRUMB_MM2:
            slabs.append(Slab(low * h, (high + 1) * h, tuple(section.to_polygons()), solid=True))
            volume += float((section - beside).area()) * (high + 1 - low) * h
    if not slabs:
        return None
    slabs.sort(key=lambda slab: (slab.high_mm, slab.low_mm))
    top = slabs[-1].rings[0].mean(axis=0)
    touch = (float(top[0]), float(top[1]), slabs[-1].high_mm)
    on_part = min(slab.low_mm for slab in slabs) > h / 2
    dense = 1.0 if settings.interface_layers else settings.line_mm / settings.line_spacing_mm
    return Column(
        "", patch.reason, touch, on_part, volume, tuple(slabs), patch.id, style.value,
        dense * (held_mm2 + near.feet_mm2()),
    )  # fmt: skip


def _thick(walls: list[Stretch], every: int) -> list[Stretch]:
    """Give walls one outline for every so many levels, counted from the plate."""
    if every <= 1:
        return walls
    by_level = {level: section for low, high, section in walls for level in range(low, high + 1)}
    found: list[Stretch] = []
    level, top = min(by_level, default=0), max(by_level, default=-1)
    while level <= top:
        block = [by_level[level + k] for k in range(every) if level + k in by_level]
        if level % every == 0 and len(block) == every:
            shared = block[0]
            for other in block[1:]:
                if other is not shared:
                    # Where the part draws nearer, the thick layer gives way as soon as its first one would.
                    shared = shared ^ other
            found.append((level, level + every - 1, shared))
            level += every
        else:
            if level in by_level:
                found.append((level, level, by_level[level]))
            level += 1
    return found


def _printed(
    ends: _Ends, style: Style, settings: SupportSettings
) -> tuple[list[Stretch], list[tuple[int, int, CrossSection, CrossSection]]]:
    """Stretches of levels with the walls in them; and with what is solid, and the walls it lies over.

    Where the outline does not go on for so many layers it is solid: under the part, and on it.
    """
    found: list[Stretch] = []
    solids: list[tuple[int, int, CrossSection, CrossSection]] = []
    boxes = np.array([section.bounds() for _, _, section in ends.own])
    (x0, y0), (x1, y1) = boxes[:, :2].min(axis=0).tolist(), boxes[:, 2:].max(axis=0).tolist()
    pattern = _walls((x0, y0, x1, y1), style, settings)
    for k, (first, last, section) in enumerate(ends.own):
        walls = section ^ pattern
        found.append((first, last, walls))
        for low, high, near in ends.stretches(k):
            solid = ends.solid(k, near)
            if not solid.is_empty():
                solids.append((low, high, solid, walls))
    return found, solids


class _Ends:
    """Where the outlines of one patch do not go on for so many layers, up or down.

    Between two neighbouring outlines only what the one has and the other has not is worked out, once: what
    ends within some layers is all of that together, as far as it lies in the outline itself.
    """

    def __init__(self, own: list[Stretch], layers: int) -> None:
        self.own, self.layers = own, layers
        self.at = {level: k for k, (low, high, _) in enumerate(own) for level in range(low, high + 1)}
        self.less: dict[tuple[int, int], CrossSection] = {}

    def stretches(self, k: int) -> list[tuple[int, int, tuple[int, int] | None]]:
        """Levels of an outline that has an end near, with the lowest and the highest outline near them.

        ``None`` stands for an end of all of it.
        """
        low, high, _ = self.own[k]
        found: list[tuple[int, int, tuple[int, int] | None]] = []
        for level in range(low, high + 1):
            # The plate is no end.
            below = [self.at.get(n) for n in range(max(0, level - self.layers), level)]
            above = [self.at.get(level + n) for n in range(1, self.layers + 1)]
            every = [k, *(n for n in (*below, *above) if n is not None)]
            near = (min(every), max(every)) if len(every) == 1 + len(below) + len(above) else None
            if near == (k, k):
                continue
            if found and found[-1][1] == level - 1 and found[-1][2] == near:
                found[-1] = (found[-1][0], level, near)
            else:
                found.append((level, level, near))
        return found

    def solid(self, k: int, near: tuple[int, int] | None) -> CrossSection:
        """What of an outline ends within the outlines near it."""
        section = self.own[k][2]
        if near is None:
            return section
        gone = [self._less(j, j + 1) for j in range(k, near[1])]
        gone += [self._less(j, j - 1) for j in range(near[0] + 1, k + 1)]
        ended = CrossSection.batch_boolean(gone, OpType.Add) ^ section
        return _without_slopes(ended)

    def feet_mm2(self) -> float:
        """Area that stands on the part."""
        area = 0.0
        for k, (low, _, section) in enumerate(self.own):
            if low > 0:
                begun = section if self.at.get(low - 1) is None else _without_slopes(self._less(k, k - 1))
                area += float(begun.area())
        return area

    def _less(self, j: int, other: int) -> CrossSection:
        if (j, other) not in self.less:
            self.less[j, other] = self.own[j][2] - self.own[other][2]
        return self.less[j, other]


def _without_slopes(section: CrossSection) -> CrossSection:
    """Leave out edges that draw back by less than a line: they are slopes of a wall, not ends of it."""
    return section.offset(-THIN_MM, JoinType.Miter, 2.0).offset(THIN_MM, JoinType.Miter, 2.0)


def _walls(
    bounds: tuple[float, float, float, float], style: Style, settings: SupportSettings
) -> CrossSection:
    """Strips over a box, at the spacing of the settings, in one direction or two."""
    angles = [settings.line_angle_deg]
    if style is Style.GRID:
        angles.append(settings.line_angle_deg + 90.0)
    slit = settings.slit_mm if style is Style.LINES else 0.0
    rings = [
        ring
        for angle in angles
        for ring in strips(
            bounds, settings.line_mm, settings.line_spacing_mm, angle, slit, SLIT_LINES * settings.line_mm
        )
    ]
    return CrossSection(rings, FillRule.NonZero)
