"""What a technician's question is about. Pages and numbers are made of these at the edge. A leaf."""

from __future__ import annotations

from enum import StrEnum


class Topic(StrEnum):
    """One question of the work, in its order."""

    PART = "part"
    PRINTER = "printer"
    SPLIT = "split"
    STANCE = "stance"
    OVERHANGS = "overhangs"
    SUPPORTS = "supports"
    FOOTING = "footing"
    LAYERS = "layers"
    HANDOFF = "hand-off"
