"""Pieces of a part that is cut."""

from __future__ import annotations

from ..errors import NotClosed
from ..geometry.solid import Solid
from ..graph import recipe
from ..progress import Progress
from ..split.grid import Split, split_into_grid
from .part import solid
from .settings import Box


@recipe("split", version=2, stage="Cutting pieces", needs=(solid,), reads=Box)
def split(body: Solid | None, box: Box, progress: Progress) -> Split:
    """Pieces of the part, cut as it came.

    Raises
    ------
    NotClosed
        The part is open.
    """
    if body is None:
        raise NotClosed(
            "Only a closed part can be cut, and this surface is open.",
            "Export a closed part from the program that made it.",
        )
    return split_into_grid(body, box.box_mm, progress=progress)
