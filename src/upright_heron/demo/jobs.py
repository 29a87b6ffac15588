"""The jobs of the demo workshop, made at the first start."""

from __future__ import annotations

from ..core.handoff.stl import write_stl
from ..core.health.mend import drop_needless
from ..core.stance.pose import about_axis, to_quaternion
from ..sheet.models import Grid, JobSheet, Stance
from ..sheet.process import Footing, Process, Supports
from ..store.store import Store
from ..work.intake import new_sheet, take_in
from .shapes import SHAPES


def _with(sheet: JobSheet, name: str) -> JobSheet:
    lean = Stance(quaternion=to_quaternion(about_axis("y", -12.0)), lift_mm=5.0, name="leaning 12° back")
    settings: dict[str, dict[str, object]] = {
        "telescope-bracket": {
            "material": "PETG",
            "supports": Supports(),
            "footing": Footing(kind="brim", lines=6),
        },
        "heron-figurine": {"stance": lean, "supports": Supports(spacing_mm=3.5)},
        "tide-gauge-housing": {"material": "ASA", "footing": Footing(kind="skirt", lines=2)},
        "dragonfly": {"grid": Grid(margin_mm=3.0), "process": Process(walls=2, infill_percent=8.0)},
    }
    return JobSheet.model_validate({**dict(sheet), **settings[name]})


NAMES = {
    "telescope-bracket": ("Hide 3 telescope bracket", "Sedge 300"),
    "heron-figurine": ("Heron figurine for the shop", "Tarn 9"),
    "tide-gauge-housing": ("Tide-gauge housing, creek 2", "Sedge 300"),
    "dragonfly": ("Dragonfly for the visitor centre", "Sedge 300"),
}


def make_demo_jobs(store: Store) -> list[str]:
    """Make the demo jobs that are not there yet and return the identifiers of all."""
    made = []
    for name, shape in reversed(SHAPES.items()):
        job_id = f"demo-{name}"
        made.append(job_id)
        if store.has_job(job_id):
            continue
        title, machine = NAMES[name]
        part = take_in(write_stl(drop_needless(shape())[0]), f"{name}.stl", store)
        sheet = _with(new_sheet(part, title, machine), name)
        store.create_job(sheet, "Demo job", demo=True, job_id=job_id)
    return made
