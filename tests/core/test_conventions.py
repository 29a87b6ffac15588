"""House rules that a machine can check: one-way imports, documented functions, honest docstrings."""

import ast
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


def trees(room):
    for path in sorted((PACKAGE / room).rglob("*.py")):
        yield path, ast.parse(path.read_text())


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

    def test_modules_stay_readable(self):
        for path in PACKAGE.rglob("*.py"):
            self.assertLess(len(path.read_text().splitlines()), 500, path)

    def test_functions_stay_readable(self):
        """At most 60 lines below the docstring, but for kernels that are compiled whole and say what they do."""
        for path in PACKAGE.rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                if not isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                    continue
                told = ast.get_docstring(node)
                begins = node.body[1 if told and len(node.body) > 1 else 0].lineno
                if node.end_lineno - begins + 1 > 60:
                    with self.subTest(f"{path.name}: {node.name}"):
                        self.assertTrue(any("njit" in ast.unparse(d) for d in node.decorator_list))
                        self.assertTrue(
                            told or path.read_text().splitlines()[node.lineno - 3].startswith("#")
                        )


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
