"""The same done with each of several sources: one that fails does not keep the others from being done."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

from oast.cli.error_output import exit_code_of, show_error
from oast.cli.exit_codes import DONE
from oast.cli.output import print_json
from oast.cli.shared_options import FormatOptions
from oast.errors import OastError
from oast.estate import SourceSettings

O = TypeVar("O", bound=FormatOptions)  # noqa: E741


def each_source(
    options: O,
    sources: Sequence[SourceSettings],
    one: Callable[[O, SourceSettings], tuple[int, dict[str, Any]]],
    kind: str,
) -> int:
    """The worst exit code; `one` gives that of a source, and its part of the document of the `kind`."""
    worst = DONE
    documents: list[dict[str, Any]] = []
    for source in sources:
        try:
            code, document = one(options, source)
        except OastError as error:
            code = exit_code_of(error)
            document = {"source": source.name, "failed": error.message}
            if options.format == "text":
                show_error(error, sys.stderr)
            else:
                sys.stderr.write(f"{error.message}\n")
        documents.append(document)
        worst = max(worst, code)
    if options.format == "json":
        print_json(kind, 1, {"sources": documents})
    return worst
