"""The estate that a command works on, and the values and secrets that its command line gives."""

from __future__ import annotations

import argparse
import getpass
import os
import sys
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from oast.change.record import interrupted_runs
from oast.cli.output import NAMED, join_names, relative_path
from oast.errors import EstateError, StateError, UsageError
from oast.estate import Ask, Estate, check_owned, find, load_estate, parse_yaml
from oast.files import make_tree_private
from oast.spelling import spelling_hint
from oast.verify import GOOD, ExpectedLoss, parse_expected_loss

# What does something with devices; the others look at the estate alone.
TOUCHING = ("diff", "push", "verify", "drift", "backup", "restore", "ask")
NOTHING: Mapping[str, str] = {}


def estate_of(
    options: argparse.Namespace, secrets: Mapping[str, str] = NOTHING, *, telling: bool = True
) -> Estate:
    """The estate the options mean, read whole; with `secrets` in place of those that are kept. Raises
    UsageError, EstateError.

    If it is to be told, whoever runs this learns of what a run that died has left.
    """
    estate = load_estate(folder_of(options), os.environ, given_values(options), asker(), secrets)
    if telling:
        _tell_left(estate)
        if getattr(options, "command", "") in TOUCHING:
            _tell_not_in_service(estate, getattr(options, "on", None))
    # The same fingerprints in the next run; where nothing can be written, only this one has them.
    with suppress(OSError):
        estate.secrets.keep_key()
    return estate


def _tell_not_in_service(estate: Estate, on: str | None) -> None:
    """Who picks devices and gets fewer is told why."""
    try:
        left = estate.not_in_service(on)
    except EstateError:
        return  # whoever picks them says what is wrong
    if left:
        names = join_names([device.name for device in left], NAMED)
        sys.stderr.write(f"left out, as not in service: {names}\n")


def _tell_left(estate: Estate) -> None:
    try:
        runs = interrupted_runs(estate.working)
    except StateError as error:
        sys.stderr.write(f"careful: {error.message}\n")
        return
    for left in runs:
        flying = [device.name for device in left.devices_in_unknown_state]
        what = (
            f"and it is not known what became of {join_names(flying, NAMED)}"
            if flying
            else "before anything was sent to a device"
        )
        sys.stderr.write(
            f"careful: the run {left.run} ended in the middle, {what}\n    leave it in order with: oast"
            " change resume\n"
        )


def given_values(options: argparse.Namespace) -> list[tuple[str, Any]]:
    """The values of --with. Raises UsageError."""
    return [_given(text) for text in getattr(options, "given", ())]


def asker() -> Ask | None:
    """Who can be asked for a secret: whoever sits at the terminal."""
    return ask_secret if sys.stdin.isatty() else None


def folder_of(options: argparse.Namespace) -> Path:
    """The folder of the estate the options mean. Raises UsageError.

    One that others can write to has to be named; what others could see of its working data is closed to them.
    """
    if getattr(options, "folder", None) is not None:
        return Path(options.folder)
    folder: Path | None = options.estate
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
        sys.stderr.write(f"careful: {what}\n")
    _close_to_others(folder / ".oast")
    options.folder = folder
    return folder


def require_estate(folder: Path) -> Path:
    """`folder`, which is named. Raises UsageError when it is no estate."""
    if not (folder / "oast.toml").is_file():
        raise UsageError(f"{folder} is no estate: it has no oast.toml")
    return folder


def _close_to_others(working: Path) -> None:
    try:
        if make_tree_private(working):
            sys.stderr.write(f"{relative_path(working)} could be read by others; from now on only by you\n")
    except OSError as error:
        sys.stderr.write(
            f"careful: {relative_path(working)} can be read by others, and that cannot be changed:"
            f" {error.strerror}\n"
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
                f"nothing can be lost of a reading '{wrong}'", hint=spelling_hint(str(wrong), GOOD)
            ) from None
    return tuple(found)
