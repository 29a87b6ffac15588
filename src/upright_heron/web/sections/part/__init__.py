"""Section 1: the part as it came, its health, its size; and the job itself."""

from __future__ import annotations

from pathlib import Path

from ....core.topics import Topic
from ...section import Section
from .routes import router

SECTION = Section(
    slug="part",
    title="Part",
    folder=Path(__file__).parent,
    topic=Topic.PART,
    wants=("placed", "health"),
    facts=("health",),
    routers=(router,),
)
