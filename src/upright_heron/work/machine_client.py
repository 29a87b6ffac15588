"""Speaks to a machine over HTTP; see docs/machine-protocol.md."""

from __future__ import annotations

import json
from http.client import HTTPException
from typing import Any
from urllib.error import HTTPError, URLError
from urllib.parse import quote
from urllib.request import Request, urlopen

from pydantic import ValidationError

from ..core.errors import HeronError
from ..stand_in.protocol import Start, Status

# An answer takes no longer, s; a file may.
ANSWERS_S, UPLOADS_S = 5.0, 120.0
# What is taken for a picture, and how large it is at most.
PICTURES, MOST_PICTURE = ("image/svg+xml", "image/png", "image/jpeg"), 20_000_000


class NoAnswer(HeronError):
    """The machine cannot be reached, or says what makes no sense."""


class MachineRefuses(HeronError):
    """The machine says no."""


class MachineClient:
    """One machine at an address.

    Parameters
    ----------
    url : str
    """

    def __init__(self, url: str) -> None:
        self.url = url.rstrip("/")

    def status(self) -> Status:
        """What it does now.

        Raises
        ------
        NoAnswer
        """
        return self._ask("GET", "/status")

    def upload(self, token: str, name: str, data: bytes) -> Status:
        """Send the file of a print."""
        return self._ask("PUT", f"/prints/{token}?name={quote(name)}", data, UPLOADS_S)

    def start(self, asked: Start) -> Status:
        """Begin a print that was sent."""
        return self.post("/start", asked.model_dump())

    def picture(self, layer: int) -> tuple[bytes, str]:
        """The picture that was taken behind a layer, and what kind it is of.

        Raises
        ------
        NoAnswer
            There is none, or it is no picture.
        """
        try:
            with urlopen(f"{self.url}/pictures/{layer}", timeout=ANSWERS_S) as answer:
                media = answer.headers.get_content_type()
                data = answer.read(MOST_PICTURE + 1)
        except (URLError, OSError, HTTPException) as error:
            raise NoAnswer("The machine has no such picture.", "Look at it again.") from error
        if media not in PICTURES or len(data) > MOST_PICTURE:
            raise NoAnswer("The machine sends what is no picture.", "Check its address.")
        return data, media

    def act(self, token: str, what: str) -> Status:
        """Pause, resume, cancel or clear a print."""
        return self.post(f"/prints/{token}/{what}")

    def post(self, path: str, body: dict[str, Any] | None = None) -> Status:
        """Ask for something else; see the protocol."""
        return self._ask("POST", path, None if body is None else json.dumps(body).encode())

    def _ask(self, method: str, path: str, data: bytes | None = None, within: float = ANSWERS_S) -> Status:
        kind = "application/octet-stream" if method == "PUT" else "application/json"
        asked = Request(
            f"{self.url}{path}", data=data or (b"" if method == "POST" else None), method=method,
            headers={"Content-Type": kind},
        )  # fmt: skip
        try:
            with urlopen(asked, timeout=within) as answer:
                return Status.model_validate_json(answer.read(1_000_000))
        except HTTPError as error:
            raise MachineRefuses(_said(error), "Look at the machine.") from error
        except (URLError, OSError, HTTPException) as error:
            raise NoAnswer("The machine does not answer.", "See that it is on and in the network.") from error
        except ValidationError as error:
            raise NoAnswer("The machine answers what makes no sense.", "Check its address.") from error


def _said(error: HTTPError) -> str:
    try:
        return str(json.loads(error.read(10_000))["message"])[:300]
    except (ValueError, KeyError, TypeError, OSError):
        return f"refused ({error.code})."
