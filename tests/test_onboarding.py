"""New devices that find their way: staged from a CSV, proved on both sides, and nothing accepted that is not."""

from __future__ import annotations

import asyncio
import base64
import json
import os
import pty
import random
import re
import signal
import ssl
import unittest
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import asyncssh
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding

import forked
from larkwater import EstateTest, LarkwaterTest, Run, apart, clean_environment
from oast.onboard import cms, keys, trust, vouchers
from oast.onboard.cms import SignatureError
from oastsim.manufacturer import Manufacturer
from oastsim.new_device import Box, Factory, Refused, found_by_name, plug_in

HEADING = "serial,name,address,platform,site,role\n"
MUTATIONS = 200


PLATFORMS = ("bine", "cowl", "bine", "cowl", "roundel")


def rows(number: int, first: int = 0) -> str:
    """So many boxes of three platforms."""
    one = "LW-7{n:03},quay-edge-{n},192.0.2.{last},{platform},dunlin,new\n"
    return "".join(
        one.format(n=n, last=150 + n, platform=PLATFORMS[n % len(PLATFORMS)])
        for n in range(first, first + number)
    )


class Onboarding(EstateTest):
    """An estate that expects new boxes, and their maker."""

    whole = True

    def setUp(self) -> None:
        super().setUp()
        if type(self).setUp is Onboarding.setUp:
            self.prepare()

    def prepare(self) -> None:
        self.maker = Manufacturer(self.folder / "maker")
        self.keys = self.folder / "owner-keys"
        with (self.estate / "oast.toml").open("a") as file:
            file.write(
                f'\n[onboarding]\nkeys = "../owner-keys"\nlisten = "127.0.0.1:0"\nnames = ["localhost", "127.0.0.1"]\n'
                f'makers = "{self.maker.authority}"\nvoucher_authorities = "{self.maker.voucher_authority}"\nvouchers = "../vouchers"\n'
                'first = ["first"]\n'
            )
        (self.estate / "intent.yaml").write_text(
            "sections:\n  - section: first\n    on: platform in (bine, cowl, roundel)\n"
        )
        text = "{#\nsection: first\nowns: [%s]\n#}\n%s\n"
        (self.estate / "templates/bine/first.j2").write_text(
            text % ("user first", "user first\n  role operator")
        )
        (self.estate / "templates/cowl/first.j2").write_text(
            text % ("users/user first", "/users/user[name=first]/role = operator")
        )
        (self.estate / "templates/roundel/first.j2").write_text(
            text % ("system/location", "/system/location = quay")
        )
        self.oast("onboard", "keys")
        self.owner = x509.load_pem_x509_certificates((self.keys / "owner.pem").read_bytes())[0]

    def vouch(
        self, *serials: str, expires: datetime | None = None, owner: x509.Certificate | None = None
    ) -> None:
        folder = self.folder / "vouchers"
        folder.mkdir(exist_ok=True)
        for serial in serials:
            (folder / f"{serial}.vcj").write_bytes(self.maker.voucher(serial, owner or self.owner, expires))

    def stage(self, text: str, *arguments: str, expect: int = 0) -> Run:
        (self.folder / "boxes.csv").write_text(HEADING + text)
        return self.oast(
            "onboard", "stage", str(self.folder / "boxes.csv"), "--yes", *arguments, expect=expect
        )

    def factory(self, serial: str, *, again: bool = False) -> Factory:
        return Factory(serial, *self.maker.box(serial, again=again), self.maker.voucher_authority)

    def status(self, expect: int | None = None) -> dict[str, dict[str, Any]]:
        found = self.oast("onboard", "status", "--format", "json", expect=expect).json()
        self.assertEqual(found["expected"], sum(one["state"] != "managed" for one in found["devices"]))
        return {one["serial"]: one for one in found["devices"]}

    def with_server(self, work: Callable[..., Awaitable[Any]], *, is_killed: bool = False) -> Any:
        """What `work` gives while the real server listens at the port that it is given; afterwards the server is stopped, or killed."""
        process = self.started("onboard", "serve", "--port", "0")
        try:
            assert process.stdout is not None
            line = process.stdout.readline()
            ports = [int(port) for port in re.findall(r":(\d+)/restconf", line)]
            if "call_home" in (self.estate / "oast.toml").read_text():
                ports += [int(port) for port in re.findall(r":(\d+) for calls", process.stdout.readline())]
            return asyncio.run(work(*ports))  # type: ignore[arg-type]
        finally:
            (process.kill if is_killed else process.terminate)()
            self.said, errors = process.communicate(timeout=60)
            self.assertEqual((process.returncode, errors), (-9 if is_killed else 0, ""))

    async def come(self, boxes: list[Box], port: int) -> list[bool]:
        return await asyncio.gather(*(box.find_its_way("localhost", port) for box in boxes))


class ServedTest(Onboarding):
    def test_ten_boxes_of_three_platforms_come_at_once_and_each_gets_its_own(self) -> None:
        serials = [f"LW-7{n:03}" for n in range(10)]
        self.vouch(*serials)
        self.assertIn("10 devices staged", self.stage(rows(10)).out)
        self.assertEqual({one["state"] for one in self.status(0).values()}, {"staged"})
        boxes = [Box(self.factory(serial)) for serial in serials]
        self.assertEqual(self.with_server(lambda port: self.come(boxes, port)), [True] * 10)
        for box in boxes:
            self.assertEqual(box.happened, ["asked", "redirected", "asked", "taking", "taken", "complete"])
        self.assertEqual(boxes[2].configuration, "user first\n  role operator\n")
        self.assertEqual(boxes[3].configuration, "/users/user[name=first]/role = operator\n")
        self.assertIn("<location>quay</location>", boxes[4].configuration or "")
        found = self.status(0)
        self.assertEqual({one["state"] for one in found.values()}, {"configured"})
        key = boxes[4].host_key.export_public_key().decode().split()[:2]
        self.assertEqual(found[serials[4]]["host_keys"], [" ".join(key)])
        shown = self.oast("onboard", "status").out
        self.assertRegex(shown, r"(?m)^quay-edge-4 +LW-7004 +configured ")
        self.assertIn("10 devices still expected: 10 configured", shown)
        log = [
            json.loads(line)
            for line in (self.estate / ".oast/onboarding/requests.jsonl").read_text().splitlines()
        ]
        self.assertEqual(len([entry for entry in log if entry["serial"] == "LW-7004"]), 4)
        self.assertIn(
            "no new device with the serial number LW-9999 is expected",
            self.oast("onboard", "forget", "LW-9999", expect=2).err,
        )
        self.oast("onboard", "forget", "LW-7004")
        self.assertNotIn("LW-7004", self.status(0))

    def test_who_was_not_staged_gets_nothing_and_faults_end_with_their_reason(self) -> None:
        self.vouch("LW-7000", "LW-7001", "LW-7002", "LW-7003")
        self.stage(rows(4))
        in_1970 = Box(self.factory("LW-7000"), clock=lambda: datetime(1970, 1, 1, tzinfo=UTC))
        stranger = Box(self.factory("LW-8000"))
        cut = Box(self.factory("LW-7001"), until="taking")
        first, second = Box(self.factory("LW-7002")), Box(self.factory("LW-7002", again=True))
        other = Manufacturer(self.folder / "other-maker")
        forged = Box(Factory("LW-7003", *other.box("LW-7003"), self.maker.voucher_authority))
        lost = Box(self.factory("LW-7003"))

        async def come(port: int) -> None:
            twice = await asyncio.to_thread(apart, "onboard", "serve", "--port", "0", cwd=self.estate)
            self.assertEqual(twice.code, 4)
            self.assertIn("another process of Oast already serves new devices of this estate", twice.err)
            for box in (in_1970, stranger, cut, first, second, forged):
                await box.find_its_way("localhost", port)
            await lost.find_its_way("localhost", 1)

        self.with_server(come)
        for box in (in_1970, stranger, cut, second, forged):
            self.assertIsNone(box.configuration, box.happened)
        self.assertIn(
            "refused: the voucher is from the future, or the clock is wrong (1970)", in_1970.happened
        )
        self.assertEqual(
            stranger.happened,
            ["refused: the server says: unexpected device: nothing is staged for this serial number"],
        )
        self.assertIn("LW-8000: unexpected", self.said)
        self.assertEqual(second.happened, ["refused: the server says: another device has this serial number"])
        self.assertRegex(forged.happened[0], "^failed: ")
        found = self.status(0)
        self.assertNotIn("LW-8000", found)
        self.assertEqual({serial: one["state"] for serial, one in found.items()}, {
            "LW-7000": "asked", "LW-7001": "asked", "LW-7002": "configured", "LW-7003": "staged",
        })  # fmt: skip
        self.assertRegex(lost.happened[0], "^failed: ")
        self.assertEqual(
            found["LW-7003"]["why"],
            "has not connected yet: it has no power, cannot reach this server, or asks another one",
        )
        self.assertIn("a device with the same serial number", found["LW-7002"]["noted"])
        self.assertIn(
            "no report since its request: it rejected its configuration",
            found["LW-7000"]["why"],
        )
        shown = " ".join(self.oast("onboard", "status").out.split())
        self.assertIn("a device with the same serial number", shown)
        self.assertIn("quay-edge-3: has not connected yet: it has no power", shown)
        self.assertRegex(
            shown,
            r"LW-8000 was refused 1 time, most recently at [\d: -]+: unexpected device: nothing is staged for this serial number",
        )
        self.assertRegex(
            shown,
            r"LW-7002 was refused 1 time, most recently at [\d: -]+: another device has this serial number",
        )
        # The power is back; and this time it starts under a controller.
        again = Box(self.factory("LW-7001"), controlled=True)
        self.with_server(lambda port: self.come([again], port))
        self.assertEqual(self.status(0)["LW-7001"]["state"], "configured")
        self.assertIn("quay-edge-1: informational: restarting to stand alone", self.said)
        self.assertEqual(again.happened.count("asked"), 4)

    def test_a_box_whose_voucher_does_not_hold_takes_nothing_and_stays_expected(self) -> None:
        self.vouch("LW-7000", expires=datetime.now(UTC) + timedelta(hours=1))
        self.vouch("LW-7001", "LW-7002")
        self.stage(rows(3))
        other = Manufacturer(self.folder / "other-maker")
        boxes = {
            "the voucher has expired": Box(
                self.factory("LW-7000"), clock=lambda: datetime.now(UTC) + timedelta(hours=2)
            ),
            "it is not signed by anybody who may": Box(
                Factory("LW-7001", *self.maker.box("LW-7001"), other.voucher_authority)
            ),
            "the voucher is for LW-7002": Box(
                Factory("LW-7009", *self.maker.box("LW-7002"), self.maker.voucher_authority)
            ),
        }
        self.assertEqual(self.with_server(lambda port: self.come(list(boxes.values()), port)), [False] * 3)
        for why, box in boxes.items():
            self.assertEqual(box.happened, ["asked", f"refused: {why}"])
            self.assertIsNone(box.configuration)
        self.assertEqual({one["state"] for one in self.status(0).values()}, {"asked"})
        shown = " ".join(self.oast("onboard", "status").out.split())
        self.assertIn(
            "quay-edge-1: no report since its request: it rejected its configuration (clock, voucher),",
            shown,
        )
        self.assertIn("3 devices still expected: 3 asked", shown)

    def test_a_box_finds_the_server_by_the_names_of_its_network(self) -> None:
        self.vouch("LW-7000")
        self.stage(rows(1))
        zone = self.folder / "net.zone"

        async def come(port: int) -> tuple[bool, str]:
            text = f"$TTL 60\n@ SOA ns desk 1 2 3 4 5\n@ NS ns\n_sztp._tcp SRV 20 0 1 elsewhere\n_sztp._tcp SRV 10 0 {port} localhost.\n"
            zone.write_text(text)
            process = self.started("sim", "names", str(zone), "--origin", "net.larkwater.example")
            assert process.stdout is not None
            at = int((await asyncio.to_thread(process.stdout.readline)).rpartition(":")[2])
            try:
                place = await found_by_name("net.larkwater.example", ("127.0.0.1", at))
                with self.assertRaisesRegex(Refused, "no name leads to a bootstrap server"):
                    await found_by_name("sub.net.larkwater.example", ("127.0.0.1", at))
                return await Box(self.factory("LW-7000")).find_its_way(*place), place[0]
            finally:
                process.terminate()
                process.communicate(timeout=30)

        self.assertEqual(self.with_server(come), (True, "localhost"))
        self.assertEqual(self.status(0)["LW-7000"]["state"], "configured")

    def test_a_host_key_that_cannot_be_used_configures_nothing_and_reaches_no_file(self) -> None:
        self.vouch("LW-7000")
        self.stage(rows(1))
        known = self.estate / "known_hosts"
        known.write_bytes(before := b"# none yet\n")
        box = Box(self.factory("LW-7000"))
        whole = " ".join(box.host_key.export_public_key().decode().split()[:2]).split()
        reports: list[Any] = [
            [],
            None,
            [{"algorithm": "ssh-ed25519", "key-data": "AAAA"}],
            [{"algorithm": "@cert-authority", "key-data": whole[1]}],
            [{"algorithm": "ssh-ed25519\n*", "key-data": whole[1]}],
            [{"algorithm": whole[0], "key-data": whole[1][:-4]}],
            [{"algorithm": whole[0], "key-data": f"{whole[1]}\nquay-core {whole[0]} {whole[1]}"}],
            [{"algorithm": whole[0], "key-data": "A" * 100_000}],
            [{"algorithm": None, "key-data": None}],
            [7],
            "x",
        ]

        async def come(port: int) -> list[int]:
            import aiohttp

            tls = ssl.create_default_context(cafile=self.keys / "owner.pem")
            tls.load_cert_chain(*self.maker.box("LW-7000"))
            url = f"https://localhost:{port}/restconf/operations/ietf-sztp-bootstrap-server:"
            found = []
            async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(ssl=tls)) as session:
                async with session.post(url + "get-bootstrapping-data", data="") as answer:
                    self.assertEqual(answer.status, 200)
                for keys in reports:
                    told = {"progress-type": "bootstrap-complete", "ssh-host-keys": {"ssh-host-key": keys}}
                    async with session.post(
                        url + "report-progress", json={"ietf-sztp-bootstrap-server:input": told}
                    ) as answer:
                        found.append(answer.status)
                for kind in ([], {}, 7, None):
                    body = {"ietf-sztp-bootstrap-server:input": {"progress-type": kind}}
                    async with session.post(url + "report-progress", json=body) as answer:
                        found.append(answer.status)
            return found

        self.edit("oast.toml", 'first = ["first"]\n', 'first = ["first"]\nper_minute = 100\n')
        self.assertEqual(set(self.with_server(come)), {400})
        status = self.status(0)["LW-7000"]
        self.assertEqual((status["state"], status["host_keys"]), ("asked", []))
        self.assertIn("host key", status["noted"])
        self.assertEqual(known.read_bytes(), before)

    def test_who_asks_too_often_or_says_that_it_cannot_is_told_of(self) -> None:
        self.edit("oast.toml", 'first = ["first"]\n', 'first = ["first"]\nper_minute = 3\n')
        self.vouch("LW-7000", "LW-7001")
        self.stage(rows(2))

        async def come(port: int) -> list[tuple[int, Any]]:
            import aiohttp

            found: list[tuple[int, Any]] = []
            tls = ssl.create_default_context(cafile=self.keys / "owner.pem")
            tls.load_cert_chain(*self.maker.box("LW-7000"))
            url = f"https://localhost:{port}/restconf/operations/ietf-sztp-bootstrap-server:"
            async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(ssl=tls)) as session:
                for name, body in (
                    (
                        "report-progress",
                        '{"ietf-sztp-bootstrap-server:input": {"progress-type": "bootstrap-complete"}}',
                    ),
                    (
                        "report-progress",
                        '{"ietf-sztp-bootstrap-server:input": {"progress-type": "config-error", "message": "no\\u001b[31m room"}}',
                    ),
                    ("report-progress", "x" * 40),
                    ("get-bootstrapping-data", ""),
                ):
                    async with session.post(url + name, data=body) as answer:
                        found.append((answer.status, answer.headers.get("Retry-After")))
            tls.check_hostname, tls.verify_mode = False, ssl.CERT_NONE
            return found

        answers = self.with_server(come)
        self.assertEqual([status for status, _ in answers], [409, 204, 400, 429])
        self.assertTrue(0 < int(answers[3][1]) <= 60)
        self.assertEqual(self.status(1)["LW-7000"]["why"], "config-error: no [31m room")
        self.assertIn("quay-edge-0: config-error: no [31m room", self.said)


FIRST = {
    "bine": """{{#
section: first
owns: [system, "user oast", "interface manage0"]
variables: {{login: {{secret: true}}, privilege: {{secret: true}}}}
#}}
system
  hostname {{{{ device.name }}}}
  privilege-password-hash {{{{ privilege | password_hash(device.name ~ " p", 100) }}}}
user oast
  role administrator
  password-hash {{{{ login | password_hash(device.name, 100) }}}}
interface manage0
  ipv4
    address {{{{ device.address }}}}/24
""",
    "cowl": """{{#
section: first
owns: [system, users/user oast, interfaces/interface manage0]
variables: {{login: {{secret: true}}}}
#}}
/system/hostname = {{{{ device.name }}}}
/users/user[name=oast]/role = administrator
/users/user[name=oast]/password-hash = {{{{ login | password_hash(device.name, 100) }}}}
/interfaces/interface[name=manage0]/ipv4/address[ip={{{{ device.address }}}}]/prefix-length = 24
""",
    "roundel": """{{#
section: first
owns: [system/hostname, system/authentication/user oast, interfaces/interface manage0]
variables: {{login: {{secret: true}}}}
#}}
/system/hostname = {{{{ device.name }}}}
/system/authentication/user[name=oast]/password = {{{{ login | password_hash(device.name, 100) }}}}
/interfaces/interface[name=manage0]/type = ethernet
/interfaces/interface[name=manage0]/ipv4/address[ip={{{{ device.address }}}}]/prefix-length = 24
""",
}


class ByKey(asyncssh.SSHServer):
    """Whoever lets in by key alone."""

    def public_key_auth_supported(self) -> bool:
        return True


class ManagedTest(LarkwaterTest, Onboarding):
    """From the pallet to the inventory: boxes that are plugged into the running network."""

    whole = True

    def setUp(self) -> None:
        super().setUp()
        self.prepare()
        self.edit("oast.toml", 'first = ["first"]\n', 'first = ["first"]\ncall_home = "127.0.0.1:0"\n')
        self.edit("oast.toml", "verify_timeout_s = 20", "verify_timeout_s = 10")
        (self.estate / "intent.yaml").write_text(
            "sections:\n  - section: first\n    on: platform in (bine, cowl, roundel)\n  - section: life\n    on: role=new\n"
        )
        for platform, text in FIRST.items():
            (self.estate / f"templates/{platform}/first.j2").write_text(text.format())
        life = "{#\nsection: life\nowns: [%s]\n#}\n%s\n"
        (self.estate / "templates/bine/life.j2").write_text(life % ("snmp", "snmp\n  target 192.0.2.99"))
        (self.estate / "templates/cowl/life.j2").write_text(
            life % ("snmp", "/snmp/target[address=192.0.2.99]/port = 162")
        )
        (self.estate / "templates/roundel/life.j2").write_text(
            life % ("system/location", "/system/location = quay")
        )
        (self.estate / "values/all-new.yaml").write_text(
            "everywhere:\n  login: {secret: login-password}\n  privilege: {secret: privilege-password}\n"
        )
        for folder in ("checks", "policies"):
            for path in (self.estate / folder).glob("*.yaml"):
                path.unlink()

    def quays(self) -> list[dict[str, Any]]:
        return [
            d
            for d in self.oast("devices", "--format", "json").json()["devices"]
            if d["name"].startswith("quay")
        ]

    def test_ten_boxes_of_three_platforms_are_managed_devices_in_the_end(self) -> None:
        serials = [f"LW-7{n:03}" for n in range(10)]
        self.vouch(*serials)
        self.stage(rows(10))
        state = self.estate / ".oast" / "sim"

        async def one(number: int, port: int, home: int) -> None:
            box = Box(self.factory(serials[number]))
            self.assertTrue(await box.find_its_way("localhost", port), box.happened)
            await plug_in(state, box, PLATFORMS[number % len(PLATFORMS)], (), ("127.0.0.1", home))

        async def come(port: int, home: int) -> None:
            await asyncio.gather(*(one(number, port, home) for number in range(10)))
            for _ in range(200):
                found = await asyncio.to_thread(self.status)
                if all(box["state"] in ("managed", "failed") for box in found.values()):
                    return
                await asyncio.sleep(1.0)

        self.with_server(come)
        found = self.status()
        self.assertEqual({box["state"] for box in found.values()}, {"managed"}, found)
        self.assertIn("quay-edge-3: called home with the host key that it reported", self.said)
        devices = {d["name"]: d for d in self.oast("devices", "--format", "json").json()["devices"]}
        self.assertEqual(
            (devices["quay-edge-3"]["serial"], devices["quay-edge-3"]["platform"]), ("LW-7003", "cowl")
        )
        self.oast("diff", "--on", "name=quay-*")
        self.assertIn("no drift: 10 devices unchanged", self.oast("drift", "--on", "name=quay-*").out)
        said = self.oast("ask", "system", "--on", "name=quay-*", "--pick", '[]."serial-num"').out
        self.assertTrue(all(serial in said for serial in serials), said)
        self.assertIn("target 192.0.2.99", self.running("quay-edge-2"))
        self.assertIn("LW-7002", self.oast("change", "list").out)
        self.oast("verify", "--on", "name=quay-*", "--wait", "20")
        self.assertIn("0 devices still expected", self.oast("onboard", "status").out)
        # Who is managed is given nothing again.
        late = Box(self.factory("LW-7001"))
        self.with_server(lambda port, home: self.come([late], port))
        self.assertEqual(
            late.happened, ["refused: the server says: it is already managed, and was not staged again"]
        )

    def test_where_approval_is_needed_staging_is_approved_and_covers_the_first_delivery(self) -> None:
        self.edit("oast.toml", "[delivery]\n", "[delivery]\napproval = true\n")
        self.vouch("LW-7000", "LW-7001")
        (self.folder / "boxes.csv").write_text(HEADING + rows(2))
        file = str(self.folder / "boxes.csv")
        ada, bo = {"OAST_IDENTITY": "ada@larkwater.example"}, {"OAST_IDENTITY": "bo@larkwater.example"}
        told = self.oast("onboard", "stage", file, "--yes", environment=ada).out
        self.assertIn("2 devices; nothing is staged yet", told)
        self.assertEqual(self.status(0), {})
        name = re.findall(r"proposed as (\S+):", told)[0]
        shown = self.oast("change", "show", name).out
        self.assertIn(
            "new device quay-edge-0 with the serial number LW-7000: address 192.0.2.150, platform bine,",
            shown,
        )
        self.assertRegex(shown, r"(?s)first configuration:.*privilege-password-hash <secret [0-9a-f]{8}>")
        self.assertRegex(shown, r"\+ .*target 192\.0\.2\.99")
        stage = ("onboard", "stage", "--change", name)
        self.assertIn("is not approved", self.oast(*stage, expect=1).err)
        self.assertIn(
            "cannot approve it",
            self.oast("change", "approve", name, "--yes", environment=ada, expect=1).err,
        )
        self.assertIn("stages new devices", self.oast("push", "--change", name, "--yes", expect=1).err)
        self.oast("change", "approve", name, "--yes", environment=bo)
        # What the estate says by then has to be what was approved.
        template = "templates/bine/life.j2"
        self.edit(template, "192.0.2.99", "192.0.2.98")
        self.assertIn(f"{name} is outdated", self.oast(*stage, expect=1).err)
        self.edit(template, "192.0.2.98", "192.0.2.99")
        self.assertIn(f"2 devices staged, as approved in {name}", self.oast(*stage).out)
        self.assertEqual({one["state"] for one in self.status(0).values()}, {"staged"})
        # From then on, what was approved is delivered, also when the estate goes on meanwhile.
        self.edit(template, "192.0.2.99", "192.0.2.98")
        state = self.estate / ".oast" / "sim"

        async def come(port: int, home: int) -> None:
            for number in range(2):
                box = Box(self.factory(f"LW-700{number}"))
                self.assertTrue(await box.find_its_way("localhost", port), box.happened)
                await plug_in(state, box, PLATFORMS[number], (), ("127.0.0.1", home))
            for _ in range(200):
                if all(
                    box["state"] in ("managed", "failed")
                    for box in (await asyncio.to_thread(self.status)).values()
                ):
                    return
                await asyncio.sleep(0.5)

        self.with_server(come)
        self.assertEqual({box["state"] for box in self.status().values()}, {"managed"}, self.said)
        self.assertIn("target 192.0.2.99", self.running("quay-edge-0"))
        last = self.oast("change", "show", name, "--format", "json").json()
        self.assertLessEqual(
            {"proposed", "approved", "staged", "begun", "ended"}, {entry["kind"] for entry in last["entries"]}
        )
        self.assertIn("the ledger is intact", self.oast("change", "audit").out)

    def test_a_box_that_was_staged_without_an_approval_waits_where_one_is_needed(self) -> None:
        self.vouch("LW-7000")
        self.stage(rows(1))
        self.edit("oast.toml", "[delivery]\n", "[delivery]\napproval = true\n")
        state = self.estate / ".oast" / "sim"

        async def come(port: int, home: int) -> None:
            box = Box(self.factory("LW-7000"))
            self.assertTrue(await box.find_its_way("localhost", port), box.happened)
            await plug_in(state, box, PLATFORMS[0], (), ("127.0.0.1", home))
            while not (await asyncio.to_thread(self.status))["LW-7000"]["noted"]:
                await asyncio.sleep(0.2)

        self.with_server(come)
        self.assertIn("it was staged without approval,", self.status()["LW-7000"]["noted"])
        self.assertEqual(self.status()["LW-7000"]["state"], "called home")

    def test_a_server_that_is_stopped_in_the_middle_of_a_delivery_ends_and_the_next_goes_on(self) -> None:
        self.vouch("LW-7000")
        self.stage(rows(1))
        box, state = Box(self.factory("LW-7000")), self.estate / ".oast" / "sim"

        async def come(port: int, home: int) -> None:
            self.assertTrue(await box.find_its_way("localhost", port), box.happened)
            await plug_in(state, box, "bine", (), ("127.0.0.1", home))
            await asyncio.to_thread(self.fault, "quay-edge-0", "slow", "--seconds", "0.5")
            while await asyncio.to_thread(self.timer, "quay-edge-0") is None:
                await asyncio.sleep(0.1)

        self.with_server(come)
        self.assertEqual(self.status(0)["LW-7000"]["state"], "called home", self.said)
        self.assertIn("quay-edge-0: is tried again later: ", self.said)
        self.assertIsNone(self.timer("quay-edge-0"), "it was taken back before the server ended")
        self.fault("quay-edge-0", "none")

        async def wait(port: int, home: int) -> None:
            while (await asyncio.to_thread(self.status))["LW-7000"]["state"] == "called home":
                await asyncio.sleep(0.5)

        self.with_server(wait)
        self.assertEqual(self.status(0)["LW-7000"]["state"], "managed")

    def test_a_server_that_was_killed_in_the_middle_of_a_delivery_recovers_it_and_goes_on(self) -> None:
        self.vouch("LW-7000")
        self.stage(rows(1))
        box, state = Box(self.factory("LW-7000")), self.estate / ".oast" / "sim"

        async def come(port: int, home: int) -> None:
            self.assertTrue(await box.find_its_way("localhost", port), box.happened)
            await plug_in(state, box, "bine", (), ("127.0.0.1", home))
            await asyncio.to_thread(self.fault, "quay-edge-0", "slow", "--seconds", "0.5")
            while await asyncio.to_thread(self.timer, "quay-edge-0") is None:
                await asyncio.sleep(0.1)

        self.with_server(come, is_killed=True)
        self.assertEqual(self.status(0)["LW-7000"]["state"], "called home")
        self.fault("quay-edge-0", "none")
        # Until the estate is right again, the device waits, and need not be staged anew.
        self.edit("values/network.yaml", "everywhere:", "everywhere: [")

        async def wait(port: int, home: int) -> None:
            while (await asyncio.to_thread(self.status, None))["LW-7000"]["noted"] is None:
                await asyncio.sleep(0.5)
            self.assertEqual((await asyncio.to_thread(self.status, None))["LW-7000"]["state"], "called home")
            self.edit("values/network.yaml", "everywhere: [", "everywhere:")

        self.with_server(wait)
        self.assertIn("waits: ", self.said)

        async def go_on(port: int, home: int) -> None:
            while (await asyncio.to_thread(self.status))["LW-7000"]["state"] == "called home":
                await asyncio.sleep(0.5)

        self.with_server(go_on)
        self.assertRegex(
            self.said, "quay-edge-0: the interrupted delivery was recovered: (rolled back|unchanged)"
        )
        self.assertEqual(self.status(0)["LW-7000"]["state"], "managed", self.said)
        self.assertEqual(
            self.oast("change", "recover").out, "nothing to recover: there is no interrupted run\n"
        )

    def test_without_calls_home_a_box_is_spoken_to_as_soon_as_it_is_there(self) -> None:
        self.edit("oast.toml", 'call_home = "127.0.0.1:0"\n', "")
        self.vouch("LW-7000")
        self.stage(rows(1))
        box = Box(self.factory("LW-7000"))

        async def come(port: int) -> None:
            self.assertTrue(await box.find_its_way("localhost", port), box.happened)
            await plug_in(self.estate / ".oast" / "sim", box, "bine", (), None)
            while (await asyncio.to_thread(self.status))["LW-7000"]["state"] == "configured":
                await asyncio.sleep(0.5)

        self.with_server(come)
        self.assertEqual(self.status(0)["LW-7000"]["state"], "managed")

    def test_a_box_that_does_not_become_what_it_should_is_not_managed_and_says_why(self) -> None:
        self.vouch("LW-7000", "LW-7002")
        self.stage(rows(1) + rows(1, 2))
        state = self.estate / ".oast" / "sim"
        impostor = Box(self.factory("LW-7000"))

        async def come(port: int, home: int) -> None:
            box, other = Box(self.factory("LW-7000")), Box(self.factory("LW-7002"))
            await box.find_its_way("localhost", port)
            await other.find_its_way("localhost", port)
            # Plugged in with another host key than the one that was reported; and somebody has typed what the device refuses to lose.
            impostor.configuration = box.configuration
            await plug_in(state, impostor, "bine", (), ("127.0.0.1", home))
            await plug_in(state, other, "bine", (), None)
            await asyncio.to_thread(self.fault, "quay-edge-2", "refuse", "--match", "target")

            async def call() -> None:
                await asyncssh.connect_reverse(
                    "127.0.0.1", home, server_factory=ByKey, server_host_keys=[other.host_key]
                )

            calling = asyncio.create_task(call())
            for _ in range(100):
                if (await asyncio.to_thread(self.status))["LW-7002"]["state"] == "failed":
                    break
                await asyncio.sleep(1.0)
            await asyncio.gather(calling, return_exceptions=True)

        self.with_server(come)
        found = self.status(1)
        self.assertEqual(found["LW-7000"]["state"], "configured")
        self.assertIn("calls home with an unknown host key", self.said)
        self.assertEqual(found["LW-7002"]["state"], "failed")
        self.assertIn("rolled back", found["LW-7002"]["why"])
        self.assertEqual({d.get("onboarding") for d in self.quays()}, {"expected"})
        self.assertIn(
            "selected devices are out of service",
            self.oast("push", "-m", "x", "--on", "name=quay-*", expect=3).err,
        )
        self.oast("onboard", "forget", "LW-7002")
        self.assertEqual([d["name"] for d in self.quays()], ["quay-edge-0"])


class MutatedCertificateTest(Onboarding):
    def test_a_certificate_that_was_touched_lets_nobody_in(self) -> None:
        self.vouch("LW-7000")
        self.stage(rows(1))
        certificate, key = self.maker.box("LW-7000")
        der = x509.load_pem_x509_certificate(certificate.read_bytes()).public_bytes(Encoding.DER)
        chance = random.Random(8040)
        authority = (self.keys / "owner.pem").read_text()
        touched = self.folder / "touched.pem"

        async def accepted(port: int, data: bytes) -> bool:
            touched.write_text(ssl.DER_cert_to_PEM_cert(data))
            tls = ssl.create_default_context(cadata=authority)
            try:
                tls.load_cert_chain(touched, key)
            except ssl.SSLError:
                return False  # it is no certificate of this key any more
            try:
                reader, writer = await asyncio.open_connection("localhost", port, ssl=tls)
                writer.write(
                    b"GET /.well-known/host-meta HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n"
                )
                answer = await reader.read()
                writer.close()
            except (ssl.SSLError, OSError):
                return False
            return bool(answer)

        async def come(port: int) -> int:
            self.assertTrue(await accepted(port, der))
            number = 0
            for _ in range(MUTATIONS):
                wrong = bytearray(der)
                wrong[chance.randrange(len(der))] ^= 1 << chance.randrange(8)
                number += await accepted(port, bytes(wrong))
            return number

        self.assertEqual(self.with_server(come), 0)


class StageTest(Onboarding):
    def test_each_row_is_looked_at_by_itself_and_what_is_missing_is_told(self) -> None:
        self.vouch("LW-7000", "LW-7001", "LW-7002", "LW-7005", "LW-7009")
        self.vouch("LW-7003", expires=datetime.now(UTC) - timedelta(days=1))
        keys.make_keys(self.folder / "others", "Somebody else", ["localhost"])
        self.vouch(
            "LW-7004",
            owner=x509.load_pem_x509_certificates((self.folder / "others/owner.pem").read_bytes())[0],
        )
        (self.folder / "vouchers/LW-7006.vcj").write_bytes(
            (self.folder / "vouchers/LW-7000.vcj").read_bytes()
        )
        text = (
            rows(1) + ",quay-edge-1,192.0.2.151,bine,dunlin,new\nLW-7002,quay-edge-2,192.0.2.150,bine,dunlin,new\n" + rows(2, 3)
            + "LW-7005,quay-edge-5,192.0.2.155,bime,dunlin,new\n" + rows(2, 6) + "LW-7008\nLW-7000,quay-edge-8,192.0.2.158,bine,dunlin,new\n"
            + "LW-7009,gull-core-1,192.0.2.159,bine,dunlin,new\n"
        )  # fmt: skip
        run = self.stage(text, expect=3)
        self.assertIn("1 device staged", run.out)
        for number, told in (
            (3, "it has no serial (quay-edge-1)"),
            (4, "duplicate address 192.0.2.150, also of quay-edge-0 (quay-edge-2)"),
            (5, "the voucher LW-7003.vcj is invalid: it expired on"),
            (6, "its pinned-domain-cert is not the owner's authority (quay-edge-4)"),
            (7, "unknown platform 'bime' (quay-edge-5)"),
            (8, "the voucher LW-7006.vcj is invalid: it is for the serial number LW-7000"),
            (9, "the voucher "),
            (10, "1 cell"),
            (11, "duplicate serial number LW-7000, also in"),
            (12, "gull-core-1 is already in the inventory (inventory/devices.yaml"),
        ):
            with self.subTest(told):
                self.assertRegex(" ".join(run.err.split()), rf"boxes\.csv:{number}: [^|]*{re.escape(told)}")
        self.assertIn("10 rows are not staged", run.err)
        self.assertEqual(set(self.status(0)), {"LW-7000"})
        for text, told in (("serial,name\n", "no column 'address'"), ("", "the file is empty")):
            (self.folder / "boxes.csv").write_text(text)
            self.assertIn(told, self.oast("onboard", "stage", str(self.folder / "boxes.csv"), expect=3).err)

    def test_the_status_stays_alive_on_a_terminal(self) -> None:
        self.vouch("LW-7000", "LW-7001")
        self.stage(rows(1))
        leader, follower = pty.openpty()
        command = [*forked.OAST, "onboard", "status", "--follow"]
        terminal = {**clean_environment(), "TERM": "xterm-256color", "COLUMNS": "100", "LINES": "30"}
        process = forked.Process(
            command, cwd=self.estate, env=terminal, stdin=follower, stdout=follower, stderr=follower
        )
        os.close(follower)
        shown = b""
        while b"1 device still expected" not in shown:
            shown += os.read(leader, 65536)
        self.stage(rows(2))
        while b"2 devices still expected" not in shown:
            shown += os.read(leader, 65536)
        process.send_signal(signal.SIGINT)
        self.assertEqual(process.wait(60), 130)
        os.close(leader)
        self.assertNotIn(b"Traceback", shown)
        self.assertIn(b"quay-edge-1", shown)

    def test_keys_stay_private_are_made_once_and_never_lie_in_the_estate(self) -> None:
        self.assertEqual({path.stat().st_mode & 0o077 for path in self.keys.glob("*.key")}, {0})
        self.assertIn("already has files;", self.oast("onboard", "keys", expect=4).err)
        (self.keys / "signer.key").chmod(0o644)
        self.vouch("LW-7000")
        self.assertIn("other users can read", self.stage(rows(1), expect=3).err)
        self.edit("oast.toml", '"../owner-keys"', '"owner-keys"')
        self.assertIn("the keys must be outside the estate,", self.oast("lint", expect=3).out)


class MutatedTest(unittest.TestCase):
    """Whatever byte of what was signed is another: nothing is accepted."""

    def setUp(self) -> None:
        import tempfile

        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))
        self.maker = Manufacturer(folder / "maker")
        keys.make_keys(folder / "keys", "Larkwater Ferries", ["localhost"])
        self.own = keys.read_keys(folder / "keys")
        self.box = Box(Factory("LW-7", *self.maker.box("LW-7"), self.maker.voucher_authority))
        information = cms.sign_data(b'{"ietf-sztp-conveyed-info:redirect-information": {"bootstrap-server": []}}', cms.CONVEYED, self.own.signer,
                                 self.own.signer_key)  # fmt: skip
        self.given = {
            "ownership-voucher": self.maker.voucher("LW-7", self.own.owner),
            "owner-certificate": cms.certificates_only([self.own.signer, self.own.owner]),
            "conveyed-information": information,
        }

    def proved(self, **given: bytes) -> None:
        parts = {**self.given, **{name.replace("_", "-"): data for name, data in given.items()}}
        self.box._proved({name: base64.b64encode(data) for name, data in parts.items()}, trusted=False)

    def test_the_box_takes_what_is_right_and_nothing_that_was_touched(self) -> None:
        self.proved()
        chance = random.Random(8572)
        for name, right in self.given.items():
            for number in range(MUTATIONS):
                wrong = bytearray(right)
                kind, at = number % 4, chance.randrange(len(right))
                if kind == 0:
                    wrong[at] ^= 1 << chance.randrange(8)
                elif kind == 1:
                    wrong[at] = (wrong[at] + chance.randrange(1, 256)) % 256
                elif kind == 2:
                    del wrong[at : at + chance.randrange(1, 9)]
                else:
                    wrong[at:at] = chance.randbytes(chance.randrange(1, 5))
                with self.subTest(name=name, kind=kind, at=at), self.assertRaises(Refused):
                    self.proved(**{name.replace("-", "_"): bytes(wrong)})

    def test_vouchers_are_taken_whole_or_not_at_all(self) -> None:
        trusted, now = trust.authorities(self.maker.voucher_authority, "x"), datetime.now(UTC)
        right = self.given["ownership-voucher"]
        self.assertEqual(vouchers.read_voucher(right, trusted, now).serial, "LW-7")
        chance = random.Random(8366)
        for _ in range(MUTATIONS):
            wrong = bytearray(right)
            wrong[chance.randrange(len(right))] ^= 1 << chance.randrange(8)
            with self.assertRaises(SignatureError):
                vouchers.read_voucher(bytes(wrong), trusted, now)
        with self.assertRaisesRegex(SignatureError, "its signer is not trusted"):
            vouchers.read_voucher(right, [self.own.owner], now)
        with self.assertRaisesRegex(SignatureError, "another type"):
            vouchers.read_voucher(self.given["conveyed-information"], trusted, now)

    def test_what_another_owner_signs_is_nothing(self) -> None:
        folder = self.maker.folder.parent
        keys.make_keys(folder / "others", "Somebody else", ["localhost"])
        other = keys.read_keys(folder / "others")
        forged = cms.sign_data(b"{}", cms.CONVEYED, other.signer, other.signer_key)
        for given in (
            {"conveyed_information": forged},
            {
                "conveyed_information": forged,
                "owner_certificate": cms.certificates_only([other.signer, other.owner]),
            },
            {"ownership_voucher": self.maker.voucher("LW-8", self.own.owner)},
            {"ownership_voucher": Manufacturer(folder / "other").voucher("LW-7", self.own.owner)},
            {
                "ownership_voucher": self.maker.voucher(
                    "LW-7", self.own.owner, datetime.now(UTC) - timedelta(seconds=1)
                )
            },
        ):
            with self.assertRaises(Refused):
                self.proved(**given)


if __name__ == "__main__":
    unittest.main()
