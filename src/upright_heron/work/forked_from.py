"""Imported by the process that workers are forked from, and by no other: it outlives a killed server."""

from __future__ import annotations

import atexit
import os
import shutil

from .left_behind import FOLDER

# A server that is ended by a signal takes nothing away by itself. Workers that are forked do not come here.
if FOLDER in os.environ:
    atexit.register(shutil.rmtree, os.environ[FOLDER], ignore_errors=True)
