"""Open meshes that ``tools/meshes.sh`` fetched from Debian's packages; tests are passed over where there are none.

Sources: libcgal-demo 5.5.1 (example data of a computational-geometry library), gmsh-doc 4.8.4 (examples of a
finite-element mesher), assimp-testmodels 5.2.5 (test files of a model-import library).
"""

from __future__ import annotations

import unittest
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

ROOT = Path(__file__).resolve().parent.parent / ".meshes"

wanted = unittest.skipUnless((ROOT / "complete").exists(), "tools/meshes.sh has not fetched the open meshes")


def load(path: str, longest_mm: float | None = None) -> Any:
    """Read a file with trimesh, equal corners welded, and size it so that its longest side has a length."""
    mesh = trimesh.load(ROOT / path, force="mesh", process=True)
    if longest_mm is not None:
        mesh.apply_scale(longest_mm / mesh.extents.max())
    # Files of single precision keep these corners to the bit, so that both sides see the same part.
    mesh.vertices = np.asarray(mesh.vertices, np.float32).astype(np.float64)
    return mesh
