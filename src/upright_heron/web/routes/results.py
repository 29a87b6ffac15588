"""Heavy arrays for the view, under keys that name their content: a browser may keep them for good."""

from __future__ import annotations

from typing import Any

import numpy as np
from fastapi import APIRouter
from fastapi.responses import Response

from ...core.errors import BadValue
from ...core.graph import GRAPH
from ...core.health.report import MOST_FACETS
from ...core.layers.stack import LayerStack, thinned
from ...core.supports.support_set import SupportSet
from ...store.database import NotFound
from ..blocks import frusta_block, layer_block, mesh_block, of_any, paths_block, pieces_block, speeds_block
from ..dependencies import Services, Use

# Steps that the leaning rim of a base is drawn in.
SEEN_BANDS = 4

router = APIRouter(prefix="/api/blocks", tags=["blocks"])
# Drawn contours may be off by this much: a twentieth of a pixel of a whole plate on a screen.
DRAWN_MM = 0.01


def _block(data: bytes) -> Response:
    return Response(
        data, media_type="application/octet-stream", headers={"Cache-Control": "max-age=31536000, immutable"}
    )


def _result(use: Services, key: str) -> Any:
    value = use.pages.result(key)
    if value is None:
        raise NotFound("This result is no longer remembered.", "Reload the page; it is made again.")
    return value


@router.get("/meshes/{digest}", name="mesh_block")
def mesh(digest: str, use: Use) -> Response:
    """The part as it came."""
    return _block(mesh_block(use.store.mesh(digest)))


@router.get("/fine/{digest}", name="fine_block")
def fine(digest: str, use: Use) -> Response:
    """The part in facets small enough to paint on."""
    return _block(mesh_block(use.pages.fine(digest).mesh))


@router.get("/marks/{digest}", name="marks_block")
def marks(digest: str, use: Use) -> Response:
    """What is painted on a part: one byte a facet of its fine mesh."""
    return _block(use.store.marks(digest).tobytes())


@router.get("/layers/{key}", name="layer_block")
def layers(key: str, use: Use) -> Response:
    """Layers of a part."""
    stack: LayerStack = _result(use, key)
    return _block(layer_block(thinned(stack, DRAWN_MM)))


@router.get("/supports/{key}", name="support_block")
def supports(key: str, use: Use) -> Response:
    """Supports as shells, stilts as frusta."""
    made: SupportSet = _result(use, key)
    return _block(mesh_block(made.view_mesh()) if made.frusta is None else frusta_block(made.frusta))


@router.get("/supports/{key}/layers", name="support_layers")
def support_layers(key: str, use: Use) -> Response:
    """Layers of the supports."""
    return _block(layer_block(_result(use, key).layers))


@router.get("/footing/{key}", name="footing_block")
def footing(key: str, use: Use) -> Response:
    """The footing as a solid."""
    return _block(mesh_block(_result(use, key).mesh(SEEN_BANDS)))


@router.get("/footing/{key}/layers", name="footing_layers")
def footing_layers(key: str, use: Use) -> Response:
    """Layers of the footing."""
    return _block(layer_block(_result(use, key).stack))


@router.get("/paths/{key}", name="paths_block")
def paths(key: str, use: Use) -> Response:
    """Paths of all layers of an item."""
    return _block(paths_block(_result(use, key)))


@router.get("/speeds/{key}", name="speeds_block")
def speeds(key: str, use: Use) -> Response:
    """How fast the nozzle goes along its paths."""
    return _block(speeds_block(_result(use, key)))


@router.get("/split/{key}", name="pieces_block")
def pieces(key: str, use: Use) -> Response:
    """Pieces of a split part."""
    return _block(pieces_block(_result(use, key)))


@router.get("/health/{key}/{number}", name="place")
def place(key: str, number: int, use: Use) -> dict[str, Any]:
    """One defect: where it is and what to draw, in the frame of the part."""
    places = _result(use, key).places
    if not 0 <= number < len(places):
        raise BadValue(f"There is no place {number}.", f"Pick one from 0 to {len(places) - 1}.")
    found = places[number]
    return {
        "kind": found.kind,
        "words": found.words,
        "at": found.at_mm,
        "facing": found.facing,
        "lines": found.lines.ravel().tolist(),
        "facets": found.facets.ravel().tolist(),
    }


@router.get("/hangs/{key}/{number}", name="hanging_region")
def hanging_region(key: str, number: int, mesh: str, use: Use) -> dict[str, Any]:
    """One overhang region: what to draw of it, in the frame of the part that has this mesh."""
    regions = _result(use, key)
    if not 1 <= number <= len(regions):
        raise BadValue(f"There is no region {number}.", f"Pick one from 1 to {len(regions)}.")
    part = use.store.mesh(mesh)
    facets = regions[number - 1].facets[:MOST_FACETS]
    corners = part.vertices[part.faces[facets]]
    middle = 0.5 * (corners.min(axis=(0, 1)) + corners.max(axis=(0, 1)))
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]).sum(axis=0)
    return {
        "at": middle.tolist(),
        "facing": (normal / max(float(np.linalg.norm(normal)), 1e-12)).tolist(),
        "lines": [],
        "facets": corners.ravel().tolist(),
        "colour": "#5b2378",
    }


@router.get("/any/{name}/{key}", name="any_block")
def any_block(name: str, key: str, use: Use) -> Response:
    """A result of any recipe by its name and key: arrays as they are, everything else as JSON."""
    if name not in GRAPH:
        raise NotFound(
            f"There is no result “{name[:40]}”.", "Look at the list of recipes in the documentation."
        )
    data, media = of_any(_result(use, key))
    return Response(data, media_type=media, headers={"Cache-Control": "max-age=31536000, immutable"})


@router.get("/islands/{key}", name="islands")
def islands(key: str, use: Use) -> list[dict[str, float]]:
    """Islands of a stance, in plate coordinates."""
    found = _result(use, key).islands
    return [
        {"number": i.number, "z_mm": i.z_mm, "x_mm": i.x_mm, "y_mm": i.y_mm, "area_mm2": i.area_mm2}
        for i in found
    ]
