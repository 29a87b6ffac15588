"""Ways to stand that are weighed against each other, and which of them look the same."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

# Proposals closer than this are one; so are those with the same figures, to this share, that lie on nearly
# the same side, or on any side where the part is symmetric.
TWIN_DEG = 15.0
SAME_FIGURES, SAME_SIDE_DEG = 0.03, 45.0
SYMMETRIC = 0.003
# Smaller figures than these are none: areas mm2, volumes mm3, areas mm2, heights mm.
NO_FIGURES = (5.0, 20.0, 5.0, 0.5)


@dataclass
class Candidates:
    """Ways to stand with what was weighed of them; rows go together."""

    rotation: list[NDArray[np.float64]] = field(default_factory=list)
    raw: list[NDArray[np.float64]] = field(default_factory=list)
    fits: list[bool] = field(default_factory=list)
    shown: list[tuple[float, float, float, float]] = field(default_factory=list)

    def __len__(self) -> int:
        return len(self.rotation)

    def alike(self, i: int, j: int) -> bool:
        """Whether two ways to stand look the same: near each other, or with the same figures."""
        cosine = float(self.rotation[i][2] @ self.rotation[j][2])
        if cosine > math.cos(math.radians(TWIN_DEG)):
            return True
        share = SAME_FIGURES if cosine > math.cos(math.radians(SAME_SIDE_DEG)) else SYMMETRIC
        # In plain numbers: hundreds are held against each other.
        figures = zip(self.shown[i], self.shown[j], NO_FIGURES, strict=True)
        return all(abs(a - b) <= share * max(abs(a), abs(b), none) for a, b, none in figures)
