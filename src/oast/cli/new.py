"""oast new: a small, commented estate to begin with."""

from __future__ import annotations

import string
import sys
from dataclasses import dataclass
from pathlib import Path

from oast.cli.command import CommandOptions, Subcommand, argument
from oast.cli.exit_codes import DONE
from oast.cli.scaffold import create_estate, new_folder
from oast.errors import UsageError
from oast.files import write_whole

SHIPPED = Path(__file__).parent / "starter"
SECRETS = ("login-password", "privilege-password")


@dataclass(frozen=True, kw_only=True)
class NewOptions(CommandOptions):
    """The options of `oast new`."""

    folder: Path = argument("DIR", type=Path, help="folder for the estate: a new or an empty one")


def run(options: NewOptions) -> int:
    secrets_file = options.folder.resolve().with_name(f"{options.folder.resolve().name}-secrets.toml")
    if secrets_file.exists():
        raise UsageError(
            f"{secrets_file} exists already", hint="choose another folder, or move the file away"
        )
    estate = new_folder(options.folder)
    create_estate(SHIPPED, estate, secrets_file, SECRETS)
    names = {"name": estate.name, "secrets": f"../{secrets_file.name}"}
    for file in ("oast.toml", "network.yaml"):
        write_whole(
            estate / file, string.Template((estate / file).read_text(encoding="utf-8")).safe_substitute(names)
        )
    sys.stdout.write(
        f"{options.folder} is an estate of two simulated routers; its secrets are in {secrets_file}\nnext"
        f" steps:\n  cd {options.folder}\n  oast lint\n  oast sim start\n  oast devices trust\n  oast"
        ' diff\n  oast push -m "first delivery"\n  oast verify\n'
    )
    return DONE


COMMAND = Subcommand(
    NewOptions,
    run,
    examples=(("oast new harbor", "write a small estate into the folder harbor"),),
    exits=(0, 2),
)
