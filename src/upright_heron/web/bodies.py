"""Bodies of requests, counted as they come: declared or not, none is longer than what it is for."""

from __future__ import annotations

import asyncio
import contextlib
import re
import time
from collections.abc import Callable

from fastapi import Request
from starlette.responses import Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from ..settings import Settings
from ..work.photo import MOST_BYTES as PHOTO_BYTES

# A form of the sheet is small.
FORM_BYTES = 200_000
# Facets of the largest part, as numbers.
STROKE_BYTES = 16_000_000
TABLE_BYTES = 1_000_000
# What goes round a file in a form.
ENVELOPE = 10_000
# Whoever sends less than this on the average, once so long has passed, holds a place for nothing.
LEAST_BYTES_S, PATIENCE_S = 5_000, 20.0

Refusal = Callable[[Request, int, str, str], Response]


class Bodies:
    """Counts what comes in, and gives up what is too long or comes too slowly.

    Parameters
    ----------
    app : ASGIApp
    settings : Settings
    refusal : callable
        Makes the answer of a refusal from a request, a status, what happened and what to do.
    patience_s : float
    """

    def __init__(
        self, app: ASGIApp, settings: Settings, refusal: Refusal, patience_s: float = PATIENCE_S
    ) -> None:
        self._app, self._refusal, self._patience_s = app, refusal, patience_s
        uploads = settings.upload_mb * 1_000_000
        self._limits = [
            (re.compile(r"/api/jobs(/[^/]+/(parts|items))?"), uploads),
            (re.compile(r"/jobs/[^/]+/marks/stroke"), STROKE_BYTES),
            (re.compile(r"/jobs/[^/]+/table"), TABLE_BYTES + ENVELOPE),
            (re.compile(r"/record/[^/]+/photo"), PHOTO_BYTES + ENVELOPE),
        ]

    def most(self, path: str) -> int:
        """How long a body for an address may be, bytes."""
        return next((most for pattern, most in self._limits if pattern.fullmatch(path)), FORM_BYTES)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """As ASGI has it."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        await _Exchange(self, scope, receive, send).run(self._app)

    def too_long(self, request: Request, most: int) -> Response:
        """The answer to what is longer than it may be."""
        if most == FORM_BYTES:
            return self._refusal(request, 413, "The form is too large.", "Shorten the notes.")
        message = f"The file is larger than {most / 1e6:.0f} MB, which is the limit of this server."
        advice = "Export it with fewer facets, or ask whoever runs the server to raise the limit."
        return self._refusal(request, 413, message, advice)

    def too_slow(self, request: Request) -> Response:
        """The answer to what hardly comes."""
        return self._refusal(request, 408, "The file hardly comes any more.", "Send it again.")

    @property
    def patience_s(self) -> float:
        """So long anybody may be slow."""
        return self._patience_s


def left(request: Request) -> asyncio.Event:
    """Set once whoever sent a request is gone, behind the whole of its body."""
    event: asyncio.Event = request.scope[_LEFT]
    return event


_LEFT = "upright_heron.left"


class _Exchange:
    """One request and its answer."""

    def __init__(self, bodies: Bodies, scope: Scope, receive: Receive, send: Send) -> None:
        self._bodies, self._scope, self._receive, self._send = bodies, scope, receive, send
        self._most = bodies.most(scope["path"])
        self._held, self._begun = 0, time.monotonic()
        self._whole = asyncio.Event()
        # Set once an answer has begun, and once ours has been given instead.
        self._answered = self._refused = False

    async def run(self, app: ASGIApp) -> None:
        """Have the application answer, unless the body is refused first."""
        declared = dict(self._scope["headers"]).get(b"content-length", b"0")
        if declared.isdigit() and int(declared) > self._most:
            await self._refuse(self._bodies.too_long(Request(self._scope), self._most))
            return
        gone = self._scope[_LEFT] = asyncio.Event()
        watch = asyncio.create_task(self._watch(gone))
        try:
            await app(self._scope, self._more, self._told)
        except Exception:
            # What the application makes of a body that breaks off is nobody's concern any more.
            if not self._refused:
                raise
        finally:
            watch.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await watch

    async def _watch(self, gone: asyncio.Event) -> None:
        """See that somebody is gone: what lies between asks in a way that never sees it."""
        await self._whole.wait()
        while (await self._receive())["type"] != "http.disconnect":
            continue
        gone.set()

    async def _more(self) -> Message:
        if self._refused:
            return {"type": "http.disconnect"}
        if self._whole.is_set():
            return await self._receive()
        left = self._patience()
        try:
            message = await asyncio.wait_for(self._receive(), left)
        except TimeoutError:
            await self._refuse(self._bodies.too_slow(Request(self._scope)))
            return {"type": "http.disconnect"}
        if message["type"] == "http.request":
            self._held += len(message.get("body", b""))
            if not message.get("more_body", False):
                self._whole.set()
            if self._held > self._most:
                await self._refuse(self._bodies.too_long(Request(self._scope), self._most))
                return {"type": "http.disconnect"}
        return message

    def _patience(self) -> float:
        """How long the next stretch may take: what came so far buys time."""
        spent = time.monotonic() - self._begun
        return max(0.01, self._bodies.patience_s + self._held / LEAST_BYTES_S - spent)

    async def _told(self, message: Message) -> None:
        if not self._refused:
            self._answered = True
            await self._send(message)

    async def _refuse(self, answer: Response) -> None:
        self._refused = True
        if not self._answered:
            answer.headers["Connection"] = "close"
            await answer(self._scope, self._receive, self._send)
