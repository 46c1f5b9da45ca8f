"""The estate that a command works on, and the values and secrets that its command line gives."""

from __future__ import annotations

import getpass
import os
import sys
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from oast.change.record import interrupted_runs
from oast.cli.command import CommandOptions
from oast.cli.error_output import show_problems
from oast.cli.output import NAMED, join_names, relative_path
from oast.cli.shared_options import DeliveryBase, EstateOptions, GivenOptions, SelectionOptions
from oast.errors import EstateError, OastError, StateError, UsageError
from oast.estate import Ask, Estate, check_owned, find, load_estate, parse_yaml
from oast.files import make_tree_private
from oast.spelling import spelling_hint
from oast.verify import GOOD, ExpectedLoss, parse_expected_loss

# What does something with devices; the others look at the estate alone.
TOUCHING = ("diff", "push", "verify", "drift", "backup", "restore", "ask")
NOTHING: Mapping[str, str] = {}


def estate_of(
    options: EstateOptions, secrets: Mapping[str, str] = NOTHING, *, telling: bool = True
) -> Estate:
    """Return the estate that the options name, fully read; with `secrets` in place of stored ones. Raises
    UsageError, EstateError.

    With `telling`, the user is warned of interrupted runs.
    """
    estate = load_estate(folder_of(options), os.environ, given_values(options), asker(), secrets)
    show_problems(estate.warnings, sys.stderr)
    if telling:
        _tell_left(estate)
        if options.command in TOUCHING:
            on = options.on if isinstance(options, SelectionOptions | DeliveryBase) else None
            _tell_not_in_service(estate, on)
    # The same fingerprints in the next run; where nothing can be written, only this one has them.
    with suppress(OSError):
        estate.secrets.keep_key()
    return estate


def _tell_not_in_service(estate: Estate, on: str | None) -> None:
    """Warn when a selection contains devices that are out of service."""
    try:
        left = estate.not_in_service(on)
    except EstateError:
        return  # an explicit selection reports its own mistakes
    if left:
        names = join_names([device.name for device in left], NAMED)
        sys.stderr.write(f"skipped, because out of service: {names}\n")


def _tell_left(estate: Estate) -> None:
    try:
        runs = interrupted_runs(estate.working)
    except StateError as error:
        sys.stderr.write(f"warning: {error.message}\n")
        return
    for left in runs:
        flying = [device.name for device in left.devices_in_unknown_state]
        what = (
            f"; the state of {join_names(flying, NAMED)} is unknown"
            if flying
            else " before anything was sent to a device"
        )
        sys.stderr.write(
            f"warning: run {left.run} was interrupted{what}\nhint: recover it with: oast change recover\n"
        )


def given_values(options: CommandOptions) -> list[tuple[str, Any]]:
    """The values of --with. Raises UsageError."""
    return [_given(text) for text in options.given] if isinstance(options, GivenOptions) else []


def asker() -> Ask | None:
    """Return who can be asked for a secret: the user at the terminal."""
    return ask_secret if sys.stdin.isatty() else None


def folder_of(options: EstateOptions) -> Path:
    """Return the folder of the estate that the options name. Raises UsageError.

    A folder that others can write to must be named explicitly; working data that others could read is made
    private.
    """
    folder = options.estate
    if folder is None:
        folder = find(Path.cwd())
        told = check_owned(folder)
    else:
        require_estate(folder)
        try:
            told = check_owned(folder)
        except UsageError as error:
            told = [error.message]
    for what in told:
        sys.stderr.write(f"warning: {what}\n")
    _close_to_others(folder / ".oast")
    return folder


def usable_folder(options: CommandOptions) -> Path | None:
    """The folder of the estate the options mean, if there is one that others cannot write to."""
    if not isinstance(options, EstateOptions):
        return None
    try:
        folder = options.estate or find(Path.cwd())
        check_owned(folder)
    except OastError:
        return None
    return folder if (folder / "oast.toml").is_file() else None


def require_estate(folder: Path) -> Path:
    """Return `folder`, which was named explicitly. Raises UsageError when it is not an estate."""
    if not (folder / "oast.toml").is_file():
        raise UsageError(f"{folder} is not an estate: it has no oast.toml")
    return folder


def _close_to_others(working: Path) -> None:
    try:
        if make_tree_private(working):
            sys.stderr.write(
                f"{relative_path(working)} was readable by other users; only you can read it now\n"
            )
    except OSError as error:
        sys.stderr.write(
            f"warning: other users can read {relative_path(working)}, and its permissions cannot be"
            f" changed: {error.strerror}\n"
        )


def ask_secret(name: str) -> str:
    """Ask for a secret on the terminal, without showing it."""
    return getpass.getpass(f"{name}: ", sys.stderr)


def _given(text: str) -> tuple[str, Any]:
    key, sign, value = text.partition("=")
    if not sign or not key.strip():
        raise UsageError(f"--with {text}: write KEY=VALUE, for example --with ntp.prefer=true")
    try:
        return key.strip(), parse_yaml(value, "--with")
    except EstateError as error:
        raise UsageError(f"--with {text if len(text) < 80 else text[:77] + '...'}: {error.message}") from None


def what_may_be_lost(texts: Sequence[str]) -> tuple[ExpectedLoss, ...]:
    """What --expect says. Raises UsageError, EstateError."""
    found = []
    for text in texts:
        try:
            found.append(parse_expected_loss(text))
        except ValueError as wrong:
            raise UsageError(
                f"unknown reading '{wrong}' in --expect", hint=spelling_hint(str(wrong), GOOD)
            ) from None
    return tuple(found)
