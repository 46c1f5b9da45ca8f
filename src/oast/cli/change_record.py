"""oast change list and audit: what the ledger tells."""

from __future__ import annotations

import argparse

from rich.text import Text

from oast.cli.exits import DONE, NO
from oast.cli.terminal import put_hanging
from oast.cli.workplace import console, estate_of, plural, put_json, put_table, table
from oast.operations.changes import Changes, change_document


def run_list(options: argparse.Namespace) -> int:
    """The last changes, or all of them."""
    changes, more = Changes(estate_of(options)).last(None if options.all else options.last)
    if options.format == "json":
        put_json("changes", 1, {"more": more, "changes": [change_document(change) for change in changes]})
        return DONE
    out = console()
    if not changes:
        out.print("nothing was delivered or proposed yet")
        return DONE
    listing = table("change", "devices", "state", "author", "ticket", "reason", numbers=("devices",), whole=("change",))
    for change in changes:
        listing.add_row(change.name, str(change.devices), change.state, change.author, change.ticket or "", change.reason)
    put_table(out, listing)
    if more:
        out.print(f"the last {len(changes)}; --all lists all of them", style="dim")
    return DONE


def run_audit(options: argparse.Namespace) -> int:
    """Whether everything is as it was written."""
    found = Changes(estate_of(options)).ledger.audit()
    if options.format == "json":
        put_json("audit", 1, {"findings": [{"file": f.file, "line": f.line or None, "message": f.message} for f in found]})
        return NO if found else DONE
    out = console()
    for finding in found:
        place = f"{finding.file}:{finding.line}" if finding.line else finding.file
        put_hanging(out, Text.assemble((f"{place}: ", "cyan"), (finding.message, "bold")))
    out.print(plural(len(found), "finding") if found else "the ledger is as it was written")
    return NO if found else DONE
