"""oast lint: every mistake that can be found without a device, each with its place."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from oast import __version__
from oast.cli.command import Subcommand, flag
from oast.cli.diff_view import NAMED
from oast.cli.error_output import show_problems
from oast.cli.estate_option import asker, folder_of, given_values, require_estate
from oast.cli.exit_codes import DONE, INVALID
from oast.cli.output import join_names, plural, print_document, print_json
from oast.cli.shared_options import (
    EstateOptions,
    FormatOptions,
    IntentOptions,
    SelectionOptions,
    format_option,
)
from oast.estate import find
from oast.operations import lint_estate, problem_document
from oast.records import Problem

KINDS = {
    "estate": "a file of the estate cannot be read",
    "template": "a template has an error or cannot be rendered",
    "undefined": "a template uses a value that is not defined",
    "variable": "a value does not match the template's declaration",
    "grammar": "a rendered statement is unknown to the platform",
    "ownership": "a section renders a statement that it does not own, or two sections own the same",
    "reference": "a statement refers to something that is not configured",
    "address": "an address is used twice in the network",
    "link": "the two ends of a link do not match",
    "empty": "a list is empty that must not be",
    "check": "a user-defined check is invalid",
    "policy": "a policy of the estate is violated",
    "policy-warning": "a policy of the estate is violated that is a warning",
    "unread": "a file or folder of the estate is not read",
    "unused": "something is written down that nothing uses",
}


@dataclass(frozen=True, kw_only=True)
class LintOptions(SelectionOptions, IntentOptions, FormatOptions, EstateOptions):
    """The options of `oast lint`."""

    trace: bool = flag("--trace", help="show the values that each faulty line uses, with their origin")
    untrusted: bool = flag(
        "--untrusted",
        help="for proposals from outside: run no program, resolve no secret, read no file outside the estate",
    )
    strict: bool = flag("--strict", help="count warnings as mistakes")
    format: str = format_option("sarif")


def run(options: LintOptions) -> int:
    found = lint_estate(
        _folder(options),
        os.environ,
        given=given_values(options),
        on=options.on,
        sections=options.section,
        trace=options.trace,
        ask=None if options.untrusted else asker(),
        untrusted=options.untrusted,
    )
    if options.format == "json":
        print_json(
            "lint",
            1,
            {
                "problems": [problem_document(p) for p in found.problems],
                "unchecked": list(found.unchecked),
                "followers": found.followers,
            },
        )
    elif options.format == "sarif":
        print_document(_sarif(found.problems))
    else:
        show_problems(found.problems, sys.stdout)
        wrong = len(found.problems if options.strict else found.mistakes)
        warnings = len(found.problems) - wrong
        if found.unchecked:
            sys.stdout.write(
                "statements were not checked, because the platform has no grammar: "
                f"{join_names(found.unchecked, NAMED)}\n"
            )
        warned = f", {plural(warnings, 'warning')}" if warnings else ""
        followers = f"; {found.followers} more follow from these" if found.followers else ""
        sys.stdout.write(
            f"{plural(wrong, 'mistake')}{warned}{followers}\n"
            if wrong
            else f"no mistakes: {plural(found.devices, 'device')}{warned}\n"
        )
    return INVALID if found.mistakes or (options.strict and found.problems) else DONE


def _folder(options: LintOptions) -> Path:
    """The estate's folder; of an untrusted one nothing is changed, not even who may read its working data."""
    if not options.untrusted:
        return folder_of(options)
    folder: Path | None = options.estate
    return require_estate(folder) if folder is not None else find(Path.cwd())


def _sarif(problems: Sequence[Problem]) -> dict[str, Any]:
    """The problems as a SARIF 2.1.0 log (OASIS standard), for code review tools."""
    rules = [{"id": kind, "shortDescription": {"text": text}} for kind, text in KINDS.items()]
    return {
        "$schema": (
            "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
        ),
        "version": "2.1.0",
        "runs": [
            {
                "tool": {"driver": {"name": "oast", "version": __version__, "rules": rules}},
                "columnKind": "unicodeCodePoints",
                "results": [_result(p) for p in problems],
            }
        ],
    }


def _result(problem: Problem) -> dict[str, Any]:
    devices = f" (for {', '.join(problem.devices)})" if problem.devices else ""
    text = f"{problem.message}{devices}" + (f". {problem.hint}" if problem.hint else "")
    level = "warning" if problem.is_warning else "error"
    result: dict[str, Any] = {"ruleId": problem.kind, "level": level, "message": {"text": text}}
    if problem.place is not None:
        location: dict[str, Any] = {"artifactLocation": {"uri": problem.place.file}}
        if problem.place.line:
            location["region"] = {"startLine": problem.place.line}
        result["locations"] = [{"physicalLocation": location}]
    return result


COMMAND = Subcommand(
    LintOptions,
    run,
    examples=(
        ("oast lint", "check the whole estate"),
        ("oast lint --on name=tern-edge-1 --trace", "check one device, and show the values that are used"),
        ("oast lint --untrusted --format sarif", "check a merge request in a pipeline"),
    ),
    exits=(0, 2, 3),
)
