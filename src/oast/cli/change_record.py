"""oast change list and audit: what the ledger tells."""

from __future__ import annotations

import argparse
from contextlib import suppress

from rich.text import Text

from oast.cli.exits import DONE, NO
from oast.cli.terminal import put_hanging
from oast.cli.workplace import console, estate_of, plural, put_json, put_table, table
from oast.errors import OastError
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
    ledger = Changes(estate_of(options)).ledger
    found, seen = ledger.audit(), ledger.seen_until()
    if not seen:
        # The next audit has something to compare with.
        with suppress(OSError, OastError):
            ledger.remember()
    if options.format == "json":
        findings = [{"file": f.file, "line": f.line or None, "message": f.message} for f in found]
        put_json("audit", 1, {"findings": findings, "seen": [{"file": file, "entries": number} for file, number in seen]})
        return NO if found else DONE
    out = console()
    for finding in found:
        place = f"{finding.file}:{finding.line}" if finding.line else finding.file
        put_hanging(out, Text.assemble((f"{place}: ", "cyan"), (finding.message, "bold")))
    for file, number in seen:
        put_hanging(out, Text(f"this copy has seen {file} up to entry {number}", style="dim"))
    out.print(plural(len(found), "finding") if found else "the ledger is as it was written")
    return NO if found else DONE
