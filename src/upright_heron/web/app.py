"""The application factory."""

from __future__ import annotations

import logging
import shutil
import uuid
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from dataclasses import asdict
from functools import lru_cache
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, Response
from fastapi.staticfiles import StaticFiles
from fastapi.templating import Jinja2Templates
from jinja2 import ChoiceLoader, Environment, FileSystemLoader, FunctionLoader, pass_context
from jinja2.runtime import Context
from markupsafe import Markup
from pydantic import ValidationError
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException

from .. import __version__
from ..core.errors import HeronError, TooLarge
from ..core.formats.read import SUFFIXES
from ..core.health.mend import STEP_FOR
from ..core.split.fittings import FITS
from ..core.stance.names import COMPASS
from ..core.stance.search import MIXES
from ..core.supports.demand.patches import Hold, Style
from ..settings import Settings
from ..sheet.document import misfit
from ..sheet.item import StanceGoals
from ..sheet.process import Second
from ..store.database import NotFound
from ..store.store import ChangedMeanwhile, Store
from ..store.trouble import StoreTrouble, trouble_of
from ..work.floor import Floor
from ..work.read_child import ARCHIVE
from ..work.scheduler import Scheduler
from . import guard, words
from .bodies import Bodies
from .dependencies import Services
from .pages import Pages
from .routes import api, changes, job, machines, record, results, spools, traveller, yard
from .routes import floor as floor_pages
from .sections import SECTIONS
from .sections.stance.board import GOAL_WORDS
from .streams import TooMany

log = logging.getLogger(__name__)
HERE = Path(__file__).parent
# Pages of the database that a start gives back to the disk at most: a second or two.
FREED_AT_START = 50_000
STATUS: dict[type[HeronError], int] = {
    NotFound: 404,
    TooLarge: 413,
    TooMany: 429,
    ChangedMeanwhile: 409,
    StoreTrouble: 503,
}


def create_app(settings: Settings | None = None) -> FastAPI:
    """Make the application.

    Parameters
    ----------
    settings : Settings or None
        From the environment when not given.

    Returns
    -------
    FastAPI
    """
    settings = settings or Settings()

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        store = Store(settings.database)
        shutil.rmtree(settings.incoming, ignore_errors=True)
        settings.incoming.mkdir(parents=True, exist_ok=True)
        if settings.demo:
            from ..demo.jobs import make_demo_jobs

            await run_in_threadpool(make_demo_jobs, store)
        # After the demo jobs: on a cold start they compile kernels that the workers then find in the cache.
        store.purge()
        if store.collect():
            store.give_back(FREED_AT_START)
        work = Scheduler(store, settings.workers, settings.worker_mb)
        work.warm_up()
        floor = Floor(store, asked_s=settings.machines_asked_s)
        floor.start()
        app.state.services = Services(settings, store, work, Pages(store, work), templates, floor)
        yield
        await run_in_threadpool(floor.close)
        await run_in_threadpool(work.close)
        shutil.rmtree(settings.incoming, ignore_errors=True)
        store.close()

    templates = _templates(settings)
    app = FastAPI(
        title="Upright Heron",
        version=__version__,
        lifespan=lifespan,
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/openapi.json",
    )
    app.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
    pages = [
        module.router
        for module in (yard, machines, floor_pages, spools, record, job, traveller, changes, results)
    ]
    pages.append(job.scripts)
    # The API comes last: where a form of a page and a call of it have one name, pages mean the form.
    for router in (*pages, *(r for section in SECTIONS for r in section.routers), api.router):
        app.include_router(router)
    app.middleware("http")(_guard)
    # Outermost: nothing reads a body but through it.
    app.add_middleware(Bodies, settings=settings, refusal=_refused_body)
    app.add_exception_handler(HeronError, _heron_error)
    app.add_exception_handler(ValidationError, _bad_values)
    app.add_exception_handler(RequestValidationError, _bad_values)
    app.add_exception_handler(HTTPException, _http_error)
    app.add_exception_handler(404, _http_error)
    app.add_exception_handler(OSError, _disk_error)
    app.add_exception_handler(Exception, _unforeseen)
    return app


def _templates(settings: Settings) -> Jinja2Templates:
    """Templates of the pages, those of the sections among them, with the words that they use."""
    loader = ChoiceLoader([FileSystemLoader(HERE / "templates"), FunctionLoader(_section_template)])
    templates = Jinja2Templates(env=Environment(loader=loader, autoescape=True))
    templates.env.filters.update(words.FILTERS)
    templates.env.globals.update(
        version=__version__,
        upload_mb=settings.upload_mb,
        suffixes=",".join((*SUFFIXES, ARCHIVE)),
        step_for=STEP_FOR,
        compass=COMPASS,
        goal_words=GOAL_WORDS,
        mixes={name: asdict(mix) for name, mix in MIXES.items()},
        default_goals=[StanceGoals.mix("filament"), StanceGoals.mix("resin")],
        defect_words=words.DEFECT_WORDS,
        step_words=words.STEP_WORDS,
        plan_words=words.PLAN_WORDS,
        joint_words=words.JOINT_WORDS,
        cut_goal_words=words.CUT_GOAL_WORDS,
        joint_fits=FITS,
        direction=words.direction,
        holds=list(Hold),
        seconds=list(Second),
        styles=[style for style in Style if style is not Style.NONE],
        drawn=_remembering(templates.env),
    )
    templates.env.globals["url_for"] = _path_for
    templates.env.trim_blocks = templates.env.lstrip_blocks = True
    return templates


@pass_context
def _path_for(context: Context, name: str, /, **values: Any) -> str:
    """Address of a page on this server, without its name: what a request calls it by goes into no link."""
    request: Request = context["request"]
    return request.url_for(name, **values).path


def _remembering(env: Environment) -> Callable[..., Markup]:
    """Draw templates of plain values, and remember them: of many rows few change."""

    @lru_cache(maxsize=20_000)
    def drawn(template: str, **values: object) -> Markup:
        return Markup(env.get_template(template).render(**values))

    return drawn


def _section_template(name: str) -> tuple[str, str, Callable[[], bool]] | None:
    """Source of a template in the folder of a section: its slug, and the name of the file."""
    slug, _, file = name.partition("/")
    section = next((one for one in SECTIONS if one.slug == slug), None)
    if section is None or "/" in file or not (section.folder / file).is_file():
        return None
    path = section.folder / file
    changed = path.stat().st_mtime_ns
    return path.read_text(encoding="utf-8"), str(path), lambda: path.stat().st_mtime_ns == changed


async def _guard(request: Request, call_next: Callable[[Request], Awaitable[Response]]) -> Response:
    """Refuse whoever may not come in, and set the headers every answer carries."""
    # Drawn before the page is made: what is drawn behind here is not seen out here.
    guard.nonce_of(request)
    settings: Settings = request.app.state.services.settings
    refused = guard.refusal(request, settings)
    if refused is not None and refused[0] == 401:
        entered = guard.with_token(request, settings)
        if entered is not None:
            return guard.secured(entered, request)
    if refused is not None:
        return guard.secured(_error_response(request, *refused), request)
    return guard.secured(await call_next(request), request)


def _refused_body(request: Request, status: int, message: str, advice: str) -> Response:
    """The answer to a body that is too long, or hardly comes; with the headers of every answer."""
    return guard.secured(_error_response(request, status, message, advice), request)


def _error_response(request: Request, status: int, message: str, advice: str = "") -> Response:
    """One envelope: JSON for the API, a notice for the page, a page for the address bar."""
    if request.url.path.startswith("/api"):
        return JSONResponse({"error": {"message": message, "advice": advice}}, status)
    templates: Jinja2Templates = request.app.state.services.templates
    context = {"message": message, "advice": advice, "status": status}
    if request.headers.get("hx-request"):
        headers = {"HX-Retarget": "#notice", "HX-Reswap": "innerHTML"}
        return templates.TemplateResponse(request, "pieces/notice.html", context, status, headers)
    return templates.TemplateResponse(request, "error.html", context, status)


async def _heron_error(request: Request, error: Exception) -> Response:
    assert isinstance(error, HeronError)
    status = next((s for kind, s in STATUS.items() if isinstance(error, kind)), 422)
    return _error_response(request, status, str(error), error.advice)


async def _bad_values(request: Request, error: Exception) -> Response:
    assert isinstance(error, ValidationError | RequestValidationError)
    return _error_response(request, 422, misfit(error.errors()), "Nothing was changed; type another value.")


async def _http_error(request: Request, error: Exception) -> Response:
    told = trouble_of(error.__cause__) if error.__cause__ is not None else None
    if told is not None:
        # A form that could not be put down while it came.
        return await _heron_error(request, told)
    status = error.status_code if isinstance(error, HTTPException) else 404
    message = (
        "There is nothing at this address." if status == 404 else str(getattr(error, "detail", "Refused."))
    )
    return _error_response(request, status, message, "Go back to the Yard.")


async def _disk_error(request: Request, error: Exception) -> Response:
    told = trouble_of(error)
    return await (_unforeseen(request, error) if told is None else _heron_error(request, told))


async def _unforeseen(request: Request, error: Exception) -> Response:
    reference = uuid.uuid4().hex[:8]
    log.error("Unforeseen error %s", reference, exc_info=error)
    answer = _error_response(
        request,
        500,
        f"Something failed that we did not foresee (reference {reference}).",
        "The job is as it was.",
    )
    # It is made outside of what sets the headers of all others.
    return guard.secured(answer, request)
