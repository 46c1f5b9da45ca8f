"""oast render: the intended configuration of devices, with no device touched."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path

from oast.cli import arguments
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE
from oast.cli.output import console, plural, print_json, print_table, table
from oast.cli.terminal import visible
from oast.config import IndentedSyntax
from oast.estate import Device, describe_value
from oast.files import write_whole
from oast.intent import Intent, IntentBuilder, Variable
from oast.operations import render


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--out",
        metavar="DIR",
        type=Path,
        help="write one file for each device into DIR instead; secrets are masked",
    )
    parser.add_argument(
        "--describe",
        action="store_true",
        help="list the variables that the sections take, instead of rendering",
    )
    parser.add_argument(
        "--trace", action="store_true", help="show for each line the template line it comes from"
    )
    arguments.add_selection(parser)
    arguments.add_intent(parser)
    arguments.add_format(parser)
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    estate = estate_of(options)
    if options.describe:
        builder = IntentBuilder(estate, options.section)
        return _describe(builder, builder.concerned(estate.pick(options.on, everything=True)), options)
    prepared = render(estate, options.on, options.section)
    texts = {}
    for intent in prepared.intents:
        syntax = prepared.syntax_of(intent)
        texts[intent.device.name] = _traced(intent, syntax) if options.trace else syntax.masked(intent.tree)
    if options.format == "json":
        print_json("render", 1, {"devices": [{"device": name, "text": text} for name, text in texts.items()]})
    elif options.out is not None:
        for name, text in texts.items():
            write_whole(options.out / f"{name}.txt", text)
        sys.stderr.write(f"{plural(len(texts), 'file')} in {options.out}\n")
    else:
        for name, text in texts.items():
            if len(texts) > 1:
                console().print(f"# {name}", style="bold")
            sys.stdout.write(
                (visible(text) if sys.stdout.isatty() else text) + ("\n" if len(texts) > 1 else "")
            )
            sys.stdout.flush()
    return DONE


def _describe(builder: IntentBuilder, devices: Sequence[Device], options: argparse.Namespace) -> int:
    templates = {template.file: template for device in devices for template in builder.templates_of(device)}
    rows = [
        (template, key, variable)
        for template in templates.values()
        for name, top in (template.variables or {}).items()
        for key, variable in _with_parts(name, top)
    ]
    if options.format == "json":
        documents = [
            {"template": t.file, "variable": key, **dict(zip(_COLUMNS, _row(v), strict=True))}
            for t, key, v in rows
        ]
        print_json("describe", 1, {"variables": documents})
        return DONE
    listing = table("section", "variable", *_COLUMNS, whole=("section", "variable", "given"))
    for template, key, variable in rows:
        listing.add_row(template.section, key, *_row(variable))
    print_table(console(), listing)
    return DONE


_COLUMNS = ("takes", "given", "help")


def _with_parts(key: str, variable: Variable) -> Iterator[tuple[str, Variable]]:
    """A variable, then its fields and those of its items."""
    yield key, variable
    inner = f"{key}[]" if variable.of is not None else key
    for name, part in (variable.of or variable).fields.items():
        yield from _with_parts(f"{inner}.{name}", part)


def _row(variable: Variable) -> tuple[str, str, str]:
    given = (
        f"default {describe_value(variable.default)}"
        if variable.has_default
        else "required"
        if variable.required
        else "optional"
    )
    return variable.described, given, variable.help


def _traced(intent: Intent, syntax: IndentedSyntax) -> str:
    """The lines, each with its origin behind it."""
    lines = [(line.masked, path) for line, path in syntax.printed(intent.tree)]
    width = min(64, max((len(line) for line, _ in lines), default=0))
    return "".join(f"{line.ljust(width)}  # {intent.place_of(path) or '?'}\n" for line, path in lines)
