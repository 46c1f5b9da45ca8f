"""oast lint: every mistake that can be found without a device, each with its place."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from oast import __version__
from oast.cli import arguments
from oast.cli.diff_view import NAMED
from oast.cli.error_output import show_problems
from oast.cli.estate_option import asker, folder_of, given_values, require_estate
from oast.cli.exit_codes import DONE, INVALID
from oast.cli.output import join_names, plural, print_document, print_json
from oast.estate import find
from oast.operations import WARNING, lint_estate, problem_document
from oast.records import Problem

KINDS = {
    "estate": "a file of the estate cannot be read as what it should be",
    "template": "a template is wrong or cannot be rendered",
    "undefined": "a template uses a value that is not given",
    "variable": "a value is not what the template declares",
    "grammar": "a rendered statement is not one of the platform's",
    "ownership": "a section renders what it does not own, or two own the same",
    "reference": "a statement refers to something that is not configured",
    "address": "an address is used twice in the network",
    "link": "the two ends of a link do not fit each other",
    "empty": "a list that must not be empty is",
    "check": "a check of the estate cannot be made",
    "policy": "a policy of the estate is violated",
    "policy-warning": "a policy of the estate is violated that only warns",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--trace", action="store_true", help="show for each mistake the values behind the line"
    )
    parser.add_argument(
        "--untrusted",
        action="store_true",
        help=(
            "for a stranger's proposal: run no program, resolve no secret, read nothing outside the estate's"
            " folder"
        ),
    )
    arguments.add_selection(parser)
    arguments.add_intent(parser)
    arguments.add_format(parser, "sarif")
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
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
            {"problems": [problem_document(p) for p in found.problems], "unchecked": list(found.unchecked)},
        )
    elif options.format == "sarif":
        print_document(_sarif(found.problems))
    else:
        show_problems(found.problems, sys.stdout)
        wrong, warnings = len(found.mistakes), len(found.problems) - len(found.mistakes)
        if found.unchecked:
            sys.stdout.write(
                "statements were not checked, as the platform has no grammar:"
                f" {join_names(found.unchecked, NAMED)}\n"
            )
        warned = f", {plural(warnings, 'warning')}" if warnings else ""
        sys.stdout.write(
            f"{plural(wrong, 'mistake')}{warned}\n"
            if wrong
            else f"no mistakes: {plural(found.devices, 'device')}{warned}\n"
        )
    return INVALID if found.mistakes else DONE


def _folder(options: argparse.Namespace) -> Path:
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
    level = "warning" if problem.kind == WARNING else "error"
    result: dict[str, Any] = {"ruleId": problem.kind, "level": level, "message": {"text": text}}
    if problem.place is not None:
        location: dict[str, Any] = {"artifactLocation": {"uri": problem.place.file}}
        if problem.place.line:
            location["region"] = {"startLine": problem.place.line}
        result["locations"] = [{"physicalLocation": location}]
    return result
