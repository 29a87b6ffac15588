"""The sections of the job sheet, in the order of the work."""

from __future__ import annotations

from ..section import SECTIONS, Section
from .footing import SECTION as FOOTING
from .handoff import SECTION as HANDOFF
from .layers import SECTION as LAYERS
from .overhangs import SECTION as OVERHANGS
from .part import SECTION as PART
from .printer import SECTION as PRINTER
from .split import SECTION as SPLIT
from .stance import SECTION as STANCE
from .supports import SECTION as SUPPORTS

for _section in (PART, PRINTER, SPLIT, STANCE, OVERHANGS, SUPPORTS, FOOTING, LAYERS, HANDOFF):
    SECTIONS.register(_section)

__all__ = ["SECTIONS", "Section"]
