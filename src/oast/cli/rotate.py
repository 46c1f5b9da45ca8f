"""oast secret rotate --push: a new value for a secret, in the file and on every device that holds it, as one
delivery."""

from __future__ import annotations

import secrets
import sys
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from datetime import date

from oast.change import Outcome
from oast.change.plan import Comparison
from oast.cli.estate_option import estate_of
from oast.cli.output import join_names, plural
from oast.cli.push import DeliveryHooks, deliver, delivery_options
from oast.cli.secret import RANDOM_BYTES, RotateOptions
from oast.errors import EstateError
from oast.estate import EncryptedFile, EncryptedSecret, Secrets
from oast.operations import Rotation, rotation

NAMED = 6


class _Keeping(DeliveryHooks):
    """Writes the new value beside the old one before a device is touched, and forgets the old one when all
    have the new."""

    def __init__(self, file: EncryptedFile, about: Rotation, before: EncryptedSecret, value: str) -> None:
        self._file = file
        self._about = about
        self._before = before
        self._kept = (
            before if before.previous is not None else EncryptedSecret(value, date.today(), before.value)
        )

    def begin(self) -> None:
        if self._kept is not self._before:
            self._file.succeed(self._about.name, self._before, self._kept)

    def end(self, as_intended: Sequence[Comparison], outcomes: Sequence[Outcome]) -> None:
        name = self._about.name
        without = self._about.without_it(as_intended, outcomes)
        if without and not outcomes and self._kept is not self._before:
            return  # it was not begun
        if not without:
            told = (
                f"{name}: {plural(len(self._about.holders), 'device')} with the new value;"
                f" {self._forgotten()}\n"
            )
        else:
            told = (
                f"warning: {name}: {join_names(without, NAMED)} may still have the old value in running"
                " or startup; both values are kept\nhint: repeat the command to continue; it makes no"
                " further value until all devices have this one\n"
            )
        with suppress(OSError):  # the output may be closed; the exit code holds the outcome
            sys.stderr.write(told)

    def _forgotten(self) -> str:
        """What has become of the value before; what went wrong there changes nothing about the devices."""
        try:
            self._file.succeed(self._about.name, self._kept, replace(self._kept, previous=None))
        except EstateError as error:
            return f"the old one is kept, because {error.message}"
        return "the old one is removed"


def rotate_and_push(options: RotateOptions, found: Secrets, file: EncryptedFile) -> int:
    """Make a new value, or go on with the one that some devices lack, and deliver it. Returns the
    exit code."""
    how = delivery_options(options)
    kept = file.all()[options.name]
    going_on = kept.previous is not None
    value = kept.value if going_on else secrets.token_urlsafe(RANDOM_BYTES)
    before = found.comes_before_file(options.name)
    if before is not None:
        message = (
            f"{before} also has a '{options.name}', and takes precedence over the encrypted file; nothing"
            " was changed"
        )
        raise EstateError(message, hint="remove it there first")
    about = rotation(estate_of(options, {} if going_on else {options.name: value}), options.name)
    return deliver(options, about.preparation, how, _Keeping(file, about, kept, value))
