"""oast explain: every value of a device with the chain of where it came from and what it overrode."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from rich.text import Text

from oast.cli.command import Subcommand, argument
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE
from oast.cli.output import console, print_json
from oast.cli.shared_options import EstateOptions, FormatOptions, GivenOptions
from oast.estate import Explained, Origin, describe_value, explain, masked


@dataclass(frozen=True, kw_only=True)
class ExplainOptions(GivenOptions, FormatOptions, EstateOptions):
    """The options of `oast explain`."""

    device: str = argument("DEVICE", help="name of the device")
    key: str | None = argument(
        "KEY", nargs="?", help="value, such as management.port, or a group of values (default: all)"
    )


def run(options: ExplainOptions) -> int:
    estate = estate_of(options)
    explained = explain(estate, estate.device(options.device), options.key)
    if options.format == "json":
        print_json("explain", 1, {"device": options.device, "values": [_document(e) for e in explained]})
        return DONE
    out = console()
    for one in explained:
        out.print(Text.assemble((one.key, "bold"), f" = {describe_value(one.value)}"))
        width = max(len(str(origin.place)) for origin in one.origins)
        for number, origin in enumerate(reversed(one.origins)):
            out.print(_line(origin, width, _told(one, origin, number)))
    return DONE


def _told(one: Explained, origin: Origin, number: int) -> str:
    if origin.extends:
        return f"appended {describe_value(origin.written)}"
    if number == 0:
        return (
            ""
            if describe_value(origin.written) == describe_value(one.value)
            else f"written as {describe_value(origin.written)}"
        )
    above = one.origins[len(one.origins) - number :]
    return (
        f"{describe_value(origin.written)}, extended"
        if all(o.extends for o in above)
        else f"{describe_value(origin.written)}, overridden"
    )


def _line(origin: Origin, width: int, told: str) -> Text:
    line = Text(f"  {str(origin.place).ljust(width)}  {origin.source}")
    if told:
        line.append(f"  ({told})", style="dim")
    return line


def _document(one: Explained) -> dict[str, Any]:
    return {
        "key": one.key,
        "value": masked(one.value),
        "origins": [
            {
                "written": masked(o.written),
                "file": o.place.file,
                "line": o.place.line,
                "source": o.source,
                "extends": o.extends,
            }
            for o in one.origins
        ],
    }


COMMAND = Subcommand(
    ExplainOptions,
    run,
    examples=(
        ("oast explain tern-edge-1", "list all values of a device with file and line"),
        ("oast explain tern-edge-1 ntp", "show where one value comes from"),
    ),
)
