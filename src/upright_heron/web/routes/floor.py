"""The machines of the shop at work: their queues, what they do now, and what one does at them."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Annotated, Any, Literal
from urllib.parse import urlsplit

from fastapi import APIRouter, Form, Query, Request
from fastapi.responses import RedirectResponse, Response
from sse_starlette import EventSourceResponse
from starlette.concurrency import run_in_threadpool

from ...core.errors import BadValue
from ...core.units import number
from ...sheet.shop import Station
from ...stand_in.layer_drawing import layer_drawing
from ...stand_in.protocol import State, Tune
from ...store.database import NotFound
from ...store.prints import UNDER_WAY, WAITING
from ...work.at_work import machines_at_work
from ...work.kinds import kinds_of_machines
from ...work.spools import refill, spools_now
from ..dependencies import Services, Use

router = APIRouter(prefix="/floor")
Text = Annotated[str, Form(max_length=200)]
NOTHING = b'<svg xmlns="http://www.w3.org/2000/svg"/>'
# Machines are spoken to in the shop's own network only.
LOOPBACK = ("127.0.0.1", "localhost", "::1")


def _context(use: Services) -> dict[str, Any]:
    models = list(kinds_of_machines(use.store))
    return {
        "machines": machines_at_work(use.store, use.floor),
        "models": models,
        "State": State,
        "spools": spools_now(use.store, use.floor),
    }


@router.get("", name="floor")
def floor(request: Request, use: Use) -> Response:
    """The page."""
    return use.templates.TemplateResponse(request, "floor.html", _context(use))


@router.get("/cards", name="floor_cards")
def cards(request: Request, use: Use) -> Response:
    """The machines alone, to be swapped in."""
    return use.templates.TemplateResponse(request, "pieces/floor-cards.html", _context(use))


@router.get("/events", name="floor_events")
async def events(request: Request, use: Use) -> EventSourceResponse:
    """Tells whenever something changes at a machine."""
    place = use.streams.enter(request)

    async def stream() -> AsyncIterator[dict[str, Any]]:
        count = -1
        try:
            while not await request.is_disconnected():
                fresh = await asyncio.to_thread(use.floor.wait, count, 5.0)
                if fresh != count:
                    count = fresh
                    yield {"data": json.dumps({"count": count})}
                await asyncio.sleep(0.3)
        finally:
            place.leave()

    return EventSourceResponse(stream())


@router.post("/machines", name="add_machine")
def add_machine(
    use: Use,
    name: Text,
    model: Text,
    url: Text,
    nozzle: Text = "",
    calibrate: Annotated[bool, Form()] = False,
) -> Response:
    """Keep where a machine is spoken to."""
    host = urlsplit(url.strip()).hostname or ""
    if host not in LOOPBACK and host not in use.settings.machine_hosts:
        raise BadValue(
            f"“{host[:60]}” is no address that machines may have.",
            "Machines are on this computer, or named in UPRIGHT_HERON_MACHINE_HOSTS.",
        )
    if model not in kinds_of_machines(use.store):
        raise BadValue(f"There is no kind of machine “{model[:60]}”.", "Pick one of the list.")
    kept: dict[str, Any] = {
        "name": name.strip(),
        "model": model,
        "url": url.strip(),
        "nozzle_mm": nozzle.strip() or None,
    }
    kept["calibrate"] = calibrate
    use.store.shelve(Station.model_validate(kept))
    use.floor.hurry()
    return RedirectResponse("/floor", 303)


@router.post("/machines/{name}/forget", name="forget_machine")
def forget_machine(name: str, use: Use) -> Response:
    """Speak to a machine no more."""
    if use.store.prints(*WAITING, *UNDER_WAY, station=name):
        raise BadValue(f"{name} has prints in its queue.", "Take them out, or wait for them.")
    use.store.unshelve(Station, name)
    return RedirectResponse("/floor", 303)


@router.post("/machines/{name}/spool", name="new_spool")
async def new_spool(request: Request, name: str, use: Use, grams: Text, material: Text = "") -> Response:
    """A new spool or bottle is in."""
    held = number(grams)
    await run_in_threadpool(refill, use.store, use.floor, name, held, material[:60])
    return await run_in_threadpool(cards, request, use)


@router.post("/machines/{name}/free", name="free_machine")
async def free(request: Request, name: str, use: Use) -> Response:
    """Have a machine forget a print that nobody here knows."""
    await run_in_threadpool(use.floor.free, name)
    return await run_in_threadpool(cards, request, use)


@router.get("/prints/{print_id}/layer", name="print_layer")
def print_layer(print_id: str, use: Use, layer: Annotated[int, Query(ge=1)]) -> Response:
    """A layer of a print that is not over, as its machine has it."""
    one = use.store.print_of(print_id)
    kind = kinds_of_machines(use.store).get(one.model)
    build = kind.build_mm[:2] if kind is not None else (300.0, 300.0)
    try:
        data = use.store.file_of(print_id)
    except NotFound:
        return _gone()
    drawn = layer_drawing(data, layer, build)
    # A layer of a file never changes.
    return Response(drawn.data, media_type=drawn.media, headers={"Cache-Control": "private, max-age=86400"})


def _gone() -> Response:
    """What a picture shows that went since the page was drawn: the next page does not ask for it."""
    return Response(NOTHING, media_type="image/svg+xml", headers={"Cache-Control": "no-store"})


@router.get("/machines/{name}/pictures/{layer}", name="machine_picture")
def machine_picture(name: str, layer: int, use: Use, of: str = "") -> Response:
    """A picture that a machine took of a print."""
    found = use.store.on_shelf(Station, name)
    if found is None:
        raise NotFound("There is no such machine.", "Look at the machines again.")
    taken = use.floor.picture(found, layer, of)
    if taken is None:
        return _gone()
    data, media = taken
    # It comes from elsewhere: nothing in it may run.
    headers = {"Cache-Control": "no-store", "Content-Security-Policy": "sandbox; default-src 'none'"}
    return Response(data, media_type=media, headers=headers)


@router.post("/prints/{print_id}/tune", name="tune_print")
async def tune(
    request: Request, print_id: str, use: Use, speed: Text = "", nozzle: Text = "", bed: Text = ""
) -> Response:
    """Change speed (percent) or temperatures of a print while it runs; what is empty stays."""
    one = await run_in_threadpool(use.store.print_of, print_id)
    asked = {"nozzle_c": nozzle, "bed_c": bed}
    typed = {name: number(words) for name, words in asked.items() if words.strip()}
    if speed.strip():
        typed["speed"] = number(speed) / 100
    changes = Tune.model_validate(typed).model_dump(exclude_none=True)
    if not changes:
        raise BadValue("Nothing is typed to be changed.", "Type a speed in percent, or a temperature.")
    seen = use.floor.seen(one.station)
    if seen is None or seen.status is None or seen.status.token != print_id:
        raise BadValue("This print is not under way.", "Look at the machines again.")
    await run_in_threadpool(use.floor.ask, one.station, lambda client: client.post("/tune", changes))
    return await run_in_threadpool(cards, request, use)


@router.post("/prints/{print_id}/{what}", name="act_on_print")
async def act(
    request: Request,
    print_id: str,
    use: Use,
    what: Literal["pause", "resume", "cancel", "cleared", "up", "down", "withdraw"],
) -> Response:
    """Do something with a print that waits, is under way, or lies on a plate."""
    one = await run_in_threadpool(use.store.print_of, print_id)
    if what in ("up", "down"):
        await run_in_threadpool(use.store.move, print_id, -1 if what == "up" else 1)
    elif what == "withdraw":
        await run_in_threadpool(use.store.withdraw, print_id)
    elif what == "cleared":
        await run_in_threadpool(use.store.clear_plate, print_id)
    else:
        await run_in_threadpool(use.floor.ask, one.station, lambda client: client.act(print_id, what))
    use.floor.hurry()
    return await run_in_threadpool(cards, request, use)
