"""Put faults into the core and the sheet, one at a time, and see whether a test notices (``make mutants``).

Faults are made by cosmic-ray, a kept library for that; which are tried is drawn by a seed: a place, then one
of the faults that can be put there. Each is tried in a copy of the tree with a cache of compiled code of its
own, by the tests that reach its line, the quickest first. What tests reach is observed once, by coverage, and
kept; compiled code is not seen by it: a line in there counts as reached by whoever calls its function,
a test among them.
"""

from __future__ import annotations

import argparse
import ast
import hashlib
import json
import os
import pickle
import re
import shutil
import subprocess
import sys
import time
import unittest
from collections import defaultdict
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import astuple, dataclass
from functools import cache
from pathlib import Path
from queue import SimpleQueue
from threading import Lock
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
FOLDERS = ("src/upright_heron/core", "src/upright_heron/sheet")
# What became of each fault that was tried.
RECORD = ROOT / "tests" / "fixtures" / "faults.txt"
# Tests that are observed and run, those of the shell among them; those of the browser and of whole servers
# are too slow for each fault.
TESTED = ("core", "sheet", "store", "work", "web", "outside", "")
SKIPPED = ("test_stop", "test_reading_apart", "test_open_meshes", "test_warm")
# Behind so many of the quickest come those that hold results to their versions.
FIRST, HOLD = 12, "test_versions"
# A fault is tried for so long at most: tests that would take longer are left out, the longest first.
BUDGET_S = 90.0
WALL_S = 400.0
# The first three need more than a place to be put. "is" for "==" is no slip of a hand, and of enums, small
# numbers and names in the code finds the same.
LEFT_OUT = (
    "RemoveDecorator",
    "VariableReplacer",
    "VariableInserter",
    "Eq_Is",
    "NotEq_IsNot",
    "Is_Eq",
    "IsNot_NotEq",
)


@dataclass(frozen=True)
class Fault:
    """A fault: where it goes, and which."""

    path: str
    operator: str
    occurrence: int
    line: int
    # The same as long as its line is, whatever changes elsewhere.
    name: str


# Observing -------------------------------------------------------------------------


def observe(module: str, out: Path) -> None:
    """Run one test module test by test, and keep which lines each reaches and how long it takes."""
    import coverage

    sys.path.insert(0, str(ROOT))
    found: dict[str, Any] = {}

    def tests(suite: unittest.TestSuite) -> Iterator[unittest.TestSuite]:
        classes: dict[str, unittest.TestSuite] = {}

        def flat(some: Any) -> Iterator[unittest.TestCase]:
            for one in some:
                yield from flat(one) if isinstance(one, unittest.TestSuite) else (one,)

        for one in flat(suite):
            classes.setdefault(one.id(), unittest.TestSuite()).addTest(one)
        yield from classes.values()

    seen = coverage.Coverage(
        data_file=None, source=[str(ROOT / folder) for folder in FOLDERS], config_file=False
    )
    # What happens on loading is reached by every test, and says nothing of any.
    suite = unittest.TestLoader().loadTestsFromName(module)
    for one in tests(suite):
        name = next(iter(one)).id()
        seen.erase()
        begin = time.perf_counter()
        seen.start()
        result = unittest.TestResult()
        one.run(result)
        seen.stop()
        if result.testsRun and result.wasSuccessful():
            data = seen.get_data()
            lines = {
                str(Path(file).relative_to(ROOT)): sorted(data.lines(file) or ())
                for file in data.measured_files()
            }
            found[name] = {"s": time.perf_counter() - begin, "lines": lines}
    out.write_text(json.dumps(found))


def observed(folder: Path) -> dict[str, Any]:
    """What every test reaches; observed now where it is not known yet."""
    folder.mkdir(parents=True, exist_ok=True)
    modules = []
    for group in TESTED:
        for path in sorted((ROOT / "tests" / group).glob("test_*.py")):
            name = ".".join(filter(None, ("tests", group, path.stem)))
            modules += [name] * (path.stem not in SKIPPED)

    def one(module: str) -> dict[str, Any]:
        # One that was changed is observed anew.
        source = (ROOT / module.replace(".", "/")).with_suffix(".py").read_bytes()
        out = folder / f"{module}-{hashlib.sha1(source).hexdigest()[:8]}.json"
        if not out.exists():
            command = [sys.executable, __file__, "--observe", module, "--out", str(out)]
            done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, check=False)
            if not out.exists():
                print(f"{module} is not observed: {done.stderr[-300:]}", flush=True)
                return {}
            print(f"observed {module}", flush=True)
        found: dict[str, Any] = json.loads(out.read_text())
        return found

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        return {name: value for some in pool.map(one, modules) for name, value in some.items()}


class Reached:
    """Which tests reach a line."""

    def __init__(self, tests: dict[str, Any]) -> None:
        self.seconds = {name: float(one["s"]) for name, one in tests.items()}
        self._by_line: dict[tuple[str, int], set[str]] = defaultdict(set)
        for name, one in tests.items():
            for path, lines in one["lines"].items():
                for line in lines:
                    self._by_line[path, line].add(name)
        self._functions: dict[str, list[tuple[int, int, int, str]]] = {}
        self._uses: dict[str, list[tuple[str, int]]] = defaultdict(list)
        for path in sources():
            tree = ast.parse((ROOT / path).read_text())
            self._functions[path] = [
                (node.lineno, node.body[0].lineno, node.end_lineno or node.lineno, node.name)
                for node in ast.walk(tree)
                if isinstance(node, ast.FunctionDef)
            ]
            for node in ast.walk(tree):
                name = (
                    node.id
                    if isinstance(node, ast.Name)
                    else node.attr
                    if isinstance(node, ast.Attribute)
                    else ""
                )
                if name:
                    self._uses[name].append((path, getattr(node, "lineno", 0)))
        # What is compiled tells coverage nothing, and some tests call it themselves.
        self._calls: dict[tuple[str, str], set[str]] = defaultdict(set)
        for module in {name.rsplit(".", 2)[0] for name in tests}:
            for where, name, test in _called(module):
                if test in tests:
                    self._calls[where, name].add(test)

    def by(self, path: str, line: int, depth: int = 5) -> set[str]:
        """Tests that reach a line, or the function that it is in."""
        inside = [one for one in self._functions[path] if one[0] <= line <= one[2]]
        if inside:
            begin, body, end, name = min(inside, key=lambda one: one[2] - one[0])
            # What stands before a body is reached on loading, by whichever test loads it.
            lines = range(body, end + 1) if line < body else (line,)
            found = {test for one in lines for test in self._by_line.get((path, one), ())}
            names = [name]
        else:
            # Of a module or class likewise: whoever reaches what uses it.
            found, names, begin = set(), _assigned(ROOT / path, line), line
        if found or depth == 0:
            return found
        for name in names:
            found |= self._calls.get((path, name), set())
            for other, at in self._uses.get(name, ()):
                if (other, at) != (path, begin):
                    found |= self.by(other, at, depth - 1)
        return found

    def chosen(self, path: str, line: int, known: list[str]) -> list[str]:
        """Tests to try a fault by, within the budget: known, quick, those that hold results, the rest."""
        told = [name for name in known if name in self.seconds]
        taken = sum(self.seconds[name] for name in told)
        quick = sorted(self.by(path, line), key=lambda one: self.seconds[one])
        hold = [one for one in quick[FIRST:] if HOLD in one]
        for name in [*quick[:FIRST], *hold, *(one for one in quick[FIRST:] if HOLD not in one)]:
            if name in told:
                continue
            if told and taken + self.seconds[name] > BUDGET_S:
                break
            told.append(name)
            taken += self.seconds[name]
        return told


def _called(module: str) -> Iterator[tuple[str, str, str]]:
    """What the tests of a module name of the sources: the source, the name in it, and the test."""
    tree = ast.parse((ROOT / module.replace(".", "/")).with_suffix(".py").read_text())
    taken = {
        alias.asname or alias.name: (f"src/{node.module.replace('.', '/')}.py", alias.name)
        for node in tree.body
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("upright_heron.")
        for alias in node.names
    }
    for group in tree.body:
        if isinstance(group, ast.ClassDef):
            for one in group.body:
                if isinstance(one, ast.FunctionDef) and one.name.startswith("test"):
                    named = {node.id for node in ast.walk(one) if isinstance(node, ast.Name)}
                    for name in named & taken.keys():
                        yield *taken[name], f"{module}.{group.name}.{one.name}"


def _assigned(path: Path, line: int) -> list[str]:
    """Names that a line of a module gives a value to."""
    for node in ast.parse(path.read_text()).body:
        if node.lineno <= line <= (node.end_lineno or node.lineno):
            if isinstance(node, ast.FunctionDef):
                # Above it, a decorator.
                return [node.name]
            if isinstance(node, ast.Assign):
                named = [one.elts if isinstance(one, ast.Tuple) else [one] for one in node.targets]
                return [one.id for some in named for one in some if isinstance(one, ast.Name)]
            if isinstance(node, ast.AnnAssign) and isinstance(node.target, ast.Name):
                return [node.target.id]
            if isinstance(node, ast.ClassDef):
                return [node.name]
            # A loop that fills a table: whatever it puts something into.
            return [
                one.value.id
                for one in ast.walk(node)
                if isinstance(one, ast.Subscript)
                and isinstance(one.ctx, ast.Store)
                and isinstance(one.value, ast.Name)
            ]
    return []


# Faults ------------------------------------------------------------------------------


def sources() -> list[str]:
    """The modules that faults are put into."""
    return [
        str(path.relative_to(ROOT)) for folder in FOLDERS for path in sorted((ROOT / folder).rglob("*.py"))
    ]


def _told_only(tree: ast.Module) -> list[tuple[int, int, int, int]]:
    """Places that change nothing of what the program does: annotations, and decorators of two kinds.

    These say whether functions are kept compiled, and how classes are laid out.
    """
    found: list[ast.expr] = []
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef | ast.ClassDef):
            found += [
                one for one in node.decorator_list if ast.unparse(one).startswith(("njit", "dataclass"))
            ]
        if isinstance(node, ast.arg | ast.AnnAssign) and node.annotation is not None:
            found.append(node.annotation)
        elif isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) and node.returns is not None:
            found.append(node.returns)
    return [(n.lineno, n.col_offset, n.end_lineno or 0, n.end_col_offset or 0) for n in found]


def drawn(count: int, seed: int, folder: Path) -> list[Fault]:
    """So many faults, by a seed; kept, for looking through all sources takes minutes."""
    told = hashlib.sha1(b"".join((ROOT / path).read_bytes() for path in sources())).hexdigest()[:12]
    kept = folder / f"drawn-{count}-{seed}-{told}.json"
    if not kept.exists():
        kept.write_text(json.dumps([astuple(one) for one in faults(count, seed)]))
    return [Fault(*one) for one in json.loads(kept.read_text())]


def faults(count: int, seed: int) -> list[Fault]:
    """So many faults, by a seed: a place is drawn, then one of the faults that can be put there."""
    from cosmic_ray.ast import ast_nodes, get_ast_from_path
    from cosmic_ray.plugins import get_operator, operator_names

    operators = [
        (name, get_operator(name)()) for name in operator_names() if not name.endswith(LEFT_OUT)
    ]  # fmt: skip
    places: dict[tuple[str, tuple[int, int]], list[Fault]] = defaultdict(list)
    for path in sources():
        asleep = _told_only(ast.parse((ROOT / path).read_text()))
        nodes = list(ast_nodes(get_ast_from_path(ROOT / path)))
        for name, operator in operators:
            positions = (start for node in nodes for start, _ in operator.mutation_positions(node))
            for occurrence, start in enumerate(positions):
                if not any((a, b) <= start <= (c, d) for a, b, c, d in asleep):
                    fault = Fault(path, name, occurrence, start[0], _rank(0, path, start, name)[:12])
                    places[path, start].append(fault)
    order = sorted(places, key=lambda place: _rank(seed, *place))[:count]
    return [min(places[at], key=lambda fault: _rank(seed, *at, fault.operator)) for at in order]


def _rank(seed: int, path: str, at: tuple[int, int], operator: str = "") -> str:
    """Where a place comes in the order that a seed gives: what is changed elsewhere leaves it where it is."""
    lines = _stripped(path)
    line = lines[at[0] - 1]
    return hashlib.sha1(
        f"{seed} {path} {line} {lines[: at[0]].count(line)} {at[1]} {operator}".encode()
    ).hexdigest()


@cache
def _stripped(path: str) -> list[str]:
    return [line.strip() for line in (ROOT / path).read_text().splitlines()]


# Trying ------------------------------------------------------------------------------


class Record:
    """What became of faults: a run goes on where one was ended, and tries first what noticed a fault before.

    A line for each: which fault, of which text of its file, and the test that noticed it, "-" where none did.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._lock = Lock()
        lines = path.read_text().split("\n") if path.exists() else []
        self._known = {one[0]: (one[1], one[2]) for one in (line.split() for line in lines) if one}

    def caught(self, fault: Fault) -> bool:
        """Whether a test noticed it, in a file that is still the same."""
        source, test = self._known.get(fault.name, ("", "-"))
        return source == _text_of(fault.path) and test != "-"

    def tests(self, fault: Fault) -> list[str]:
        """The test that noticed it before."""
        _, test = self._known.get(fault.name, ("", "-"))
        return [] if test == "-" else [test]

    def survived(self, fault: Fault) -> bool:
        """Whether it was tried, and nobody noticed."""
        return self._known.get(fault.name, ("", ""))[1] == "-"

    def keep(self, fault: Fault, test: str) -> None:
        """A test noticed it, or "-"."""
        with self._lock:
            self._known[fault.name] = (_text_of(fault.path), test)
            lines = sorted(" ".join((name, *rest)) for name, rest in self._known.items())
            self.path.write_text("".join(line + "\n" for line in lines))


@cache
def _text_of(path: str) -> str:
    return hashlib.sha1((ROOT / path).read_bytes()).hexdigest()[:8]


class Copy:
    """A copy of the tree, with a cache of compiled code of its own."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        if not (folder / ".ready").exists():
            shutil.rmtree(folder, ignore_errors=True)
            folder.mkdir(parents=True)
            for name in (
                "src",
                "tests",
                "docs",
                "tools",
                "bench",
                "assets",
                ".meshes",
                "pyproject.toml",
                "README.md",
            ):
                if (ROOT / name).is_dir():
                    shutil.copytree(ROOT / name, folder / name, ignore=shutil.ignore_patterns("__pycache__"))
                elif (ROOT / name).exists():
                    shutil.copy(ROOT / name, folder / name)
            self.run(["-c", "from upright_heron.core.warm import warm; warm()"], 1200)
            (folder / ".ready").touch()
        self._kernels = Kernels(folder)
        self._sound: dict[str, bool] = {}

    def run(self, arguments: list[str], within_s: float, cache: str = "numba") -> tuple[int, str]:
        """Run Python in it; its exit status, -1 where it took too long, and what it said."""
        environment = {
            **os.environ,
            "PYTHONPATH": str(self.folder / "src"),
            "NUMBA_CACHE_DIR": str(self.folder / cache),
            "PYTHONDONTWRITEBYTECODE": "1",
        }
        with subprocess.Popen(
            [sys.executable, *arguments], cwd=self.folder, env=environment, text=True, start_new_session=True,
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
        ) as process:  # fmt: skip
            try:
                told, _ = process.communicate(timeout=within_s)
            except subprocess.TimeoutExpired:
                os.killpg(process.pid, 9)
                process.communicate()
                return -1, "took too long"
        return process.returncode, told

    def tried(self, fault: Fault, tests: list[str]) -> tuple[str, str]:
        """Put a fault in, run tests, and take it out: which test noticed, or "-", and what was changed."""
        from cosmic_ray.mutating import mutate_code
        from cosmic_ray.plugins import get_operator

        path = self.folder / fault.path
        sound, stamp = path.read_text(), path.stat()
        faulty = mutate_code(sound, get_operator(fault.operator)(), fault.occurrence)
        assert faulty is not None
        before, after = (text.splitlines()[fault.line - 1].strip() for text in (sound, faulty))
        if not tests:
            return "-", f"no test reaches it: {before} -> {after}"
        try:
            path.write_text(faulty)
            self._forget(fault)
            status, told = self.run(["-m", "unittest", "-f", *tests], WALL_S, "numba-faulty")
        finally:
            path.write_text(sound)
            # Compiled code is known by the time of its source.
            os.utime(path, ns=(stamp.st_atime_ns, stamp.st_mtime_ns))
        if status == 0:
            return "-", f"{before} -> {after}"
        failed = re.search(r"^(?:FAIL|ERROR): \S+ \((\S+?)\)", told, re.M)
        # What never ends, or breaks the process, is told by no test.
        test = failed[1] if failed and failed[1] in tests else tests[0]
        if not self._passes(test):
            raise RuntimeError(f"{test} fails in a copy without any fault")
        return test, f"{before} -> {after}"

    def _passes(self, test: str) -> bool:
        """Whether a test passes where there is no fault: one that does not notices nothing."""
        if test not in self._sound:
            self._sound[test] = self.run(["-m", "unittest", test], WALL_S)[0] == 0
        return self._sound[test]

    def _forget(self, fault: Fault) -> None:
        """A cache without what the fault is compiled into."""
        faulty = self.folder / "numba-faulty"
        shutil.rmtree(faulty, ignore_errors=True)
        if not (self.folder / "numba").exists():
            return
        shutil.copytree(self.folder / "numba", faulty, copy_function=os.link)
        asleep = self._kernels.asleep(fault.path, fault.line)
        gone = set() if asleep else {Path(one).stem for one in self._kernels.using(fault.path)}
        for one in faulty.rglob("*.nb*"):
            module = one.name.split(".")[0].split("-")[0]
            if module in gone:
                one.unlink()
            elif module == Path(fault.path).stem and one.suffix == ".nbi":
                # Its kernels are as they were, though its source has another time and length.
                self._stamp(one, self.folder / fault.path)

    @staticmethod
    def _stamp(index: Path, source: Path) -> None:
        from numba.core.caching import IndexDataCacheFile

        told = source.stat()
        with index.open("rb") as kept:
            pickle.load(kept)
            _, overloads = pickle.load(kept)
        stamp = (told.st_mtime, told.st_size)
        IndexDataCacheFile(str(index.parent), index.stem, stamp)._save_index(overloads)


class Kernels:
    """Where compiled functions are, and which modules compile those of others into theirs."""

    def __init__(self, folder: Path) -> None:
        self._of: dict[str, list[tuple[int, int]]] = {}
        self._plain: dict[str, list[tuple[int, int]]] = {}
        takes: dict[str, set[str]] = defaultdict(set)
        for path in sources():
            tree = ast.parse((folder / path).read_text())
            functions = [node for node in ast.walk(tree) if isinstance(node, ast.FunctionDef)]
            compiled = [one for one in functions if any("njit" in ast.unparse(d) for d in one.decorator_list)]
            self._of[path] = [(one.lineno, one.end_lineno or one.lineno) for one in compiled]
            self._plain[path] = [
                (one.lineno, one.end_lineno or one.lineno) for one in functions if one not in compiled
            ]
            used = {node.id for one in compiled for node in ast.walk(one) if isinstance(node, ast.Name)}
            for node in ast.walk(tree):
                if not isinstance(node, ast.ImportFrom) or not node.module:
                    continue
                if any((name.asname or name.name) in used for name in node.names):
                    takes[node.module.split(".")[-1]].add(path)
        self._takes = takes

    def asleep(self, path: str, line: int) -> bool:
        """Whether a line is in a function that is not compiled: no kernel holds it."""
        inside = any(a <= line <= b for a, b in self._plain[path])
        return inside and not any(a <= line <= b for a, b in self._of[path])

    def using(self, path: str) -> set[str]:
        """Modules whose kernels hold something of a module, itself among them."""
        todo, seen = [path], {path}
        while todo:
            for other in self._takes.get(Path(todo.pop()).stem, ()):
                if other not in seen:
                    seen.add(other)
                    todo.append(other)
        return seen


def main() -> None:
    """Draw faults, try them, and tell which nobody noticed."""
    asked = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    asked.add_argument("--count", type=int, default=300)
    asked.add_argument("--seed", type=int, default=1)
    asked.add_argument("--first", type=int, default=0, help="of the faults that are drawn")
    asked.add_argument("--last", type=int)
    asked.add_argument("--again", action="store_true", help="those that were caught before, too")
    asked.add_argument("--folder", type=Path, default=ROOT / "var" / "mutants")
    asked.add_argument("--observe")
    asked.add_argument("--out", type=Path)
    given = asked.parse_args()
    if given.observe:
        observe(given.observe, given.out)
        return
    reached = Reached(observed(given.folder / "observed"))
    asked_for = drawn(given.count, given.seed, given.folder)[given.first : given.last]
    copies: SimpleQueue[Copy] = SimpleQueue()
    for number in range(os.cpu_count() or 1):
        copies.put(Copy(given.folder / f"copy-{number}"))
    record = Record(RECORD)
    survivors = []

    def one(fault: Fault) -> None:
        copy = copies.get()
        try:
            begin = time.perf_counter()
            tests = reached.chosen(fault.path, fault.line, record.tests(fault))
            test, words = copy.tried(fault, tests)
        except RuntimeError as unsound:
            print(f"not tried: {fault.path}:{fault.line}: {unsound}", flush=True)
            return
        finally:
            copies.put(copy)
        record.keep(fault, test)
        line = f"{fault.path}:{fault.line} {fault.operator.split('/')[-1]}: {words}"
        by = "nobody" if test == "-" else test
        print(f"{by} in {time.perf_counter() - begin:.0f} s of {len(tests)} tests: {line}", flush=True)
        if test == "-":
            survivors.append(line)

    todo = [fault for fault in asked_for if given.again or not record.caught(fault)]
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        # Those that nobody noticed before take longest.
        list(pool.map(one, sorted(todo, key=record.survived)))
    print("\nNobody noticed:")
    print("\n".join(sorted(survivors)))
    caught = sum(record.caught(fault) for fault in asked_for)
    print(f"{caught} of {len(asked_for)} caught: {100 * caught / max(len(asked_for), 1):.0f} %")


if __name__ == "__main__":
    main()
