"""What routes need, from the application's state."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from fastapi import Depends, Request
from fastapi.templating import Jinja2Templates

from ..settings import Settings
from ..store.store import Store
from ..work.runner import Work
from .pages import Pages


@dataclass(frozen=True, slots=True)
class Services:
    """The parts of the running application.

    Attributes
    ----------
    settings : Settings
    store : Store
    work : Work
    pages : Pages
    templates : Jinja2Templates
    """

    settings: Settings
    store: Store
    work: Work
    pages: Pages
    templates: Jinja2Templates


def services(request: Request) -> Services:
    """Services of the application that serves this request."""
    found: Services = request.app.state.services
    return found


Use = Annotated[Services, Depends(services)]
