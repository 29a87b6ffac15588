"""What is painted on parts, between the sheet and the core."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..core.errors import BadValue
from ..core.geometry.mesh import Mesh
from ..core.geometry.subdivision import Fine, refined
from ..core.geometry.tree import Tree
from ..core.hanging.overhang_regions import Region
from ..core.marking import marks as core
from ..core.marking.channels import channel_at
from ..core.marking.mark import Mark
from ..core.marking.marks import Marks, areas_mm2, as_marks, blank, carried, places_mm
from ..core.stance.pose import from_quaternion
from ..core.units import length_mm, number
from ..sheet.models import ItemSheet
from ..sheet.part import PaintedMarks
from ..store.store import Store

# A place of a surface is found again on another mesh of it to this.
ON_MM = 0.05


def kept(fine: Fine, marks: Marks, of: str, store: Store, lost_mm2: float = 0.0) -> PaintedMarks | None:
    """Keep marks and describe them; ``None`` where nothing is painted."""
    areas = areas_mm2(fine, marks)
    if not any(areas.values()) and lost_mm2 < 0.5:
        return None
    return PaintedMarks(
        digest=store.keep_marks(marks),
        of=of,
        prop_mm2=areas[Mark.PROP],
        clear_mm2=areas[Mark.KEEP_CLEAR],
        show_mm2=areas[Mark.SHOW],
        solid_mm2=areas[Mark.SOLID],
        lost_mm2=lost_mm2,
        demand=_digest((marks == Mark.PROP) + 2 * (marks == Mark.KEEP_CLEAR)),
        show=_digest(marks == Mark.SHOW),
    )


def _digest(facets: NDArray[np.generic]) -> str:
    if not facets.any():
        return ""
    return hashlib.blake2b(facets.astype(np.uint8).tobytes(), digest_size=8).hexdigest()


def marks_of(sheet: ItemSheet, fine: Fine, store: Store) -> Marks:
    """Marks of the part that is shown, blank where nobody painted it."""
    return blank(fine) if sheet.marks is None else as_marks(fine, store.marks(sheet.marks.digest))


def carried_over(
    sheet: ItemSheet, mesh: Mesh, store: Store, factors: tuple[float, float, float] = (1.0, 1.0, 1.0)
) -> PaintedMarks | None:
    """Carry the marks of a part to another mesh of it: mended, sized, or a piece."""
    if sheet.marks is None:
        return None
    old, new = refined(store.mesh(sheet.part.mesh)), refined(mesh)
    marks, lost = carried(old, marks_of(sheet, old, store), new, factors)
    return kept(new, marks, mesh.digest, store, lost)


def kept_solid(
    sheet: ItemSheet, solid: Mesh, store: Store, factors: tuple[float, float, float] = (1.0, 1.0, 1.0)
) -> NDArray[np.float64]:
    """Places (k, 3) of a part, before it is hollowed, that are painted to stay solid, mm.

    What is painted on the inside of a hollow that is there is no place of it. ``factors`` bring the part of
    the sheet to its size.
    """
    if sheet.marks is None or not sheet.marks.solid_mm2:
        return np.zeros((0, 3))
    fine = refined(store.mesh(sheet.part.mesh))
    places = places_mm(fine, marks_of(sheet, fine, store), Mark.SOLID) * np.array(factors)
    outside = Tree.of(solid).distances(places, 2 * ON_MM) < ON_MM
    return np.asarray(places[outside], np.float64)


def filled(
    what: str, values: Mapping[str, str], sheet: ItemSheet, fine: Fine, result: Callable[[str], Any]
) -> NDArray[np.int64]:
    """Facets of the fine mesh that a fill means.

    Parameters
    ----------
    what : str
        ``face``, ``body``, ``band``, ``past``, ``region`` or ``channel``.
    values : mapping
        As typed: ``facet`` that was pointed at, ``crease``, ``low`` and ``high``, or the number of a
        ``region`` or ``channel``.
    sheet : JobSheet
    fine : Fine
    result : callable
        Makes (or recalls) a result of the sheet by its name.

    Raises
    ------
    BadValue
        Nothing of the part is meant.
    """
    facet = int(number(values["facet"])) if values["facet"] else -1
    if what in ("face", "body", "channel") and not 0 <= facet < len(fine.parent) and not values["channel"]:
        raise BadValue("Nothing of the part was pointed at.", "Click on the part.")
    if what == "face":
        return core.face(fine, facet, number(values["crease"] or "20"))
    if what == "body":
        return core.body(fine, facet)
    if what == "band":
        up = from_quaternion(sheet.stance.quaternion)[2]
        floor = float((fine.mesh.vertices @ up).min()) - sheet.lift_mm
        low, high = length_mm(values["low"] or "0"), length_mm(values["high"] or "0")
        return core.band(fine, fine.middles_mm @ up - floor, low, high)
    if what == "past":
        return core.of_parents(fine, result("past"))
    if what == "region":
        regions = result("hangs")
        if values["region"]:
            wanted = int(number(values["region"]))
            chosen = [r for r in regions if r.number == wanted]
        else:
            chosen = [r for r in regions if facet >= 0 and fine.parent[facet] in r.facets]
        if not chosen:
            raise BadValue("No overhang region is there.", "Click on a coloured underside.")
        return core.of_parents(fine, chosen[0].facets)
    if values["channel"]:
        wanted = int(number(values["channel"]))
        found = [c for c in result("channels") or () if c.number == wanted]
        if not found:
            raise BadValue("There is no such channel any more.", "Find channels again.")
        return np.asarray(found[0].facets)
    channel = channel_at(fine, facet, result("gaps"))
    if channel is None:
        raise BadValue(
            "No hole or channel closes round that place.", "Click on its inner wall, or paint it by hand."
        )
    return channel.facets


def hanging_inside(
    regions: Sequence[Region], fine: Fine, inside: NDArray[np.bool_], bridge_mm: float, material: str
) -> list[str]:
    """Say what hangs inside a place that is kept clear, and how wide a bridge that is.

    Parameters
    ----------
    regions : sequence of Region
        Overhang regions of the part.
    fine : Fine
    inside : (m,) bool
        Facets of the fine mesh that are kept clear.
    bridge_mm : float
        What the material spans.
    material : str
    """
    whole = np.bincount(fine.parent, fine.areas_mm2, minlength=int(fine.parent.max()) + 1)
    cleared = np.bincount(fine.parent, fine.areas_mm2 * inside, minlength=len(whole))
    told = []
    for region in regions:
        share = float(cleared[region.facets].sum() / max(whole[region.facets].sum(), 1e-9))
        if share < 0.1:
            continue
        words = f"Inside hangs overhang {region.number}, {share * region.area_mm2:.0f} mm²"
        if region.bridge is None:
            words += f", as wide as the channel: {material} spans {bridge_mm:g} mm."
        else:
            spans = "spans it" if region.carries_itself(bridge_mm) else f"spans {bridge_mm:g} mm only"
            words += f": a bridge {region.bridge.span_mm:.1f} mm wide; {material} {spans}."
        told.append(words)
    return told or ["Nothing hangs inside."]
