"""Whom Oast talks to, and by whose word: trusted host keys, and a file of OpenSSH's client."""

from __future__ import annotations

import base64
import concurrent.futures

import asyncssh

from larkwater import EstateTest, LarkwaterTest
from oast.connect.host_keys import HostKey, KnownHosts
from oast.errors import EstateError, HostKeyError


def some_key() -> str:
    return " ".join(asyncssh.generate_private_key("ssh-ed25519").export_public_key().decode().split()[:2])


class TrustTest(LarkwaterTest):
    def test_what_people_wrote_into_the_file_stays(self) -> None:
        known = self.estate / "known_hosts"
        lines = known.read_text().splitlines()
        other = some_key()
        written = [
            "# trusted at the quay, by Mira",
            "",
            *lines[:2],
            f"  # {lines[2]}",
            f"gone-1 {other} the old one",
            *lines[3:],
        ]
        written[2] = f"{lines[0].split()[0]} {other} swapped in spring"
        (self.folder / "shared-hosts").write_text("\n".join(written) + "\n")
        known.unlink()
        known.symlink_to("../shared-hosts")
        missing = lines[2].split()[0]
        changed = self.oast("devices", "trust", "--yes", expect=4)
        self.assertIn("CHANGED", changed.out)
        self.oast("devices", "trust", "--yes", "--replace")
        self.assertTrue(known.is_symlink())
        expected = [*written[:2], f"{lines[0]} swapped in spring", *written[3:]]
        self.assertEqual(
            known.read_text().splitlines(), [*expected, f"{missing} {lines[2].split(maxsplit=1)[1]}"]
        )
        before = known.stat().st_mtime_ns
        self.assertIn("0 host keys accepted, 6 already known", self.oast("devices", "trust", "--yes").out)
        self.assertEqual(known.stat().st_mtime_ns, before, "nothing new is no reason to write")

    def test_a_line_that_is_wrong_costs_its_own_device_only(self) -> None:
        known = self.estate / "known_hosts"
        lines = [line for line in known.read_text().splitlines() if not line.startswith("tern-edge-1 ")]
        known.write_text(
            "\n".join([*lines, "tern-edge-1 ssh-ed25519 AAAA", "quay @cert-authority AAAA"]) + "\n"
        )
        run = self.oast(
            "verify", "-q", "--on", "role=core or name=tern-edge-1", "--section", "time", expect=4
        )
        self.assertIn("tern-edge-1: cannot read the trusted host key: known_hosts:6: ", run.err)
        self.assertIn("on 2 devices", run.out)
        self.oast("devices", "trust", "--yes", "--on", "name=tern-edge-1")
        self.oast("backup", "--on", "name=tern-edge-1")


class KnownHostsTest(EstateTest):
    def test_every_wrong_line_is_told_by_its_number_and_nothing_is_lost(self) -> None:
        self.edit("oast.toml", "simulated = true", "")
        good, other = some_key(), some_key()
        blob = base64.b64encode(b"\0\0\0\x07ssh-rsax").decode()
        half = f"ssh-ed25519 {base64.b64encode(base64.b64decode(good.split()[1])[:30]).decode()}"
        lines = [
            f"a {good}",
            "b ssh-ed25519",
            "c ssh-ed25519 !!!",
            f"d ssh-dss {blob}",
            f"# {good}",
            "\udcff\udcfe x y",
            f"e {good} by Joss",
            f"@cert-authority {good}",
            f"f @cert-authority {good.split()[1]}",
            f"g {half}",
            "h ssh-ed25519 AAAA",
        ]
        known = self.estate / "known_hosts"
        known.write_bytes("\n".join(lines).encode("utf-8", "surrogateescape"))
        for run in (self.oast("lint", expect=3), self.oast("devices", "--connection")):
            told = run.out + run.err
            self.assertIn("known_hosts:2: this line is not 'NAME ALGORITHM KEY'", told)
            for number, wrong in ((3, "it is not base64"), (4, "it is not a key of the algorithm 'ssh-dss'"), (6, "it is not base64"), (9, "its algorithm is not a host key algorithm"),
                                  (10, "it is not a complete key"), (11, "it is not a key of the algorithm 'ssh-ed25519'")):  # fmt: skip
                self.assertIn(f"known_hosts:{number}: invalid host key: {wrong}", told)
            for number in (1, 5, 7):
                self.assertNotIn(f"known_hosts:{number}:", told)
        keys = KnownHosts(known)
        self.assertEqual([key.line for key in keys.of("a")], [good])
        with self.assertRaisesRegex(HostKeyError, "known_hosts:11: .*it is not a key"):
            keys.of("h")
        keys.trust({"h": HostKey(other, ""), "a": HostKey(other, "")})
        written = known.read_bytes().decode("utf-8", "replace").splitlines()
        self.assertEqual(
            (written[0], written[10], written[1:5]),
            (f"a {other}", f"h {other}", lines[1:5]),
            "what is wrong beside it stays",
        )
        self.assertEqual(written[6], lines[6])

    def test_nothing_is_written_that_could_not_be_read_again(self) -> None:
        known = self.estate / "known_hosts"
        known.write_text(f"a {some_key()}\n")
        before = known.read_bytes()
        blob = some_key().split()[1]
        for line in (
            "ssh-ed25519 AAAA",
            f"@cert-authority {blob}",
            f"ssh-ed25519 {blob[:-8]}",
            "ssh-ed25519",
            f"ssh-rsa {blob}",
            "",
            "# x",
        ):
            with self.assertRaisesRegex(EstateError, "the host key of b cannot be trusted"):
                KnownHosts(known).trust({"b": HostKey(line, "")})
        self.assertEqual(known.read_bytes(), before)

    def test_several_at_once_lose_no_key(self) -> None:
        known = self.estate / "known_hosts"
        keys = {f"pier-{n}": some_key() for n in range(24)}
        with concurrent.futures.ThreadPoolExecutor(8) as pool:
            list(pool.map(lambda name: KnownHosts(known).trust({name: HostKey(keys[name], "")}), keys))
        self.assertEqual({line.split()[0] for line in known.read_text().splitlines()}, set(keys))


class ConnectionTest(EstateTest):
    def test_how_each_device_is_reached_is_shown_and_by_whose_word(self) -> None:
        self.edit("oast.toml", "simulated = true", "")
        (self.estate / "known_hosts").write_text(f"gull-core-1 {some_key()}\n")
        shown = self.oast("devices", "--connection", "--on", "role=core").out
        self.assertRegex(shown, r"gull-core-1 +192\.0\.2\.\d+ +22 +oast +password +SHA256:\S+\n")
        self.assertRegex(shown, r"heron-core-1 +192\.0\.2\.\d+ +22 +oast +password +none trusted *\n")
        self.assertIn("no OpenSSH client configuration is used", shown)
        address = shown.split("gull-core-1")[1].split()[0]
        (self.estate / "ssh_config").write_text(
            f"Host {address}\n  HostName 198.51.100.7\n  ProxyCommand nc quay %p\n  User somebody\n"
        )
        self.edit("oast.toml", "[connection]\n", '[connection]\nssh_config = "ssh_config"\n')
        document = self.oast("devices", "--connection", "--on", "role=core", "--format", "json").json()
        self.assertEqual(document["format"], "oast.connections/2")
        decided = {d["device"]: d["ssh_config"] for d in document["devices"]}
        self.assertEqual(decided["gull-core-1"], {"Hostname": "198.51.100.7", "ProxyCommand": "nc quay 22"})
        self.assertEqual(decided["heron-core-1"], {})
        self.assertIn("ProxyCommand nc quay 22", self.oast("devices", "--connection", "--format", "csv").out)
        for text, told in (
            ("Port x y\n", "cannot use"),
            (None, "ssh_config: No such file"),
        ):
            if text is None:
                (self.estate / "ssh_config").unlink()
            else:
                (self.estate / "ssh_config").write_text(text)
            self.assertIn(told, self.oast("devices", "--connection", expect=4).err)
            self.assertIn(told, self.oast("diff", "--on", "role=core", expect=4).err)
