"""Files that hold anything at all: every mistake is told as one, none is a fault of the program, and nothing is lost."""

from __future__ import annotations

import contextlib
import copy
import io
import random
import re
from collections.abc import Iterator
from typing import Any

import yaml

from larkwater import EstateTest
from oast.cli.exit_codes import DONE, INVALID
from oast.cli.main import main

ODD: tuple[Any, ...] = (
    5,
    -1,
    1.5,
    "x",
    "",
    "{{ x }}",
    "a: b",
    [1],
    ["a", ["b"]],
    [],
    {"a": 1},
    {},
    None,
    True,
)
SCRAPS = (
    *"{}[]:#'\"-%&*!|>@`\t \n,.=0aZ\\é\0\u2028/",
    "{{",
    "}}",
    "{%",
    "%}",
    "{#",
    "#}",
    "\r\n",
    "9" * 20,
    "../",
    "\ufeff",
)
ROUNDS = 12

Path = tuple[Any, ...]


def places(value: Any, path: Path = ()) -> Iterator[Path]:
    """Where something stands in nested mappings and lists."""
    yield path
    for key in value if isinstance(value, dict) else range(len(value)) if isinstance(value, list) else ():
        yield from places(value[key], (*path, key))


def replaced(value: Any, path: Path, new: Any) -> Any:
    if not path:
        return new
    whole = inner = copy.deepcopy(value)
    for key in path[:-1]:
        inner = inner[key]
    inner[path[-1]] = new
    return whole


class OddInputTest(EstateTest):
    def check(self, file: str, text: str) -> None:
        """Lint, explain and render with `text` in a file; each ends with 0 or 3 and says what is wrong."""
        path = self.estate / file
        before = path.read_bytes()
        path.write_bytes(text.encode())
        for command in (["lint", "--trace"], ["explain", "gull-core-1"], ["render", "-q"]):
            out, err = io.StringIO(), io.StringIO()
            with (
                contextlib.redirect_stdout(out),
                contextlib.redirect_stderr(err),
                self.subTest(file=file, command=command, text=text),
            ):
                code = main([*command, "--estate", str(self.estate)])
                self.assertIn(code, (DONE, INVALID), err.getvalue())
                self.assertTrue(out.getvalue() or err.getvalue())
        self.assertEqual(path.read_bytes(), text.encode(), "the file is left as it was written")
        path.write_bytes(before)

    def test_another_kind_of_value_at_any_place(self) -> None:
        chance = random.Random(2026)
        files = [
            str(path.relative_to(self.estate))
            for path in sorted(self.estate.rglob("*.yaml"))
            if path.name != "network.yaml" or path.parent != self.estate
        ]
        templates = [str(path.relative_to(self.estate)) for path in sorted(self.estate.rglob("*.j2"))]
        for _ in range(ROUNDS):
            file = chance.choice(files + templates)
            text = (self.estate / file).read_text()
            header = re.match(r"\{#(.*?)#\}", text, re.DOTALL) if file in templates else None
            data = yaml.safe_load(header[1] if header else text)
            new = yaml.safe_dump(
                replaced(data, chance.choice(list(places(data))), chance.choice(ODD)), sort_keys=False
            )
            self.check(file, "{#\n" + new + "#}" + text[header.end() :] if header else new)

    def test_anything_put_in_or_taken_out_anywhere(self) -> None:
        chance = random.Random(2027)
        kinds = (".yaml", ".csv", ".toml", ".j2")
        files = [
            str(path.relative_to(self.estate))
            for path in sorted(self.estate.rglob("*"))
            if path.suffix in kinds
        ]
        for _ in range(ROUNDS):
            file = chance.choice(files)
            text = (self.estate / file).read_text()
            for _ in range(chance.choice((1, 1, 2, 4))):
                at = chance.randrange(len(text) + 1)
                gone = chance.choice((0, 0, 1, 5))
                text = text[:at] + (chance.choice(SCRAPS) if not gone else "") + text[at + gone :]
            self.check(file, text)
