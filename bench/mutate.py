"""`make mutate`: change one rule of the code at a time, and count which changes the fast tests notice.

Each mutant is one small change of a module of `change/`, `config/` or `intent/`: a comparison turned round,
`and` for `or`, a `not` left out, a condition for raising that never holds, a truth value reversed. The tests
without a network run against it in a process of their own, until the first fails. A mutant that no test
notices
says so with its file and line.
    python bench/mutate.py [--each N] [--seed N] [--jobs N] [WORD ...]      only modules with one of the words
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "oast"
TESTS = ROOT / "tests"
PACKAGES = ("change", "config", "intent")
# A mutant may loop without end; the slowest test takes a fraction of this.
LONGEST_S = 240
# The tests that are about a package and start no program, the shortest first.
FAST = {
    "change": (
        "test_watching",
        "test_locks",
        "test_safety_rules",
        "test_rehearsal",
        "test_netconf",
        "test_timer_extension",
        "test_rollback_ignored",
        "test_management_access",
        "test_transaction_states",
        "test_ways.WaysTest",
        "test_ledger",
    ),
    "config": (
        "test_filters",
        "test_entries",
        "test_config_text",
        "test_safety_rules",
        "test_any_platform",
        "test_syntaxes",
        "test_file_edits",
        "test_scopes",
        "test_config_laws",
        "test_netconf",
    ),
    "intent": (
        "test_thirty_mistakes",
        "test_safety_rules",
        "test_secret_text",
        "test_values",
        "test_lint",
        "test_estate",
        "test_sandbox",
        "test_output_size",
        "test_variables",
    ),
}
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
    """One change: the file, the number of the place in its tree, the line, and what is changed."""

    path: Path
    number: int
    line: int
    change: str

    @property
    def module(self) -> str:
        return ".".join(self.path.relative_to(ROOT / "src").with_suffix("").parts)


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


def mutants(each: int, seed: int, words: Sequence[str]) -> Iterator[Mutant]:
    """Up to `each` mutants of every module, drawn by `seed`."""
    for package in PACKAGES:
        for path in sorted((SOURCE / package).rglob("*.py")):
            name = str(path.relative_to(SOURCE))
            if path.name == "__init__.py" or (words and not any(word in name for word in words)):
                continue
            finder = Mutator()
            finder.visit(ast.parse(path.read_text(encoding="utf-8")))
            drawn = random.Random(f"{seed} {name}").sample(
                range(len(finder.places)), min(each, len(finder.places))
            )
            yield from (Mutant(path, number, *finder.places[number]) for number in sorted(drawn))


def tests_for(mutant: Mutant) -> tuple[str, ...]:
    """The fast tests that are about the mutant's package."""
    return FAST[mutant.module.split(".")[1]]


RUNNER = """
import ast, importlib.abc, importlib.util, io, sys, unittest
sys.path[:0] = [{tests!r}, {bench!r}, {source!r}]
import mutate

class Finder(importlib.abc.MetaPathFinder, importlib.abc.Loader):
    def find_spec(self, name, path, target=None):
        return importlib.util.spec_from_loader(name, self, origin={path!r}) if name == {module!r} else None

    def exec_module(self, module):
        module.__file__ = {path!r}
        tree = ast.parse(open({path!r}, encoding="utf-8").read())
        changed = mutate.Mutator({number}).visit(tree)
        exec(compile(ast.fix_missing_locations(changed), {path!r}, "exec"), module.__dict__)

sys.meta_path.insert(0, Finder())
import hypothesis
hypothesis.settings.register_profile("same", derandomize=True, database=None, deadline=None, max_examples=30)
hypothesis.settings.load_profile("same")
suite = unittest.defaultTestLoader.loadTestsFromNames({names!r})
result = unittest.TextTestRunner(stream=io.StringIO(), failfast=True).run(suite)
sys.exit(0 if result.wasSuccessful() else 1)
"""


def is_noticed(mutant: Mutant | None, names: Sequence[str]) -> bool:
    """Whether a test fails, or never ends, with the mutant; with None, whether one fails without any."""
    path, module, number = (
        ("", "", -1) if mutant is None else (str(mutant.path), mutant.module, mutant.number)
    )
    code = RUNNER.format(
        tests=str(TESTS),
        bench=str(ROOT / "bench"),
        source=str(ROOT / "src"),
        path=path,
        module=module,
        number=number,
        names=list(names),
    )
    try:
        done = subprocess.run(
            [sys.executable, "-W", "ignore", "-c", code],
            capture_output=True,
            timeout=LONGEST_S,
            cwd=TESTS,
            env={**os.environ, "PYTHONDONTWRITEBYTECODE": "1"},
            check=False,
        )
    except subprocess.TimeoutExpired:
        return True
    return done.returncode != 0


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
        "words", metavar="WORD", nargs="*", help="only modules whose path contains one of the words"
    )
    options = parser.parse_args()
    for package, names in FAST.items():
        sys.stdout.write(f"{package}: {', '.join(names)}\n")
        if is_noticed(None, names):
            sys.stdout.write("a test fails without any mutant\n")
            return 1
    began = time.monotonic()
    chosen = list(mutants(options.each, options.seed, options.words))
    noticed: dict[str, list[bool]] = {}
    with ThreadPoolExecutor(options.jobs) as threads:
        for mutant, found in zip(
            chosen, threads.map(lambda one: is_noticed(one, tests_for(one)), chosen), strict=True
        ):
            noticed.setdefault(mutant.module, []).append(found)
            verdict = "noticed" if found else "MISSED"
            sys.stdout.write(f"{verdict}: {mutant.path.relative_to(ROOT)}:{mutant.line}: {mutant.change}\n")
            sys.stdout.flush()
    for module, results in noticed.items():
        sys.stdout.write(f"{module:48} {sum(results):3} of {len(results):3}\n")
    every = [result for results in noticed.values() for result in results]
    sys.stdout.write(
        f"{sum(every)} of {len(every)} noticed ({100 * sum(every) / max(1, len(every)):.0f} %),"
        f" {time.monotonic() - began:.0f} s\n"
    )
    return 0


if __name__ == "__main__":
    sys.exit(main())
