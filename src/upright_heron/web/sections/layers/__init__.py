"""Section 8: the layers, and what a print takes."""

from __future__ import annotations

from pathlib import Path

from ....core.topics import Topic
from ...section import Section

SECTION = Section(
    slug="layers",
    title="Layers",
    folder=Path(__file__).parent,
    topic=Topic.LAYERS,
    wants=("findings", "supports", "footing"),
    facts=("findings", "supports", "footing"),
)
