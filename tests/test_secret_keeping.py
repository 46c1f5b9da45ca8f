"""Keeping secrets: what goes into the encrypted file, and how one is changed there and on the devices at once."""

from __future__ import annotations

import concurrent.futures
import datetime
import json
import re
import subprocess
from unittest import mock

import forked
from larkwater import QUICK, SECRETS, EstateTest, LarkwaterTest, clean_environment
from oast.estate.encrypted_file import EncryptedFile, EncryptedSecret


class KeepingTest(EstateTest):
    """What is put into the encrypted file, by whom, and what is refused."""

    def kept(self, name: str) -> str:
        return EncryptedFile(self.estate / "secrets.jwe", self.folder / "larkwater.key", {}).all()[name].value

    def set_bytes(self, data: bytes, *options: str) -> subprocess.CompletedProcess[bytes]:
        command = [*forked.OAST, "secret", "set", "snmp-read", *options]
        return forked.run(command, data=data, cwd=self.estate, env=clean_environment(), text=False)

    def test_what_is_no_text_is_refused_and_nothing_is_lost(self) -> None:
        before = self.kept("snmp-read")
        for data, told in (
            (b"\xff\xfe\n", b"the secret is not UTF-8 text; nothing was changed"),
            (b"a\0b\n", b"contains U+0000 (a NUL)"),
            (b"a\rb\n", b"contains U+000D (a carriage return)"),
            (b"first\nsecond\n", b"the secret has 2 lines; nothing was changed"),
            (b"x" * 70_000, b"longer than 65536 bytes"),
            (b"\n", b"the secret is empty; nothing was changed"),
        ):
            run = self.set_bytes(data)
            self.assertEqual(run.returncode, 2, run.stderr)
            self.assertIn(told, run.stderr)
            self.assertEqual(self.kept("snmp-read"), before)
        self.assertIn("snmp-read", self.oast("secret", "list").out)

    def test_line_ends_of_other_systems_are_no_part_of_it_and_several_lines_are_kept_on_purpose(self) -> None:
        self.assertEqual(self.set_bytes(b"fromelsewhere\r\n").returncode, 0)
        self.assertEqual(self.kept("snmp-read"), "fromelsewhere")
        self.assertEqual(self.set_bytes(b"first\nsecond\n", "--several-lines").returncode, 0)
        self.assertEqual(self.kept("snmp-read"), "first\nsecond")
        self.assertIn("U+000A (a line break),", self.oast("lint", expect=3).out)

    def test_many_at_once_lose_none(self) -> None:
        (self.estate / "secrets.jwe").unlink()
        (self.folder / "larkwater.key").unlink()

        def put(number: int) -> None:
            file = EncryptedFile(self.estate / "secrets.jwe", self.folder / "larkwater.key", {})
            file.put(f"made-{number}", f"value-{number}", datetime.date.today())

        with concurrent.futures.ThreadPoolExecutor(8) as pool:
            list(pool.map(put, range(24)))
        processes = [
            forked.Process(
                [*forked.OAST, "secret", "set", f"program-{n}"],
                cwd=self.estate,
                env=clean_environment(),
                stdin=subprocess.PIPE,
            )
            for n in range(3)
        ]
        for process in processes:
            process.communicate(b"another\n")
        names = {row["name"] for row in self.oast("secret", "list", "--format", "json").json()["secrets"]}
        self.assertEqual(names, {*(f"made-{n}" for n in range(24)), *(f"program-{n}" for n in range(3))})
        self.assertEqual(
            [p.name for p in self.folder.glob(".larkwater.key*")]
            + [p.name for p in self.estate.glob(".secrets*")],
            [],
        )

    def test_a_key_of_the_fingerprints_that_hides_nothing_is_refused(self) -> None:
        self.oast("secret", "list")
        for data in (b"", b"short"):
            (self.estate / ".oast/fingerprint-key").write_bytes(data)
            for command in (("render",), ("secret", "list"), ("lint",)):
                run = self.oast(*command, expect=3)
                self.assertIn(
                    "fingerprint-key: the key for fingerprints is too short to be safe",
                    run.out + run.err,
                )

    def test_a_link_stays_a_link(self) -> None:
        (self.estate / "secrets.jwe").rename(self.folder / "shared.jwe")
        (self.estate / "secrets.jwe").symlink_to("../shared.jwe")
        self.oast("secret", "rotate", "snmp-read")
        self.assertTrue((self.estate / "secrets.jwe").is_symlink())
        self.assertNotEqual(self.kept("snmp-read"), SECRETS["snmp-read"])

    def test_only_a_key_of_the_right_kind_is_taken(self) -> None:
        key = self.folder / "larkwater.key"
        good = json.loads(key.read_text())
        for text, told in (
            (json.dumps({**good, "kty": "RSA"}), "the key is of the type 'RSA', not 'oct'"),
            (json.dumps({**good, "k": good["k"][:20]}), "is not 256 bits in base64url"),
            (json.dumps({"k": good["k"]}), "the key file is not a JWK"),
            ("[" * 100_000, "the key file is not a JWK"),
            (json.dumps({**good, "k": 7}), "is not 256 bits in base64url"),
        ):
            key.write_text(text)
            for command in (("secret", "list"), ("secret", "rotate", "snmp-read"), ("render",)):
                self.assertIn(told, self.oast(*command, expect=3).err)
        key.write_text(json.dumps(good))
        self.assertIn(SECRETS["snmp-read"], self.kept("snmp-read"))

    def test_what_is_used_is_not_removed_and_what_is_not_is(self) -> None:
        told = self.oast("secret", "remove", "snmp-read", "--yes", expect=3).err
        line = self.line_of("values/network.yaml", "{secret: snmp-read}")
        self.assertIn(
            f"values/network.yaml:{line}: the secret 'snmp-read' is in use and stored nowhere else",
            told,
        )
        self.oast("secret", "set", "old-one", stdin="value\n")
        self.assertIn(
            "cannot ask for confirmation without a terminal",
            self.oast("secret", "remove", "old-one", expect=2).err,
        )
        self.assertEqual(self.oast("secret", "remove", "old-one", "--yes").out, "old-one is removed\n")
        self.assertIn(
            "no secret 'old-one' to remove",
            self.oast("secret", "remove", "old-one", "--yes", expect=3).err,
        )
        self.oast(
            "secret", "remove", "snmp-read", "--yes", environment={"OAST_SECRET_SNMP_READ": "from-elsewhere"}
        )

    def test_a_secret_that_is_never_looked_at_is_told(self) -> None:
        told = self.oast(
            "secret", "set", "snmp-read", stdin="x1\n", environment={"OAST_SECRET_SNMP_READ": "y"}
        ).err
        self.assertIn(
            "the environment (OAST_SECRET_SNMP_READ) also has a 'snmp-read', and takes precedence over the encrypted file",
            told,
        )


class ReadTest(LarkwaterTest):
    delivered = True

    def test_a_string_that_one_device_has_is_brought_to_all_others_by_two_commands(self) -> None:
        old, new = SECRETS["snmp-read"], "quay-string-7719"
        typed = (
            "raise",
            SECRETS["privilege-password"],
            "edit",
            "snmp",
            f"  remove community {old}",
            f"  community {new}",
            "close",
        )
        self.console("gull-core-1", *typed)
        read = ("secret", "read", "snmp-read", "--from", "gull-core-1", "--statement")
        before = (self.estate / "secrets.jwe").read_bytes()
        for arguments, told in (
            ((*read, "snmp/comunity"), "did you mean 'snmp/community'"),
            ((*read, "snmp/target"), "has no secret at 'snmp/target';"),
            ((*read, "snmp/community"), "there are several: snmp / community <secret "),
            ((*read, "snmp/community", "--which", "00000000"), "none of them is '00000000'"),
            (
                ("secret", "read", "login-password", *read[3:], "snmp/community"),
                "Oast logs in with 'login-password'",
            ),
        ):
            run = self.oast(*arguments, expect=2)
            self.assertIn(told, run.err)
            self.assertNotIn(new, run.err)
        self.assertEqual((self.estate / "secrets.jwe").read_bytes(), before)
        several = self.oast(*read, "snmp/community", expect=2).err
        listed = self.oast("secret", "list").out
        shown = next(one for one in re.findall(r"<secret ([0-9a-f]{8})>", several) if one not in listed)
        run = self.oast(*read, "snmp/community", "--which", shown)
        self.assertRegex(run.out, rf"^snmp-read is now <secret {shown}>, as on gull-core-1")
        self.oast("push", "-m", "the string of gull", "--yes")
        for device in ("heron-core-1", "tern-edge-1", "dunlin-edge-1"):
            running = self.running(device)
            self.assertIn(f"community {new}", running)
            self.assertNotIn(old, running)
        self.assertIn("already", self.oast(*read, "snmp/community", "--which", shown).out)
        self.oast("drift")


class RotatingTest(LarkwaterTest):
    """A secret and the devices that hold it change together."""

    delivered = True
    ROTATE = ("secret", "rotate", "login-password", "--push", "-m", "yearly")

    def setUp(self) -> None:
        super().setUp()
        plain = self.folder / "larkwater-secrets.toml"
        plain.write_text(
            "".join(line for line in plain.read_text().splitlines(True) if "login-password" not in line)
        )
        self.oast("secret", "set", "login-password", stdin=SECRETS["login-password"] + "\n")
        (self.estate / "templates/bine/own-account.j2").write_text(
            "{#\nsection: own-account\nowns: [user oast]\nvariables:\n  login: {secret: true}\n#}\n"
            "user oast\n  role administrator\n  password-hash {{ login | password_hash(device.name, 100) }}\n"
        )
        self.edit("intent.yaml", "  - section: system\n", "  - section: own-account\n  - section: system\n")
        self.edit("values/network.yaml", "everywhere:\n", "everywhere:\n  login: {secret: login-password}\n")
        self.file = EncryptedFile(self.estate / "secrets.jwe", self.folder / "larkwater.key", {})

    def kept(self) -> EncryptedSecret:
        self.file = EncryptedFile(self.estate / "secrets.jwe", self.folder / "larkwater.key", {})
        return self.file.all()["login-password"]

    def test_the_password_oast_logs_in_with_changes_on_all_devices_and_in_the_file(self) -> None:
        self.oast("push", "-m", "own account", "--yes")
        refused = self.oast("secret", "rotate", "login-password", expect=2).err
        self.assertIn(
            "Oast logs in with 'login-password': a new value that devices do not have would lock it out",
            refused,
        )
        run = self.oast(*self.ROTATE, "--yes")
        self.assertIn("6 devices delivered", run.out)
        self.assertIn("access (Oast's login):", run.out)
        self.assertIn("login-password: 6 devices with the new value; the old one is removed", run.err)
        self.assertNotEqual(self.kept().value, SECRETS["login-password"])
        self.assertIsNone(self.kept().previous)
        self.assertIn("6 devices in", self.oast("push", "-m", "again", "--yes").out)
        for path in (self.estate / ".oast/sim").rglob("*"):
            self.assertEqual(
                path.stat().st_mode & 0o077, 0, f"{path} holds hashes and keys, and others can look into it"
            )
        old = self.oast(
            "diff", expect=4, environment={"OAST_SECRET_LOGIN_PASSWORD": SECRETS["login-password"]}
        )
        self.assertIn("device rejects the login of 'oast'", old.err)

    def test_nobody_is_locked_out_when_some_devices_did_not_take_it(self) -> None:
        self.oast("push", "-m", "own account", "--yes")
        self.fault("tern-edge-1", "refuse", "--match", "password-hash")
        run = self.oast(*self.ROTATE, "--yes", expect=4)
        self.assertIn(
            "login-password: tern-edge-1 may still have the old value in running or startup; both values are kept",
            run.err,
        )
        self.assertEqual(self.kept().previous, SECRETS["login-password"])
        for arguments in (("set", "login-password"), ("rotate", "login-password")):
            self.oast("secret", *arguments, expect=2, stdin="another\n")
        self.assertEqual(self.kept().previous, SECRETS["login-password"])
        self.fault("tern-edge-1", "none")
        diff = self.oast("diff", expect=1).out
        self.assertIn("1 device to change (+1 -1), 5 in", diff)
        self.assertRegex(self.oast("secret", "list").out, r"login-password .* <secret [0-9a-f]{8}>\n")
        value = self.kept().value
        self.oast(*self.ROTATE, "--yes")
        self.assertEqual(
            self.kept(),
            EncryptedSecret(value, datetime.date.today()),
            "it went on with the value that five had already",
        )
        self.oast("diff")

    def test_what_is_wrong_is_told_before_anything_changes(self) -> None:
        before = (self.estate / "secrets.jwe").read_bytes()
        for arguments, told, code in (
            (self.ROTATE[:4], "a change needs a reason", 2),
            (self.ROTATE, "cannot ask for confirmation without a terminal", 2),
            ((*self.ROTATE, "--dry-run"), "", 1),
        ):
            self.assertIn(told, self.oast(*arguments, expect=code).err)
        self.assertIn(
            "login-password",
            "".join(
                self.oast(
                    *self.ROTATE,
                    "--yes",
                    expect=3,
                    environment={"OAST_SECRET_LOGIN_PASSWORD": SECRETS["login-password"]},
                ).err
            ),
        )
        self.edit(
            "intent.yaml", "  - section: own-account\n", "  - section: own-account\n    on: role=core\n"
        )
        told = self.oast(*self.ROTATE, "--yes", expect=3).err
        self.assertIn("to tern-edge-1, plover-edge-1, sandpiper-edge-1, dunlin-edge-1, where", told)
        self.edit("intent.yaml", "  - section: own-account\n    on: role=core\n", "")
        self.assertIn(
            "no section delivers the secret 'login-password' to a device",
            self.oast(*self.ROTATE, "--yes", expect=3).err,
        )
        self.assertEqual((self.estate / "secrets.jwe").read_bytes(), before)

    def test_the_privilege_password_is_rotated_in_the_same_way(self) -> None:
        plain = self.folder / "larkwater-secrets.toml"
        plain.write_text(
            "".join(line for line in plain.read_text().splitlines(True) if "privilege-password" not in line)
        )
        self.oast("secret", "set", "privilege-password", stdin=SECRETS["privilege-password"] + "\n")
        self.edit(
            "templates/bine/own-account.j2",
            "owns: [user oast]",
            "owns: [user oast, system/privilege-password-hash]",
        )
        self.edit(
            "templates/bine/own-account.j2",
            "  login: {secret: true}",
            "  login: {secret: true}\n  raising: {secret: true}",
        )
        with (self.estate / "templates/bine/own-account.j2").open("a") as template:
            template.write(
                "system\n  privilege-password-hash {{ raising | password_hash(device.name ~ ' raising', 100) }}\n"
            )
        self.edit(
            "values/network.yaml", "everywhere:\n", "everywhere:\n  raising: {secret: privilege-password}\n"
        )
        self.oast("push", "-m", "own account", "--yes")
        self.fault("gull-core-1", "refuse", "--match", "privilege-password-hash")
        rotate = ("secret", "rotate", "privilege-password", "--push", "-m", "yearly", "--yes")
        self.assertIn(
            "privilege-password: gull-core-1 may still have the old value",
            self.oast(*rotate, expect=4).err,
        )
        self.fault("gull-core-1", "none")
        self.assertIn("the old one is removed", self.oast(*rotate).err)
        self.assertNotEqual(
            EncryptedFile(self.estate / "secrets.jwe", self.folder / "larkwater.key", {})
            .all()["privilege-password"]
            .value,
            SECRETS["privilege-password"],
        )
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        self.assertIn("6 devices delivered", self.oast("push", "-m", "with the new one", "--yes").out)

    def test_a_device_that_would_start_with_the_value_before_still_has_it(self) -> None:
        self.oast("push", "-m", "own account", "--yes")
        self.fault("tern-edge-1", "drop", "--match", "save")
        run = self.oast(*self.ROTATE, "--yes", expect=4)
        self.assertIn("the change is active, but startup may not be saved:", run.out)
        self.assertIn(
            "login-password: tern-edge-1 may still have the old value in running or startup; both", run.err
        )
        self.fault("tern-edge-1", "none")
        self.assertEqual(self.kept().previous, SECRETS["login-password"])
        # Going on with it saves what was not saved.
        again = self.oast(*self.ROTATE, "--yes")
        self.assertIn("tern-edge-1: running differs from startup (1 change); a push saves them:", again.out)
        self.assertIn("the old one is removed", again.err)
        self.assertIsNone(self.kept().previous)

    def test_two_at_once_do_not_forget_what_devices_have(self) -> None:
        self.oast("push", "-m", "own account", "--yes")
        real, other = (
            EncryptedFile.succeed,
            EncryptedFile(self.estate / "secrets.jwe", self.folder / "larkwater.key", {}),
        )
        begun = self.kept()

        def after_another(
            file: EncryptedFile, name: str, before: EncryptedSecret, after: EncryptedSecret
        ) -> None:
            if before == begun:
                real(other, name, before, EncryptedSecret("theirs", before.changed, before.value))
            real(file, name, before, after)

        with mock.patch.object(EncryptedFile, "succeed", after_another):
            told = self.oast(*self.ROTATE, "--yes", expect=3).err
        self.assertIn("the secret 'login-password' at the same time", told)
        self.assertEqual((self.kept().value, self.kept().previous), ("theirs", SECRETS["login-password"]))
        self.assertIn("6 devices to change", self.oast("diff", expect=1).out)

    def test_a_hash_that_does_not_let_oast_in_is_taken_back(self) -> None:
        self.oast("push", "-m", "own account", "--yes")
        self.edit("templates/bine/own-account.j2", "{{ login |", "{{ (login + 'x') |")
        run = self.oast(*self.ROTATE, "--yes", *QUICK, expect=5)
        self.assertNotIn("delivered", run.out)
        self.assertEqual(self.kept().previous, SECRETS["login-password"])
        self.edit("templates/bine/own-account.j2", "{{ (login + 'x') |", "{{ login |")
        self.oast(*self.ROTATE, "--yes")
        self.oast("diff")
