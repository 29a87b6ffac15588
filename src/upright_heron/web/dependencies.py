"""What routes need, from the application's state."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, field, replace
from typing import Annotated, Any

from fastapi import Depends, Request
from fastapi.responses import Response
from fastapi.templating import Jinja2Templates

from ..settings import Settings
from ..sheet.changes.base import Change
from ..sheet.models import ItemSheet
from ..store.store import Job, Store
from ..work.floor import Floor
from ..work.scheduler import Scheduler
from .looking import Looking
from .pages import Pages
from .streams import Streams


@dataclass(frozen=True, slots=True)
class Services:
    """The parts of the running application.

    Attributes
    ----------
    settings : Settings
    store : Store
    work : Scheduler
    pages : Pages
    templates : Jinja2Templates
    floor : Floor
    streams : Streams
    """

    settings: Settings
    store: Store
    work: Scheduler
    pages: Pages
    templates: Jinja2Templates
    floor: Floor
    streams: Streams = field(default_factory=Streams)

    def sheet(self, job_id: str, look: Looking) -> ItemSheet:
        """The sheet of a job as it reads for the item that is looked at."""
        return self.store.job(job_id).sheet.on(look.item)

    def apply(self, job_id: str, change: Change, look: Looking) -> Job:
        """Keep a change that an open page makes."""
        return self.store.apply(job_id, change, look.item, made_on=look.made_on, author=look.author)


def services(request: Request) -> Services:
    """Services of the application that serves this request."""
    found: Services = request.app.state.services
    return found


Use = Annotated[Services, Depends(services)]


async def all_made(use: Services, job: Job, item: str) -> None:
    """Wait for all that preflight and papers tell of a job: neither follows what comes later."""
    wanted = use.pages.wanted(job.sheet, item, ())
    made = [use.work.make(keys, name) for keys, name in wanted if name in keys]
    await asyncio.gather(*(asyncio.wrap_future(one) for one in made))


def render(
    request: Request,
    use: Services,
    job: Job,
    look: Looking,
    template: str = "swap.html",
    *,
    again: bool = False,
    **more: Any,
) -> Response:
    """Render a template of the job page with its documented context.

    Parameters
    ----------
    request : Request
    use : Services
    job : Job
    look : Looking
    template : str
    again : bool
        Start work anew that failed or was stopped.
    **more
        Other fields of the page, such as what a change by hand left without.
    """
    page = use.pages.job_page(job, look, again=again)
    page = replace(page, **more) if more else page
    return use.templates.TemplateResponse(request, template, {"page": page, "it": use.pages.context(page)})
