"""Where secrets come from: an encrypted file, a command, the environment, a person; and that none is ever shown."""

from __future__ import annotations

import base64
import contextlib
import datetime
import json
import tempfile
import threading
import unittest
from pathlib import Path
from unittest import mock

from larkwater import SECRETS, EstateTest, LarkwaterTest, Run, interpreted, on_terminal, program
from oast import __version__
from oast.config.commands import commands_of
from oast.config.dependency_order import in_dependency_order
from oast.config.diff_text import view
from oast.config.edits import difference
from oast.config.indented_syntax import IndentedSyntax
from oast.config.tree import canonical
from oast.estate.encrypted_file import EncryptedFile
from oast.platforms.load import SHIPPED, load_platform
from oast.records import Fingerprints
from oast.redaction import Masking
from oast.verify.checks import Check, evaluate

HIDDEN = "swordfish-41c7"


class EncryptedTest(EstateTest):
    def setUp(self) -> None:
        super().setUp()
        (self.estate / "secrets.jwe").unlink()
        (self.folder / "larkwater.key").unlink()
        with (self.folder / "larkwater-secrets.toml").open("a") as plain:
            plain.write('snmp-billing = "b1lls"\n')

    def secret(
        self, *arguments: str, expect: int = 0, stdin: str = "", environment: dict[str, str] | None = None
    ) -> Run:
        run = self.oast("secret", *arguments, expect=expect, stdin=stdin, environment=environment)
        self.assertNotIn(HIDDEN, run.out + run.err)
        return run

    def monitoring(self) -> str:
        return self.oast("render", "--section", "monitoring", "--on", "site=gull").out

    def test_a_secret_is_kept_used_rotated_and_never_shown(self) -> None:
        self.assertIn("no secret 'snmp-read'", self.oast("render", expect=3).err)
        kept = self.secret("set", "snmp-read", stdin=f"{HIDDEN}\n").out
        fingerprint = kept.split(" is now ")[1].strip()
        self.assertIn(f"community {fingerprint}", self.monitoring())
        self.assertRegex(self.secret("list").out, rf"snmp-read +{fingerprint} +{datetime.date.today()} +0\n")
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
        self.assertEqual(
            json.loads(base64.urlsafe_b64decode(header + "==")), {"alg": "dir", "enc": "A256GCM"}
        )
        key = self.folder / "larkwater.key"
        held = json.loads(key.read_text())["k"]
        key.unlink()
        self.assertIn("the key file of the encrypted secrets is", self.secret("list", expect=3).err)
        self.assertIn("snmp-read", self.secret("list", environment={"OAST_SECRETS_KEY": held}).out)
        wrong = self.secret("list", expect=3, environment={"OAST_SECRETS_KEY": held[::-1]}).err
        self.assertIn(
            "secrets.jwe: cannot decrypt the encrypted secrets: the key is a different one, or the file is damaged",
            wrong,
        )
        (self.estate / "secrets.jwe").write_text("damaged")
        self.assertIn(
            "cannot decrypt", self.secret("list", expect=3, environment={"OAST_SECRETS_KEY": held}).err
        )
        self.secret("set", "other", expect=3, stdin="x\n", environment={"OAST_SECRETS_KEY": held})
        self.assertEqual((self.estate / "secrets.jwe").read_text(), "damaged", "what is not written over")

    def test_old_secrets_are_told(self) -> None:
        file = EncryptedFile(self.estate / "secrets.jwe", self.folder / "larkwater.key", {})
        file.put("snmp-read", HIDDEN, datetime.date.today() - datetime.timedelta(days=100))
        file.put("snmp-new", HIDDEN, datetime.date.today())
        self.assertIn("snmp-read", self.secret("age", expect=1).out)
        self.assertNotIn("snmp-new", self.secret("age", expect=1).out)
        self.assertEqual(self.secret("age", "--max-age", "120").out, "no secret is older than 120 days\n")
        (self.estate / "policies/zz.yaml").write_text("policies:\n  - policy: fresh\n    secret_age: 90\n")
        told = self.oast("lint", expect=3).out
        self.assertIn(
            "policies/zz.yaml:2: policy 'fresh': the secret 'snmp-read' is 100 days old",
            told,
        )
        self.assertIn("oast secret rotate snmp-read", told)
        self.secret("rotate", "snmp-read")
        self.oast("lint")
        file.put("snmp-read", HIDDEN, datetime.date.today() - datetime.timedelta(days=100))
        document = self.secret("list", "--format", "json").json()
        self.assertEqual((document["format"], document["secrets"][1]["days"]), ("oast.secrets/1", 100))

    def test_mistakes(self) -> None:
        self.assertIn("the secret is empty", self.secret("set", "snmp-read", expect=2).err)
        self.assertIn("for a secret", self.secret("set", "../x", expect=2, stdin="x\n").err)
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
        self.assertEqual(
            len(set(before.splitlines()) & set(after.splitlines())),
            4,
            "one community is another now, the rest is the same",
        )
        self.edit("oast.toml", str(script), f"{script}-gone")
        self.assertIn("the command for secrets: No", self.oast("render", expect=3).err)

    def test_what_the_command_says_and_prints_is_looked_at(self) -> None:
        (self.estate / "secrets.jwe").unlink()
        keeper = self.estate / "keeper"
        self.edit("oast.toml", "[secrets]\n", '[secrets]\ncommand = ["./keeper", "{name}"]\n')
        for script, told in (
            ("echo 'token has expired' >&2; exit 3", "the command for secrets failed: token has expired"),
            ("exit 3", "the command for secrets failed: it exited with code 3"),
            ("true", "the command printed nothing for the secret 'snmp-read'"),
            (
                "printf 'a\\nb\\n'",
                "the command printed several lines for the secret 'snmp-read'",
            ),
            (
                "printf 'a\\000b'",
                "the command printed a NUL for the secret 'snmp-read'",
            ),
            (
                "printf '\\377'",
                "the output of the command for the secret 'snmp-read' is not UTF-8 text",
            ),
            ("yes", "the command for secrets printed more than 65536 bytes"),
            ("printf 'a\\tb'", "the secret 'snmp-read' contains U+0009 (a tab),"),
        ):
            keeper.write_text(f"#!/bin/sh\n{script}\n")
            keeper.chmod(0o755)
            run = self.oast("render", "--section", "monitoring", "--on", "site=gull", expect=3)
            self.assertIn(told, run.err)
        keeper.write_text("#!/bin/sh\nsleep 60 &\nsleep 60\n")
        with mock.patch("oast.estate.secret_command.AT_MOST_S", 0.3):
            self.assertIn("the command for secrets took more than 0.3 s", self.oast("render", expect=3).err)

    def test_the_command_gets_no_secret_of_others(self) -> None:
        keeper = self.estate / "keeper"
        keeper.write_text("#!/bin/sh\nenv > seen\npwd >> seen\nexit 1\n")
        keeper.chmod(0o755)
        self.edit("oast.toml", "[secrets]\n", '[secrets]\ncommand = ["./keeper", "{name}"]\n')
        key = json.loads((self.folder / "larkwater.key").read_text())["k"]
        self.oast(
            "render",
            environment={
                "OAST_SECRET_OTHER": "not-for-it",
                "OAST_SECRETS_KEY": key,
                "KEEPER_TOKEN": "for-it",
            },
        )
        seen = (self.estate / "seen").read_text()
        self.assertNotIn("not-for-it", seen)
        self.assertNotIn(key, seen)
        self.assertIn("KEEPER_TOKEN=for-it", seen)
        self.assertTrue(seen.endswith(f"{self.estate.resolve()}\n"), seen)

    def test_a_person_is_asked_without_showing_what_is_typed(self) -> None:
        (self.estate / "secrets.jwe").unlink()
        (self.folder / "larkwater-secrets.toml").write_text('snmp-billing = "b"\n')
        self.edit("oast.toml", "[secrets]\n", "[secrets]\nprompt = true\n")
        arguments = ("render", "--section", "monitoring", "--on", "site=gull")
        code, shown = on_terminal(arguments, self.estate, "snmp-read: ", HIDDEN)
        self.assertEqual(code, 0, shown)
        self.assertNotIn(HIDDEN, shown)
        self.assertRegex(shown, r"community <secret [0-9a-f]{8}>")


class OddSecretsTest(LarkwaterTest):
    """Secrets as people have them, and in places where they do not belong."""

    delivered = True
    # Every one as the community; the login stays as it is. One is the beginning of another, one is a letter.
    ACCEPTED = (
        "a",
        "ab",
        "reads-7f31",
        "reads-7f31-quay-2",
        'a"b',
        " lead",
        "back\\slash",
        "\u00e9t\u00e9",
        "#1",
        "last",
        "<secret 00000000>",
    )

    def test_whatever_the_secret_is_the_device_has_it_and_nobody_sees_it(self) -> None:
        lines: list[str] = []
        for value in self.ACCEPTED:
            environment = {"OAST_SECRET_SNMP_READ": value, "OAST_SECRET_SNMP_BILLING": f"{value}-and-more"}
            for command in ("push -m odd --yes -v", "diff"):
                run = self.oast(*command.split(), "--on", "site=tern", environment=environment)
                lines += (run.out + run.err).splitlines()
            self.assertNotIn("to change (+", run.out)
        shown = "\n".join(line for line in lines if "community" in line)
        self.assertIn("+   community <secret", shown)
        for value in self.ACCEPTED[2:6]:
            self.assertNotIn(value, shown)
        for path in self.estate.glob(".oast/log/*/*"):
            self.assertNotRegex(path.read_text(), r"community (?!<secret|\"<secret)")

    def test_what_cannot_be_typed_in_one_line_is_told_before_a_device_is_touched(self) -> None:
        for value, told in (
            ("reads\nremove user ops-mira", "U+000A (a line break)"),
            ("reads\r", "U+000D (a carriage return)"),
            ("re\tads", "U+0009 (a tab)"),
            ("re\u2028ads", "U+2028 (line separator)"),
            ("re\x1b[2Jads", "U+001B (a control character)"),
        ):
            run = self.oast(
                "push", "-m", "odd", "--yes", expect=3, environment={"OAST_SECRET_SNMP_READ": value}
            )
            line = self.line_of("templates/bine/monitoring.j2", "{{ community.name }}")
            message = f"templates/bine/monitoring.j2:{line}: the secret 'snmp-read' contains {told}, which devices do not accept"
            self.assertIn(message, run.err)
            self.assertIn("oast secret set snmp-read", run.err)
            self.assertNotIn("ads", run.err.replace(message, ""))

    def test_a_template_cannot_reveal_what_it_is_given(self) -> None:
        template = self.estate / "templates/bine/monitoring.j2"
        written = template.read_text()
        for expression in (
            "community.name.reveal()", "community.name|attr('reveal')", "community.name._value", "community.name['reveal']()",
            "'{0._value}'.format(community.name)", "'{0.reveal}'.format(community.name)", "community.name|string", "community.name|list",
            "'%s' % community.name", "community.name ~ ''", "community.name|tojson", "[community.name]|join", "community.name|upper",
            "community.name.digest", "community|jmespath('name._value')", "community.name|urlencode", "community.name|length",
            "community.name|replace('r', 'x')", "(community.name + 'x').reveal()", "community.name|forceescape", "[community.name]",
            "communities|map(attribute='name')|map('string')|join", "communities|tojson", "community|string", "community|xmlattr",
        ):  # fmt: skip
            template.write_text(written.replace("{{ community.name }}", "{{ " + expression + " }}"))
            run = self.oast("render", "--on", "site=tern", "--section", "monitoring", expect=None)
            self.assertNotEqual(
                (run.code, "community <secret" in run.out), (0, False), f"{expression}: {run.out}"
            )
            for secret in SECRETS.values():
                self.assertNotIn(secret, run.out + run.err, expression)
        texts = []
        for expression in ("{{ 'yes' if community.name == 'reads-7f31-quay' else 'no' }}", "no"):
            template.write_text(written.replace("{{ community.name }}", expression))
            texts.append(self.oast("render", "--on", "site=tern", "--section", "monitoring").out)
        self.assertEqual(*texts, "a guess cannot be tried")

    def test_a_device_that_lists_a_secret_where_it_does_not_belong_is_not_repeated(self) -> None:
        password = SECRETS["login-password"]
        typed = (
            "system",
            f'  contact "call {password} now"',
            f"user {password}",
            "interface port1",
            f"  description {SECRETS['snmp-read']}",
        )
        self.console("tern-edge-1", "raise", SECRETS["privilege-password"], "edit", *typed, "close")
        self.assertIn(password, self.console("tern-edge-1", "read running"))
        runs = [self.oast(*command.split(), "--on", "site=tern", expect=None) for command in (
            "diff -v", "diff --format json", "drift", "drift --format json", "push -m x --dry-run", "push -m x --yes --format json",
        )]  # fmt: skip
        self.assertRegex(runs[0].out, 'contact "call <secret [0-9a-f]{8}> now"')
        for run in runs:
            for secret in SECRETS.values():
                self.assertNotIn(secret, run.out + run.err)

    def test_a_secret_where_the_platform_marks_none_is_told(self) -> None:
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: {secret: snmp-read}")
        told = self.oast("push", "-m", "x", "--yes", expect=3).err
        self.assertIn(
            "the secret 'snmp-read' is in 'contact', which the platform does not mark as secret",
            told,
        )
        self.assertNotIn(SECRETS["snmp-read"], told)


class OrderedSecretsTest(unittest.TestCase):
    def test_secrets_in_a_users_order_are_moved_without_being_seen(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "bine.toml"
            more = '"vault" = { kind = "container" }\n"vault/word" = { kind = "leaf-list", takes = "text", ordered-by = "user", secret = true }\n'
            path.write_text((SHIPPED / "bine.toml").read_text().replace('"acl" = {', f'{more}"acl" = {{', 1))
            platform = load_platform(path, Fingerprints(b"k" * 32))
        syntax = IndentedSyntax(platform)
        one, other = (
            canonical(syntax.parse("vault\n" + "".join(f"  word {word}\n" for word in words.split())).tree)
            for words in ("reed sedge rush", "rush moss reed")
        )
        edits = difference(one, other)
        made = commands_of(in_dependency_order(edits), platform)
        written = [command.line.written().strip() for command in made]
        self.assertTrue(any(" before " in line and line.endswith("reed") for line in written), written)
        for told in (
            repr(made),
            *(c.masked for c in made),
            repr(edits),
            *(repr(e.path) for e in edits),
            *(line.text for line in view(edits)),
        ):
            for word in ("reed", "sedge", "rush", "moss"):
                self.assertNotIn(word, told)


class MaskingTest(unittest.TestCase):
    def test_each_spelling_is_hidden_and_the_longer_counts(self) -> None:
        keys = Fingerprints(b"k" * 32)
        whole, inside, letter = (
            keys.secret("whole", 'reed "and" sedge'),
            keys.secret("inside", "and"),
            keys.secret("letter", "q"),
        )
        lines = keys.secret("lines", "first-line\nsecond-line\n")
        masking = Masking()
        for secret in (inside, letter, whole, lines):
            masking.add(secret)
        for text in (f"x {whole.reveal()} y", 'x "reed \\"and\\" sedge" y', json.dumps(whole.reveal())):
            self.assertIn(str(whole), masking.hide(text))
            self.assertNotIn("sedge", masking.hide(text))
        self.assertEqual(masking.hide("sand and q, quay"), f"sand {inside} {letter}, quay")
        self.assertEqual(masking.hide("> second-line"), f"> {lines}")
        check = Check("quay", "name", "system", {}, "hostname", "quay", ())
        found = evaluate([check], {"system": [{"hostname": whole.reveal()}]}, masking.hide)
        self.assertEqual((found[0].passed, found[0].actual), (False, str(whole)))


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
        run = (interpreted if arguments[0] == "push" else program)(
            *arguments, cwd=self.estate, stdin=stdin, environment=environment
        )
        self.assertNotIn("Traceback", run.err)
        self.artefacts[f"{arguments} stdout"], self.artefacts[f"{arguments} stderr"] = run.out, run.err
        return run

    def test_no_secret_stands_in_anything_that_was_put_out_or_kept(self) -> None:
        for line in (
            "lint", "explain gull-core-1", "explain gull-core-1 communities --format json", "render --trace", "render --out rendered",
            "render --describe", "diff -q", "diff --format json", "push -m first --yes --format json", "diff --format json", "verify -v",
            "secret list", "secret age --max-age 1 --format json", "devices --format json", "sim status",
        ):  # fmt: skip
            self.run_program(*line.split())
        self.fault("tern-edge-1", "refuse", "--match", "community")
        self.run_program("secret", "set", "snmp-read", stdin="another-9c1d-quay\n")
        refused = self.run_program(
            "push", "-m", "rotate", "--yes", "--revert-timer", "13", "--verify-timeout", "4"
        )
        self.assertIn("the device rejected 'community <secret", refused.out)
        self.run_program("diff", environment={"OAST_SECRET_LOGIN_PASSWORD": "wr0ng-password"})
        self.edit(
            "templates/bine/monitoring.j2",
            "community {{ community.name }}",
            "community {{ community.name }} x",
        )
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
        self.assertIn("cannot be restored", backup)
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
        run = interpreted(
            "lint", "--with", "x=s3cret-value", cwd=self.estate, environment={"PYTHONPATH": str(self.folder)}
        )
        self.assertIn("internal error in Oast (RuntimeError). The command was aborted.", run.err)
        kept = Path(run.err.split("with the file ")[1].strip())
        self.assertEqual((kept.parent, kept.stat().st_mode & 0o077), (self.estate / ".oast/faults", 0))
        for secret in (*SECRETS.values(), "s3cret-value"):
            self.assertNotIn(secret, run.out + run.err + kept.read_text())
        for needed in (
            "secrets.py:",
            "because of ValueError",
            f"oast {__version__}, Python 3.",
            "asyncssh 2.",
            "command: oast lint --with …",
        ):
            self.assertIn(needed, kept.read_text())
