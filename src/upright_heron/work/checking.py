"""One list of what is wrong or doubtful of a job: of its items, plates and settings, and the shop's shelf."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

from ..core.errors import HeronError
from ..core.graph import GRAPH
from ..core.handoff.preflight import Check, Weight, unchosen, worst_first
from ..core.keys import Keys
from ..core.maker import Maker, Recent
from ..core.progress import Progress
from ..core.recipes.values import Brief
from ..core.toolpaths.notes import PathNotes
from ..core.topics import Topic
from ..sheet.models import ItemSheet, JobSheet
from ..sheet.shop import Calibration, OwnMaterial, OwnPrinter, RunNotes
from ..store.store import Store
from .bind import keys_of, plate_keys
from .files_of_plates import file_checks, plate_files, to_write
from .path_doubts import path_checks
from .sources import load_from


def job_checks(
    job: JobSheet,
    of_items: Sequence[tuple[ItemSheet, Iterable[Check]]],
    of_plates: Sequence[Iterable[Check] | None],
    masses_g: Callable[[str], float | None],
    of_shop: Iterable[Check] = (),
    notes: Callable[[str], PathNotes | None] = lambda _: None,
) -> list[Check]:
    """Put together what is wrong or doubtful of a job, what is wrong first.

    Parameters
    ----------
    job : JobSheet
    of_items : sequence of (ItemSheet, iterable of Check)
        What was found of each item that counts.
    of_plates : sequence of iterable of Check
        What was found of each plate; ``None`` while it is not known.
    masses_g : callable
        From the id of an item to the filament or resin that it takes; ``None`` while it is not known.
    of_shop : iterable of Check
        What was found on the shelf of the shop.
    notes : callable
        From the id of an item to what is known of its paths; ``None`` while they are not made.

    Returns
    -------
    list of Check
    """
    found = [replace(check, item=sheet.id) for sheet, checks in of_items for check in checks]
    found += [replace(check, item=sheet.id) for sheet, _ in of_items for check in _of_sheet(sheet)]
    found += [
        replace(check, item=sheet.id)
        for sheet, _ in of_items
        for check in path_checks(sheet, notes(sheet.id))
    ]
    numbered = enumerate(of_plates, 1)
    found += [replace(check, plate=number) for number, plate in numbered for check in plate or ()]
    found += _of_spools(job, masses_g)
    found += _in_turn(job)
    found += of_shop
    if job.asked:
        found.append(unchosen(job.printer, job.material, job.asked))
    if job.stuff.technology is not job.machine.technology:
        text = f"{job.material} is no {job.machine.technology.value} for {job.machine.name}."
        found.append(Check(Weight.WRONG, text, "Pick another material or printer.", Topic.PRINTER))
    return worst_first(found)


def _of_sheet(sheet: ItemSheet) -> list[Check]:
    """What is doubtful of an item before anything is computed."""
    found = _of_other_job(sheet)
    if not sheet.unit_question.question:
        return found
    size = " × ".join(f"{side:.4g}" for side in sheet.original.size_mm)
    text = f"Nobody said which unit the file is in; at {size} mm it is doubtful."
    return [*found, Check(Weight.DOUBTFUL, text, "Say the unit under Part.", Topic.PART)]


def _of_other_job(sheet: ItemSheet) -> list[Check]:
    """What an item of another job was prepared for there, where it is printed otherwise here."""
    of = sheet.of
    if of is None:
        return []
    was, here = [], []
    if abs(of.layer_mm - sheet.layer_mm) > 1e-9:
        was.append(f"layers of {of.layer_mm:g} mm")
        here.append(f"{sheet.layer_mm:g} mm")
    if of.walls is not None and of.walls != sheet.process.walls:
        was.append(f"{of.walls} walls")
        here.append(f"{sheet.process.walls}")
    if of.infill_percent is not None and of.infill_percent != sheet.process.infill_percent:
        was.append(f"{of.infill_percent:g} % infill")
        here.append(f"{sheet.process.infill_percent:g} %")
    if not was:
        return []
    text = f"In “{of.name}” it has {', '.join(was)}; on this plate {', '.join(here)}."
    return [Check(Weight.DOUBTFUL, text, "Print it with its own job, or leave it so.", Topic.LAYERS)]


def _of_spools(job: JobSheet, masses_g: Callable[[str], float | None]) -> list[Check]:
    """Plates that take more than a spool holds."""
    if job.is_resin:
        return []
    found = []
    for number, plate in enumerate(job.plates, 1):
        masses = [masses_g(one.item) for one in plate.instances]
        known = [mass for mass in masses if mass is not None]
        there = job.of_plate(number - 1)
        holds = there.stuff.spool_g
        if len(known) == len(masses) and sum(known) > holds > 0:
            text = f"Plate {number} takes {sum(known):.0f} g of {there.material}; a spool holds {holds:g} g."
            mend = "Spread it over more plates, or be there when the spool runs out."
            found.append(Check(Weight.DOUBTFUL, text, mend, Topic.HANDOFF, plate=number))
    return found


def _in_turn(job: JobSheet) -> list[Check]:
    """Plates whose items cannot follow each other: each would need both nozzles."""
    found = []
    for number, plate in enumerate(job.plates, 1):
        sheets = [job.on(one.item) for one in plate.instances]
        if len(sheets) > 1 and sheets[0].in_turn and any(sheet.uses_second for sheet in sheets):
            text = f"Plate {number} needs the second nozzle, and is to be printed one after the other."
            mend = "Print all at once, or do without the second nozzle."
            found.append(Check(Weight.WRONG, text, mend, Topic.HANDOFF, plate=number))
    return found


def of_plate(job: JobSheet, plate: int, checks: Iterable[Check]) -> list[Check]:
    """Those that a plate, from 1, goes with: its own, those of what stands on it, and of the job."""
    here = {one.item for one in job.plates[plate - 1].instances}
    return [
        check
        for check in checks
        if check.plate in (0, plate) and (check.plate or not check.item or check.item in here)
    ]


def _moved_on(job: JobSheet, store: Store) -> list[Check]:
    """Jobs that were changed since items of them came onto the plates of this one."""
    found = []
    for of in {item.of.job: item.of for item in job.items if item.of is not None}.values():
        then, now = store.sheet_at(of.step), store.sheet_now(of.job)
        if then is not None and now is not None and (then.items, then.plates) != (now.items, now.plates):
            text = f"“{of.name}” was changed since items of it came here."
            mend = "Take them out and bring them again, or leave them as they came."
            found.append(Check(Weight.DOUBTFUL, text, mend, Topic.HANDOFF))
    return found


def shop_checks(job: JobSheet, store: Store) -> list[Check]:
    """What the shop changed since the job took its copy: printer, material, what was measured."""
    found = []
    pairs: list[tuple[str, object, object]] = []
    of_plates = [job.of_plate(k) for k in range(len(job.plates))]
    each = {settings.pair: settings for settings in of_plates}.values()
    pairs += [
        (one.material, one.own_material, store.on_shelf(OwnMaterial, one.material))
        for one in {settings.material: settings for settings in (job, *each)}.values()
    ]
    for one in each:
        pairs.append((one.printer, one.own_printer, store.on_shelf(OwnPrinter, one.printer)))
        measured = store.on_shelf(Calibration, one.pair)
        if measured is not None:
            pairs.append((f"{one.printer} with {one.material}", one.calibration, measured))
    approved = {one.name for one in store.shelf(RunNotes) if one.approved}
    for one in each if approved else ():
        if one.pair not in approved:
            text = f"The shop has not approved {one.material} on the {one.printer}."
            mend = "Take another of both, or approve the pair once it has printed well."
            found.append(Check(Weight.DOUBTFUL, text, mend, Topic.HANDOFF))
    found += _moved_on(job, store)
    for name, own, shelved in pairs:
        if shelved is not None and shelved != own:
            text = f"The shop's figures of {name} are newer than those of the job."
            mend = "Pick it again to take the new ones, or leave it if the job is to stay as it was."
            found.append(Check(Weight.DOUBTFUL, text, mend, Topic.PRINTER))
    return found


def checked_job(job: JobSheet, store: Store, progress: Progress) -> list[Check]:
    """Make all that preflight asks for, here and now, and put the list together.

    The file of each plate is written and read back, too.

    Parameters
    ----------
    job : JobSheet
    store : Store
        Has what the job names; what is made is not kept in it.
    progress : Progress
    """
    maker = Maker(load_from(store), Recent(1_000_000), progress=progress)

    def made(keys: Keys, name: str) -> object:
        return maker.make(keys, name) if name in keys and name in GRAPH else None

    items, masses, notes = [], {}, {}
    for item in job.printed:
        sheet = job.on(item.id)
        keys = keys_of(sheet)
        checks = made(keys, "checks")
        items.append((sheet, checks if isinstance(checks, tuple) else ()))
        brief = made(keys, "brief")
        masses[item.id] = brief.mass_g if isinstance(brief, Brief) else None
        told = made(keys, "path_notes")
        notes[item.id] = told if isinstance(told, PathNotes) else None
    plates, refused, files = [], {}, set()
    for plate in range(len(job.plates)):
        checks = made(plate_keys(job, plate), "plate_checks")
        plates.append(checks if isinstance(checks, tuple) else ())
    for keys, name in to_write(job).values():
        try:
            maker.make(keys, name)
        except HeronError as error:
            refused[keys[name]] = str(error), error.advice
        else:
            files.add(keys[name])
    of_files = file_checks(plate_files(job, lambda _: files, refused.get))
    return job_checks(job, items, plates, masses.get, [*of_files, *shop_checks(job, store)], notes=notes.get)
