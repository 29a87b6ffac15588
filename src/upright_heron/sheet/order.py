"""What a job is for: the folder that the shop keeps it in, who wants it, and by when."""

from __future__ import annotations

import datetime as dt
from typing import Annotated

from pydantic import Field

from .document import Document

Folder = Annotated[str, Field(max_length=60, pattern=r"^[^<>\x00-\x1f]*$")]


class Order(Document):
    """An order as the shop keeps it; nothing that is made depends on it.

    ``handed_over`` is the day on which it left the shop; ``goes_with`` the job on whose plates it is printed.
    """

    folder: Folder = ""
    customer: str = Field(default="", max_length=120)
    due: dt.date | None = None
    handed_over: dt.date | None = None
    goes_with: Annotated[str, Field(max_length=32)] = ""

    def late(self, today: dt.date) -> bool:
        """It is due and has not left the shop."""
        return self.due is not None and self.due < today and self.handed_over is None

    @property
    def again(self) -> Order:
        """The same for a new job: neither due nor handed over, and printed by itself."""
        return self.model_copy(update={"due": None, "handed_over": None, "goes_with": ""})
