"""How sessions are opened: settings by selector, jump hosts, keys held by an agent, lines that fail."""

from __future__ import annotations

import asyncio
import json
import re

import asyncssh

from gates import Agent, JumpHost, Line
from larkwater import SECRETS, EstateTest, LarkwaterTest, Run
from oast.connect.host_keys import KnownHosts
from oast.connect.transport import Hop, JumpHostPool, Login, Target, connect, offered_host_key
from oast.records import Fingerprints

DEVICE = "gull-core-1"
ON = ("--on", f"name={DEVICE}")
PRINTS = Fingerprints(b"k" * 32)


class RealWayTest(LarkwaterTest):
    """The simulated devices at addresses of their own, as real ones would be."""

    def setUp(self) -> None:
        super().setUp()
        listening = json.loads((self.estate / ".oast" / "sim" / "listening.json").read_text())["devices"]
        self.ports = {name: int(where["port"]) for name, where in listening.items()}
        self.edit("oast.toml", "simulated = true", "retry_wait_s = 0.05\nsimulated = false")
        self.at(self.ports[DEVICE])

    def at(self, port: int) -> None:
        devices = self.estate / "inventory" / "devices.yaml"
        lines = [line for line in devices.read_text().splitlines() if not line.startswith("    port:")]
        number = lines.index(f"  {DEVICE}:") + 1
        devices.write_text(
            "\n".join([*lines[:number], "    address: 127.0.0.1", f"    port: {port}", *lines[number + 1 :]])
            + "\n"
        )

    def settings(self, text: str) -> None:
        path = self.estate / "oast.toml"
        path.write_text(path.read_text().replace("\n[delivery]", f"\n{text}\n[delivery]", 1))

    def compare(self, expect: int = 1, **environment: str) -> Run:
        return self.oast("diff", *ON, expect=expect, environment=environment)


class JumpHostTest(RealWayTest):
    def through(self, first: JumpHost, second: JumpHost) -> None:
        for name, jump, via in (("slip", first, ""), ("quay", second, 'via = "slip"')):
            self.settings(
                f'[connection.jumps.{name}]\naddress = "127.0.0.1"\nport = {jump.port}\nusername = "{jump.user}"\n'
                f'password = {{ secret = "{name}" }}\n{via}\n'
            )
        self.settings(f'[[connection.rules]]\non = "name={DEVICE}"\nvia = "quay"\n')

    def test_a_session_goes_through_one_jump_host_after_the_other_each_with_its_own_key_and_password(
        self,
    ) -> None:
        secrets = {"OAST_SECRET_SLIP": "over-the-gangway", "OAST_SECRET_QUAY": "second-password"}
        with JumpHost() as slip, JumpHost(password="second-password") as quay:
            self.through(slip, quay)
            told = self.compare(4, **secrets).err
            self.assertIn("unknown host key: the jump host slip shows SHA256:", told)
            self.assertIn("oast devices trust", told)
            trusted = self.oast("devices", "trust", "--yes", *ON, environment=secrets).out
            self.assertRegex(trusted, r"(?s)slip  SHA256.*quay  SHA256.*1 already known")
            run = self.compare(1, **secrets)
            self.assertIn("1 device to change", run.out)
            self.assertEqual(set(slip.led_to), {quay.port})
            self.assertEqual(set(quay.led_to), {self.ports[DEVICE]})
            shown = self.oast("devices", "--connection", *ON, environment=secrets).out
            self.assertIn("slip, quay", shown)
            line = self.line_of("oast.toml", 'via = "quay"')
            self.assertRegex(shown, rf"via +quay +oast.toml:{line} on name={DEVICE}")
            told = self.compare(4, **{**secrets, "OAST_SECRET_QUAY": "guessed"}).err
            self.assertIn("the jump host quay rejects the login of 'quay'", told)
            quay.refuses = True
            self.assertIn(
                "through quay: the jump host says: not over this gangway", self.compare(4, **secrets).err
            )
        told = self.compare(4, **secrets).err
        self.assertIn(
            f"cannot connect to the jump host slip, 127.0.0.1 port {slip.port}: connection refused", told
        )

    def test_all_sessions_share_one_connection_to_a_jump_host(self) -> None:
        with JumpHost() as slip:
            self.settings(
                f'[connection.jumps.slip]\naddress = "127.0.0.1"\nport = {slip.port}\nusername = "quay"\npassword = {{ secret = "slip" }}\n'
            )
            self.edit("oast.toml", "parallel = 50", 'parallel = 50\nvia = "slip"')
            secrets = {"OAST_SECRET_SLIP": slip.password}
            names = ["heron-core-1", "tern-edge-1", DEVICE]
            self.edit("inventory/terminals.csv", "name,address,", "name,port,address,")
            self.edit(
                "inventory/terminals.csv",
                "tern-edge-1,192.0.2.21",
                f"tern-edge-1,{self.ports['tern-edge-1']},127.0.0.1",
            )
            for name in ("plover", "sandpiper", "dunlin"):
                self.edit("inventory/terminals.csv", f"{name}-edge-1,", f"{name}-edge-1,22,")
            self.edit(
                "inventory/devices.yaml",
                "address: 192.0.2.12",
                f"address: 127.0.0.1\n    port: {self.ports['heron-core-1']}",
            )
            on = ("--on", f"name in ({', '.join(names)})")
            self.oast("devices", "trust", "--yes", *on, environment=secrets)
            slip.logins, slip.led_to[:] = 0, []
            self.assertIn("3 devices to change", self.oast("diff", *on, expect=1, environment=secrets).out)
            self.assertEqual(slip.logins, 1)
            self.assertEqual(sorted(slip.led_to), sorted(self.ports[name] for name in names))


class LineTest(RealWayTest):
    def test_who_does_not_answer_is_asked_again_as_often_as_the_settings_say(self) -> None:
        with Line(self.ports[DEVICE], drops=2) as line:
            self.at(line.port)
            self.settings(f'[[connection.rules]]\non = "name={DEVICE}"\nretries = 2\n')
            self.compare()
            self.assertEqual(line.calls, 3)
        with Line(self.ports[DEVICE], drops=9) as line:
            self.at(line.port)
            self.assertIn("the device closed the connection", self.compare(4).err)
            self.assertEqual(line.calls, 3)

    def test_a_wrong_password_is_not_offered_again(self) -> None:
        with Line(self.ports[DEVICE]) as line:
            self.at(line.port)
            self.assertIn("device rejects the login", self.compare(4, OAST_SECRET_LOGIN_PASSWORD="guess").err)
            self.assertEqual(line.calls, 1)

    def test_a_line_that_fell_silent_is_noticed_long_before_the_answer_is_overdue(self) -> None:
        self.edit("oast.toml", "command_timeout_s = 30", "command_timeout_s = 600\nkeep_alive_s = 1")
        with Line(self.ports[DEVICE], most=4000) as line:
            self.at(line.port)
            self.assertIn("the device closed the session", self.compare(4).err)

    def test_a_device_that_takes_too_long_in_all_is_given_up(self) -> None:
        self.settings(f'[[connection.rules]]\non = "name={DEVICE}"\ndevice_timeout_s = 1\n')
        self.fault(DEVICE, "slow", "--seconds", "0.9")
        told = self.compare(4).err
        self.assertIn("not finished within 1 s in total", told)
        self.assertIn("device_timeout_s in oast.toml", told)


class AgentTest(RealWayTest):
    def test_keys_that_an_agent_holds_come_in(self) -> None:
        key = asyncssh.generate_private_key("ssh-ed25519")
        public = key.export_public_key().decode().split()
        self.edit("oast.toml", "simulated = false", "simulated = true")
        key_line = f"  authorized-key agent {public[0]} {public[1]}"
        self.console(DEVICE, "raise", SECRETS["privilege-password"], "edit", "user oast", key_line, "close")
        self.edit("oast.toml", "simulated = true", "simulated = false")
        socket = self.folder / "agent"
        self.edit("oast.toml", 'password = { secret = "login-password" }', "agent = true")
        told = self.compare(3).err
        self.assertIn("no SSH agent is running: SSH_AUTH_SOCK is not set", told)
        self.assertIn("cannot use the SSH agent", self.compare(4, SSH_AUTH_SOCK=str(socket)).err)
        with Agent(socket, [asyncssh.generate_private_key("ssh-ed25519"), key]):
            self.compare(SSH_AUTH_SOCK=str(socket))
            self.assertIn(
                "agent",
                self.oast("devices", "--connection", *ON, environment={"SSH_AUTH_SOCK": str(socket)}).out,
            )
            self.edit("oast.toml", "agent = true", f'agent = "{socket}"')
            self.compare()
        socket.unlink(missing_ok=True)
        with Agent(socket, []):
            self.assertIn("device rejects the login of 'oast'", self.compare(4).err)


class RuleTest(EstateTest):
    """Without devices: what holds for whom, and what is wrong in the file."""

    def setUp(self) -> None:
        super().setUp()
        self.edit("oast.toml", "simulated = true", "")
        self.written = (self.estate / "oast.toml").read_text()

    def settings(self, text: str) -> None:
        (self.estate / "oast.toml").write_text(
            self.written.replace("\n[delivery]", f"\n{text}\n[delivery]", 1)
        )

    def test_the_last_rule_that_picks_a_device_decides_and_it_is_shown(self) -> None:
        self.settings(
            '[[connection.rules]]\non = "role=edge"\ncommand_timeout_s = 60\nusername = "field"\n'
            '[[connection.rules]]\non = "site=dunlin"\ncommand_timeout_s = 90\n'
        )
        found = {
            d["device"]: d for d in self.oast("devices", "--connection", "--format", "json").json()["devices"]
        }
        seconds = {name: d["settings"]["command_timeout_s"] for name, d in found.items()}
        lines = [
            number
            for number, line in enumerate((self.estate / "oast.toml").read_text().splitlines(), 1)
            if "command_timeout_s" in line
        ]
        self.assertEqual(
            seconds["gull-core-1"], {"value": 10.0, "place": f"oast.toml:{lines[0]}", "on": None}
        )
        self.assertEqual(
            seconds["tern-edge-1"], {"value": 60.0, "place": f"oast.toml:{lines[1]}", "on": "role=edge"}
        )
        self.assertEqual(
            seconds["dunlin-edge-1"], {"value": 90.0, "place": f"oast.toml:{lines[2]}", "on": "site=dunlin"}
        )
        self.assertEqual(found["dunlin-edge-1"]["username"], "field")
        self.assertEqual(found["gull-core-1"]["settings"]["retries"], {"value": 1, "place": None, "on": None})
        shown = self.oast("devices", "--connection").out
        self.assertIn("gull-core-1, heron-core-1:", shown)
        self.assertIn(f"oast.toml:{lines[1]} on role=edge", shown)
        self.assertNotIn("default of Oast", shown)
        self.assertRegex(self.oast("devices", "--connection", "-v").out, r"retries +1 +default of Oast")

    def test_every_mistake_is_told_once_at_its_line(self) -> None:
        for text, mistakes in (
            ('[[connection.rules]]\nusername = "x"', [(0, "'on' is missing in [connection.rules]")]),
            ('[[connection.rules]]\non = "role=edge"', [(1, "the rule sets nothing")]),
            ('[[connection.rules]]\non = "role=egde"\nretries = 1', [(1, "no device has role=egde")]),
            ('[[connection.rules]]\non = "role="\nretries = 1', [(1, "")]),
            (
                '[[connection.rules]]\non = "role=edge"\nretires = 1',
                [(2, "'retires' in [connection.rules]")],
            ),
            (
                '[[connection.rules]]\non = "role=edge"\nparallel = 1',
                [(2, "'parallel' cannot differ between devices")],
            ),
            (
                '[[connection.rules]]\non = "role=edge"\nvia = "qay"\n[connection.jumps.quay]\naddress = "::1"',
                [(2, "unknown jump host 'qay'")],
            ),
            (
                "[connection.jumps.quay]\nport = 99999",
                [
                    (0, "'address' is missing in [connection.jumps.quay]"),
                    (1, "'port' must be from 1 to 65535"),
                ],
            ),
            (
                '[connection.jumps.gull-core-1]\naddress = "192.0.2.1"',
                [(0, "'gull-core-1' is also the name of a device")],
            ),
            (
                '[connection.jumps.a]\naddress = "192.0.2.1"\nvia = "b"\n[connection.jumps.b]\naddress = "192.0.2.2"\nvia = "a"',
                [(0, "jump hosts refer to each other in a loop: a via b via a")],
            ),
            (
                '[[connection.rules]]\non = "role=edge"\nretries = -1\nkeep_alive_s = true\nagent = 3\npassword = "x"',
                [
                    (2, "from 0 to 100"),
                    (3, "whole number, 0 or more"),
                    (4, "must be true, or the path"),
                    (5, "must name a secret, not contain it"),
                ],
            ),
        ):
            with self.subTest(text):
                self.settings(text)
                first = self.line_of("oast.toml", text.splitlines()[0])
                told = self.oast("lint", expect=3).out
                self.assertEqual(told.count("oast.toml:"), len(mistakes), told)
                for number, message in mistakes:
                    self.assertRegex(told, rf"(?m)^oast.toml:{first + number}: .*{re.escape(message)}")

    def test_a_file_of_openssh_that_a_rule_names_is_told(self) -> None:
        (self.estate / "by-rule").write_text("Host *\n  ServerAliveInterval 7\n")
        self.settings('[[connection.rules]]\non = "site=dunlin"\nssh_config = "by-rule"\n')
        self.assertIn("by-rule is used, as oast.toml says;", self.oast("devices", "--connection").out)
        self.assertIn(
            "no OpenSSH client configuration is used",
            self.oast("devices", "--connection", "--on", "site=gull").out,
        )

    def test_a_rule_that_is_not_needed_asks_for_no_secret(self) -> None:
        self.settings('[[connection.rules]]\non = "site=dunlin"\npassword = { secret = "elsewhere" }\n')
        self.oast("devices", "--connection", "--on", "site=gull")
        self.assertIn("no secret 'elsewhere'", self.oast("devices", "--connection", expect=3).err)


class SharedTest(RealWayTest):
    def test_a_session_that_is_closed_twice_leaves_the_way_of_others_alone(self) -> None:
        async def both(jump: Target) -> str:
            jumps, login = (
                JumpHostPool(),
                Login("oast", PRINTS.secret("login", SECRETS["login-password"]), None),
            )
            through = (Hop(jump, Login("quay", PRINTS.secret("slip", "over-the-gangway"), None)),)
            keys = KnownHosts(self.estate / "known_hosts").of(DEVICE)
            there = Target(DEVICE, "127.0.0.1", self.ports[DEVICE], keys, through=through)
            one, other = await connect(there, login, 20, jumps), await connect(there, login, 20, jumps)
            await one.close()
            await one.close()
            await other.read()
            other.write("read routes\n")
            said = await other.read()
            await other.close()
            return said

        with JumpHost() as slip:
            key = asyncio.run(offered_host_key(Target("slip", "127.0.0.1", slip.port, ()), 20))
            self.assertNotEqual(asyncio.run(both(Target("slip", "127.0.0.1", slip.port, (key,)))), "")
