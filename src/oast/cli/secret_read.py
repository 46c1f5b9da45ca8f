"""oast secret read: a secret that a device runs with becomes one of the estate, so that the next push brings
it to the others."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from datetime import date

from oast.cli.async_runner import run_async as run_to_end
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE
from oast.cli.secret import SecretReadOptions
from oast.errors import EstateError, UsageError
from oast.estate import SECRET_NAME
from oast.operations import SecretAt, secrets_at
from oast.platforms import WrongValue, check_secret
from oast.records import Place, Secret


def read_and_keep(options: SecretReadOptions) -> int:
    if not SECRET_NAME.fullmatch(options.name):
        raise UsageError(
            f"'{options.name}' is not a valid name for a secret", hint="use letters, digits, - and _"
        )
    estate = estate_of(options)
    file = estate.secrets.encrypted
    if file is None:
        hint = 'add encrypted_file = "secrets.jwe" and key_file = "../NAME.key" below [secrets]'
        raise EstateError("the estate has no encrypted file for secrets", place=Place("oast.toml"), hint=hint)
    kept = file.all().get(options.name)
    if kept is not None and kept.previous is not None:
        message = (
            f"a rotation of '{options.name}' is unfinished: some devices have the old value; nothing was"
            " changed"
        )
        raise UsageError(message, hint=f"finish it first: oast secret rotate {options.name} --push -m REASON")
    if options.name in estate.settings.connections.login_secrets:
        message = (
            f"Oast logs in with '{options.name}': a value that other devices do not have would lock it out"
        )
        raise UsageError(message, hint=f"oast secret rotate {options.name} --push -m REASON")
    found = run_to_end(secrets_at(estate, options.device, options.statement, options.timeout))
    secret = _the_one(options, found)
    value = secret.reveal()
    try:
        check_secret(options.name, value, several_lines="\n" in value)
    except WrongValue as wrong:
        raise UsageError(f"{wrong}; nothing was changed") from None
    made = estate.secrets.made(options.name, value)
    if kept is not None and kept.value == value:
        sys.stdout.write(f"{options.name} is already {made}\n")
        return DONE
    file.put(options.name, value, date.today())
    sys.stdout.write(
        f"{options.name} is now {made}, as on {options.device}; deliver it to the others with: oast push"
        " -m REASON\n"
    )
    before = estate.secrets.comes_before_file(options.name)
    if before is not None:
        sys.stderr.write(
            f"warning: {before} also has a '{options.name}', and takes precedence over the encrypted file\n"
        )
    return DONE


def _the_one(options: SecretReadOptions, found: Sequence[SecretAt]) -> Secret:
    """Return the selected secret. Raises UsageError when none or several match."""
    if not found:
        raise UsageError(f"{options.device} has no secret at '{options.statement}'; nothing was changed")
    distinct = {str(one.secret): one for one in found}
    if options.which is not None:
        word = options.which.strip("<>").removeprefix("secret").strip()
        distinct = {
            shown: one
            for shown, one in distinct.items()
            if word and word in shown.strip("<>").removeprefix("secret ")
        }
    if len(distinct) == 1:
        return next(iter(distinct.values())).secret
    listed = "; ".join(" / ".join(one.statement) for one in found)
    what = "there are several" if distinct else f"none of them is '{options.which}'"
    raise UsageError(f"{what}: {listed}; nothing was changed", hint="choose one with --which FINGERPRINT")
