"""oast render: the intended configuration of devices, with no device touched."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from oast.cli import arguments
from oast.cli.exits import DONE
from oast.cli.workplace import console, estate_of, plural, put_json
from oast.config.indented import printed
from oast.errors import EstateError
from oast.files import write_whole
from oast.intent.intent import Intent, IntentBuilder
from oast.records import Problem


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--out", metavar="DIR", type=Path, help="write one file for each device into DIR instead; secrets are masked")
    parser.add_argument("--trace", action="store_true", help="show for each line the template line it comes from")
    arguments.add_selection(parser)
    arguments.add_intent(parser)
    arguments.add_format(parser)
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    estate = estate_of(options)
    builder = IntentBuilder(estate, options.section)
    intents: list[Intent] = []
    problems: list[Problem] = []
    for device in builder.concerned(estate.pick(options.on)):
        try:
            intents.append(builder.build(device))
        except EstateError as error:
            problems.extend(error.problems())
    if problems:
        raise EstateError.of(problems)
    texts = {
        intent.device.name: _traced(intent, printed(intent.tree, estate.fingerprints))
        if options.trace
        else printed(intent.tree, estate.fingerprints)
        for intent in intents
    }
    if options.format == "json":
        put_json("render", 1, {"devices": [{"device": name, "text": text} for name, text in texts.items()]})
    elif options.out is not None:
        for name, text in texts.items():
            write_whole(options.out / f"{name}.txt", text)
        sys.stderr.write(f"{plural(len(texts), 'file')} in {options.out}\n")
    else:
        for name, text in texts.items():
            if len(texts) > 1:
                console().print(f"# {name}", style="bold")
            sys.stdout.write(text + ("\n" if len(texts) > 1 else ""))
            sys.stdout.flush()
    return DONE


def _traced(intent: Intent, text: str) -> str:
    """The same lines, each with its origin behind it."""
    lines = text.splitlines()
    width = min(64, max((len(line) for line in lines), default=0))
    paths = [path for path, _ in intent.tree.walk()]
    return "".join(f"{line.ljust(width)}  # {intent.place_of(path) or '?'}\n" for line, path in zip(lines, paths, strict=True))
