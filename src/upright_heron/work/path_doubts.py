"""What was asked of paths and cannot be as it is, roofs that would sag, and what infill comes to."""

from __future__ import annotations

from ..core.handoff.preflight import Check, Weight
from ..core.toolpaths.notes import PathNotes, infill_share, roof_span_mm
from ..core.toolpaths.ordering import Seam
from ..core.toolpaths.timing import Timed
from ..core.topics import Topic
from ..sheet.models import ItemSheet
from ..sheet.process import Second
from .bind_paths import at_once, away_from


def path_checks(sheet: ItemSheet, notes: PathNotes | None) -> list[Check]:
    """What is doubtful of the paths of an item.

    Parameters
    ----------
    sheet : ItemSheet
    notes : PathNotes or None
        ``None`` while its paths are not made.
    """
    if sheet.is_resin:
        return []
    roof = sparse_roof(sheet, notes)
    mend = "Fill it denser under roofs, or take another pattern."
    found = [Check(Weight.DOUBTFUL, roof, mend, Topic.LAYERS)] if roof else []
    mend = "Change it under Layers, or leave it so."
    return [*found, *(Check(Weight.DOUBTFUL, words, mend, Topic.LAYERS) for words in at_odds(sheet, notes))]


def sparse_roof(sheet: ItemSheet, notes: PathNotes | None) -> str:
    """That tops would sag between lines of infill that are too far apart; empty where they do not."""
    process = sheet.process
    if notes is None or not notes.roof_mm2:
        return ""
    share = max(process.infill_percent, process.roof_percent) / 100.0
    gap = roof_span_mm(notes, process.pattern, share, sheet.machine.line_width_mm)
    if gap <= sheet.bridge_mm:
        return ""
    on = "on nothing" if share <= 0 else f"on infill with gaps of {gap:.0f} mm"
    return (
        f"A roof of {notes.roof_mm2:.0f} mm² at {notes.roof_z_mm:.1f} mm lies {on}: "
        f"{sheet.stuff.name} spans {sheet.bridge_mm:g} mm."
    )


def infill_told(sheet: ItemSheet, notes: PathNotes | None, told: Timed | None) -> str:
    """How much of the inside infill takes up: with the joins of its ends it is more than its lines."""
    share = infill_share(notes, told) if notes is not None and told is not None else 0.0
    if not share:
        return ""
    process, joins = sheet.process, ""
    even = process.pattern.joined and not process.roof_percent and not sheet.by_height.zones
    if even and 100 * share > process.infill_percent + 1:
        joins = f": its lines {process.infill_percent:g} %, the rest joins their ends along the walls"
    return f"Infill takes up {100 * share:.0f} % of the inside{joins}."


def at_odds(sheet: ItemSheet, notes: PathNotes | None) -> list[str]:
    """What was asked for and cannot be as it is."""
    process, found = sheet.process, []
    if notes is not None and notes.small_mm2:
        where = f"{notes.small_mm2:.0f} mm² at {notes.small_z_mm:.1f} mm"
        found.append(f"Up to {where} are too small for a strand: they are filled as elsewhere.")
    for asked, what in (
        (process.infill_every, "Infill"),
        (sheet.filament.every if sheet.filament is not None else 1, "Supports"),
    ):
        can = at_once(sheet, asked)
        if can < asked:
            told = f"{can} layers" if can > 1 else "each layer"
            nozzle = f"{sheet.machine.finest_mm:g} mm"
            found.append(f"{what} come in {told}: a nozzle of {nozzle} lays no {asked} at once.")
    if process.seam is Seam.PICKED and not sheet.seam_line:
        found.append("No line is picked for the seam: it lies at the back.")
    if process.seam is Seam.HIDDEN and away_from(sheet) is None and not sheet.show_is_painted:
        found.append("There is no show side at the sides: the seam lies at the back.")
    if sheet.by_height.strands and not sheet.strands:
        found.append(f"{sheet.machine.name} has one nozzle and lays no strands.")
    if sheet.second_bodies and sheet.machine.nozzles < 2:
        found.append(f"{sheet.machine.name} has one nozzle: it prints all bodies.")
    elif sheet.second_bodies and sheet.part.shells < 2 and sheet.file_bodies is None:
        found.append("The part is one body by now: the first nozzle prints all of it.")
    if sheet.strands and sheet.second is not Second.NOTHING:
        found.append("The second nozzle feeds strands: the first prints all supports.")
    if sheet.filament is not None and sheet.filament.every > 1 and sheet.second is not Second.NOTHING:
        found.append("Supports are in thicker layers than the part: the other nozzle drags over them.")
    return found
