"""A plate on its way to a machine: what it needs to go, and what is kept of it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence

from ..core.errors import BadValue
from ..core.handoff.preflight import Check, Weight
from ..core.topics import Topic
from ..sheet.models import JobSheet
from ..sheet.shop import LEAST_FLOW, MOST_FLOW, Spool, Station
from ..stand_in.files import read_file
from ..stand_in.protocol import Status
from ..store.prints import NewPrint
from ..store.store import Job

# A reason is at least so long.
LEAST_WORDS = 3
# What is ticked off on the way, by technology (common practice).
FILAMENT_BOXES = ("plate clean", "spool dry and enough", "first layer looked at", "supports off", "measured")
RESIN_BOXES = ("vat clean, film whole", "resin shaken and enough", "drained", "washed and cured", "measured")


def excused(preflight: Iterable[Check], excuse: str) -> str:
    """The reason why a plate goes though something is wrong; empty where nothing is.

    Raises
    ------
    BadValue
        Something is wrong and nobody said why it goes all the same.
    """
    wrong = [check for check in preflight if check.weight is Weight.WRONG]
    if wrong and len(excuse.strip()) < LEAST_WORDS:
        raise BadValue(
            f"Preflight finds {len(wrong)} wrong: {wrong[0].text}",
            "Mend it, or say why it goes all the same: that is kept in the record.",
        )
    return excuse.strip() if wrong else ""


def goes_to(job: JobSheet, plate: int, station: Station) -> None:
    """Hold a machine against the plate, from 1, that it is to print.

    Raises
    ------
    BadValue
        It is of another kind than the plate was made for.
    """
    wanted = job.of_plate(plate - 1).machine.name
    if station.model != wanted:
        raise BadValue(
            f"{station.name} is a {station.model}; plate {plate} is for a {wanted}.",
            "Pick another machine, or have the plate go to another printer.",
        )


def station_checks(
    job: JobSheet,
    plate: int,
    station: Station,
    status: Status | None,
    *,
    takes_g: float | None = None,
    spools: Sequence[Spool] = (),
) -> list[Check]:
    """What is wrong with a machine for a plate: another nozzle, another material, or too little of it.

    Parameters
    ----------
    job : JobSheet
    plate : int
        From 1.
    station : Station
    status : Status or None
        ``None`` where it does not answer.
    takes_g : float or None
        What the plate takes, roughly; ``None`` while it is not known.
    spools : sequence of Spool
        All of the shop.
    """
    wanted = job.of_plate(plate - 1)
    found = []
    fitted = station.nozzle_mm
    if not wanted.is_resin and fitted is not None and abs(fitted - wanted.machine.finest_mm) > 1e-6:
        made_for = f"plate {plate} is made for {wanted.machine.finest_mm:g} mm"
        text = f"{station.name} has a nozzle of {fitted:g} mm; {made_for}."
        found.append(Check(Weight.WRONG, text, "Change the nozzle, or pick another machine.", Topic.HANDOFF))
    loaded = status.material if status is not None else ""
    if loaded and loaded != wanted.material:
        text = f"{station.name} has {loaded} loaded; plate {plate} is made for {wanted.material}."
        found.append(
            Check(Weight.WRONG, text, f"Load {wanted.material}, or pick another machine.", Topic.HANDOFF)
        )
    elif status is not None and takes_g is not None and status.left_g < takes_g:
        text = f"{station.name} has {status.left_g:.0f} g left; plate {plate} takes about {takes_g:.0f} g."
        enough = [one for one in spools if not one.on and one.material == wanted.material]
        rack = next((one.name for one in enough if one.left_g >= takes_g), None)
        other = f"Put {rack} on" if rack else "Put a new one in"
        found.append(Check(Weight.WRONG, text, f"{other}, or pick another machine.", Topic.HANDOFF))
    on = next((one for one in spools if one.on == station.name), None)
    nominal = wanted.stuff.diameter_mm
    if on is not None and not wanted.is_resin and not LEAST_FLOW <= on.flow(nominal) <= MOST_FLOW:
        measured = f"{on.name} on {station.name} measures {on.diameter_mm:g} mm"
        text = f"{measured}; {wanted.material} is {nominal:g} mm."
        found.append(Check(Weight.WRONG, text, "Measure it again, or put another one on.", Topic.HANDOFF))
    return found


def new_print(
    job: Job, plate: int, station: Station, data: bytes, file_name: str, *, excuse: str = "", who: str = ""
) -> NewPrint:
    """What is queued of a plate: layers, time and mass are those that the file itself tells.

    Parameters
    ----------
    job : Job
    plate : int
        From 1.
    station : Station
    data : bytes
    file_name : str
    excuse, who : str

    Returns
    -------
    NewPrint
    """
    sheet, told = job.sheet.of_plate(plate - 1), read_file(data)
    here = [job.sheet.on(one.item) for one in job.sheet.plates[plate - 1].instances]
    settings: dict[str, object] = {
        "layer_mm": sheet.layer_mm,
        "stances": sorted({one.stance.name for one in here}),
        "supports": sorted({one.supports.kind for one in here if one.supports}),
    }
    if not sheet.is_resin:
        settings |= {
            "walls": sheet.process.walls,
            "infill_percent": sheet.process.infill_percent,
            "footing": sorted({one.footing.kind.value for one in here}),
        }
    counts = Counter(one.item_name for one in here)
    return NewPrint(
        job.id, sheet.name, job.step_id, plate, tuple(counts.items()), settings, station.name, station.model,
        sheet.material, file_name, told.layers, told.seconds, told.grams, data, excuse, who.strip(),
    )  # fmt: skip
