"""Stances: pictures of cards, the table of all figures, and what two stances need to be compared."""

from __future__ import annotations

import csv
import io
import json
from typing import Annotated, Any

from fastapi import APIRouter, Query, Request
from fastapi.responses import Response

from ....core.errors import BadValue
from ....core.stance.pose import along_x_deg, from_quaternion, to_quaternion
from ....sheet.changes import LayLong
from ....sheet.document import Quaternion
from ....sheet.item import Stance
from ....sheet.models import ItemSheet
from ....work.bind import keys_of
from ...dependencies import Services, Use, render
from ...looking import Look, Looking

router = APIRouter(prefix="/jobs/{job_id}")
Turn = Annotated[str, Query(max_length=200, description="Quaternion w, x, y, z as JSON.")]
COLUMNS = (
    "letter", "name", "score", "fits", "overhang_area_mm2", "support_volume_mm3", "support_mass_g",
    "touch_area_mm2", "touch_show_mm2", "islands", "height_mm", "layer_count", "contact_area_mm2",
    "largest_layer_mm2", "largest_layer_z_mm", "largest_growth_mm2", "shadow_area_mm2", "flat_area_mm2",
    "tip_angle_deg", "slenderness", "cusp_mm", "cusp_show_mm", "cups", "peel_most_n", "seconds", "mass_g",
    "holding_mm3", "clear_overhang_mm2",
)  # fmt: skip


def _quaternion(text: str) -> Quaternion:
    try:
        w, x, y, z = (float(v) for v in json.loads(text))
    except (ValueError, TypeError) as error:
        raise BadValue("This is not a stance.", "Take a card of the stance board.") from error
    return to_quaternion(from_quaternion((w, x, y, z)))


def _standing(use: Services, job_id: str, text: str, look: Looking) -> ItemSheet:
    sheet = use.sheet(job_id, look)
    stance = Stance(quaternion=_quaternion(text), lift_mm=sheet.stance.lift_mm)
    return sheet.model_copy(update={"stance": stance, "supports": None, "goals": None, "grid": None})


@router.get("/stance.png", name="stance_picture")
def stance_picture(job_id: str, use: Use, look: Look, q: Turn) -> Response:
    """Picture of the part in a stance that is not chosen."""
    found = use.pages.made(_standing(use, job_id, q, look), "picture")
    # Its address names the mesh and the turn: the picture never changes.
    headers = {"Cache-Control": "max-age=31536000, immutable"}
    return Response(found.png if found else b"", media_type="image/png", headers=headers)


@router.get("/stance-layers", name="stance_layers")
def stance_layers(job_id: str, use: Use, look: Look, q: Turn) -> dict[str, Any]:
    """Make the layers of a stance that is not chosen, and tell the view how to draw it."""
    sheet = _standing(use, job_id, q, look)
    placed = use.pages.made(sheet, "placed")
    use.work.make(keys_of(sheet), "layers").result()
    return {
        "layers": keys_of(sheet)["layers"],
        "rotation": from_quaternion(sheet.stance.quaternion).ravel().tolist(),
        "lift": sheet.lift_mm,
        "size": list(placed.size_mm) if placed else None,
    }


@router.post("/lay-long", name="lay_long")
def lay_long(request: Request, job_id: str, use: Use, look: Look) -> Response:
    """Swing the part about the vertical so that its longest side runs along x."""
    sheet = use.sheet(job_id, look)
    rotation = from_quaternion(sheet.stance.quaternion)
    change = LayLong(degrees=along_x_deg(use.store.mesh(sheet.part.mesh).vertices @ rotation.T))
    return render(request, use, use.apply(job_id, change, look), look)


@router.get("/stances.csv", name="stances_csv")
def stances_csv(job_id: str, use: Use, look: Look) -> Response:
    """All figures of the proposed stances and of the chosen one as a table."""
    sheet = use.sheet(job_id, look)
    standing, found = use.pages.made(sheet, "figures"), use.pages.made(sheet, "search")
    rows: list[dict[str, Any]] = []
    if standing:
        rows.append(_row("chosen", sheet.stance.name, None, standing))
    rows += [_row(p.letter, p.name, p.score, p.figures) for p in (found.proposals if found else ())]
    text = io.StringIO()
    writer = csv.DictWriter(text, COLUMNS, lineterminator="\r\n")
    writer.writeheader()
    writer.writerows(rows)
    return Response(
        text.getvalue().encode(),
        media_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": "attachment; filename=stances.csv"},
    )


def _row(letter: str, name: str, score: float | None, found: Any) -> dict[str, Any]:
    plain = {column: getattr(found, column) for column in COLUMNS if hasattr(found, column)}
    return {
        **plain,
        "letter": letter,
        "name": name,
        "score": "" if score is None else round(score, 2),
        "largest_layer_mm2": found.largest_layer.value,
        "largest_layer_z_mm": found.largest_layer.z_mm,
        "largest_growth_mm2": found.largest_growth.value,
        "cups": len(found.cups),
        "peel_most_n": found.peel_most.value if found.peel_most else "",
    }
