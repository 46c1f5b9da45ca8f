"""Options that several commands have in common."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from oast.cli.command import CommandOptions, count, flag, option, positive, repeated, seconds

if TYPE_CHECKING:
    from oast.change.plan import Datastore, Mode

CHANGE_HELP = "change ID, or an unambiguous prefix or suffix of it"


@dataclass(frozen=True, kw_only=True)
class EstateOptions(CommandOptions):
    """Which estate."""

    TITLE: ClassVar[str] = "estate and output"
    estate: Path | None = option(
        "--estate",
        metavar="DIR",
        type=Path,
        help="folder of the estate (default: this one or the nearest above)",
    )


@dataclass(frozen=True, kw_only=True)
class FormatOptions:
    """How the result is written."""

    TITLE: ClassVar[str] = "estate and output"
    format: str = option(
        "--format",
        choices=("text", "json"),
        default="text",
        help="text to read (default), or a JSON document",
    )


@dataclass(frozen=True, kw_only=True)
class SelectionOptions:
    """Which devices."""

    TITLE: ClassVar[str] = "devices"
    on: str | None = option(
        "--on",
        metavar="SELECTOR",
        help="devices, such as name=gull-core-1 or 'role=core and site=gull' (default: all)",
    )


@dataclass(frozen=True, kw_only=True)
class GivenOptions:
    """Values for this run only."""

    TITLE: ClassVar[str] = "intent"
    given: tuple[str, ...] = repeated(
        "--with", metavar="KEY=VALUE", help="value that overrides all others in this run; repeat for more"
    )


@dataclass(frozen=True, kw_only=True)
class IntentOptions(GivenOptions):
    """Which part of the intent."""

    TITLE: ClassVar[str] = "intent"
    section: tuple[str, ...] = repeated(
        "--section", metavar="NAME", help="work on this section only (default: all); repeat for more"
    )


@dataclass(frozen=True, kw_only=True)
class ModeOptions:
    """What happens to statements that are on the device and not in the intent."""

    TITLE: ClassVar[str] = "comparison"
    mode: Mode | None = option(
        "--mode",
        choices=("replace", "merge"),
        help="replace (default): remove owned statements that are not intended; merge: retain them",
    )
    remove_unknown: bool = flag(
        "--remove-unknown",
        help="also remove statements that the platform's grammar does not know, where the platform says how",
    )
    verbose: bool = flag("-v", "--verbose", help="list retained statements, and every device separately")


@dataclass(frozen=True, kw_only=True)
class SummaryOptions:
    """How much is shown of a difference."""

    TITLE: ClassVar[str] = "comparison"
    summary: bool = flag("--summary", help="show the number of changes in each section instead of every line")
    full: bool = flag("--full", help="show the values of every device, also where only values differ")


@dataclass(frozen=True, kw_only=True)
class TimeoutOptions:
    """How long to wait for a device."""

    TITLE: ClassVar[str] = "connection"
    timeout: float | None = option(
        "--timeout",
        metavar="S",
        type=seconds,
        help="seconds to wait for an answer (default: command_timeout_s in oast.toml)",
    )


@dataclass(frozen=True, kw_only=True)
class ConnectionOptions(TimeoutOptions):
    """How many devices are worked on at the same time."""

    TITLE: ClassVar[str] = "connection"
    parallel: int | None = option(
        "--parallel",
        metavar="N",
        type=positive,
        help="number of devices to work on at the same time (default: parallel in oast.toml)",
    )


@dataclass(frozen=True, kw_only=True)
class ExpectOptions:
    """What may be lost."""

    TITLE: ClassVar[str] = "checks"
    expect: tuple[str, ...] = repeated(
        "--expect",
        metavar="READING[: EXPRESSION]",
        help="expected loss, such as 'routes: destination-prefix=198.51.100.0/24'; repeat for more",
    )


@dataclass(frozen=True, kw_only=True)
class DeliveryFlags:
    """Why and how to deliver."""

    TITLE: ClassVar[str] = "delivery"
    reason: str | None = option(
        "-m", "--reason", metavar="REASON", help="reason for the change; required except with --dry-run"
    )
    ticket: str | None = option("--ticket", metavar="TICKET", help="ticket that the change belongs to")
    dry_run: bool = flag("--dry-run", help="compare and show; send nothing that changes a device")
    yes: bool = flag("--yes", help="deliver without asking")
    revert_timer: float | None = option(
        "--revert-timer",
        metavar="S",
        type=seconds,
        help="seconds until a device rolls back unless confirmed (default: revert_timer_s in oast.toml)",
    )
    verify_timeout: float | None = option(
        "--verify-timeout",
        metavar="S",
        type=seconds,
        help="seconds within which checks must pass (default: verify_timeout_s in oast.toml)",
    )
    max_failures: int | None = option(
        "--max-failures",
        metavar="N",
        type=count,
        help="stop starting devices after more than N failures or rollbacks"
        " (default: max_failures in oast.toml)",
    )
    allow_removals: bool = flag(
        "--allow-removals", help="allow removals beyond [delivery.limits] in oast.toml"
    )
    one_wave: bool = flag(
        "--one-wave",
        group="waves",
        help="deliver to all devices in one wave, for changes at both ends of a link",
    )
    split_waves: bool = flag(
        "--split-waves",
        group="waves",
        help="split waves that would not fit into the revert timer (default: split_waves in oast.toml)",
    )
    neighbor_hops: int | None = option(
        "--neighbor-hops",
        metavar="HOPS",
        type=count,
        help="monitor neighbors up to HOPS links away for collateral damage; 0: none"
        " (default: neighbor_hops in oast.toml)",
    )


@dataclass(frozen=True, kw_only=True)
class DeliveryBase(EstateOptions):
    """The options of every delivery; a command that lacks one uses its default."""

    on: str | None = None
    section: tuple[str, ...] = ()
    mode: Mode | None = None
    remove_unknown: bool = False
    verbose: bool = False
    into: Datastore | None = None
    propose: bool = False
    sign: Path | None = None


@dataclass(frozen=True, kw_only=True)
class DeliveryCommandOptions(
    DeliveryFlags, ExpectOptions, SummaryOptions, ConnectionOptions, FormatOptions, DeliveryBase
):
    """The options of a command that delivers."""


@dataclass(frozen=True, kw_only=True)
class NoOptions(CommandOptions):
    """A command without options of its own."""


PROPOSE_HELP = "record the change for another person to approve, and stop"


def format_option(*more: str) -> Any:
    """The option --format of a command that can write `more` than text and JSON."""
    return option(
        "--format",
        choices=("text", "json", *more),
        default="text",
        help=f"text to read (default), or {', '.join(more)} or json",
    )
