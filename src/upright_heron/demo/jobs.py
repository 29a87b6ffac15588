"""The jobs of the demo workshop, made at the first start."""

from __future__ import annotations

from ..core.handoff.stl import write_stl
from ..core.health.patching import drop_needless
from ..core.maker import Maker
from ..core.split.fittings import JointKind
from ..core.stance.pose import about_axis, to_quaternion
from ..sheet.changes import MakePieces, TakePlan
from ..sheet.item import Grid, Item, Joints, Plane, Stance
from ..sheet.models import JobSheet
from ..sheet.process import FilamentSupports, Footing, Process, ResinSupports
from ..store.store import Store
from ..work.bind import keys_of
from ..work.intake import new_sheet, pieces, take_in
from ..work.sources import ResultMemory, load_from
from .shapes import SHAPES


def _with(sheet: JobSheet, name: str) -> JobSheet:
    lean = Stance(quaternion=to_quaternion(about_axis("y", -12.0)), lift_mm=5.0, name="leaning 12° back")
    job: dict[str, dict[str, object]] = {
        "telescope-bracket": {"material": "PETG"},
        "tide-gauge-housing": {"material": "ASA"},
        "dragonfly": {"process": Process(walls=2, infill_percent=8.0)},
    }
    item: dict[str, dict[str, object]] = {
        "telescope-bracket": {"supports": FilamentSupports(), "footing": Footing(kind="brim", lines=6)},
        "heron-figurine": {"stance": lean, "supports": ResinSupports(spacing_mm=3.5)},
        "tide-gauge-housing": {"footing": Footing(kind="skirt", lines=2)},
        "dragonfly": {"grid": Grid(margin_mm=3.0, joints=Joints(kind=JointKind.PEG, numbers=True))},
    }
    only = Item.model_validate({**dict(sheet.items[0]), **item[name]})
    return JobSheet.model_validate({**dict(sheet), **job.get(name, {}), "items": (only,)})


def _in_pieces(sheet: JobSheet, store: Store) -> JobSheet:
    """The job with its item cut as the best plan says, and its pieces as items."""
    maker = Maker(load_from(store), ResultMemory(store))
    whole = sheet.on()
    best = maker.make(keys_of(whole), "plans")[0]
    sheet = TakePlan(planes=tuple(Plane.of(one) for one in best.cuts), plan=best.name).made(sheet, whole.id)
    whole = sheet.on()
    made = maker.make(keys_of(whole), "split")
    parts, paths = pieces(whole, made, store)
    return MakePieces(parts=parts, paths=paths, of=whole.part.mesh).made(sheet, whole.id)


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
        if sheet.items[0].grid is not None:
            sheet = _in_pieces(sheet, store)
        store.create_job(sheet, "Demo job", demo=True, job_id=job_id)
    return made
