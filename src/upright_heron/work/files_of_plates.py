"""Files of plates: whether each was written and read back, and whether what was printed is still so."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum

from ..core.handoff.preflight import Check, Weight
from ..core.keys import Keys
from ..core.topics import Topic
from ..sheet.models import JobSheet
from .bind import plate_keys


class Outcome(StrEnum):
    """What became of writing a file and reading it back."""

    GOOD = "good"
    REFUSED = "refused"
    NOT_YET = "not yet"


@dataclass(frozen=True, slots=True)
class PlateFile:
    """The file that a machine gets of a plate.

    Attributes
    ----------
    plate : int
        From 1.
    what : str
        G-code or masks.
    outcome : Outcome
        Of the plate as it is now; what was written of it before a change counts for nothing.
    words, mend : str
        Why it was refused, and what to do; empty otherwise.
    """

    plate: int
    what: str
    outcome: Outcome
    words: str = ""
    mend: str = ""


def to_write(job: JobSheet) -> dict[int, tuple[Keys, str]]:
    """Keys of each plate that bears something to print, from 1, and the name of its file among them."""
    found = {}
    for number, plate in enumerate(job.plates, 1):
        here = {one.item for one in plate.instances}
        uncut = here and not any(job.on(name).grid for name in here)
        if uncut and not here & job.cut_items:
            found[number] = plate_keys(job, number - 1), name_of(job, number)
    return found


def name_of(job: JobSheet, plate: int) -> str:
    """Name of the result that is the file of a plate, from 1."""
    return "masks" if job.of_plate(plate - 1).is_resin else "gcode"


def plate_files(
    job: JobSheet,
    there: Callable[[Iterable[str]], Collection[str]],
    refused: Callable[[str], tuple[str, str] | None],
) -> tuple[PlateFile, ...]:
    """How it stands with the file of each plate.

    Parameters
    ----------
    job : JobSheet
    there : callable
        From keys of results to those that were made: a file is kept only after it was read back.
    refused : callable
        From a key to why that result could not be made and what to do; ``None`` where nobody tried.
    """
    named = {number: (keys[name], name) for number, (keys, name) in to_write(job).items()}
    made = there([key for key, _ in named.values()])
    found = []
    for number, (key, name) in named.items():
        what = {"masks": "Masks", "gcode": "G-code"}[name]
        why = None if key in made else refused(key)
        if why is not None:
            found.append(PlateFile(number, what, Outcome.REFUSED, *why))
        else:
            found.append(PlateFile(number, what, Outcome.GOOD if key in made else Outcome.NOT_YET))
    return tuple(found)


def file_checks(files: Iterable[PlateFile]) -> list[Check]:
    """What preflight says of files that were refused."""
    return [
        Check(Weight.WRONG, f"{one.what} refused: {one.words}", one.mend, Topic.HANDOFF, plate=one.plate)
        for one in files
        if one.outcome is Outcome.REFUSED
    ]


def changed_since(
    job: JobSheet, printed: Mapping[int, int], sheet_at: Callable[[int], JobSheet | None]
) -> tuple[int, ...]:
    """Plates, from 1, that were printed and whose file would be another one now.

    Parameters
    ----------
    job : JobSheet
        As it is now.
    printed : mapping of int to int
        From plates that printed well, from 1, to the step that the last of these prints was made from.
    sheet_at : callable
        From a step to its sheet.
    """
    found = []
    for plate, step in sorted(printed.items()):
        then = sheet_at(step)
        if then is None or plate > len(job.plates) or plate > len(then.plates):
            continue
        if _key(then, plate) != _key(job, plate):
            found.append(plate)
    return tuple(found)


def _key(job: JobSheet, plate: int) -> str | None:
    return plate_keys(job, plate - 1).get(name_of(job, plate))
