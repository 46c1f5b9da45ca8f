"""oast secret: the encrypted file of an estate."""

from __future__ import annotations

import argparse
import os
import secrets
import sys
from contextlib import suppress
from datetime import date

from oast.cli import arguments
from oast.cli.exits import DONE, NO
from oast.cli.workplace import ask_secret, console, folder_of, put_json, put_table, table
from oast.errors import EstateError, UsageError
from oast.estate.encrypted import EncryptedFile
from oast.estate.estate import secrets_of
from oast.estate.secrets import NAME, Secrets
from oast.nearest import suggestion
from oast.records import Place

RANDOM_BYTES = 24


def add_arguments(parser: argparse.ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    put = actions.add_parser("set", help="keep a secret: asked for on a terminal, otherwise read from standard input")
    put.add_argument("name")
    rotate = actions.add_parser("rotate", help="replace a secret by a new random one")
    rotate.add_argument("name")
    listed = actions.add_parser("list", help="the names, each with its fingerprint and the day it was changed")
    arguments.add_format(listed)
    age = actions.add_parser("age", help="the secrets that are older than so many days; exit 1 if there are any")
    age.add_argument("--most", metavar="DAYS", type=arguments.positive, default=90, help="default: 90")
    arguments.add_format(age)
    for action, run_action in ((put, _set), (rotate, _rotate), (listed, _list), (age, _age)):
        arguments.add_estate(action)
        action.set_defaults(run=run_action)


def _open(options: argparse.Namespace) -> tuple[Secrets, EncryptedFile]:
    found = secrets_of(folder_of(options), os.environ)
    with suppress(OSError):
        found.keep_key()
    if found.encrypted is None:
        hint = 'add encrypted_file = "secrets.jwe" and key_file = "../NAME.key" below [secrets]'
        raise EstateError("the estate has no encrypted file for secrets", place=Place("oast.toml"), hint=hint)
    return found, found.encrypted


def _set(options: argparse.Namespace) -> int:
    if not NAME.fullmatch(options.name):
        raise UsageError(f"'{options.name}' cannot be a secret's name", hint="use letters, digits, - and _")
    value = ask_secret(options.name) if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
    if not value:
        raise UsageError("the secret is empty: nothing was changed")
    return _put(options, value)


def _rotate(options: argparse.Namespace) -> int:
    _, file = _open(options)
    if options.name not in file.all():
        raise EstateError(f"there is no secret '{options.name}' to rotate", hint=suggestion(options.name, file.all()))
    return _put(options, secrets.token_urlsafe(RANDOM_BYTES))


def _put(options: argparse.Namespace, value: str) -> int:
    found, file = _open(options)
    file.put(options.name, value, date.today())
    sys.stdout.write(f"{options.name} is {found.made(options.name, value)} from now on\n")
    return DONE


def _list(options: argparse.Namespace) -> int:
    return _show(options, 0)


def _age(options: argparse.Namespace) -> int:
    return _show(options, options.most)


def _show(options: argparse.Namespace, older_than_days: int) -> int:
    found, file = _open(options)
    rows = [
        (name, str(found.made(name, kept.value)), kept.changed.isoformat(), (date.today() - kept.changed).days)
        for name, kept in sorted(file.all().items())
    ]
    aged = options.action == "age"
    rows = [row for row in rows if not aged or row[3] > older_than_days]
    if options.format == "json":
        names = ("name", "fingerprint", "changed", "days")
        put_json("secrets", 1, {"secrets": [dict(zip(names, row, strict=True)) for row in rows]})
    elif rows:
        listing = table("name", "fingerprint", "changed", "days", numbers=("days",))
        for row in rows:
            listing.add_row(*map(str, row))
        put_table(console(), listing)
    elif aged:
        sys.stdout.write(f"no secret is older than {older_than_days} days\n")
    return NO if aged and rows else DONE
