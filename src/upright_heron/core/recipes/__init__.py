"""All recipes, a module a stage; importing this package registers them."""

from . import (
    footing,
    handoff,
    hanging,
    job,
    layers,
    part,
    plate,
    split,
    stance,
    supports_filament,
    supports_resin,
    toolpaths,
)
from .part import MARKS_DEMAND, MARKS_SHOW, MESH

__all__ = [
    "MARKS_DEMAND",
    "MARKS_SHOW",
    "MESH",
    "footing",
    "handoff",
    "hanging",
    "job",
    "layers",
    "part",
    "plate",
    "split",
    "stance",
    "supports_filament",
    "supports_resin",
    "toolpaths",
]
