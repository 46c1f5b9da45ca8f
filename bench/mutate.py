"""`make mutate`: change one rule of the code at a time, and count which changes the fast tests notice.

Each mutant is one small change of a module of `change/`, `config/` or `intent/`: a comparison turned round,
`and` for `or`, a `not` left out, a condition for raising that never holds, a truth value reversed. First
every fast test runs once and the functions that it calls are noted; against a mutant run those tests that
call its function, the shortest first, until one fails. A mutant that none notices is printed with its file
and line.
    python bench/mutate.py [--each N] [--seed N] [--jobs N] [--recorded FILE] [WORD ...]
Words choose modules by a part of their path.
"""

from __future__ import annotations

import argparse
import ast
import faulthandler
import importlib
import importlib.abc
import importlib.util
import io
import os
import pickle
import random
import signal
import sys
import tempfile
import threading
import time
import unittest
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from types import FrameType, ModuleType
from typing import Any

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "oast"
TESTS = ROOT / "tests"
PACKAGES = ("change", "config", "intent")
# A mutant may loop without end; all tests of a function together take a fraction of this.
LONGEST_S = 240
# The tests of one mutant take this long together, the shortest first: those notice what can be noticed.
ENOUGH_S = 40.0
# The modules of tests that start no program.
FAST = (
    "test_any_platform",
    "test_config_laws",
    "test_config_text",
    "test_delivery_methods",
    "test_entries",
    "test_estate",
    "test_file_edits",
    "test_filters",
    "test_ledger",
    "test_lint",
    "test_locks",
    "test_management_access",
    "test_netconf",
    "test_output_size",
    "test_records",
    "test_rehearsal",
    "test_rollback_ignored",
    "test_safety_rules",
    "test_sandbox",
    "test_scopes",
    "test_secret_text",
    "test_syntaxes",
    "test_thirty_mistakes",
    "test_timer_extension",
    "test_transaction_states",
    "test_values",
    "test_variables",
    "test_watching",
    "test_ways",
)
# What takes long to import and is never changed: imported once, before the first fork.
IMPORTED = (
    "asyncssh",
    "hypothesis.stateful",
    "jinja2",
    "lxml.etree",
    "rich.console",
    "yaml",
    "unittest.mock",
)
# No process holds the pipe of another one open.
FORKING = threading.Lock()
SWAPPED: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
}


@dataclass(frozen=True)
class Mutant:
    """One change: the file, the number of the place in its tree, its line, what is changed, and the first
    line of its function."""

    path: Path
    number: int
    line: int
    change: str
    function: int

    @property
    def module(self) -> str:
        return ".".join(self.path.relative_to(ROOT / "src").with_suffix("").parts)


@dataclass(frozen=True)
class TestRun:
    """One test that passed without a mutant: its seconds, and the functions that it called, each by file and
    first line."""

    name: str
    seconds: float
    called: frozenset[tuple[str, int]]

    def executes(self, mutant: Mutant) -> bool:
        """Whether it calls the mutant's function, or any of its module for a mutant outside all functions."""
        if mutant.function:
            return (str(mutant.path), mutant.function) in self.called
        return any(path == str(mutant.path) for path, _ in self.called)


class Mutator(ast.NodeTransformer):
    """Finds every place that can be changed, and changes the one of that `number`."""

    def __init__(self, number: int | None = None) -> None:
        self.number = number
        self.places: list[tuple[int, str]] = []

    def _is_it(self, node: ast.expr | ast.stmt, change: str) -> bool:
        self.places.append((node.lineno, change))
        return len(self.places) - 1 == self.number

    def visit_Compare(self, node: ast.Compare) -> ast.AST:
        self.generic_visit(node)
        swapped = SWAPPED.get(type(node.ops[0]))
        if swapped is not None and self._is_it(node, f"{type(node.ops[0]).__name__} -> {swapped.__name__}"):
            node.ops[0] = swapped()
        return node

    def visit_BoolOp(self, node: ast.BoolOp) -> ast.AST:
        self.generic_visit(node)
        other = ast.Or if isinstance(node.op, ast.And) else ast.And
        if self._is_it(node, f"{type(node.op).__name__} -> {other.__name__}"):
            node.op = other()
        return node

    def visit_UnaryOp(self, node: ast.UnaryOp) -> ast.AST:
        self.generic_visit(node)
        return node.operand if isinstance(node.op, ast.Not) and self._is_it(node, "not x -> x") else node

    def visit_If(self, node: ast.If) -> ast.AST:
        self.generic_visit(node)
        if any(isinstance(step, ast.Raise) for step in node.body) and self._is_it(
            node, "the error is never raised"
        ):
            node.test = ast.copy_location(ast.Constant(False), node.test)
        return node

    def visit_Return(self, node: ast.Return) -> ast.AST:
        self.generic_visit(node)
        value = node.value
        if (
            isinstance(value, ast.Constant)
            and isinstance(value.value, bool)
            and self._is_it(node, "the truth reversed")
        ):
            node.value = ast.copy_location(ast.Constant(not value.value), value)
        return node


class MutatedModule(importlib.abc.MetaPathFinder, importlib.abc.Loader):
    """Imports one module with its mutant."""

    def __init__(self, mutant: Mutant) -> None:
        self._mutant = mutant

    def find_spec(self, fullname: str, path: object, target: object = None) -> Any:
        if fullname != self._mutant.module:
            return None
        return importlib.util.spec_from_loader(fullname, self, origin=str(self._mutant.path))

    def exec_module(self, module: ModuleType) -> None:
        path = str(self._mutant.path)
        module.__file__ = path
        tree = ast.parse(self._mutant.path.read_text(encoding="utf-8"))
        changed = Mutator(self._mutant.number).visit(tree)
        exec(compile(ast.fix_missing_locations(changed), path, "exec"), module.__dict__)


class FunctionsCalled:
    """Notes the functions of the three packages that are called between `begin` and `end`."""

    def __init__(self) -> None:
        self._called: set[tuple[str, int]] = set()
        self._prefixes = tuple(f"{SOURCE / package}{os.sep}" for package in PACKAGES)

    def begin(self) -> None:
        self._called = set()
        threading.setprofile(self._note)
        sys.setprofile(self._note)

    def end(self) -> frozenset[tuple[str, int]]:
        sys.setprofile(None)
        threading.setprofile(None)  # type: ignore[arg-type]
        return frozenset(self._called)

    def _note(self, frame: FrameType, event: str, argument: object) -> None:
        code = frame.f_code
        if event == "call" and code.co_filename.startswith(self._prefixes):
            self._called.add((code.co_filename, code.co_firstlineno))


def function_at(tree: ast.Module, line: int) -> int:
    """The first line of the innermost function around a line; 0 outside of every function."""
    found = 0
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) and node.lineno <= line <= (
            node.end_lineno or 0
        ):
            found = max(found, min((node.lineno, *(one.lineno for one in node.decorator_list))))
    return found


def mutants(each: int, seed: int, words: Sequence[str]) -> Iterator[Mutant]:
    """Up to `each` mutants of every module, drawn by `seed`."""
    for package in PACKAGES:
        for path in sorted((SOURCE / package).rglob("*.py")):
            name = str(path.relative_to(SOURCE))
            if path.name == "__init__.py" or (words and not any(word in name for word in words)):
                continue
            tree = ast.parse(path.read_text(encoding="utf-8"))
            finder = Mutator()
            finder.visit(tree)
            drawn = random.Random(f"{seed} {name}").sample(
                range(len(finder.places)), min(each, len(finder.places))
            )
            for number in sorted(drawn):
                line, change = finder.places[number]
                yield Mutant(path, number, line, change, function_at(tree, line))


def in_fork(work: Callable[[], Any]) -> Any:
    """What `work` returns in a process of its own; None if it failed or took too long."""
    with FORKING:
        reading, writing = os.pipe()
        child = os.fork()
        if child:
            os.close(writing)
    if not child:
        try:
            os.close(reading)
            os.setsid()
            signal.alarm(LONGEST_S)
            with Path(os.devnull).open("r+b") as nothing:
                for number in (0, 1, 2):
                    os.dup2(nothing.fileno(), number)
            done = pickle.dumps(work())
            with os.fdopen(writing, "wb") as pipe:
                pipe.write(done)
        finally:
            os._exit(0)
    with os.fdopen(reading, "rb") as pipe:
        answer = pipe.read()
    os.waitpid(child, 0)
    # Whatever its tests have started ends with it.
    with suppress(OSError):
        os.killpg(child, signal.SIGKILL)
    return pickle.loads(answer) if answer else None


def prepare() -> None:
    """The same examples of properties in every run."""
    import hypothesis

    hypothesis.settings.register_profile(
        "same", derandomize=True, database=None, deadline=None, max_examples=30
    )
    hypothesis.settings.load_profile("same")


def tests_of(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    for one in suite:
        if isinstance(one, unittest.TestSuite):
            yield from tests_of(one)
        else:
            yield one


def passes(test: unittest.TestCase) -> bool:
    """Whether it passes, with what its class and module set up."""
    return unittest.TextTestRunner(stream=io.StringIO()).run(unittest.TestSuite([test])).wasSuccessful()


def runs_of(module: str) -> list[TestRun]:
    """Every test of a module that passes."""
    prepare()
    noted, found = FunctionsCalled(), []
    for test in tests_of(unittest.defaultTestLoader.loadTestsFromName(module)):
        name = test.id()
        began = time.monotonic()
        noted.begin()
        is_passed = passes(test)
        called = noted.end()
        if not is_passed:
            raise AssertionError(f"{name} fails without a mutant")
        found.append(TestRun(name, time.monotonic() - began, called))
    return found


def is_noticed(mutant: Mutant, runs: Sequence[TestRun]) -> bool:
    """Whether a test that calls the mutant's function fails with it, or never ends."""
    concerned = sorted((one for one in runs if one.executes(mutant)), key=lambda one: one.seconds)
    chosen, seconds = [], 0.0
    for one in concerned:
        seconds += one.seconds
        if chosen and seconds > ENOUGH_S:
            break
        chosen.append(one.name)
    if not chosen:
        return False

    def work() -> bool:
        prepare()
        sys.meta_path.insert(0, MutatedModule(mutant))
        try:
            return all(
                passes(test)
                for name in chosen
                for test in tests_of(unittest.defaultTestLoader.loadTestsFromName(name))
            )
        except BaseException:
            return False

    return in_fork(work) is not True


def record(jobs: int) -> list[TestRun]:
    """Every fast test, see `runs_of`.

    Raises SystemExit if one fails without a mutant.
    """
    with ThreadPoolExecutor(jobs) as threads:
        recorded = list(threads.map(lambda module: in_fork(lambda: runs_of(module)), FAST))
    for module, runs in zip(FAST, recorded, strict=True):
        if runs is None:
            sys.exit(f"a test of {module} fails without any mutant")
    return [run for runs in recorded for run in runs]


def score(results: Mapping[str, Sequence[bool]]) -> Iterator[str]:
    """The lines of the score: every module, every package, and the whole."""
    for module, noticed in results.items():
        yield f"{module:48} {sum(noticed):3} of {len(noticed):3}"
    for package in (*PACKAGES, ""):
        every = [
            one
            for module, noticed in results.items()
            if module.startswith(f"oast.{package}")
            for one in noticed
        ]
        if every:
            share = 100 * sum(every) / len(every)
            yield f"{package or 'all'}: {sum(every)} of {len(every)} noticed ({share:.0f} %)"


def main() -> int:
    parser = argparse.ArgumentParser(description="Count which changes of the code the fast tests notice.")
    parser.add_argument(
        "--each", metavar="N", type=int, default=3, help="mutants of each module (default: 3)"
    )
    parser.add_argument("--seed", metavar="N", type=int, default=1, help="draws the mutants (default: 1)")
    parser.add_argument(
        "--jobs",
        metavar="N",
        type=int,
        default=os.cpu_count() or 1,
        help="processes at the same time (default: all processors)",
    )
    parser.add_argument(
        "--recorded",
        metavar="FILE",
        type=Path,
        help="which test calls what, from a run before; a file that does not exist is written",
    )
    parser.add_argument(
        "words", metavar="WORD", nargs="*", help="only modules whose path contains one of the words"
    )
    options = parser.parse_args()
    faulthandler.enable()
    sys.path[:0] = [str(TESTS), str(ROOT / "src")]
    os.environ["PYTHONPATH"] = str(ROOT / "src")
    os.environ["PYTHONDONTWRITEBYTECODE"] = "1"
    for name in IMPORTED:
        importlib.import_module(name)
    began = time.monotonic()
    noticed: dict[str, list[bool]] = {}
    with tempfile.TemporaryDirectory(
        prefix="oast-mutate-", dir="/dev/shm" if Path("/dev/shm").is_dir() else None
    ) as folder:
        tempfile.tempdir = folder
        if options.recorded and options.recorded.exists():
            runs = pickle.loads(options.recorded.read_bytes())
        else:
            runs = record(options.jobs)
            if options.recorded:
                options.recorded.write_bytes(pickle.dumps(runs))
        sys.stdout.write(f"{len(runs)} tests, {sum(one.seconds for one in runs):.0f} s\n")
        chosen = list(mutants(options.each, options.seed, options.words))
        with ThreadPoolExecutor(options.jobs) as threads:
            for mutant, found in zip(
                chosen, threads.map(lambda one: is_noticed(one, runs), chosen), strict=True
            ):
                noticed.setdefault(mutant.module, []).append(found)
                verdict = "noticed" if found else "MISSED"
                sys.stdout.write(
                    f"{verdict}: {mutant.path.relative_to(ROOT)}:{mutant.line}: {mutant.change}\n"
                )
                sys.stdout.flush()
    for line in score(noticed):
        sys.stdout.write(f"{line}\n")
    sys.stdout.write(f"{time.monotonic() - began:.0f} s\n")
    return 0


if __name__ == "__main__":
    sys.exit(main())
