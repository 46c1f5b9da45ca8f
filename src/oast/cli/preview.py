"""What `oast push` shows before its question: rollback methods, management access, the forecast of waves,
what is not compared, limits."""

from __future__ import annotations

import math
from collections.abc import Sequence

from rich.console import Console

from oast.change.plan import Comparison, LimitViolation, ManagementMove
from oast.cli.output import join_names, plural
from oast.operations import DeliveryOptions, Plan

NAMED = 6


def show_forecast(plan: Plan, how: DeliveryOptions, out: Console) -> None:
    """That a wave may not fit into the revert timer, before it is armed."""
    forecast = plan.forecast(how)
    if forecast is None or plan.manner.into_startup:
        return
    if forecast.waves > forecast.unsplit:
        fitting = (
            f", so that each fits into the revert timer of {forecast.timer_s:.0f} s" if forecast.fits else ""
        )
        out.print(
            f"waves: {forecast.waves} instead of {forecast.unsplit}, of at most"
            f" {plural(forecast.devices, 'device')}{fitting}"
        )
    if forecast.fits:
        return
    needed = math.ceil(forecast.needed_s)
    split = ", or --split-waves" if forecast.devices > 1 else ""
    out.print(
        f"warning: a wave of {plural(forecast.devices, 'device')} may take {needed} s, "
        f"longer than the revert timer of {forecast.timer_s:.0f} s; Oast arms timers of at least {needed} s\n"
        f"    hint: give --revert-timer {needed} or more{split}",
        style="yellow",
    )
    out.print()


def show_not_compared(plan: Plan, out: Console) -> None:
    """Count the devices that could not be read, before the question; the reasons are printed at the end."""
    if plan.failed and plan.to_do:
        names = [name for name, _ in plan.failed]
        out.print(
            f"could not be compared, so nothing will be sent: {join_names(names, NAMED)}",
            style="yellow",
        )
        out.print()


def show_warnings(different: Sequence[Comparison], out: Console) -> None:
    """What deserves a second look before the answer: the rollback, risks for management access, what else
    would be saved."""
    ways: dict[str, list[str]] = {}
    for comparison in different:
        ways.setdefault(comparison.rollback_method.name, []).append(comparison.name)
    for name, devices in ways.items():
        who = join_names(devices, NAMED) if len(ways) > 1 else plural(len(devices), "device")
        out.print(f"rollback: {name} ({who})", style="dim")
    reasons = [(c.name, risk.why) for c in different for risk in c.access_risks]
    for why in dict.fromkeys(why for _, why in reasons):
        devices = list(dict.fromkeys(name for name, other in reasons if other == why))
        out.print(f"affects management access ({why}): {join_names(devices, NAMED)}", style="yellow")
    for comparison in different:
        if comparison.move is not None:
            out.print(move_text(comparison.name, comparison.move), style="yellow")
    if different:
        out.print()


def move_text(name: str, move: ManagementMove) -> str:
    """What happens to a device whose management address moves."""
    if move.to is None:
        return (
            f"{name} gives up its management address {move.before} and no other is known: it will be"
            " rolled back\n    hint: set 'address' to the new one in the inventory, with"
            f" previous_address: {move.before}"
        )
    if move.to == move.before:
        return (
            f"{name} moves its management address {move.before} to another interface: Oast reconnects there"
            " and confirms"
        )
    which = "its alternate management address" if move.is_alternate else "its new management address"
    return (
        f"{name} gives up its management address {move.before}: Oast reconnects at {which} {move.to} and"
        " confirms from there"
    )


def show_limit_violations(found: Sequence[LimitViolation], out: Console) -> None:
    """What is taken away beyond the limits; the same on several devices is shown once."""
    devices: dict[tuple[str, str], list[str]] = {}
    for one in found:
        devices.setdefault((one.what, one.limit), []).append(one.device)
    for (what, limit), names in devices.items():
        out.print(
            f"removal limit exceeded: {what} (limit: {limit}): {join_names(names, NAMED)}", style="bold red"
        )
    if found:
        out.print()
