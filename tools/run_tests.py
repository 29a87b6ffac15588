"""Run all tests and close with one line: ``N passed, N failed``."""

from __future__ import annotations

import sys
import unittest
import warnings
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


def main() -> int:
    """Run the tests named on the command line, or all."""
    sys.path.insert(0, str(ROOT))
    # Our own warnings are errors; those of libraries at their own lines stay warnings.
    warnings.filterwarnings("error", module=r"upright_heron\..*")
    loader = unittest.TestLoader()
    names = sys.argv[1:]
    suite = (
        loader.loadTestsFromNames(names)
        if names
        else loader.discover(str(ROOT / "tests"), top_level_dir=str(ROOT))
    )
    result = unittest.TextTestRunner(verbosity=1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    passed = result.testsRun - failed - skipped
    line = f"{passed} passed, {failed} failed"
    print(f"{line}, {skipped} skipped" if skipped else line)
    return 0 if result.testsRun and not failed else 1


if __name__ == "__main__":
    sys.exit(main())
