"""Where secrets come from: an encrypted file, a command, the environment, a person; and that none is ever shown."""

from __future__ import annotations

import base64
import contextlib
import datetime
import json
import threading
from pathlib import Path

from larkwater import SECRETS, EstateTest, LarkwaterTest, Run, apart, on_terminal, program
from oast.estate.encrypted import EncryptedFile

HIDDEN = "swordfish-41c7"


class EncryptedTest(EstateTest):
    def setUp(self) -> None:
        super().setUp()
        (self.estate / "secrets.jwe").unlink()
        (self.folder / "larkwater.key").unlink()
        with (self.folder / "larkwater-secrets.toml").open("a") as plain:
            plain.write('snmp-billing = "b1lls"\n')

    def secret(self, *arguments: str, expect: int = 0, stdin: str = "", environment: dict[str, str] | None = None) -> Run:
        run = self.oast("secret", *arguments, expect=expect, stdin=stdin, environment=environment)
        self.assertNotIn(HIDDEN, run.out + run.err)
        return run

    def monitoring(self) -> str:
        return self.oast("render", "--section", "monitoring", "--on", "site=gull").out

    def test_a_secret_is_kept_used_rotated_and_never_shown(self) -> None:
        self.assertIn("there is no secret 'snmp-read'", self.oast("render", expect=3).err)
        kept = self.secret("set", "snmp-read", stdin=f"{HIDDEN}\n").out
        fingerprint = kept.split(" is ")[1].removesuffix(" from now on\n")
        self.assertIn(f"community {fingerprint}", self.monitoring())
        self.assertIn(f"snmp-read  {fingerprint}  {datetime.date.today()}", self.secret("list").out)
        for path in self.folder.rglob("*"):
            if path.is_file():
                self.assertNotIn(HIDDEN.encode(), path.read_bytes(), str(path))
        self.assertEqual((self.folder / "larkwater.key").stat().st_mode & 0o077, 0)
        rotated = self.secret("rotate", "snmp-read").out
        self.assertNotIn(fingerprint, rotated + self.monitoring())
        self.assertIn("did you mean 'snmp-read'?", self.secret("rotate", "snmp-raed", expect=3).err)

    def test_the_file_is_an_open_standard_and_needs_its_key(self) -> None:
        self.secret("set", "snmp-read", stdin=f"{HIDDEN}\n")
        header = (self.estate / "secrets.jwe").read_text().split(".")[0]
        self.assertEqual(json.loads(base64.urlsafe_b64decode(header + "==")), {"alg": "dir", "enc": "A256GCM"})
        key = self.folder / "larkwater.key"
        held = json.loads(key.read_text())["k"]
        key.unlink()
        self.assertIn("the key of the encrypted secrets is not there", self.secret("list", expect=3).err)
        self.assertIn("snmp-read", self.secret("list", environment={"OAST_SECRETS_KEY": held}).out)
        wrong = self.secret("list", expect=3, environment={"OAST_SECRETS_KEY": held[::-1]}).err
        self.assertIn("secrets.jwe: the encrypted secrets cannot be decrypted: another key, or a damaged file", wrong)
        (self.estate / "secrets.jwe").write_text("damaged")
        self.assertIn("cannot be decrypted", self.secret("list", expect=3, environment={"OAST_SECRETS_KEY": held}).err)
        self.secret("set", "other", expect=3, stdin="x\n", environment={"OAST_SECRETS_KEY": held})
        self.assertEqual((self.estate / "secrets.jwe").read_text(), "damaged", "what cannot be read is not written over")

    def test_old_secrets_are_told(self) -> None:
        file = EncryptedFile(self.estate / "secrets.jwe", self.folder / "larkwater.key", {})
        file.put("snmp-read", HIDDEN, datetime.date.today() - datetime.timedelta(days=100))
        file.put("snmp-new", HIDDEN, datetime.date.today())
        self.assertIn("snmp-read", self.secret("age", expect=1).out)
        self.assertNotIn("snmp-new", self.secret("age", expect=1).out)
        self.assertEqual(self.secret("age", "--most", "120").out, "no secret is older than 120 days\n")
        (self.estate / "policies/zz.yaml").write_text("policies:\n  - policy: fresh\n    secret_age: 90\n")
        told = self.oast("lint", expect=3).out
        self.assertIn("policies/zz.yaml:2: policy 'fresh': the secret 'snmp-read' is 100 days old", told)
        self.assertIn("oast secret rotate snmp-read", told)
        self.secret("rotate", "snmp-read")
        self.oast("lint")
        file.put("snmp-read", HIDDEN, datetime.date.today() - datetime.timedelta(days=100))
        document = self.secret("list", "--format", "json").json()
        self.assertEqual((document["format"], document["secrets"][1]["days"]), ("oast.secrets/1", 100))

    def test_mistakes(self) -> None:
        self.assertIn("the secret is empty", self.secret("set", "snmp-read", expect=2).err)
        self.assertIn("cannot be a secret's name", self.secret("set", "../x", expect=2, stdin="x\n").err)
        self.edit("oast.toml", "encrypted_file =", "# encrypted_file =")
        self.assertIn("the estate has no encrypted file for secrets", self.secret("list", expect=3).err)


class OtherProvidersTest(EstateTest):
    def test_a_command_prints_the_secret_and_its_failure_leads_on(self) -> None:
        script = self.folder / "keeper"
        script.write_text(f'#!/bin/sh\n[ "$1" = snmp-read ] && echo {HIDDEN} || exit 1\n')
        script.chmod(0o755)
        before = self.oast("render", "--section", "monitoring", "--on", "site=gull").out
        self.edit("oast.toml", "[secrets]\n", f'[secrets]\ncommand = ["{script}", "{{name}}"]\n')
        after = self.oast("render", "--section", "monitoring", "--on", "site=gull").out
        self.assertNotIn(HIDDEN, after)
        self.assertEqual(len(set(before.splitlines()) & set(after.splitlines())), 4, "one community is another now, the rest is the same")
        self.edit("oast.toml", str(script), f"{script}-gone")
        self.assertIn("the command for secrets cannot be run", self.oast("render", expect=3).err)

    def test_a_person_is_asked_without_showing_what_is_typed(self) -> None:
        (self.estate / "secrets.jwe").unlink()
        (self.folder / "larkwater-secrets.toml").write_text('snmp-billing = "b"\n')
        self.edit("oast.toml", "[secrets]\n", "[secrets]\nprompt = true\n")
        arguments = ("render", "--section", "monitoring", "--on", "site=gull")
        code, shown = on_terminal(arguments, self.estate, "snmp-read: ", HIDDEN)
        self.assertEqual(code, 0, shown)
        self.assertNotIn(HIDDEN, shown)
        self.assertRegex(shown, r"community <secret [0-9a-f]{8}>")


class FullRunTest(LarkwaterTest):
    """A run of everything, and every artefact of it searched for every secret."""

    def setUp(self) -> None:
        super().setUp()
        self.edit("oast.toml", "[delivery]\n", "[delivery]\nmask_backups = true\n")
        self.artefacts: dict[str, str] = {}
        self.over = threading.Event()
        self.watcher = threading.Thread(target=self.watch_processes)
        self.watcher.start()
        self.addCleanup(self.watcher.join)
        self.addCleanup(self.over.set)

    def watch_processes(self) -> None:
        """The command lines of the program's processes and the simulator's, looked at all the time."""
        while not self.over.wait(0.1):
            for path in Path("/proc").glob("[0-9]*/cmdline"):
                with contextlib.suppress(OSError):
                    line = path.read_bytes().replace(b"\0", b" ").decode(errors="replace")
                    if " -m oast" in line:
                        self.artefacts[f"process: {line}"] = line

    def run_program(self, *arguments: str, stdin: str = "", environment: dict[str, str] | None = None) -> Run:
        # What the process list shows can be seen of a process of its own only.
        run = (apart if arguments[0] in ("push", "diff") else program)(*arguments, cwd=self.estate, stdin=stdin, environment=environment)
        self.assertNotIn("Traceback", run.err)
        self.artefacts[f"{arguments} stdout"], self.artefacts[f"{arguments} stderr"] = run.out, run.err
        return run

    def test_no_secret_stands_in_anything_that_was_put_out_or_kept(self) -> None:
        for line in (
            "lint", "explain gull-core-1", "explain gull-core-1 communities --format json", "render --trace", "render --out rendered",
            "render --describe", "diff -q", "diff --format json", "push -m first --yes --format json", "diff --format json", "verify -v",
            "secret list", "secret age --most 1 --format json", "devices --format json", "sim status",
        ):  # fmt: skip
            self.run_program(*line.split())
        self.fault("tern-edge-1", "refuse", "--match", "community")
        self.run_program("secret", "set", "snmp-read", stdin="another-9c1d-quay\n")
        refused = self.run_program("push", "-m", "rotate", "--yes", "--timeout", "5", "--revert-timer", "13", "--verify-timeout", "4")
        self.assertIn("the device refused 'community <secret", refused.out)
        self.run_program("diff", environment={"OAST_SECRET_LOGIN_PASSWORD": "wr0ng-password"})
        self.edit("templates/bine/monitoring.j2", "community {{ community.name }}", "community {{ community.name }} x")
        self.run_program("lint", "--trace", "--format", "sarif")
        self.over.set()
        self.watcher.join()
        secrets = [*SECRETS.values(), "another-9c1d-quay", "pier-2-writes", "wr0ng-password"]
        for path in self.estate.rglob("*"):
            # The simulated devices hold what they run.
            if path.is_file() and not {"sim", "startup"} & set(path.relative_to(self.estate).parts):
                self.artefacts[str(path)] = path.read_bytes().decode(errors="replace")
        for kind in (" -m oast push ", "backups/", "log/", "outcome.json", "rendered/"):
            self.assertTrue(any(kind in name for name in self.artefacts), f"no {kind} was looked at")
        for secret in secrets:
            for name, text in self.artefacts.items():
                self.assertNotIn(secret, text, name)

    def test_a_masked_backup_shows_that_a_secret_was_there(self) -> None:
        self.oast("push", "-m", "first", "--yes", "--on", "site=tern")
        backup = next((self.estate / ".oast/backups").glob("*/tern-edge-1.txt")).read_text()
        self.assertIn("cannot be restored as it is", backup)
        self.assertRegex(backup, r"\n  community <secret [0-9a-f]{8}>\n    access read-write\n")
        self.assertIn('contact "night desk, pier 2"', backup)

    def test_a_fault_of_the_program_shows_no_secret(self) -> None:
        (self.folder / "sitecustomize.py").write_text(
            "import oast.estate.secrets as s\n"
            "made = s.Secrets.made\n"
            "def broken(self, name, value):\n"
            "    raise RuntimeError(f'cannot keep {value}') from ValueError(value)\n"
            "s.Secrets.made = broken\n"
        )
        run = apart("lint", cwd=self.estate, environment={"PYTHONPATH": str(self.folder)})
        self.assertIn("This is a fault of Oast (RuntimeError), not yours", run.err)
        kept = Path(run.err.split("with the file ")[1].strip())
        self.addCleanup(kept.unlink)
        for secret in SECRETS.values():
            self.assertNotIn(secret, run.out + run.err + kept.read_text())
        self.assertIn("secrets.py", kept.read_text())
