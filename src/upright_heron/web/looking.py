"""What an open page looks at: item, section, and the step that it shows. None of it is in the document."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Annotated

from fastapi import Depends, Header, Query

from .section import SECTIONS

ItemName = Annotated[str, Query(max_length=100)]
Section = Annotated[int | None, Query(ge=0, le=99)]


@dataclass(frozen=True, slots=True)
class Looking:
    """What an open page looks at.

    Attributes
    ----------
    item : str
        Id of the item; empty for the first.
    section : int or None
        Number of the open section, 0 where all are closed; ``None`` where the page does not say.
    made_on : int or None
        Id of the step that the page shows: changes are made on it.
    author : str
        Name of the page, for changes that others make meanwhile.
    copy : int
        Number of the copy of the item on its plates.
    """

    item: str = ""
    section: int | None = None
    made_on: int | None = None
    author: str = ""
    copy: int = 1

    @property
    def open(self) -> int:
        """Number of the open section; the first where the page does not say."""
        return 1 if self.section is None else self.section

    def usually(self, slug: str) -> Looking:
        """Return it with a section open, where the page does not say which."""
        if self.section is not None:
            return self
        return replace(self, section=next((n for n, one in enumerate(SECTIONS, 1) if one.slug == slug), 1))


def looking(
    open: Section = None,
    item: ItemName = "",
    heron_item: Annotated[str, Header(max_length=100)] = "",
    heron_step: Annotated[int | None, Header()] = None,
    heron_page: Annotated[str, Header(max_length=40)] = "",
    heron_copy: Annotated[int, Header(ge=1, le=1000)] = 1,
) -> Looking:
    """Read what a page looks at: scripts send it in headers, links in the address."""
    return Looking(item or heron_item, open, heron_step, heron_page, heron_copy)


Look = Annotated[Looking, Depends(looking)]
