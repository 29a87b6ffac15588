"""Run all tests, on all cores, and close with one line: ``N passed, N failed``."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
import unittest
import warnings
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
# Folders whose tests need few kernels: they run while these are compiled, once for all.
LIGHT = ("sheet", "store")
# Folders of tests that take longest, and are begun first behind that.
LONGEST = ("browser", "core", "web", "work", "floor")
# So many tests are told that took longest.
SLOWEST = 8
# On a fresh machine every process would compile them for itself, at the same time; and modules too, where
# Python is told to keep nothing of what it compiles.
COMPILE = """import compileall; compileall.compile_dir("src", quiet=1)
from upright_heron.core.warm import warm; warm()"""


def groups() -> list[tuple[str, list[str]]]:
    """Names of test modules by the folder that they are in."""
    found: dict[str, list[str]] = {}
    for path in sorted((ROOT / "tests").rglob("test_*.py")):
        parts = path.relative_to(ROOT).with_suffix("").parts
        found.setdefault(parts[1] if len(parts) > 2 else "", []).append(".".join(parts))
    first = [name for name in (*LIGHT, *LONGEST) if name in found]
    return [(name or "others", found[name]) for name in [*first, *sorted(set(found) - set(first))]]


class Timed(unittest.TextTestResult):
    """Results with how long each test took, what is made for its class and module with the first of it."""

    def __init__(self, *arguments: Any, **named: Any) -> None:
        super().__init__(*arguments, **named)
        self.took: list[tuple[float, str]] = []
        self._since = time.perf_counter()

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        now = time.perf_counter()
        # Some tests name something of theirs "id".
        self.took.append((now - self._since, unittest.TestCase.id(test).removeprefix("tests.")))
        self._since = now


def here(names: list[str]) -> int:
    """Run tests in this process."""
    sys.path.insert(0, str(ROOT))
    # Our own warnings are errors; those of libraries at their own lines stay warnings.
    warnings.filterwarnings("error", module=r"upright_heron\..*")
    runner = unittest.TextTestRunner(verbosity=1, resultclass=Timed)
    result = runner.run(unittest.TestLoader().loadTestsFromNames(names))
    if isinstance(result, Timed):
        for seconds, name in sorted(result.took, reverse=True)[:SLOWEST]:
            print(f"took {seconds:.0f} s: {name}")
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return told(result.testsRun - failed - len(result.skipped), failed, len(result.skipped))


def told(passed: int, failed: int, skipped: int) -> int:
    """Print the closing line; the exit code."""
    line = f"{passed} passed, {failed} failed"
    print(f"{line}, {skipped} skipped" if skipped else line, flush=True)
    return 0 if passed and not failed else 1


def apart(names: list[str]) -> tuple[int, int, int, str]:
    """Run tests in a process of their own: passed, failed, skipped, and what it printed."""
    command = [sys.executable, str(Path(__file__)), *names]
    done = subprocess.run(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, check=False)
    line = re.search(r"^(\d+) passed, (\d+) failed(?:, (\d+) skipped)?\s*\Z", done.stdout, re.MULTILINE)
    if line is None:
        # It came to no end: what it was running counts as one.
        return 0, 1, 0, done.stdout
    passed, failed, skipped = (int(n or 0) for n in line.groups())
    return passed, failed, skipped, done.stdout


def main() -> int:
    """Run the tests named on the command line in this process, or all."""
    if sys.argv[1:]:
        return here(sys.argv[1:])
    start = time.perf_counter()
    total = [0, 0, 0]
    # One more than there are cores: tests of the running program wait now and then.
    with ThreadPoolExecutor(1 + (os.cpu_count() or 1)) as pool:
        pool.submit(subprocess.run, [sys.executable, "-c", COMPILE], cwd=ROOT, check=True)
        under_way = {pool.submit(apart, names): name for name, names in groups()}
        for done in as_completed(under_way):
            *counts, words = done.result()
            total = [sum(pair) for pair in zip(total, counts, strict=True)]
            if counts[1]:
                print(words)
            seconds = time.perf_counter() - start
            print(f"{under_way[done]}: {counts[0]} passed, {counts[1]} failed; {seconds:.0f} s", flush=True)
            print("\n".join(re.findall(r"^took .*", words, re.MULTILINE)), flush=True)
    return told(*total)


if __name__ == "__main__":
    sys.exit(main())
