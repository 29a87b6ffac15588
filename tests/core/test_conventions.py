"""House rules that a machine can check: one-way imports, documented functions, honest docstrings."""

import ast
import functools
import re
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parents[2]
PACKAGE = ROOT / "src/upright_heron"
FORBIDDEN_IN_CORE = {
    "fastapi",
    "starlette",
    "sqlalchemy",
    "jinja2",
    "pydantic_settings",
    "alembic",
    "os",
    "time",
    "datetime",
    "pathlib",
}
ROOMS = ("core", "sheet", "store", "work", "web")


@functools.cache
def parsed(path):
    return ast.parse(path.read_text())


def trees(room):
    for path in sorted((PACKAGE / room).rglob("*.py")):
        yield path, parsed(path)


def imported(path, tree):
    """Absolute names of the modules that a file imports."""
    here = path.relative_to(PACKAGE.parent).with_suffix("").parts
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            base = list(here[: len(here) - node.level]) if node.level else []
            yield ".".join([*base, *([node.module] if node.module else [])])


class RoomsTest(unittest.TestCase):
    def test_core_knows_no_interface(self):
        for path, tree in trees("core"):
            for name in imported(path, tree):
                self.assertNotIn(name.split(".")[0], FORBIDDEN_IN_CORE, path.name)

    def test_rooms_look_one_way(self):
        for room in ROOMS:
            later = {f"upright_heron.{r}" for r in ROOMS[ROOMS.index(room) + 1 :]}
            for path, tree in trees(room):
                for name in imported(path, tree):
                    self.assertNotIn(".".join(name.split(".")[:2]), later, f"{path.name} imports {name}")

    def test_nothing_is_decided_by_words(self):
        """Names, reasons and notes are for people: code that looks into them breaks when they are reworded."""
        looks = re.compile(r"\b(reason|note|name|words|label|text)\.(startswith|split)\(")
        inside = re.compile(r"[\"'] in \w+\.(reason|note|name|words|label|text)\b")
        for room in ("core", "work", "web"):
            for path, _ in trees(room):
                if "formats" in path.parts:
                    continue
                for line in path.read_text().splitlines():
                    self.assertIsNone(looks.search(line) or inside.search(line), f"{path.name}: {line}")

    def test_modules_stay_readable(self):
        for path in PACKAGE.rglob("*.py"):
            self.assertLess(len(path.read_text().splitlines()), 500, path)

    def test_functions_take_ten_parameters_at_most(self):
        """But for kernels, which are handed arrays one by one and say what they do, and flags of the shell."""
        for path in PACKAGE.rglob("*.py"):
            for node in ast.walk(parsed(path)):
                if not isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                    continue
                taken = {a.arg for a in [*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs]}
                if path.parent.name != "cli" and len(taken - {"self", "cls", "progress"}) > 10:
                    kernel = any("njit" in ast.unparse(d) for d in node.decorator_list)
                    self.assertTrue(kernel and self._says(path, node), f"{path.name}: {node.name}")

    def test_functions_stay_readable(self):
        """At most 60 lines below the docstring, but for kernels that are compiled whole and say what they do."""
        for path in PACKAGE.rglob("*.py"):
            for node in ast.walk(parsed(path)):
                if not isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                    continue
                told = ast.get_docstring(node)
                begins = node.body[1 if told and len(node.body) > 1 else 0].lineno
                if node.end_lineno - begins + 1 > 60:
                    with self.subTest(f"{path.name}: {node.name}"):
                        self.assertTrue(any("njit" in ast.unparse(d) for d in node.decorator_list))
                        self.assertTrue(self._says(path, node))

    def _says(self, path, node):
        """A function has a docstring, or a comment stands above its decorator."""
        above = path.read_text().splitlines()[node.decorator_list[0].lineno - 2]
        return bool(ast.get_docstring(node)) or above.startswith("#")


class DocstringTest(unittest.TestCase):
    def functions(self):
        for path, tree in trees("core"):
            bodies = [tree.body, *(n.body for n in tree.body if isinstance(n, ast.ClassDef))]
            for node in (n for body in bodies for n in body):
                if isinstance(node, ast.FunctionDef) and not node.name.startswith("_"):
                    yield f"{path.name}:{node.name}", node

    def test_public_functions_are_documented(self):
        for where, node in self.functions():
            self.assertTrue(ast.get_docstring(node), where)

    def test_documented_parameters_exist(self):
        for where, node in self.functions():
            text = ast.get_docstring(node) or ""
            if "Parameters\n---" not in text:
                continue
            block = re.split(r"\n\w+\n-{3,}", text.split("Parameters\n", 1)[1].split("\n", 1)[1])[0]
            named = {
                n.strip() for line in re.findall(r"^(\w[\w, ]*) :", block, re.M) for n in line.split(",")
            }
            arguments = {a.arg for a in [*node.args.args, *node.args.kwonlyargs]} - {"self", "cls"}
            self.assertEqual(named, arguments, where)

    def test_raising_functions_say_so(self):
        for where, node in self.functions():
            if any(isinstance(n, ast.Raise) and n.exc is not None for n in ast.walk(node)):
                self.assertIn("Raises", ast.get_docstring(node) or "", where)

    def test_arrays_have_their_shapes_told(self):
        """An array that comes in or goes out has its shape in the line that tells of it, or in the first."""
        shape = re.compile(r"\(\s*[\w.]+( [+*-] \w+)?(, *[\w. +*-]+)*,? *\)")
        for where, node in self.functions():
            if any("recipe" in ast.unparse(d) for d in node.decorator_list):
                continue
            text = ast.get_docstring(node) or ""
            first = text.split("\n\n")[0]
            for argument in [*node.args.args, *node.args.kwonlyargs]:
                if argument.annotation and re.search("NDArray|Matrix", ast.unparse(argument.annotation)):
                    line = re.search(rf"^[\w, ]*\b{argument.arg}\b[\w, ]* : (.*)$", text, re.M)
                    told = (line is not None and shape.search(line[1])) or shape.search(first)
                    self.assertTrue(told, f"{where}: {argument.arg}")
            if node.returns is not None and re.search("NDArray|Matrix", ast.unparse(node.returns)):
                block = re.search(r"Returns\n-+\n(.*)", text)
                self.assertTrue(shape.search(block[1] if block else first), f"{where}: what it returns")

    def test_lengths_areas_and_angles_have_their_units_in_their_names(self):
        """A float that is a length, an area, a volume or an angle says its unit, in its name or beside it."""
        quantity = re.compile(
            r"(length|width|height|area|volume|angle|clearance|spacing|thickness|depth|reach)$"
        )
        for where, node in self.functions():
            text = ast.get_docstring(node) or ""
            for argument in [*node.args.args, *node.args.kwonlyargs]:
                kind = ast.unparse(argument.annotation) if argument.annotation else ""
                if kind in ("float", "float | None") and quantity.search(argument.arg):
                    line = re.search(rf"^[\w, ]*\b{argument.arg}\b[\w, ]* : .*(\n    .*)?", text, re.M)
                    self.assertRegex(line[0] if line else "", r"\b(mm|degrees|radians|mm²|mm³)\b", where)

    def test_formulas_name_their_source(self):
        formula = re.compile(r"\b(sqrt|cos|sin|tan|atan2?|asin|acos|log|exp)\b|\bpi [a-z*]|\w\^\d|\*\*")
        source = re.compile(
            r"\b(1[5-9]\d\d|20\d\d)\b|\b[Oo]wn\b|[Cc]ommon practice|by definition|ISO"
            r"|Heron of|Euler|Gauss|Newton|Pythagoras|Archimedes|Rodrigues|Cauchy|Steiner"
        )
        for path, tree in trees("core"):
            module = ast.get_docstring(tree) or ""
            for node in ast.walk(tree):
                if isinstance(node, ast.FunctionDef | ast.ClassDef):
                    text = ast.get_docstring(node) or ""
                    if formula.search(re.sub("``[^`]*``", "", text)):
                        self.assertRegex(text + module, source, f"{path.name}: {node.name}")


class TreeTest(unittest.TestCase):
    def test_named_paths_exist(self):
        text = (ROOT / "docs/architecture.md").read_text()
        for name in re.findall(r"`(src/[\w/.]+)`", text):
            self.assertTrue((ROOT / name).exists(), name)

    def test_nothing_too_large(self):
        for path in PACKAGE.rglob("*"):
            if path.is_file() and "__pycache__" not in path.parts:
                self.assertLess(path.stat().st_size, 4_000_000, path)

    def test_shipped_assets_are_fresh(self):
        import sys

        sys.path.insert(0, str(ROOT / "tools"))
        try:
            import assets
        finally:
            sys.path.pop(0)
        self.assertEqual(assets.stale(), [])
