"""The HTTP side of a simulated printer, on loopback only."""

from __future__ import annotations

from typing import Annotated

from fastapi import FastAPI, Path, Query, Request
from fastapi.responses import JSONResponse, Response

from ..core.errors import BadValue, HeronError
from .machine import NotNow, StandIn
from .protocol import Refill, Refused, Start, Status, Trouble, Tune

# What a machine has room for.
MOST_BYTES = 1 << 30
Named = Annotated[str, Path(pattern=r"^[0-9a-f]{8,40}$")]


def create_app(machine: StandIn) -> FastAPI:
    """Make the application of a machine.

    Parameters
    ----------
    machine : StandIn

    Returns
    -------
    FastAPI
    """
    app = FastAPI(title=machine.name, docs_url=None, redoc_url=None)

    @app.get("/status")
    def status() -> Status:
        return machine.status()

    @app.get("/begun")
    def begun() -> list[str]:
        return list(machine.begun)

    @app.put("/prints/{token}", status_code=201)
    async def upload(token: Named, request: Request, name: Annotated[str, Query(max_length=200)]) -> Status:
        held = bytearray()
        async for chunk in request.stream():
            held += chunk
            if len(held) > MOST_BYTES:
                raise BadValue("The file is larger than the machine has room for.", "Make it smaller.")
        machine.upload(token, name, bytes(held))
        return machine.status()

    @app.get("/pictures/{layer}")
    def picture(layer: Annotated[int, Path(ge=1)]) -> Response:
        taken = machine.picture(layer)
        return Response(taken.data, media_type=taken.media)

    @app.post("/start")
    def start(asked: Start) -> Status:
        machine.start(asked)
        return machine.status()

    @app.post("/prints/{token}/{what}")
    def act(token: Named, what: Annotated[str, Path(pattern="^(pause|resume|cancel|clear)$")]) -> Status:
        {"pause": machine.pause, "resume": machine.resume, "cancel": machine.cancel, "clear": machine.clear}[
            what
        ](token)
        return machine.status()

    _by_hand(app, machine)

    @app.exception_handler(HeronError)
    async def refused(_request: Request, error: HeronError) -> Response:
        status = 409 if isinstance(error, NotNow) else 422
        return JSONResponse(Refused(message=f"{error} {error.advice}").model_dump(), status)

    return app


def _by_hand(app: FastAPI, machine: StandIn) -> None:
    """What somebody does at the machine itself."""

    @app.post("/spool")
    def spool(asked: Refill) -> Status:
        machine.refill(asked)
        return machine.status()

    @app.post("/tune")
    def tune(asked: Tune) -> Status:
        machine.tune(asked)
        return machine.status()

    @app.post("/door/{what}")
    def door(what: Annotated[str, Path(pattern="^(open|shut)$")]) -> Status:
        machine.door(opened=what == "open")
        return machine.status()

    @app.post("/trouble")
    def trouble(asked: Trouble) -> Status:
        machine.trouble(asked)
        return machine.status()
