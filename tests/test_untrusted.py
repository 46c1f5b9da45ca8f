"""What somebody proposes to an estate reads no file of the machine that checks it, and, where it is not trusted, runs nothing there."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import unittest
from pathlib import Path
from unittest import mock

from larkwater import SECRETS, EstateTest
from oast.operations.lint import lint_estate

CANARY = "canary-of-the-build-machine"
LINKED = (
    "values/network.yaml",
    "values/more.yaml",
    "values/devices/gull-core-1.yaml",
    "values",
    "inventory/devices.yaml",
    "inventory/terminals.csv",
    "inventory/other.source.yaml",
    "inventory",
    "checks/more.yaml",
    "checks",
    "policies/standard.yaml",
    "platforms/bine.toml",
    "platforms/own.toml",
    "intent.yaml",
    "oast.toml",
    "templates/bine/system.j2",
)
TEXTS = (
    f"{CANARY}: x: y\n",
    f"root:x:0:0:{CANARY}:/root:/bin/sh\n",
    f"key = {CANARY}\n",
    f"name,{CANARY}\na,b,c\n",
    f"everywhere:\n  contact: {CANARY}\n\tx\n",
    f"devices:\n  a: {{address: {CANARY}}}\n",
    f"{{# {CANARY}\n",
)


class LinksTest(EstateTest):
    """Symbolic links that lead out of the estate."""

    def test_no_text_of_a_file_outside_of_the_estate_gets_into_a_message(self) -> None:
        outside = self.folder / "outside"
        for number, linked in enumerate(LINKED):
            place = self.estate / linked
            before = self.folder / "before"
            is_folder = place.is_dir()
            if place.exists():
                place.rename(before)
            place.parent.mkdir(exist_ok=True)
            for text in (TEXTS[number % len(TEXTS)], TEXTS[(number + 3) % len(TEXTS)]):
                if is_folder:
                    outside.mkdir()
                    for name in ("devices.yaml", "terminals.csv", "more.yaml", "more.toml"):
                        (outside / name).write_text(text)
                else:
                    outside.write_text(text)
                place.symlink_to(outside)
                for untrusted in (False, True):
                    with self.subTest(linked=linked, text=text, untrusted=untrusted):
                        found = (
                            lint_estate(self.estate, self.environment(), untrusted=untrusted)
                            if linked != "oast.toml"
                            else None
                        )
                        said = str(found.problems) if found is not None else self.oast("lint", expect=3).out
                        self.assertNotIn(CANARY, said)
                        if linked not in ("platforms/own.toml",):
                            self.assertRegex(said, "out of the estate,|is outside the templates folder")
                place.unlink()
                shutil.rmtree(outside) if is_folder else outside.unlink()
            if before.exists():
                before.rename(place)

    def environment(self) -> dict[str, str]:
        return {f"OAST_SECRET_{name.upper().replace('-', '_')}": value for name, value in SECRETS.items()}

    def test_a_link_inside_of_the_estate_is_followed(self) -> None:
        (self.estate / "shared.yaml").write_text((self.estate / "values" / "network.yaml").read_text())
        (self.estate / "values" / "network.yaml").unlink()
        (self.estate / "values" / "network.yaml").symlink_to("../shared.yaml")
        self.assertIn("no mistakes", self.oast("lint").out)


class UntrustedTest(EstateTest):
    """An estate with everything in it that would do something, and the check of it that does nothing."""

    def test_no_program_is_run_no_secret_resolved_no_connection_opened_and_nothing_outside_read(self) -> None:
        ran, outside = self.folder / "ran", self.folder / "outside"
        outside.write_text(f"gull-core-1 ssh-ed25519 {CANARY}\nlogin-password = '{CANARY}'\n")
        self.edit(
            "oast.toml",
            "[secrets]\n",
            f'[[watch.notify]]\nname = "own"\ncommand = ["touch", "{ran}"]\n\n'
            f'[secrets]\ncommand = ["sh", "-c", "touch {ran}; echo {CANARY}", "{{name}}"]\n',
        )
        self.edit(
            "oast.toml",
            "connect_timeout_s",
            f'known_hosts = "{outside}"\nssh_config = "{outside}"\nconnect_timeout_s',
        )
        self.edit("oast.toml", '"../larkwater-secrets.toml"', f'"{outside}"')
        working = self.estate / ".oast"
        shutil.rmtree(working, ignore_errors=True)
        elsewhere = self.folder / "elsewhere"
        elsewhere.mkdir(mode=0o755)
        working.symlink_to(elsewhere)
        read: list[str] = []
        # What is opened, run or connected to in this process, as the interpreter itself reports it (PEP 578).
        with (
            mock.patch.object(subprocess, "Popen", side_effect=AssertionError("a program was run")),
            mock.patch.object(
                socket.socket, "connect", side_effect=AssertionError("a connection was opened")
            ),
            mock.patch.object(Path, "read_bytes", _noted(Path.read_bytes, read)),
            mock.patch.object(Path, "read_text", _noted(Path.read_text, read)),
        ):
            found = lint_estate(self.estate, {**os.environ, "OAST_SECRET_SNMP_READ": CANARY}, untrusted=True)
        self.assertEqual([problem.message for problem in found.problems], [])
        shipped = str(Path(lint_estate.__code__.co_filename).parents[1])
        inside = (str(self.estate.resolve()), shipped)
        self.assertEqual([path for path in read if not str(Path(path).resolve()).startswith(inside)], [])
        run = self.oast("lint", "--untrusted", environment={"OAST_SECRET_SNMP_READ": CANARY})
        self.assertIn("no mistakes: 6 devices", run.out)
        self.assertFalse(ran.exists())
        self.assertEqual((elsewhere.stat().st_mode & 0o777, list(elsewhere.iterdir())), (0o755, []))
        # It finds what there is to find all the same.
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contcat: Larkwater network desk")
        self.assertIn("contact", self.oast("lint", "--untrusted", expect=3).out)


def _noted(read: object, into: list[str]) -> object:
    def noting(path: Path, *arguments: object, **options: object) -> object:
        into.append(str(path))
        return read(path, *arguments, **options)  # type: ignore[operator]

    return noting


if __name__ == "__main__":
    unittest.main()
