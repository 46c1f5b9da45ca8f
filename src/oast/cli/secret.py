"""oast secret: the encrypted file of an estate."""

from __future__ import annotations

import argparse
import os
import secrets
import sys
from contextlib import suppress
from datetime import date

from oast.cli import arguments
from oast.cli.estate_option import ask_secret, estate_of, folder_of
from oast.cli.exit_codes import DONE, NO
from oast.cli.output import ask_to_confirm, console, print_json, print_table, table
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


def add_arguments(parser: argparse.ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    put = actions.add_parser(
        "set", help="keep a secret: asked for on a terminal, otherwise read from standard input"
    )
    put.add_argument("name")
    put.add_argument(
        "--several-lines",
        action="store_true",
        help="the secret is all lines of standard input, such as a certificate's key",
    )
    read = actions.add_parser(
        "read", help="keep a secret that a device runs with, to bring it to the others by the next push"
    )
    read.add_argument("name")
    read.add_argument("--from", dest="device", metavar="DEVICE", required=True, help="the device that has it")
    read.add_argument(
        "--statement", metavar="PATH", required=True, help="where it stands there, such as snmp/community"
    )
    read.add_argument("--which", metavar="FINGERPRINT", help="which one, if there are several")
    arguments.add_connection(read)
    rotate = actions.add_parser(
        "rotate", help="replace a secret by a new random one; with --push, on the devices as well"
    )
    rotate.add_argument("name")
    rotate.add_argument(
        "--push",
        action="store_true",
        help="deliver it; the value before is kept until every device has the new one",
    )
    arguments.add_delivery(rotate)
    arguments.add_format(rotate)
    rotate.set_defaults(on=None, section=[], mode="replace", remove_unknown=False, verbose=False)
    remove = actions.add_parser("remove", help="keep a secret no longer")
    remove.add_argument("name")
    remove.add_argument("--yes", action="store_true", help="do not ask")
    listed = actions.add_parser(
        "list", help="the names, each with its fingerprint and the day it was changed"
    )
    arguments.add_format(listed)
    age = actions.add_parser(
        "age", help="the secrets that are older than so many days; exit 1 if there are any"
    )
    age.add_argument(
        "--max-age",
        metavar="DAYS",
        type=arguments.positive,
        default=90,
        help="age in days above which a secret is listed (default: 90)",
    )
    arguments.add_format(age)
    runs = ((put, _set), (read, _read), (rotate, _rotate), (remove, _remove), (listed, _list), (age, _age))
    for action, run_action in runs:
        arguments.add_estate(action)
        action.set_defaults(run=run_action)


def _read(options: argparse.Namespace) -> int:
    from oast.cli.secret_read import read_and_keep

    return read_and_keep(options)


def _open(options: argparse.Namespace) -> tuple[Secrets, EncryptedFile]:
    found = secrets_of(folder_of(options), os.environ)
    with suppress(OSError):
        found.keep_key()
    if found.encrypted is None:
        hint = 'add encrypted_file = "secrets.jwe" and key_file = "../NAME.key" below [secrets]'
        raise EstateError("the estate has no encrypted file for secrets", place=Place("oast.toml"), hint=hint)
    return found, found.encrypted


def _set(options: argparse.Namespace) -> int:
    if not SECRET_NAME.fullmatch(options.name):
        raise UsageError(f"'{options.name}' cannot be a secret's name", hint="use letters, digits, - and _")
    found, file = _open(options)
    _need_settled(options, file)
    value = _typed(options)
    file.put(options.name, value, date.today())
    sys.stdout.write(f"{options.name} is {found.made(options.name, value)} from now on\n")
    _tell_of_others(found, options.name)
    return DONE


def _typed(options: argparse.Namespace) -> str:
    """The secret that is typed or sent. Raises UsageError for what is no text; what is kept stays as it is
    then."""
    if sys.stdin.isatty():
        data = ask_secret(options.name).encode("utf-8", "surrogateescape")
    else:
        data = sys.stdin.buffer.read(LONGEST + 1)
    unchanged = "nothing was changed"
    if len(data) > LONGEST:
        raise UsageError(f"the secret is longer than {LONGEST} bytes: {unchanged}")
    try:
        value = data.decode("utf-8").removesuffix("\n").removesuffix("\r")
    except UnicodeDecodeError:
        raise UsageError(
            f"the secret is not UTF-8 text: {unchanged}", hint="put bytes into base64 first"
        ) from None
    if not value:
        raise UsageError(f"the secret is empty: {unchanged}")
    if "\n" in value and not options.several_lines:
        hint = "if it is one secret of several lines: --several-lines"
        raise UsageError(f"the secret has {value.count(chr(10)) + 1} lines: {unchanged}", hint=hint)
    try:
        check_secret(options.name, value, several_lines=options.several_lines)
    except WrongValue as wrong:
        raise UsageError(f"{wrong}: {unchanged}") from None
    return value


def _need_settled(options: argparse.Namespace, file: EncryptedFile) -> None:
    """What some devices still have must not be forgotten. Raises UsageError."""
    kept = file.all().get(options.name)
    if kept is not None and kept.previous is not None:
        message = (
            f"a rotation of '{options.name}' is not finished: some devices have the value before: nothing was"
            " changed"
        )
        raise UsageError(message, hint=f"finish it first: oast secret rotate {options.name} --push -m REASON")


def _tell_of_others(found: Secrets, name: str) -> None:
    """A secret that is kept and never looked at is worth a word."""
    before = found.comes_before_file(name)
    if before is not None:
        sys.stderr.write(f"{before} has a '{name}', too, and is asked before the encrypted file\n")


def _kept(options: argparse.Namespace, to_do: str) -> tuple[Secrets, EncryptedFile]:
    found, file = _open(options)
    if options.name not in file.all():
        raise EstateError(
            f"there is no secret '{options.name}' to {to_do}", hint=spelling_hint(options.name, file.all())
        )
    return found, file


def _rotate(options: argparse.Namespace) -> int:
    found, file = _kept(options, "rotate")
    if options.push:
        from oast.cli.rotate import rotate_and_push

        return rotate_and_push(options, found, file)
    for given, option in (
        (options.reason, "-m"),
        (options.ticket, "--ticket"),
        (options.dry_run, "--dry-run"),
    ):
        if given:
            raise UsageError(
                f"{option} belongs to a delivery", hint=f"oast secret rotate {options.name} --push -m REASON"
            )
    if options.name in read_settings(folder_of(options)).connection.login_secrets:
        message = f"Oast logs in with '{options.name}': a new one that devices do not have would lock it out"
        raise UsageError(message, hint=f"oast secret rotate {options.name} --push -m REASON")
    _need_settled(options, file)
    value = secrets.token_urlsafe(RANDOM_BYTES)
    file.put(options.name, value, date.today())
    sys.stdout.write(f"{options.name} is {found.made(options.name, value)} from now on\n")
    _tell_of_others(found, options.name)
    return DONE


def _remove(options: argparse.Namespace) -> int:
    found, file = _kept(options, "remove")
    if not found.elsewhere(options.name):
        for place in _uses(options):
            message = (
                f"the secret '{options.name}' is used, and would be found nowhere else: nothing was removed"
            )
            raise EstateError(message, place=place, hint="take away what refers to it first")
    if not options.yes and not ask_to_confirm(
        f"Remove the secret '{options.name}'? It cannot be brought back."
    ):
        return NO
    file.remove(options.name)
    sys.stdout.write(f"{options.name} is no longer kept\n")
    return DONE


def _uses(options: argparse.Namespace) -> list[Place]:
    """Where the estate refers to the secret. Raises EstateError when it cannot be told, for mistakes
    elsewhere."""
    try:
        estate: Estate = estate_of(options)
    except OastError as error:
        hint = "mend that first: whether the secret is used can only be told of an estate without mistakes"
        raise EstateError(
            f"{error.problems()[0].message}", place=error.problems()[0].place, hint=hint
        ) from None
    logs_in = options.name in estate.settings.connections.login_secrets
    return [*([Place("oast.toml")] if logs_in else []), *estate.secrets.places.get(options.name, [])]


def _list(options: argparse.Namespace) -> int:
    return _show(options, 0)


def _age(options: argparse.Namespace) -> int:
    return _show(options, options.max_age)


def _show(options: argparse.Namespace, older_than_days: int) -> int:
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
