"""Tests of everything; ``tools/run_tests.py`` runs them."""

import os

from hypothesis import settings

# The same examples each time, so that a run tells of the change and not of luck. To look for new ones:
# EXPLORE=1 make test, or with the names of tests to tools/run_tests.py.
settings.register_profile("same", derandomize=True)
if not os.environ.get("EXPLORE"):
    settings.load_profile("same")
