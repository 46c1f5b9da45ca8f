"""Anything at all, given to everything that reads what others wrote. A long run is `make fuzz`, a short one a test.

Whatever the input is: it ends within its deadline, in a result or an error in words; memory stays bounded; nothing outside
the estate is written.
"""

from __future__ import annotations

import asyncio
import os
import random
import resource
import shutil
import signal
import tempfile
import time
import traceback
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from oast.cli.estate_option import given_values
from oast.config.commands import commands_of
from oast.config.dependency_order import NoDependencyOrder, in_dependency_order
from oast.config.edits import difference
from oast.config.indented_syntax import IndentedSyntax, tree_of_device
from oast.config.syntaxes import syntax_of
from oast.config.tree import Node, canonical
from oast.connect.host_keys import KnownHosts
from oast.connect.session import AnswerLimits, CommandLineSession
from oast.connect.transcript import Transcript
from oast.errors import OastError
from oast.estate import selectors, yaml_text
from oast.estate.estate import load_estate
from oast.operations.lint import lint_estate
from oast.operations.platforms import parse_report
from oast.platforms.definition import DerivedField, ReadingDefinition
from oast.platforms.load import SHIPPED, load_platform
from oast.readings.records import records
from oast.records import Fingerprints

STARTER = Path(__file__).parent.parent / "src/oast/cli/larkwater"
DEADLINE_S = 20.0
MEMORY_BYTES = 500_000_000
SCRAPS = (
    *"{}[]:#'\"-%&*!|>@`\t \n,.=0aZ\\é\0\u2028/()<>~$^?;+", "{{", "}}", "{%", "%}", "{#", "#}", "\r\n", "\r", "../", "\ufeff", "\x1b[2J",
    "\udcff", "&a ", "*a", "<<: ", "!!python/object:os.system ", "not ", " in (", " and ", " or ", "==", "e999999", "-0", "٣", "0x", "null",
    "{% for i in range(10**9) %}", "{{ x * 10**9 }}", "{{ ''.__class__ }}", "|map('x')", "quay view| ", "quay full| ", "error: ", "[ page",
    "Privilege password: ", "\b\b", "\x07", "ssh-ed25519", "AAAA", "=", '"""', "[[", "]]", "remove ", "exit\n", "  ", "          ",
)  # fmt: skip


class Hangs(BaseException):
    """An input takes longer than any may."""


@dataclass(frozen=True)
class Target:
    """Something that reads: `samples` are right, or nearly; `read` raises OastError for what is wrong. One in `share` inputs."""

    name: str
    samples: Sequence[str]
    read: Callable[[bytes], object]
    share: int = 1


def changed(chance: random.Random, samples: Sequence[str]) -> bytes:
    """One of `samples` with something put in, taken out, repeated or nested; or bytes that are no text."""
    text = chance.choice(samples)
    for _ in range(chance.choice((1, 1, 1, 2, 3, 6))):
        at = chance.randrange(len(text) + 1)
        end = min(len(text), at + chance.choice((1, 2, 5, 20, 200)))
        kind = chance.randrange(12)
        if kind < 5:
            text = text[:at] + chance.choice(SCRAPS) + text[at:]
        elif kind < 8:
            text = text[:at] + text[end:]
        elif kind == 8:
            text = text[:end] + text[at:end] * chance.choice((1, 2, 30)) + text[end:]
        elif kind == 9:
            other = chance.choice(samples)
            text = text[:at] + other[chance.randrange(len(other) + 1) :]
        elif kind == 10:
            text = text[:at] + chance.choice(SCRAPS) * chance.choice((10, 100, 3000)) + text[at:]
        else:
            text = text[:at] + chance.choice(("9", "a", "é", " ")) * chance.choice((100, 5000)) + text[at:]
    data = (
        text.encode("utf-8", "surrogateescape")
        if chance.random() < 0.97
        else text.encode("utf-16", "surrogatepass")
    )
    return (
        data if chance.random() < 0.97 else bytes(chance.randrange(256) for _ in range(chance.randrange(200)))
    )


class _Device:
    """A transport whose device answers every line with the next of some pieces, whatever they are."""

    addresses = ("", "")

    def __init__(self, data: str, chance: random.Random) -> None:
        self._pieces = [data[n : n + 1 + chance.randrange(80)] for n in range(0, len(data), 40)] or [""]
        self._waiting = ["quay view| "]

    async def read(self) -> str:
        await asyncio.sleep(0)
        if not self._waiting:
            if not self._pieces:
                return ""
            self._waiting.append(self._pieces.pop(0))
        return self._waiting.pop(0) or "\n"

    def write(self, text: str) -> None:
        if self._pieces:
            self._waiting.append(self._pieces.pop(0))

    def end_input(self) -> None:
        return

    async def close(self) -> None:
        return


class Inputs:
    """The targets, on an estate of their own below `folder`."""

    def __init__(self, folder: Path, chance: random.Random) -> None:
        self._folder = folder
        self._chance = chance
        self._estate = folder / "estate"
        shutil.copytree(STARTER, self._estate)
        self._environment = {
            f"OAST_SECRET_{n}": "x"
            for n in ("LOGIN_PASSWORD", "PRIVILEGE_PASSWORD", "SNMP_READ", "SNMP_BILLING")
        }
        settings = self._estate / "oast.toml"
        settings.write_text(
            "".join(
                line
                for line in settings.read_text().splitlines(True)
                if "_file =" not in line and "\nfile" not in line
            )
        )
        self._platform = load_platform(SHIPPED / "bine.toml", Fingerprints(b"fuzz"))
        self._folded_platforms = {
            name: load_platform(PLATFORMS / f"{name}.toml", Fingerprints(b"fuzz")) for name in FOLDED
        }
        self._running = canonical(IndentedSyntax(self._platform).parse(self._startup()[0]).tree)

    def _startup(self) -> list[str]:
        return [path.read_text() for path in sorted((self._estate / "startup").glob("*.txt"))]

    def targets(self) -> list[Target]:
        texts = [path.read_text() for path in sorted(self._estate.rglob("*.yaml"))]
        templates = [path.read_text() for path in sorted(self._estate.rglob("*.j2"))]
        expressions = [
            "{{ device.name }}",
            "{{ ['a','b']|join }}",
            "{{ site_name ~ 7 * 3 }}",
            "{{ network.devices|length }}",
            "{{ x.y|default(3) }}",
        ]
        picks = [
            "role=core and site in (gull, tern) and not tag=frozen",
            "name=gull-*",
            "(site=heron or role=edge)",
            "not not tag=cameras",
        ]
        listings = [
            "interface   oper-state  mtu\nport1       up          9000\nport2       down        1500\n",
            '{"peers": {"192.0.2.9": {"session": {"state": "up"}}, "x": [1, {"a": null}]}}',
            *self._startup()[:2],
        ]
        key = "gull-core-1 ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIMiraMiraMiraMiraMiraMiraMiraMiraMira by Mira\n# a comment\n"
        files = {
            str(path.relative_to(self._estate)): path.read_text()
            for path in sorted(self._estate.rglob("*"))
            if path.suffix in KINDS
        }
        return [
            Target("YAML", texts, lambda data: yaml_text.parse_yaml(_text(data), "odd.yaml"), 80),
            Target("selector", picks, self._selector, 80),
            Target("device's configuration", self._startup(), self._configuration, 60),
            *(
                Target(f"configuration of {name}", listed, partial(self._folded, name), 20)
                for name, listed in FOLDED.items()
            ),
            Target("device's answers", [*listings, *self._startup()], self._answers, 60),
            Target("device's tables", listings, self._tables, 40),
            Target("known_hosts", [key * 2, key], self._known_hosts, 40),
            Target("--with", ["link_cost=7", "x={a: [1, 2]}", "a.b=true"], self._given, 20),
            Target("platform", [(SHIPPED / "bine.toml").read_text()], self._own_platform, 2),
            Target("expression", expressions, self._expression, 2),
            Target("template", templates, lambda data: self._lint("templates/bine/system.j2", data), 2),
            *(
                Target(file, [text], lambda data, file=file: self._lint(file, data), 1)
                for file, text in files.items()
                if "startup" not in file
            ),  # type: ignore[misc]
        ]

    def _selector(self, data: bytes) -> None:
        attributes = {"gull-core-1": {"name": ["gull-core-1"], "site": ["gull"], "role": ["core"], "tag": []}}
        selectors.parse_selector(_text(data)).pick(attributes)  # type: ignore[arg-type]

    def _configuration(self, data: bytes) -> None:
        syntax = IndentedSyntax(self._platform)
        syntax.parse(_text(data))
        running = tree_of_device(syntax, _text(data))
        try:
            made: Sequence[Any] = commands_of(
                in_dependency_order(difference(running, self._running), running=running), self._platform
            )
        except NoDependencyOrder:
            return
        for command in made:
            command.line.written()
        _walk(running)

    def _folded(self, name: str, data: bytes) -> None:
        platform = self._folded_platforms[name]
        syntax = syntax_of(platform)
        list(syntax.lines_of(_text(data)))
        parse_report(syntax, _text(data))
        running, wanted = tree_of_device(syntax, _text(data)), canonical(syntax.parse(FOLDED[name][0]).tree)
        with suppress(NoDependencyOrder):
            for command in commands_of(
                in_dependency_order(difference(running, wanted), running=running), platform
            ):
                command.line.written()

    def _answers(self, data: bytes) -> None:
        async def ask() -> None:
            limits = AnswerLimits(0.05, 0.2, 50_000)
            device = _Device(data.decode("utf-8", "replace"), self._chance)
            session = CommandLineSession(device, self._platform, limits, (), Transcript(time.monotonic))  # type: ignore[arg-type]
            try:
                await session.start()
                await session.read_running()
                await session.gain_privilege()
                await session.ask("read interfaces")
            finally:
                await session.close()

        asyncio.run(ask())

    def _tables(self, data: bytes) -> None:
        for reading in (*self._platform.readings.values(), *READINGS):
            records(data.decode("utf-8", "replace"), reading)

    def _known_hosts(self, data: bytes) -> None:
        path = self._folder / "known_hosts"
        path.write_bytes(data)
        KnownHosts(path).of("gull-core-1")

    def _given(self, data: bytes) -> None:
        class Options:
            given = (_text(data),)

        given_values(Options())  # type: ignore[arg-type]

    def _own_platform(self, data: bytes) -> None:
        path = self._folder / "own.toml"
        path.write_bytes(data)
        load_platform(path, Fingerprints(b"fuzz"))

    def _expression(self, data: bytes) -> None:
        with self._written(
            "values/zz.yaml", b"everywhere:\n  odd: " + repr(_text(data)).encode("utf-8", "replace") + b"\n"
        ):
            estate = load_estate(self._estate, self._environment)
            estate.values_of(next(iter(estate.devices.values())))

    def _lint(self, file: str, data: bytes) -> None:
        with self._written(file, data):
            lint_estate(self._estate, self._environment, trace=self._chance.random() < 0.1)

    @contextmanager
    def _written(self, file: str, data: bytes) -> Iterator[None]:
        path = self._estate / file
        before = path.read_bytes() if path.exists() else None
        path.write_bytes(data)
        try:
            yield
        finally:
            if before is None:
                path.unlink()
            else:
                path.write_bytes(before)


PLATFORMS = Path(__file__).parent / "data" / "platforms"
FOLDED = {
    "eider": [
        '/system/contact = "night desk"\n/system/server = 192.0.2.1\n/interfaces/interface[name=p1]/address[prefix=192.0.2.1/24]\n// x\n'
        "/interfaces/interface[name='p1']/guard\n/odd/thing[a=b]/c = d\n/vlans/vlan[id=7]/name = x\n",
        "/interfaces/interface[name=p1]/access-vlan = 7\n/vlans/vlan[id=7]\n/system/key = kelp\n",
    ],
    "dotterel": [
        'name a; % x\nresolver { server [ 192.0.2.1 192.0.2.2 ]; }\nport quay/1 { text "to the pier"; odd { thing 7; } }\npeer 192.0.2.9 as 77;\n',
        "list in { rule 10 drop from 10.0.0.0/8; rule 20 accept logged; }\nwatch kelp; /* gone */ port a/1;\n",
    ],
}
READINGS = (
    ReadingDefinition(
        "x",
        {"mtu": "mtu", "oper-state": "state", "interface": "name"},
        right=frozenset(("mtu",)),
        continues=True,
    ),
    ReadingDefinition("x", records="peers", key="address", picks={"state": "session.state"}),
    ReadingDefinition(
        "x",
        begins="^i",
        patterns={"name": r"(\S+)", "mtu": "(9000)"},
        derived={"up": DerivedField("name", "p(.*)")},
    ),
)
KINDS = (".yaml", ".csv", ".toml", ".j2")


def _text(data: bytes) -> str:
    return data.decode("utf-8", "replace")


def _walk(node: Node) -> None:
    for _, below in node.walk():
        str(below.text)


def run(number: int, seed: int, share: int = 1, of: int = 1) -> list[str]:
    """`number` inputs by `seed`; of several runs side by side, each takes its `share`. What was found, each with its input."""
    found: list[str] = []
    with tempfile.TemporaryDirectory(prefix="oast-fuzz-") as name:
        folder = Path(name)
        inputs = Inputs(folder, random.Random(seed))
        targets = inputs.targets()
        weights = [target.share for target in targets]
        before = _outside(folder)
        with _alarm():
            for count in range(share, number, of):
                chance = random.Random(seed * 1_000_003 + count)
                target = chance.choices(targets, weights)[0]
                data = changed(chance, target.samples)
                said = tried(target, data)
                if said is not None:
                    found.append(f"{target.name}, seed {seed}, input {count}: {said}\n    {data[:300]!r}")
        if _outside(folder) != before:
            found.append(f"files outside of the estate: {_outside(folder) ^ before}")
    used = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
    if used > MEMORY_BYTES:
        found.append(f"{used} bytes of memory")
    return found


def tried(target: Target, data: bytes) -> str | None:
    """What is wrong with how `target` takes `data`, if anything."""
    signal.setitimer(signal.ITIMER_REAL, DEADLINE_S)
    try:
        target.read(data)
    except OastError as error:
        for problem in error.problems():
            if not problem.message or "Traceback" in problem.message:
                return f"an error that says nothing: {problem}"
    except Hangs:
        return f"it takes more than {DEADLINE_S:g} s"
    except RecursionError:
        return "RecursionError"
    except Exception as error:
        where = traceback.extract_tb(error.__traceback__)[-1]
        return f"{type(error).__name__}: {str(error)[:200]} ({where.filename}:{where.lineno})"
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
    return None


def _outside(folder: Path) -> set[str]:
    """What stands beside the estate, and in the folder one is in."""
    return {str(path) for place in (folder, Path.cwd()) for path in place.glob("*")} - {
        str(folder / name) for name in ("known_hosts", "own.toml")
    }


@contextmanager
def _alarm() -> Iterator[None]:
    def late(number: int, frame: object) -> None:
        raise Hangs

    before = signal.signal(signal.SIGALRM, late)
    try:
        yield
    finally:
        signal.signal(signal.SIGALRM, before)


def side_by_side(number: int, seed: int, processes: int) -> list[str]:
    """`run` in several processes at once."""
    pipes = []
    for share in range(processes):
        reading, writing = os.pipe()
        if os.fork() == 0:
            code = 1
            try:
                os.close(reading)
                with os.fdopen(writing, "w", encoding="utf-8", errors="replace") as out:
                    out.write("\0".join(run(number, seed, share, processes)))
                code = 0
            finally:
                os._exit(code)
        os.close(writing)
        pipes.append(reading)
    found: list[str] = []
    for pipe in pipes:
        with os.fdopen(pipe, encoding="utf-8") as answer:
            found += [text for text in answer.read().split("\0") if text]
    for _ in pipes:
        _, status = os.wait()
        if status:
            found.append(f"a run ended with status {status}")
    return found
