"""oast secret: the encrypted file of an estate."""

from __future__ import annotations

import os
import secrets
import sys
from contextlib import suppress
from dataclasses import dataclass
from datetime import date
from typing import TYPE_CHECKING

from oast.cli.command import CommandGroup, Subcommand, argument, flag, given_options, option, positive
from oast.cli.estate_option import ask_secret, estate_of, folder_of
from oast.cli.exit_codes import DONE, NO
from oast.cli.output import ask_to_confirm, console, print_json, print_table, table
from oast.cli.shared_options import ConnectionOptions, DeliveryCommandOptions, EstateOptions, FormatOptions
from oast.errors import EstateError, OastError, UsageError
from oast.estate import (
    SECRET_NAME,
    EncryptedFile,
    Estate,
    Secrets,
    read_settings as read_settings,
    secrets_of,
)
from oast.platforms import WrongValue, check_secret
from oast.records import Place
from oast.spelling import spelling_hint

RANDOM_BYTES = 24
LONGEST = 65_536


if TYPE_CHECKING:
    from oast.change.plan import Mode


@dataclass(frozen=True, kw_only=True)
class SecretSetOptions(EstateOptions):
    """The options of `oast secret set`."""

    name: str = argument("NAME", help="name of the secret")
    several_lines: bool = flag(
        "--several-lines", help="read all lines of standard input, for example a private key"
    )


@dataclass(frozen=True, kw_only=True)
class SecretReadOptions(ConnectionOptions, EstateOptions):
    """The options of `oast secret read`."""

    name: str = argument("NAME", help="name of the secret")
    device: str = option("--from", metavar="DEVICE", required=True, help="device that has the secret")
    statement: str = option(
        "--statement", metavar="PATH", required=True, help="statement that holds it, such as snmp/community"
    )
    which: str | None = option("--which", metavar="FINGERPRINT", help="secret to take when there are several")


@dataclass(frozen=True, kw_only=True)
class RotateOptions(DeliveryCommandOptions):
    """The options of `oast secret rotate`."""

    name: str = argument("NAME", help="name of the secret")
    push: bool = flag(
        "--push", help="deliver the new value; the old one is kept until every device has the new one"
    )
    mode: Mode | None = "replace"


@dataclass(frozen=True, kw_only=True)
class SecretRemoveOptions(EstateOptions):
    """The options of `oast secret remove`."""

    name: str = argument("NAME", help="name of the secret")
    yes: bool = flag("--yes", help="remove without asking")


@dataclass(frozen=True, kw_only=True)
class SecretListOptions(FormatOptions, EstateOptions):
    """The options of `oast secret list`."""


@dataclass(frozen=True, kw_only=True)
class SecretAgeOptions(FormatOptions, EstateOptions):
    """The options of `oast secret age`."""

    max_age: int = option(
        "--max-age",
        metavar="DAYS",
        type=positive,
        default=90,
        help="age in days above which a secret is listed (default: 90)",
    )


def _read(options: SecretReadOptions) -> int:
    from oast.cli.secret_read import read_and_keep

    return read_and_keep(options)


def _open(options: EstateOptions) -> tuple[Secrets, EncryptedFile]:
    found = secrets_of(folder_of(options), os.environ)
    with suppress(OSError):
        found.keep_key()
    if found.encrypted is None:
        hint = 'add encrypted_file = "secrets.jwe" and key_file = "../NAME.key" below [secrets]'
        raise EstateError("the estate has no encrypted file for secrets", place=Place("oast.toml"), hint=hint)
    return found, found.encrypted


def _set(options: SecretSetOptions) -> int:
    if not SECRET_NAME.fullmatch(options.name):
        raise UsageError(
            f"'{options.name}' is not a valid name for a secret", hint="use letters, digits, - and _"
        )
    found, file = _open(options)
    _need_settled(options, file)
    value = _typed(options)
    file.put(options.name, value, date.today())
    sys.stdout.write(f"{options.name} is now {found.made(options.name, value)}\n")
    _tell_of_others(found, options.name)
    return DONE


def _typed(options: SecretSetOptions) -> str:
    """Return the secret that is typed or sent. Raises UsageError if it is not text; the stored secret then
    stays."""
    if sys.stdin.isatty():
        data = ask_secret(options.name).encode("utf-8", "surrogateescape")
    else:
        data = sys.stdin.buffer.read(LONGEST + 1)
    unchanged = "nothing was changed"
    if len(data) > LONGEST:
        raise UsageError(f"the secret is longer than {LONGEST} bytes; {unchanged}")
    try:
        value = data.decode("utf-8").removesuffix("\n").removesuffix("\r")
    except UnicodeDecodeError:
        raise UsageError(
            f"the secret is not UTF-8 text; {unchanged}", hint="encode binary data in base64"
        ) from None
    if not value:
        raise UsageError(f"the secret is empty; {unchanged}")
    if "\n" in value and not options.several_lines:
        hint = "add --several-lines if it is one secret of several lines"
        raise UsageError(f"the secret has {value.count(chr(10)) + 1} lines; {unchanged}", hint=hint)
    try:
        check_secret(options.name, value, several_lines=options.several_lines)
    except WrongValue as wrong:
        raise UsageError(f"{wrong}: {unchanged}") from None
    return value


def _need_settled(options: RotateOptions | SecretSetOptions, file: EncryptedFile) -> None:
    """What some devices still have must not be forgotten. Raises UsageError."""
    kept = file.all().get(options.name)
    if kept is not None and kept.previous is not None:
        message = (
            f"a rotation of '{options.name}' is unfinished: some devices have the old value; nothing was"
            " changed"
        )
        raise UsageError(message, hint=f"finish it first: oast secret rotate {options.name} --push -m REASON")


def _tell_of_others(found: Secrets, name: str) -> None:
    """A secret that is kept and never looked at is worth a word."""
    before = found.comes_before_file(name)
    if before is not None:
        sys.stderr.write(
            f"warning: {before} also has a '{name}', and takes precedence over the encrypted file\n"
        )


def _kept(options: RotateOptions | SecretRemoveOptions, to_do: str) -> tuple[Secrets, EncryptedFile]:
    found, file = _open(options)
    if options.name not in file.all():
        raise EstateError(
            f"no secret '{options.name}' to {to_do}", hint=spelling_hint(options.name, file.all())
        )
    return found, file


def _rotate(options: RotateOptions) -> int:
    found, file = _kept(options, "rotate")
    if options.push:
        from oast.cli.rotate import rotate_and_push

        return rotate_and_push(options, found, file)
    given = given_options(options, FormatOptions, EstateOptions)
    if given:
        raise UsageError(
            f"{given[0]} needs --push",
            hint=f"deliver it: oast secret rotate {options.name} --push -m REASON",
        )
    if options.name in read_settings(folder_of(options)).connection.login_secrets:
        message = (
            f"Oast logs in with '{options.name}': a new value that devices do not have would lock it out"
        )
        raise UsageError(message, hint=f"oast secret rotate {options.name} --push -m REASON")
    _need_settled(options, file)
    value = secrets.token_urlsafe(RANDOM_BYTES)
    file.put(options.name, value, date.today())
    sys.stdout.write(f"{options.name} is now {found.made(options.name, value)}\n")
    _tell_of_others(found, options.name)
    return DONE


def _remove(options: SecretRemoveOptions) -> int:
    found, file = _kept(options, "remove")
    if not found.elsewhere(options.name):
        for place in _uses(options):
            message = f"the secret '{options.name}' is in use and stored nowhere else; nothing was removed"
            raise EstateError(message, place=place, hint="remove the references to it first")
    if not options.yes and not ask_to_confirm(f"Remove the secret '{options.name}'? This cannot be undone."):
        return NO
    file.remove(options.name)
    sys.stdout.write(f"{options.name} is removed\n")
    return DONE


def _uses(options: SecretRemoveOptions) -> list[Place]:
    """Return where the estate refers to the secret. Raises EstateError when mistakes elsewhere prevent
    that."""
    try:
        estate: Estate = estate_of(options)
    except OastError as error:
        hint = "fix that first; Oast can find uses of the secret only in an estate without mistakes"
        raise EstateError(
            f"{error.problems()[0].message}", place=error.problems()[0].place, hint=hint
        ) from None
    logs_in = options.name in estate.settings.connections.login_secrets
    return [*([Place("oast.toml")] if logs_in else []), *estate.secrets.places.get(options.name, [])]


def _list(options: SecretListOptions) -> int:
    return _show(options, 0)


def _age(options: SecretAgeOptions) -> int:
    return _show(options, options.max_age)


def _show(options: SecretListOptions | SecretAgeOptions, older_than_days: int) -> int:
    found, file = _open(options)
    rows = [
        (
            name,
            str(found.made(name, kept.value)),
            kept.changed.isoformat(),
            (date.today() - kept.changed).days,
            _before(found, name),
        )
        for name, kept in sorted(file.all().items())
    ]
    aged = options.action == "age"
    rows = [row for row in rows if not aged or row[3] > older_than_days]
    if options.format == "json":
        names = ("name", "fingerprint", "changed", "days", "previous")
        print_json("secrets", 1, {"secrets": [dict(zip(names, row, strict=True)) for row in rows]})
    elif rows:
        previous = ("previous",) if any(row[4] for row in rows) else ()
        listing = table("name", "fingerprint", "changed", "days", *previous, numbers=("days",))
        for row in rows:
            listing.add_row(*("-" if cell is None else str(cell) for cell in row[: 4 + len(previous)]))
        print_table(console(), listing)
    elif aged:
        sys.stdout.write(f"no secret is older than {older_than_days} days\n")
    return NO if aged and rows else DONE


def _before(found: Secrets, name: str) -> str | None:
    """The fingerprint of the value before, while devices may have it."""
    kept = found.encrypted.all()[name] if found.encrypted is not None else None
    return None if kept is None or kept.previous is None else str(found.made(name, kept.previous))


COMMAND = CommandGroup(
    {
        "set": Subcommand(
            SecretSetOptions,
            _set,
            "store a secret: typed on a terminal, or read from standard input",
            (("oast secret set snmp-read", "ask for the secret and store it"),),
        ),
        "read": Subcommand(
            SecretReadOptions,
            _read,
            "store a secret that a device has, to deliver it to the others",
            (
                (
                    "oast secret read snmp-read --from gull-core-1 --statement snmp/community",
                    "store the community",
                ),
            ),
            exits=(0, 2, 3, 4),
        ),
        "rotate": Subcommand(
            RotateOptions,
            _rotate,
            "replace a secret by a new random one; with --push, on the devices, too",
            (("oast secret rotate snmp-read --push -m 'yearly rotation'", "replace it and deliver it"),),
            exits=(0, 1, 2, 3, 4, 5, 130),
            no="not delivered: declined, limit exceeded, or differences found by --dry-run",
        ),
        "remove": Subcommand(
            SecretRemoveOptions, _remove, "remove a secret", exits=(0, 1, 2, 3), no="declined"
        ),
        "list": Subcommand(SecretListOptions, _list, "list secrets with fingerprint and date of change"),
        "age": Subcommand(
            SecretAgeOptions,
            _age,
            "list secrets that are older than a number of days",
            (("oast secret age --max-age 365", "list secrets that are older than a year"),),
            exits=(0, 1, 2, 3),
            no="there are such secrets",
        ),
    }
)
