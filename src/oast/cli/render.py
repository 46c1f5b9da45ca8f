"""oast render: the intended configuration of devices, with no device touched."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from oast.cli.command import Subcommand, flag, option
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE
from oast.cli.output import console, plural, print_json, print_table, table
from oast.cli.shared_options import EstateOptions, FormatOptions, IntentOptions, SelectionOptions
from oast.cli.terminal import visible
from oast.config import IndentedSyntax
from oast.estate import Device, describe_value
from oast.files import write_whole
from oast.intent import Intent, IntentBuilder, Variable
from oast.operations import render


@dataclass(frozen=True, kw_only=True)
class RenderOptions(SelectionOptions, IntentOptions, FormatOptions, EstateOptions):
    """The options of `oast render`."""

    out: Path | None = option(
        "--out", metavar="DIR", type=Path, help="write one file per device into DIR; secrets are masked"
    )
    describe: bool = flag("--describe", help="list the variables of the sections instead of rendering")
    trace: bool = flag("--trace", help="show the template line that each line comes from")


def run(options: RenderOptions) -> int:
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


def _describe(builder: IntentBuilder, devices: Sequence[Device], options: RenderOptions) -> int:
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


COMMAND = Subcommand(
    RenderOptions,
    run,
    examples=(
        ("oast render --on name=gull-core-1", "show the intended configuration of one device"),
        ("oast render --section ntp --trace", "show one section, with the template line of each line"),
        ("oast render --describe --section ntp", "list the variables of a section"),
    ),
)
