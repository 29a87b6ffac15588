"""What the scripts of the job page are told: a small JSON document with every swap."""

from __future__ import annotations

from typing import Any

from ..core.footing.footing import FootingKind
from ..core.hanging.findings import Family, State
from ..core.layers.peel import NEWTONS
from ..core.stance.pose import from_quaternion
from ..store.store import Job
from ..work.summary import Summary
from .section import SECTIONS


def view_state(job: Job, live: Summary, *, busy: bool) -> dict[str, Any]:
    """What the view needs to draw an item; keys stand for blocks under ``/api``.

    What is told of results before they are made is looked for while something is made only.
    """
    sheet = live.sheet
    address = live.known.address
    rotation = from_quaternion(sheet.stance.quaternion)
    return {
        "job": job.id,
        "item": sheet.id,
        "step": job.step,
        "stepId": job.step_id,
        "sections": {section.slug: number for number, section in enumerate(SECTIONS, 1)},
        "mesh": sheet.part.mesh,
        "closed": sheet.part.closed,
        "before": sheet.unmended.mesh if sheet.unmended else None,
        "factors": list(sheet.size.factors),
        "rotation": [round(float(v), 15) for v in rotation.ravel()],
        "build": list(sheet.machine.build_mm),
        "stands": _stands(live),
        "limit": sheet.limit,
        "layer": sheet.layer_mm,
        "lift": sheet.lift_mm,
        "resin": sheet.is_resin,
        "raise": live.footing.raise_mm if live.footing else 0.0,
        "layers": live.known.keys.get("layers") if live.findings else None,
        "supports": address("supports"),
        "footing": address("footing"),
        "toolpaths": address("toolpaths"),
        "firstPaths": live.known.early_address("toolpaths") if busy else None,
        "speeds": address("speeds"),
        "footingLayers": live.footing.layers if live.footing else 0,
        "split": address("split"),
        "wantsSupports": sheet.supports is not None,
        "wantsFooting": sheet.footing.kind is not FootingKind.NONE,
        "wantsSplit": sheet.grid is not None,
        "health": address("health"),
        "moved": address("moved"),
        "hangs": address("hangs"),
        "findings": address("findings"),
        "marks": sheet.marks.digest if sheet.marks else None,
        "show": sheet.seen_from,
        "load": sheet.load,
        "cups": [[c.x_mm, c.y_mm, c.z_mm] for c in live.figures.cups] if live.figures else [],
        "centre": list(live.figures.centre_mm) if live.figures else None,
        "islands": _islands(live),
        "peel": NEWTONS[sheet.stuff.peel] if sheet.is_resin else None,
        "steps": [step.z_mm for step in live.findings.walked.steps] if live.findings else [],
    }


def _stands(live: Summary) -> list[float]:
    """Where the item stands on its plate, x and y (mm), and its swing; the middle while that is not known."""
    for one in live.arranged.places if live.arranged is not None else ():
        if one.item == live.sheet.id:
            return [one.x_mm, one.y_mm, one.swing_deg]
    return [0.0, 0.0, 0.0]


def _islands(live: Summary) -> list[dict[str, Any]]:
    listed = live.listed or ()
    held = {f.number for f in listed if f.family is Family.ISLAND and f.state is State.HELD}
    return [
        {
            "n": i.number,
            "z": i.z_mm,
            "x": i.x_mm,
            "y": i.y_mm,
            "layer": i.layer,
            "held": i.number in held,
        }
        for i in (live.findings.islands[:400] if live.findings else ())
    ]
