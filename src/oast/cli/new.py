"""oast new: a small, commented estate to begin with."""

from __future__ import annotations

import argparse
import string
import sys
from pathlib import Path

from oast.cli.exit_codes import DONE
from oast.cli.scaffold import create_estate, new_folder
from oast.errors import UsageError
from oast.files import write_whole

SHIPPED = Path(__file__).parent / "starter"
SECRETS = ("login-password", "privilege-password")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "folder", metavar="DIR", type=Path, help="a folder that does not exist yet, or is empty"
    )


def run(options: argparse.Namespace) -> int:
    secrets_file = options.folder.resolve().with_name(f"{options.folder.resolve().name}-secrets.toml")
    if secrets_file.exists():
        raise UsageError(
            f"{secrets_file} is there already", hint="name another folder, or move the file away"
        )
    estate = new_folder(options.folder)
    create_estate(SHIPPED, estate, secrets_file, SECRETS)
    names = {"name": estate.name, "secrets": f"../{secrets_file.name}"}
    for file in ("oast.toml", "network.yaml"):
        write_whole(
            estate / file, string.Template((estate / file).read_text(encoding="utf-8")).safe_substitute(names)
        )
    sys.stdout.write(
        f"{options.folder} holds an estate of two simulated routers; its secrets are in {secrets_file}\n"
        f"go on with:\n  cd {options.folder}\n  oast lint\n  oast sim start\n  oast devices trust\n"
        '  oast diff\n  oast push -m "first delivery"\n  oast verify\n'
    )
    return DONE
