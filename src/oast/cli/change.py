"""oast change: list, show, approve and revert changes; recover interrupted runs; audit the ledger."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from oast.cli.command import CommandGroup, Subcommand, argument, flag, option, positive, run_later
from oast.cli.shared_options import (
    CHANGE_HELP,
    PROPOSE_HELP,
    ConnectionOptions,
    DeliveryCommandOptions,
    EstateOptions,
    FormatOptions,
    SelectionOptions,
)

LAST = 50


@dataclass(frozen=True, kw_only=True)
class ChangeListOptions(FormatOptions, EstateOptions):
    """The options of `oast change list`."""

    last: int = option(
        "--last",
        metavar="N",
        type=positive,
        default=LAST,
        help=f"number of changes to list (default: {LAST})",
    )
    all: bool = flag("--all", help="list all changes")


@dataclass(frozen=True, kw_only=True)
class ChangeShowOptions(FormatOptions, EstateOptions):
    """The options of `oast change show`."""

    change: str = argument("CHANGE", help=CHANGE_HELP)
    device: str | None = option(
        "--device", metavar="NAME", help="show the intended configuration of one device"
    )
    steps: bool = flag("--steps", help="list every step of the delivery with its time")


@dataclass(frozen=True, kw_only=True)
class ApproveOptions(FormatOptions, EstateOptions):
    """The options of `oast change approve`."""

    change: str = argument("CHANGE", help=CHANGE_HELP)
    yes: bool = flag("--yes", help="approve without showing the change and asking")
    sign: Path | None = option(
        "--sign", metavar="FILE", type=Path, help="sign the approval with this SSH key (ssh-keygen)"
    )


@dataclass(frozen=True, kw_only=True)
class WithdrawOptions(FormatOptions, EstateOptions):
    """The options of `oast change withdraw`."""

    change: str = argument("CHANGE", help=CHANGE_HELP)
    reason: str | None = option("-m", "--reason", metavar="REASON", help="reason, recorded in the ledger")


@dataclass(frozen=True, kw_only=True)
class RecoverOptions(ConnectionOptions, FormatOptions, EstateOptions):
    """The options of `oast change recover`."""

    abandon: bool = flag("--abandon", help="close interrupted runs whose devices stay in an unknown state")


@dataclass(frozen=True, kw_only=True)
class RevertOptions(SelectionOptions, DeliveryCommandOptions):
    """The options of `oast change revert`."""

    change: str = argument("CHANGE", help=CHANGE_HELP)
    propose: bool = flag("--propose", help=PROPOSE_HELP)
    verbose: bool = flag("-v", "--verbose", help="list every device separately")


@dataclass(frozen=True, kw_only=True)
class AuditOptions(FormatOptions, EstateOptions):
    """The options of `oast change audit`."""

    remote: bool = flag("--remote", help="also compare with the ledger heads in the archive's remote")
    accept_break: str | None = option(
        "--accept-break",
        metavar="REASON",
        help="continue a ledger that was cut or altered; the reason is recorded",
    )


COMMAND = CommandGroup(
    {
        "list": Subcommand(
            ChangeListOptions,
            run_later("oast.cli.change_record", "run_list"),
            "list changes, the newest last",
            (("oast change list --last 10", "list the last ten changes"),),
        ),
        "show": Subcommand(
            ChangeShowOptions,
            run_later("oast.cli.change_view", "run_show"),
            "show a change: author, reason, diffs, and the outcome of every device",
            (
                ("oast change show last", "show the newest change"),
                ("oast change show last --steps", "list every step with its time"),
            ),
        ),
        "approve": Subcommand(
            ApproveOptions,
            run_later("oast.cli.proposal", "run_approve"),
            "approve a change that another person has proposed",
            (("oast change approve last", "show the newest change and approve it"),),
            exits=(0, 1, 2, 3),
            no="not approved",
        ),
        "withdraw": Subcommand(
            WithdrawOptions,
            run_later("oast.cli.proposal", "run_withdraw"),
            "withdraw a proposed change, so that it cannot be delivered",
            (("oast change withdraw last -m 'wrong site'", "withdraw the newest change"),),
        ),
        "recover": Subcommand(
            RecoverOptions,
            run_later("oast.cli.change_recover", "run_recover"),
            "recover interrupted runs: find out the state of their devices, and finish or roll back",
            (("oast change recover", "recover all interrupted runs"),),
            exits=(0, 2, 3, 4),
        ),
        "revert": Subcommand(
            RevertOptions,
            run_later("oast.cli.change_revert", "run_revert"),
            "roll back a delivered change, as a new change",
            (
                ("oast change revert last --dry-run", "show what a rollback would change"),
                ("oast change revert last -m 'clocks unstable'", "roll back the newest change"),
            ),
            exits=(0, 1, 2, 3, 4, 5, 130),
            no="not rolled back: declined, limit exceeded, proposed only, or differences found by --dry-run",
        ),
        "audit": Subcommand(
            AuditOptions,
            run_later("oast.cli.change_record", "run_audit"),
            "verify the ledger's hash chain and signatures",
            (
                ("oast change audit", "verify the ledger"),
                ("oast change audit --remote", "also compare with the archive's remote"),
            ),
            exits=(0, 1, 2, 3),
            no="the ledger was cut or altered",
        ),
    }
)
