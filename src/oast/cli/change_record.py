"""oast change list and audit: what the ledger tells."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress

from rich.console import Console
from rich.text import Text

from oast.change.record import SignedRange
from oast.cli.change import AuditOptions, ChangeListOptions
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE, NO
from oast.cli.output import console, plural, print_json, print_table, table
from oast.cli.terminal import print_hanging
from oast.errors import OastError
from oast.estate import Estate
from oast.operations import Changes, accept_break, audit, change_document


def run_list(options: ChangeListOptions) -> int:
    """The last changes, or all of them."""
    changes, more = Changes(estate_of(options)).last(None if options.all else options.last)
    if options.format == "json":
        print_json("changes", 1, {"more": more, "changes": [change_document(change) for change in changes]})
        return DONE
    out = console()
    if not changes:
        out.print("there are no changes yet")
        return DONE
    listing = table(
        "change", "devices", "state", "author", "ticket", "reason", numbers=("devices",), whole=("change",)
    )
    for change in changes:
        listing.add_row(
            change.name, str(change.devices), change.state, change.author, change.ticket or "", change.reason
        )
    print_table(out, listing)
    if more:
        out.print(f"showing the newest {plural(len(changes), 'change')}; --all lists all", style="dim")
    return DONE


def run_audit(options: AuditOptions) -> int:
    """Compare the ledger with itself, with what this copy has seen, and with the archive; or
    accept a break."""
    estate = estate_of(options)
    if options.accept_break is not None:
        return _accept(options, estate, options.accept_break)
    ledger = Changes(estate).ledger
    found, seen = audit(estate, with_remote=options.remote), ledger.seen_until()
    if not seen:
        # The next audit has something to compare with.
        with suppress(OSError, OastError):
            ledger.remember()
    if options.format == "json":
        findings = [{"file": f.file, "line": f.line or None, "message": f.message} for f in found.findings]
        signed = [
            {"file": s.file, "first": s.first, "last": s.last, "signer": s.signer} for s in found.signatures
        ]
        print_json(
            "audit",
            1,
            {
                "findings": findings,
                "seen": [{"file": f, "entries": number} for f, number in seen],
                "signed": signed,
            },
        )
        return NO if found.findings else DONE
    out = console()
    for finding in found.findings:
        place = f"{finding.file}:{finding.line}" if finding.line else finding.file
        print_hanging(out, Text.assemble((f"{place}: ", "cyan"), (finding.message, "bold")))
    for file, number in seen:
        print_hanging(out, Text(f"this copy of the estate knows {file} up to entry {number}", style="dim"))
    _show_signatures(out, found.signatures)
    out.print(plural(len(found.findings), "finding") if found.findings else "the ledger is intact")
    return NO if found.findings else DONE


def _show_signatures(out: Console, signatures: Sequence[SignedRange]) -> None:
    for one in signatures:
        if one.signer is not None:
            entries = f"entry {one.first}" if one.first == one.last else f"entries {one.first} to {one.last}"
            print_hanging(out, Text(f"{one.file}: {entries} signed by {one.signer}", style="dim"))
    unsigned = sum(one.last - one.first + 1 for one in signatures if one.signer is None)
    if unsigned:
        are = "entries are" if unsigned > 1 else "entry is"
        what = f"{unsigned} {are} not signed; a fresh clone cannot detect that all of them were rewritten"
        print_hanging(out, Text(what, style="dim"))


def _accept(options: AuditOptions, estate: Estate, reason: str) -> int:
    accepted = accept_break(estate, reason)
    if options.format == "json":
        print_json(
            "audit",
            1,
            {"accepted": [{"file": f.file, "line": f.line or None, "message": f.message} for f in accepted]},
        )
        return DONE
    out = console()
    for finding in accepted:
        print_hanging(out, Text(f"accepted: {finding}"))
    if accepted:
        out.print("the break is recorded; every later audit reports it")
    else:
        out.print("nothing to accept: the ledger has all entries that this copy knows")
    return DONE
