"""The marks that there are. A leaf."""

from __future__ import annotations

from enum import IntEnum


class Mark(IntEnum):
    """The byte of a facet."""

    NONE = 0
    PROP = 1
    KEEP_CLEAR = 2
    SHOW = 3
    SOLID = 4
