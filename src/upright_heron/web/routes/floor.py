"""The machines of the shop at work: their queues, what they do now, and what one does at them."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator
from dataclasses import dataclass
from typing import Annotated, Any, Literal
from urllib.parse import urlsplit

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response
from sse_starlette import EventSourceResponse
from starlette.concurrency import run_in_threadpool

from ...core.errors import BadValue
from ...core.machines.catalogue import PRINTERS
from ...core.toolpaths.learned import factor
from ...core.units import number
from ...sheet.shop import Finished, OwnPrinter, Station
from ...stand_in.protocol import State, Status
from ...store.prints import ENDED, UNDER_WAY, WAITING, Print
from ..dependencies import Services, Use

router = APIRouter(prefix="/floor")
Text = Annotated[str, Form(max_length=200)]
# Machines are spoken to in the shop's own network only.
LOOPBACK = ("127.0.0.1", "localhost", "::1")


@dataclass(frozen=True, slots=True)
class AtWork:
    """A machine as the page shows it.

    Attributes
    ----------
    station : Station
    status : Status or None
        ``None`` where it does not answer, or was not asked yet.
    trouble : str
        Why there is none.
    now : Print or None
        What it prints, or what lies on its plate.
    queue : list of Print
    left_s : float or None
        What the print it has still takes, as far as its own prints say.
    queue_s : float
        What all that waits takes.
    """

    station: Station
    status: Status | None
    trouble: str
    now: Print | None
    queue: list[Print]
    left_s: float | None
    queue_s: float

    @property
    def share(self) -> float:
        """How much of its print is done."""
        if self.status is None or self.status.whole_s <= 0:
            return 0.0
        return min(1.0, self.status.printed_s / self.status.whole_s)


def _machines(use: Services) -> list[AtWork]:
    waiting = use.store.prints(*WAITING)
    under_way = {one.station: one for one in use.store.prints(*UNDER_WAY)}
    # What lies on a plate is the newest that ended and was not cleared.
    lying: dict[str, Print] = {}
    for one in use.store.prints(*ENDED, limit=400):
        if not one.cleared:
            lying.setdefault(one.station, one)
    found = []
    for station in use.store.shelf(Station):
        seen = use.floor.seen(station.name)
        status = seen.status if seen is not None else None
        learned = use.store.on_shelf(Finished, station.model)
        known = factor(learned.ratios) if learned is not None else None
        longer = known.value if known is not None else 1.0
        mine = [one for one in waiting if one.station == station.name]
        left = None
        if status is not None and status.state.busy:
            left = max(0.0, status.whole_s - status.printed_s) * longer / max(status.speed, 0.1)
        now = under_way.get(station.name) or lying.get(station.name)
        trouble = "being asked…" if seen is None else seen.trouble
        found.append(
            AtWork(station, status, trouble, now, mine, left, longer * sum(one.told_s for one in mine))
        )
    return found


def _context(use: Services) -> dict[str, Any]:
    models = [p.name for p in PRINTERS] + [own.name for own in use.store.shelf(OwnPrinter)]
    return {"machines": _machines(use), "models": models, "State": State}


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

    async def stream() -> AsyncIterator[dict[str, Any]]:
        count = -1
        while not await request.is_disconnected():
            fresh = await asyncio.to_thread(use.floor.wait, count, 5.0)
            if fresh != count:
                count = fresh
                yield {"data": json.dumps({"count": count})}
            await asyncio.sleep(0.3)

    return EventSourceResponse(stream())


@router.post("/machines", name="add_machine")
def add_machine(use: Use, name: Text, model: Text, url: Text) -> Response:
    """Keep where a machine is spoken to."""
    host = urlsplit(url.strip()).hostname or ""
    if host not in LOOPBACK and host not in use.settings.machine_hosts:
        raise BadValue(
            f"“{host[:60]}” is no address that machines may have.",
            "Machines are on this computer, or named in UPRIGHT_HERON_MACHINE_HOSTS.",
        )
    known = {p.name for p in PRINTERS} | {own.name for own in use.store.shelf(OwnPrinter)}
    if model not in known:
        raise BadValue(f"There is no kind of machine “{model[:60]}”.", "Pick one of the list.")
    use.store.shelve(Station(name=name.strip(), model=model, url=url.strip()))
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
    body = {"grams": held, "material": material[:60]}
    await run_in_threadpool(use.floor.ask, name, lambda client: client.post("/spool", body))
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
