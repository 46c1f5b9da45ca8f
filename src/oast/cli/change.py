"""oast change: the record of what was delivered, what others have to agree to, and what a run that died has
left open."""

from __future__ import annotations

import argparse
import importlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from oast.cli import arguments

LAST = 50


def add_arguments(parser: argparse.ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    _add_reading(actions)
    _add_approval(actions)
    _add_recovery(actions)


def _add_reading(actions: Any) -> None:
    listing = _action(actions, "list", "the changes, the newest last", "oast.cli.change_record", "run_list")
    listing.add_argument(
        "--last", metavar="N", type=arguments.positive, default=LAST, help=f"the last N (default: {LAST})"
    )
    listing.add_argument("--all", action="store_true", help="all of them")
    show = _action(
        actions,
        "show",
        "one change: who, why, what, and what became of every device",
        "oast.cli.change_view",
        "run_show",
    )
    show.add_argument("change", metavar="CHANGE", help="its name, or how that begins or ends")
    show.add_argument("--device", metavar="NAME", help="what was intended on one device")
    show.add_argument("--steps", action="store_true", help="every step that was taken, with its time")


def _add_approval(actions: Any) -> None:
    approve = _action(
        actions,
        "approve",
        "agree to exactly what somebody else has proposed",
        "oast.cli.proposal",
        "run_approve",
    )
    approve.add_argument("change", metavar="CHANGE", help="its name, or how that begins or ends")
    approve.add_argument("--yes", action="store_true", help="without showing it and asking")
    approve.add_argument(
        "--sign", metavar="FILE", type=Path, help="sign the approval with this SSH key, through ssh-keygen"
    )
    withdraw = _action(
        actions,
        "withdraw",
        "what was proposed is not to be delivered any more",
        "oast.cli.proposal",
        "run_withdraw",
    )
    withdraw.add_argument("change", metavar="CHANGE", help="its name, or how that begins or ends")
    withdraw.add_argument("-m", "--reason", metavar="REASON", help="why")


def _add_recovery(actions: Any) -> None:
    resume = _action(
        actions,
        "resume",
        "find out what runs that died have left, and leave it in order",
        "oast.cli.change_resume",
        "run_resume",
    )
    resume.add_argument(
        "--give-up", action="store_true", help="what cannot be found out is left as it is, and no longer told"
    )
    arguments.add_connection(resume)
    revert = actions.add_parser(
        "revert", help="bring the devices of a change back to what they were before it", allow_abbrev=False
    )
    revert.set_defaults(run=_later("oast.cli.change_revert", "run_revert"))
    revert.add_argument("change", metavar="CHANGE", help="its name, or how that begins or ends")
    revert.add_argument(
        "--propose", action="store_true", help="write it down for somebody else to approve, and stop"
    )
    revert.add_argument("-v", "--verbose", action="store_true", help="every device by itself")
    arguments.add_delivery(revert)
    arguments.add_selection(revert)
    arguments.add_format(revert)
    arguments.add_estate(revert)
    summary = "find out whether the ledger is as it was written, and who signed it"
    audit = _action(actions, "audit", summary, "oast.cli.change_record", "run_audit")
    audit.add_argument(
        "--remote", action="store_true", help="also compare with the ledger heads in the archive's remote"
    )
    audit.add_argument(
        "--accept-break",
        metavar="REASON",
        help="go on with a ledger that was cut off or altered; the reason is recorded",
    )


def _later(module: str, name: str) -> Callable[[argparse.Namespace], int]:
    """What an action does; its module is imported when it is chosen, as most of them need all
    that delivers."""

    def run(options: argparse.Namespace) -> int:
        code: int = getattr(importlib.import_module(module), name)(options)
        return code

    return run


def _action(actions: Any, name: str, summary: str, module: str, run: str) -> argparse.ArgumentParser:
    parser: argparse.ArgumentParser = actions.add_parser(
        name, help=summary, description=f"{summary[0].upper()}{summary[1:]}.", allow_abbrev=False
    )
    parser.set_defaults(run=_later(module, run))
    arguments.add_format(parser)
    arguments.add_estate(parser)
    return parser
