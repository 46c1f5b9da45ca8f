"""The layers and habits that are written down are kept: read from the source itself."""

from __future__ import annotations

import ast
import importlib
import re
import types
import unittest
from collections.abc import Iterator
from functools import cache
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src"
LAYERS = (
    (
        "errors",
        "records",
        "spelling",
        "files",
        "gc_tuning",
        "redaction",
        "toml_text",
        "safe_xml",
        "http_retry",
        "child_environment",
        "answer_parsing",
        "containment",
        "text_file",
        "json_text",
        "lazy_exports",
        "extras",
    ),
    ("estate",),
    ("platforms",),
    ("config",),
    ("intent",),
    ("connect",),
    ("fleet",),
    ("readings", "verify"),
    ("archive",),
    ("change",),
    ("sources", "onboard", "report", "watch"),
    ("operations",),
    ("cli",),
)
LONGEST_MODULE = 800
LONGEST_FUNCTION = 60
# Participles, prepositions and collective words that say nothing about a module.
RIDDLES = frozenset(
    [
        "around",
        "behind",
        "besides",
        "carried",
        "derived",
        "each",
        "ending",
        "entering",
        "folding",
        "fresh",
        "ground",
        "gone",
        "held",
        "left",
        "known",
        "made",
        "managed",
        "manner",
        "many",
        "meant",
        "means",
        "measured",
        "native",
        "planned",
        "provider",
        "recorded",
        "recording",
        "remembered",
        "resumed",
        "saved",
        "seldom",
        "sourced",
        "sparing",
        "stated",
        "streams",
        "told",
        "undoing",
        "utils",
        "helpers",
        "manager",
        "common",
        "misc",
        "tools",
        "wording",
        "written",
    ]
)


@cache
def modules(package: str) -> list[tuple[Path, ast.Module]]:
    paths = sorted((SOURCE / package).rglob("*.py"))
    return [(path, ast.parse(path.read_text(encoding="utf-8"))) for path in paths]


@cache
def walk(tree: ast.Module) -> list[ast.AST]:
    return list(ast.walk(tree))


def imported(tree: ast.Module) -> Iterator[str]:
    for node in walk(tree):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield from (f"{node.module}.{alias.name}" for alias in node.names)


def package_of(path: Path) -> str:
    return ".".join(path.relative_to(SOURCE).parent.parts)


def layer_of(name: str) -> int | None:
    return next((number for number, names in enumerate(LAYERS) if name in names), None)


class LayersTest(unittest.TestCase):
    def test_every_module_stands_in_a_layer_and_imports_downwards_only(self) -> None:
        for path, tree in modules("oast"):
            own = path.relative_to(SOURCE / "oast").parts[0].removesuffix(".py")
            if own in ("__init__", "__main__"):
                continue
            own_layer = layer_of(own)
            self.assertIsNotNone(own_layer, f"{path} stands in no layer")
            for name in imported(tree):
                parts = name.split(".")
                if parts[0] == "oast" and len(parts) > 1 and parts[1] != "__version__":
                    layer = layer_of(parts[1])
                    self.assertIsNotNone(layer, f"{path} imports {name}")
                    self.assertLessEqual(layer, own_layer, f"{path} imports {name} from a layer above it")

    def test_a_package_is_used_through_what_it_exports(self) -> None:
        for path, tree in modules("oast"):
            own = package_of(path)
            for node in walk(tree):
                if not isinstance(node, ast.ImportFrom) or not (node.module or "").startswith("oast."):
                    continue
                module = SOURCE / Path(*str(node.module).split("."))
                if module.with_suffix(".py").is_file():
                    other = package_of(module.with_suffix(".py"))
                    if other not in (own, "oast") and own != "oast" and path.name != "__init__.py":
                        self.fail(f"{path}:{node.lineno} imports {node.module}, not the face of {other}")

    def test_every_package_says_what_it_is_and_exports_what_is_there_under_one_name(self) -> None:
        for path, tree in modules("oast"):
            if path.name != "__init__.py":
                continue
            self.assertTrue(ast.get_docstring(tree), str(path))
            package = importlib.import_module(package_of(path))
            if package.__name__ == "oast" or not hasattr(package, "__getattr__"):
                continue
            names = package.__dir__()
            self.assertEqual(len(names), len(set(names)), str(path))
            stated = {
                alias.asname
                for node in walk(tree)
                if isinstance(node, ast.ImportFrom)
                for alias in node.names
            }
            self.assertEqual(
                set(names), stated - {None}, f"{path}: what is imported for types is not what is exported"
            )
            for name in names:
                value = getattr(package, name)
                is_module = (path.parent / f"{name}.py").is_file()
                self.assertEqual(
                    is_module,
                    isinstance(value, types.ModuleType),
                    f"{path}: '{name}' is also the name of a module",
                )
            with self.assertRaises(AttributeError):
                _ = package.no_such_name

    def test_tool_and_simulator_import_nothing_of_each_other(self) -> None:
        for package, other in (("oast", "oastsim"), ("oastsim", "oast")):
            for path, tree in modules(package):
                self.assertNotIn(other, {name.split(".")[0] for name in imported(tree)}, str(path))

    def test_the_core_knows_no_terminal_and_no_environment(self) -> None:
        for path, tree in modules("oast"):
            if "cli" in path.parts or path.name == "__main__.py":
                continue
            names = set(imported(tree))
            for foreign in ("argparse", "sys", "rich"):
                self.assertFalse(
                    [n for n in names if n.split(".")[0] == foreign], f"{path} imports {foreign}"
                )
            for node in walk(tree):
                if isinstance(node, ast.Attribute):
                    self.assertNotEqual(node.attr, "environ", str(path))

    def test_only_the_transport_and_its_channels_know_asyncssh(self) -> None:
        for path, tree in modules("oast"):
            if any(name.split(".")[0] == "asyncssh" for name in imported(tree)):
                self.assertIn(path.name, ("transport.py", "channel.py", "call_home.py"))

    def test_modules_and_functions_stay_short(self) -> None:
        for package in ("oast", "oastsim"):
            for path, tree in modules(package):
                self.assertLessEqual(
                    len(path.read_text(encoding="utf-8").splitlines()), LONGEST_MODULE, str(path)
                )
                for node in walk(tree):
                    if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
                        # What it documents is no part of its length.
                        first = node.body[1] if ast.get_docstring(node) and len(node.body) > 1 else node
                        signature = node.body[0].lineno - node.lineno if first is not node else 0
                        length = (node.end_lineno or 0) - first.lineno + 1 + signature
                        self.assertLessEqual(length, LONGEST_FUNCTION, f"{path}: {node.name}")

    def test_modules_and_classes_have_names_of_their_own_and_no_riddles(self) -> None:
        homes: dict[str, list[str]] = {}
        for path, tree in modules("oast"):
            self.assertNotIn(path.stem, RIDDLES, f"{path}: a module is named by a noun of the trade")
            for node in tree.body:
                if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                    homes.setdefault(node.name, []).append(str(path))
        self.assertEqual({name: paths for name, paths in homes.items() if len(paths) > 1}, {})

    def test_public_classes_and_functions_of_the_core_say_what_they_are(self) -> None:
        for path, tree in modules("oast"):
            if "cli" in path.parts:
                continue
            self.assertTrue(ast.get_docstring(tree), str(path))
            for node in tree.body:
                if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                    self.assertTrue(ast.get_docstring(node), f"{path}:{node.lineno} {node.name}")

    def test_files_that_the_guides_name_are_there(self) -> None:
        root = SOURCE.parent
        there = {path.name for folder in ("src", "tests", "bench") for path in (root / folder).rglob("*.py")}
        for guide in ("docs/code.md", "CONTRIBUTING.md"):
            named = re.findall(r"([\w.-]+\.py)`", (root / guide).read_text(encoding="utf-8"))
            self.assertGreater(len(named), 5)
            self.assertEqual(sorted({name for name in named if name not in there}), [], guide)

    def test_what_is_installed_is_known_by_its_hash(self) -> None:
        root = SOURCE.parent
        lock = (root / "requirements.lock").read_text(encoding="utf-8")
        pinned = re.findall(r"^(\S+==\S+)((?: \\\n    --hash=sha256:[0-9a-f]{64})*)$", lock, re.MULTILINE)
        self.assertEqual([name for name, hashes in pinned if not hashes], [])
        self.assertEqual(len(pinned), lock.count("=="))
        self.assertIn(
            "--require-hashes -r requirements.lock", (root / "Makefile").read_text(encoding="utf-8")
        )
