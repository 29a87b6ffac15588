"""All that is known of a job right now, gathered from what is remembered, without making anything."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from ..core.footing.advice import Advice
from ..core.footing.footing import Footing
from ..core.handoff.preflight import Check
from ..core.hanging.findings import Finding
from ..core.hanging.overhang_regions import Region
from ..core.health.report import Report
from ..core.marking.channels import Channel
from ..core.plates.fit import Fit
from ..core.recipes.values import Arranged, Brief, Findings, Placed
from ..core.split.pieces import Split
from ..core.split.plan_figures import PlanFigures
from ..core.split.planner import Plan
from ..core.stance.figures import Figures
from ..core.stance.proposals import Found
from ..core.stance.resting import RestingFace
from ..core.supports.checks.removal import Access
from ..core.supports.support_set import SupportSet
from ..core.toolpaths.bill import Bill
from ..core.toolpaths.notes import PathNotes
from ..core.toolpaths.rough_estimate import Estimate, SecondNozzle, plate_seconds
from ..core.toolpaths.timing import Timed
from ..sheet.models import ItemSheet, JobSheet
from .bind import as_variant, keys_of, plate_keys
from .checking import job_checks
from .files_of_plates import PlateFile, file_checks, plate_files
from .known import Known, Memo
from .what_if import taken


@dataclass(frozen=True, eq=False)
class Summary:
    """All that is known of an item right now; what is still being made is ``None``.

    Attributes
    ----------
    sheet : ItemSheet
    known : Known
        Where it comes from.
    placed : Placed or None
    fit : Fit or None
    findings : Findings or None
    supports : SupportSet or None
    footing : Footing or None
    split : Split or None
    resting : tuple of RestingFace or None
    estimate : Estimate or None
    health : Report or None
    preflight : list of Check
        Of all items of the job, and of its plate.
    figures : Figures or None
    found : Found or None
        Proposed stances; weighed ones while the exact ones are being made.
    hangs : tuple of Region or None
    listed : tuple of Finding or None
        Everything that may fail in the stance, with what has become of it.
    channels : tuple of Channel or None
    without : Estimate or None
        As if there were no supports.
    access : tuple of Access or None
        How each support is got at.
    second : SecondNozzle or None
        What the second nozzle prints of the supports.
    variants : list of (str, Summary)
        Name and summary of each variant of the supports that is kept.
    counts : tuple of dict of str to int
        How often each item stands on each plate, by its id.
    briefs : dict of str to Brief or None
        A line of each item of the job, by id.
    arranged : Arranged or None
        Where the items stand on the plate of the one that is looked at.
    plans : tuple of Plan or None
        Cuts that are proposed; the first ones while others are looked for.
    plan_figures : tuple of PlanFigures or None
        What comes of them.
    timed : Timed or None
        Time and filament from the paths themselves.
    path_notes : PathNotes or None
    footing_advice : Advice or None
    files : tuple of PlateFile
        How it stands with the file of each plate.
    """

    sheet: ItemSheet
    known: Known
    placed: Placed | None
    fit: Fit | None
    findings: Findings | None
    supports: SupportSet | None
    footing: Footing | None
    split: Split | None
    resting: tuple[RestingFace, ...] | None
    estimate: Estimate | None
    health: Report | None
    preflight: list[Check]
    figures: Figures | None = None
    found: Found | None = None
    hangs: tuple[Region, ...] | None = None
    listed: tuple[Finding, ...] | None = None
    channels: tuple[Channel, ...] | None = None
    without: Estimate | None = None
    access: tuple[Access, ...] | None = None
    second: SecondNozzle | None = None
    variants: list[tuple[str, Summary]] = field(default_factory=list)
    briefs: dict[str, Brief | None] = field(default_factory=dict)
    counts: tuple[dict[str, int], ...] = ()
    arranged: Arranged | None = None
    plans: tuple[Plan, ...] | None = None
    plan_figures: tuple[PlanFigures, ...] | None = None
    timed: Timed | None = None
    path_notes: PathNotes | None = None
    footing_advice: Advice | None = None
    files: tuple[PlateFile, ...] = ()

    @cached_property
    def paid(self) -> Bill | None:
        """Filament by nozzle; ``None`` while paths are not there."""
        return taken(self.timed, self.sheet) if self.timed is not None else None

    @property
    def copies(self) -> int:
        """How often the item is printed."""
        return sum(here.get(self.sheet.id, 0) for here in self.counts)

    def takes(self, plate: int) -> tuple[float, float] | None:
        """Rough seconds and grams of a plate, from 0; ``None`` while those of an item are not known."""
        seconds, mass = [], 0.0
        for name, count in self.counts[plate].items():
            one = self.briefs.get(name) if self.briefs else self.estimate
            if one is None:
                return None
            seconds += [one.seconds] * count
            mass += count * one.mass_g
        return (plate_seconds(seconds, self.sheet.machine.technology), mass) if seconds else None

    @property
    def whole(self) -> tuple[float, float] | None:
        """Rough seconds and grams of all plates, one after the other."""
        every = [self.takes(plate) for plate in range(len(self.counts))]
        known = [one for one in every if one is not None]
        if len(known) < len(every) or not known:
            return None
        return sum(seconds for seconds, _ in known), sum(mass for _, mass in known)


# Fields of a summary that are results of an item under the same name.
_SAME = (
    "placed", "fit", "findings", "supports", "footing", "split", "resting", "estimate", "health", "figures",
    "hangs", "channels", "without", "access", "second", "plan_figures", "timed",
    "path_notes", "footing_advice",
)  # fmt: skip


def item_summary(sheet: ItemSheet, memo: Memo) -> Summary:
    """Gather what is known of an item, its preflight among it."""
    known = Known(keys_of(sheet), memo)
    everything = known.get("listed")
    same: dict[str, Any] = {name: known.get(name) for name in _SAME}
    return Summary(
        sheet=sheet,
        known=known,
        **same,
        preflight=list(known.get("checks") or ()),
        found=known.early("search"),
        plans=known.early("plans"),
        listed=everything.findings if everything is not None else None,
    )


def _path_notes(job: JobSheet, items: Iterable[str], memo: Memo) -> dict[str, PathNotes | None]:
    """What is known of the paths of items whose paths were made."""
    named = {name: keys_of(job.on(name)).get("path_notes") for name in items}
    found = memo.several([key for key in named.values() if key is not None])
    notes: dict[str, PathNotes | None] = {}
    for name, key in named.items():
        value = found.get(key) if key is not None else None
        notes[name] = value if isinstance(value, PathNotes) else None
    return notes


def summary(
    job: JobSheet,
    item: str,
    memo: Memo,
    of_shop: Iterable[Check] = (),
    refused: Callable[[str], tuple[str, str] | None] = lambda _: None,
) -> Summary:
    """Gather what is known of a job that is looked at for one of its items.

    Parameters
    ----------
    job : JobSheet
    item : str
        Its id.
    memo : Memo
    of_shop : iterable of Check
        What the shelf says.
    refused : callable
        From the key of a file to why it could not be written; ``None`` where nobody tried.
    """
    sheet = job.on(item)
    own = item_summary(sheet, memo)
    variants = [(kept.name, item_summary(as_variant(sheet, kept), memo)) for kept in sheet.variants]
    plates = [Known(plate_keys(job, k), memo) for k in range(len(job.plates))]
    briefs: dict[str, Brief | None] = {}
    if len(job.items) > 1:
        briefs = {one.id: Known(keys_of(job.on(one.id)), memo).get("brief") for one in job.printed}
    of_items: list[tuple[ItemSheet, Iterable[Check]]] = []
    # What is printed as its pieces is none of those that go.
    if sheet.id not in briefs and not (briefs and sheet.id in job.cut_items):
        of_items.append((sheet, own.preflight))
    for name, brief in briefs.items():
        found = own.preflight if name == sheet.id else brief.checks if brief is not None else ()
        of_items.append((job.on(name), found))

    def mass_g(name: str) -> float | None:
        known = briefs.get(name) if briefs else own.estimate
        return None if known is None else known.mass_g

    notes = _path_notes(job, [name for name in briefs if name != sheet.id], memo)
    notes[sheet.id] = own.path_notes
    of_plates = [plate.get("plate_checks") for plate in plates]
    files = plate_files(job, memo.there, refused)
    return replace(
        own,
        variants=variants,
        briefs=briefs,
        counts=tuple(dict(Counter(one.item for one in plate.instances)) for plate in job.plates),
        preflight=job_checks(job, of_items, of_plates, mass_g, [*file_checks(files), *of_shop], notes.get),
        arranged=plates[job.plate_of(sheet.id)].get("arranged"),
        files=files,
    )
