"""Who may speak to the server: its own pages, by its own names, and whoever has the shop's token."""

from __future__ import annotations

import hashlib
import hmac
import secrets
from urllib.parse import urlsplit

from fastapi import Request
from starlette.responses import RedirectResponse, Response

from ..core.errors import BadValue
from ..settings import Settings

# Names of this machine itself, as browsers write them.
LOOPBACK = frozenset({"localhost", "127.0.0.1", "[::1]"})
READS = ("GET", "HEAD", "OPTIONS")
COOKIE = "upright-heron"
# Guesses are not counted: what is drawn at random from so many letters is not found by guessing.
LEAST_TOKEN = 16


def may_listen(settings: Settings) -> None:
    """Refuse to be reached from other machines without names and a token.

    Raises
    ------
    BadValue
        The address is not one of this machine alone, and hosts or token are not set.
    """
    if settings.host in ("127.0.0.1", "::1", "localhost"):
        return
    missing = [name for name, value in (("hosts", settings.hosts), ("token", settings.token)) if not value]
    if missing:
        names = " and ".join(f"UPRIGHT_HERON_{name.upper()}" for name in missing)
        raise BadValue(
            f"The server would be reached from other machines at {settings.host}.",
            f"Set {names}: the names it is asked for by, and a token that people type once.",
        )
    if len(settings.token) < LEAST_TOKEN:
        raise BadValue(
            f"The token has {len(settings.token)} characters: it could be guessed.",
            f"Set UPRIGHT_HERON_TOKEN to {LEAST_TOKEN} or more that nobody thinks of.",
        )


def refusal(request: Request, settings: Settings) -> tuple[int, str, str] | None:
    """Say why a request is refused, as status, reason and advice; ``None`` where it is let in."""
    hosts = request.headers.getlist("host")
    name = _name(hosts[0]) if len(hosts) == 1 else ""
    if name not in LOOPBACK and name not in settings.hosts:
        advice = "Use one of its names, or have the shop set UPRIGHT_HERON_HOSTS."
        return 421, "This server is not asked for by that name.", advice
    if request.method not in READS and not _from_own_page(request, hosts[0]):
        return 403, "Another site tried to change a job.", "Nothing was changed."
    if settings.token and not _has_token(request, settings.token):
        return 401, "This server asks for the token of the shop.", "Open it once with ?token=… behind it."
    return None


def with_token(request: Request, settings: Settings) -> Response | None:
    """Let in whoever brings the token in the address, and take it out of there; ``None`` for all others."""
    given = request.query_params.get("token")
    if not settings.token or given is None or not _same(given, settings.token):
        return None
    answer = RedirectResponse(request.url.path, 303)
    answer.set_cookie(
        COOKIE,
        _kept(settings.token),
        httponly=True,
        samesite="strict",
        secure=request.url.scheme == "https",
        max_age=30 * 86400,
    )
    return answer


def secured(response: Response, request: Request) -> Response:
    """Set the headers that every answer carries, errors too."""
    nonce = nonce_of(request)
    response.headers.setdefault("X-Content-Type-Options", "nosniff")
    response.headers.setdefault("Referrer-Policy", "same-origin")
    response.headers.setdefault(
        "Content-Security-Policy",
        f"default-src 'self'; script-src 'self' 'nonce-{nonce}'; style-src 'self';"
        " img-src 'self' data: blob:; connect-src 'self'; frame-ancestors 'none'; base-uri 'none';"
        " form-action 'self'",
    )
    if request.url.scheme == "https":
        # A year, as common practice has it; only where somebody put TLS before the server.
        response.headers.setdefault("Strict-Transport-Security", "max-age=31536000")
    return response


def nonce_of(request: Request) -> str:
    """The nonce of a request, the same for its page and its headers."""
    if not hasattr(request.state, "nonce"):
        request.state.nonce = secrets.token_urlsafe(16)
    found: str = request.state.nonce
    return found


def _name(host: str) -> str:
    """A host without its port, in small letters."""
    if host.startswith("["):
        return host.partition("]")[0].lower() + "]"
    return host.partition(":")[0].lower()


def _from_own_page(request: Request, host: str) -> bool:
    """Whether a change comes from a page of this very server, its port included."""
    if request.headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none"):
        return False
    origin = request.headers.get("origin") or request.headers.get("referer")
    return origin is not None and urlsplit(origin).netloc.lower() == host.lower()


def _has_token(request: Request, token: str) -> bool:
    scheme, _, given = request.headers.get("authorization", "").partition(" ")
    if scheme.lower() == "bearer" and _same(given.strip(), token):
        return True
    return _same(request.cookies.get(COOKIE, ""), _kept(token))


def _same(given: str, wanted: str) -> bool:
    # Of text it would compare plain letters only, and fail at all others.
    return hmac.compare_digest(given.encode(errors="surrogateescape"), wanted.encode())


def _kept(token: str) -> str:
    """What a browser keeps instead of the token itself."""
    return hashlib.blake2b(token.encode(), digest_size=24, person=b"upright-heron").hexdigest()
