"""Inventories that are kept elsewhere: refreshed from a service or a file, whatever goes wrong on the way."""

from __future__ import annotations

import json
import unittest
import urllib.error
import urllib.request
from typing import Any

from hypothesis import given, settings, strategies as st

from larkwater import SECRETS, EstateTest, LarkwaterTest, Run
from oast.errors import StateError
from oast.estate.source_settings import Mapped, SourceSettings
from oast.records import Place
from oast.sources import mapping
from oast.sources.pages import Page

TOKEN = "tide-table-5512"
MAP = """
[sources.attributes]
name = "hostname"
address = "management.address"
platform = { path = "model", values = { "QX-4" = "bine", "KV-8" = "bine" } }
site = "place.code"
role = { path = "duty", default = "edge" }
tags = "labels"
"""


def device(key: int, **more: Any) -> dict[str, Any]:
    return {
        "key": key, "hostname": f"dunlin-edge-{key}", "management": {"address": f"192.0.2.{key}/24"}, "model": "QX-4",
        "place": {"code": "dunlin"}, "duty": "edge", "labels": ["terminal"], "stage": "in-use", **more,
    }  # fmt: skip


class Served(EstateTest):
    """The stand-in service, and an estate that takes devices from it, ten a page."""

    def setUp(self) -> None:
        super().setUp()
        self.serve([device(100 + n) for n in range(35)])

    def serve(self, devices: list[dict[str, Any]]) -> None:
        (self.estate / "inventory-service.json").write_text(json.dumps({"devices": devices}))
        first = not (self.estate / "inventory-service.txt").exists()
        self.sim("stop")
        url = self.sim("start").out.strip()
        self.addCleanup(self.sim, "stop")
        path = self.estate / "oast.toml"
        text = path.read_text()
        if first:
            (self.estate / "inventory-service.txt").touch()
            text += (
                f'\n[[sources]]\nname = "office"\nurl = "{url}?limit=10"\ntoken = {{ secret = "office-token" }}\nrecords = "devices"\n'
                f'count = "total"\nwhich = "stage == \'in-use\'"\nrecord = "key"\n{MAP}'
            )
        else:
            text = text.replace(self.url, url)
        self.url = url
        path.write_text(text)

    def sim(self, *arguments: str) -> Run:
        return self.oast("sim", "inventory", *arguments, environment={"OASTSIM_TOKEN": TOKEN})

    def refresh(self, *arguments: str, expect: int = 0, token: str = TOKEN) -> Run:
        run = self.oast(
            "source", "refresh", *arguments, expect=expect, environment={"OAST_SECRET_OFFICE_TOKEN": token}
        )
        self.assertNotIn(TOKEN, run.out + run.err)
        return run

    def owned(self) -> str:
        path = self.estate / "inventory/office.source.yaml"
        return path.read_text() if path.exists() else ""

    def names(self) -> set[str]:
        return {d["name"] for d in self.oast("devices", "--format", "json").json()["devices"]}


class ServiceTest(Served):
    def test_what_is_new_is_shown_asked_for_and_written_and_a_second_time_is_empty(self) -> None:
        shown = self.refresh("--dry-run", expect=1)
        self.assertIn("office: 35 records; +35 ~0 -0", shown.out)
        self.assertEqual(self.owned(), "")
        self.assertIn("cannot ask for confirmation without a terminal", self.refresh(expect=2).err)
        self.refresh("--yes")
        self.assertIn("4 pages unchanged; +0 ~0 -0", self.refresh("--yes").out)
        self.assertIn("dunlin-edge-134", self.names())
        self.assertRegex(
            self.oast("source", "list").out,
            r"office +http://127\.0\.0\.1:\d+/devices\?limit=10 +inventory/office.source.yaml +35\n",
        )
        self.serve(
            [device(100 + n) for n in range(33)] + [device(200), device(132 + 1, model="KV-8", labels=[])]
        )
        found = self.refresh("--yes", "--format", "json").json()["sources"][0]
        self.assertEqual((found["added"], found["removed"]), (["dunlin-edge-200"], ["dunlin-edge-134"]))
        self.assertEqual(
            found["changed"], [{"device": "dunlin-edge-133", "attributes": {"tags": [["terminal"], None]}}]
        )
        self.oast("lint", expect=None)

    def test_what_the_engineer_wrote_wins_attribute_by_attribute_and_explain_says_so(self) -> None:
        self.serve([device(1, hostname="gull-core-1", place={"code": "heron"}, owner="x"), device(2)])
        own = (self.estate / "inventory/devices.yaml").read_text()
        self.refresh("--yes")
        self.assertEqual((self.estate / "inventory/devices.yaml").read_text(), own)
        told = self.oast("explain", "gull-core-1", "device.site").out
        line = self.line_of("inventory/office.source.yaml", '"gull-core-1": {')
        self.assertIn("device.site = gull\n", told)
        self.assertIn(
            f"inventory/office.source.yaml:{line}  source office, record 1: place.code  (heron, overridden)",
            told,
        )
        (self.estate / "inventory/mine.yaml").write_text("devices:\n  dunlin-edge-2: {site: tern}\n")
        self.assertIn("device.site = tern\n", self.oast("explain", "dunlin-edge-2", "device.site").out)
        self.assertIn(
            "device.address = 192.0.2.2\n", self.oast("explain", "dunlin-edge-2", "device.address").out
        )

    def test_each_fault_of_the_service_leaves_what_was_there_and_says_what_happened(self) -> None:
        self.refresh("--yes")
        before = self.owned()
        for kind, told in (
            ("error", "failed after 5 attempts: HTTP 500"),
            ("cut", "reading failed after 5 attempts"),
            ("repeat", "its pages lead back to an earlier"),
            ("expire", "authentication failed: HTTP 401"),
            ("broken", "its answer is not JSON"),
            ("empty", "listing is incomplete"),
        ):
            with self.subTest(kind):
                # Other devices by now, so that no page is as it was.
                self.serve([device(100 + n, duty=kind) for n in range(30)])
                self.sim("fault", kind, "--after", "2")
                self.assertIn(told, self.refresh("--yes", expect=4).err)
                self.assertEqual(self.owned(), before)
        self.sim("fault", "busy", "--times", "2", "--seconds", "1")
        self.assertIn("-5", self.refresh("--dry-run", "--allow-removals", expect=1).out)
        self.assertIn("authentication failed", self.refresh("--yes", expect=4, token="another").err)
        self.sim("stop")
        self.assertIn("reading failed after 5 attempts", self.refresh("--yes", expect=4).err)
        self.assertEqual(self.owned(), before)

    def test_devices_do_not_disappear_in_silence(self) -> None:
        self.refresh("--yes")
        before = self.owned()
        self.serve([device(100 + n) for n in range(20)])
        self.assertIn("15 of 35 devices would be removed (limit: 10)", self.refresh("--yes", expect=1).err)
        self.serve([device(100 + n) for n in range(30)])
        self.assertIn(
            "5 of 35 devices would be removed (limit: a share of 0.1)",
            self.refresh("--yes", expect=1).err,
        )
        self.serve([])
        self.assertIn("it no longer lists any device", self.refresh("--yes", expect=1).err)
        self.assertEqual(self.owned(), before)
        self.serve([device(100 + n) for n in range(33)])
        self.assertIn("- dunlin-edge-134", self.refresh("--yes").out)

    def test_one_wrong_record_is_told_and_its_device_stays(self) -> None:
        self.refresh("--yes")
        rest = [device(100 + n) for n in range(33)]
        self.serve([*rest, device(133, management=None), device(134, model="ZZ-9")])
        run = self.refresh("--yes", expect=4)
        self.assertIn(
            "record 133 (dunlin-edge-133): it has no 'address' (unchanged in the inventory)", run.out
        )
        self.assertIn(
            "record 134 (dunlin-edge-134): 'platform' is 'ZZ-9', which is missing in 'values' (unchanged in the inventory)",
            run.out,
        )
        self.assertIn("dunlin-edge-133", self.owned())
        self.serve([*rest, device(7, hostname="no name at all!"), device(8, hostname="dunlin-edge-100")])
        run = self.refresh("--yes", expect=4)
        self.assertIn(
            "  dunlin-edge-100: both have th",
            run.out.replace("record 100 and record 8 (dunlin-edge-100)", "dunlin-edge-100"),
        )
        # It is not known which device has no name: none is taken for gone.
        self.assertIn(
            "some records cannot be matched to a device; unchanged: dunlin-edge-133, dunlin-edge-134", run.out
        )
        self.assertEqual({"dunlin-edge-100", "dunlin-edge-133"} - self.names(), set())


class StandInTest(Served):
    def ask(self, path: str, method: str = "GET", body: Any = None, **fields: str) -> tuple[int, Any, Any]:
        data = None if body is None else json.dumps(body).encode()
        headers = {
            "Authorization": f"Bearer {TOKEN}",
            **{name.replace("_", "-"): value for name, value in fields.items()},
        }
        request = urllib.request.Request(f"{self.url}{path}", data, headers, method=method)
        try:
            with urllib.request.urlopen(request, timeout=30) as answer:
                return answer.status, json.loads(answer.read() or b"null"), answer.headers
        except urllib.error.HTTPError as error:
            with error:
                return error.code, json.loads(error.read() or b"null"), error.headers

    def test_it_filters_pages_and_takes_patches_of_what_was_seen(self) -> None:
        status, page, headers = self.ask("?limit=2&stage=in-use")
        self.assertEqual(
            (status, page["total"], [one["key"] for one in page["devices"]]), (200, 35, [100, 101])
        )
        self.assertIn('rel="next"', headers["Link"])
        self.assertEqual(self.ask("?limit=2&stage=in-use", If_None_Match=headers["ETag"])[0], 304)
        self.assertEqual(self.ask("?stage=planned")[1], {"total": 0, "devices": []})
        self.assertEqual(self.ask("?limit=0")[0], 400)
        self.assertEqual(self.ask("/nobody")[0], 404)
        self.assertEqual(self.ask("", Authorization="Bearer another")[0], 401)
        _, _, headers = self.ask("/100")
        status, patched, _ = self.ask(
            "/100", "PATCH", {"serial": "LW1", "place": {"quay": 2}, "labels": None}, If_Match=headers["ETag"]
        )
        self.assertEqual(
            (status, patched["serial"], patched["place"]), (200, "LW1", {"code": "dunlin", "quay": 2})
        )
        self.assertNotIn("labels", patched)
        self.assertEqual(self.ask("/100", "PATCH", {"serial": "LW2"}, If_Match=headers["ETag"])[0], 412)
        self.assertEqual(self.ask("/100", "PATCH", {"key": 5})[0], 422)
        kept = json.loads((self.estate / "inventory-service.json").read_text())["devices"]
        self.assertEqual(next(one for one in kept if one["key"] == 100)["serial"], "LW1")


class WatchedTest(Served):
    def test_on_a_schedule_what_is_new_is_written_what_is_missing_stays_and_all_of_it_is_told(self) -> None:
        with (self.estate / "oast.toml").open("a") as file:
            file.write(
                '\n[[watch.jobs]]\ndo = "refresh"\nevery_s = 900\n[[watch.notify]]\nname = "told"\ncommand = ["sh", "-c", "cat >> told; echo >> told"]\n'
            )
        self.watch(0)
        told = self.told()
        self.assertEqual((len(told), told[0][:2], len(self.names())), (35, ("new", "dunlin-edge-100"), 41))
        self.serve([device(100 + n) for n in range(33)] + [device(200)])
        self.watch(1)
        self.assertEqual(
            [one[:2] for one in self.told()],
            [("new", "dunlin-edge-200"), ("wrong", "dunlin-edge-133"), ("wrong", "dunlin-edge-134")],
        )
        self.assertIn("dunlin-edge-134", self.names())
        self.sim("stop")
        self.watch(4)
        self.assertEqual([one[:2] for one in self.told()], [("wrong", None)])
        self.serve([device(100 + n) for n in range(34)])
        self.watch(1)
        self.assertEqual(
            [one[:2] for one in self.told()],
            [("right", None), ("right", "dunlin-edge-133"), ("wrong", "dunlin-edge-200")],
        )
        self.refresh("--yes")
        self.watch(0)
        self.assertEqual(
            [one[:2] for one in self.told()], [("right", "dunlin-edge-134"), ("right", "dunlin-edge-200")]
        )

    def watch(self, expect: int) -> None:
        self.oast("watch", "--once", expect=expect, environment={"OAST_SECRET_OFFICE_TOKEN": TOKEN})

    def told(self) -> list[tuple[str, str | None, str]]:
        path = self.estate / "told"
        lines = path.read_text().splitlines() if path.exists() else []
        path.unlink(missing_ok=True)
        return [
            (one["became"], one["device"], one["told"]) for line in lines for one in json.loads(line)["news"]
        ]


class FileTest(EstateTest):
    def source(self, text: str) -> None:
        with (self.estate / "oast.toml").open("a") as file:
            file.write(text)

    def test_a_file_of_rows_is_a_source_as_well(self) -> None:
        self.source(
            '\n[[sources]]\nname = "sheet"\nfile = "sheet.csv"\nattributes = { name = "Host", address = "IP", platform = "System", site = "Pier" }\n'
        )
        (self.estate / "sheet.csv").write_text(
            '\ufeffHost,IP,System,Pier\r\ndunlin-edge-7,192.0.2.107,bine,"dunlin, north"\r\n'
        )
        self.oast("source", "refresh", "--yes")
        self.assertIn('"site": "dunlin, north"', (self.estate / "inventory/sheet.source.yaml").read_text())
        for text, told in (
            ("", "it is empty"),
            ("Host,Host\na,b\n", "column, or"),
            ('Host,IP\n"a,b\n', "is not valid CSV:"),
        ):
            (self.estate / "sheet.csv").write_text(text)
            self.assertIn(told, self.oast("source", "refresh", "--yes", expect=4).err)
        # One wrong row is told; the others are taken, and as nobody knows which device it is, none is taken for gone.
        (self.estate / "sheet.csv").write_text(
            "Host,IP,System,Pier\na,b,c,d,e\ndunlin-edge-8,192.0.2.108,bine,\n"
        )
        run = self.oast("source", "refresh", "--yes", expect=4)
        self.assertIn("record 1: line 2 has 5 cells, the first line has 4", run.out)
        self.assertIn("+ dunlin-edge-8", run.out)
        self.assertIn("dunlin-edge-7", (self.estate / "inventory/sheet.source.yaml").read_text())
        (self.estate / "sheet.csv").unlink()
        self.assertIn("cannot read", self.oast("source", "refresh", "--yes", expect=4).err)

    def test_a_file_that_oast_did_not_write_is_not_touched(self) -> None:
        self.source(
            '\n[[sources]]\nname = "sheet"\nfile = "sheet.csv"\nattributes = { name = "a", address = "b", platform = "c" }\n'
        )
        (self.estate / "sheet.csv").write_text("a,b,c\nx-1,192.0.2.99,bine\n")
        (self.estate / "inventory/sheet.source.yaml").write_text(
            "devices: {mine-1: {address: 192.0.2.98, platform: bine}}\n"
        )
        self.assertIn(
            "'oast source refresh' wrote it;",
            self.oast("source", "refresh", "--yes", expect=3).err,
        )
        self.assertIn("mine-1", (self.estate / "inventory/sheet.source.yaml").read_text())

    def test_mistakes_in_the_settings_have_their_line(self) -> None:
        path = self.estate / "oast.toml"
        before = path.read_text()
        head = '\n[[sources]]\nname = "office"\n'
        good = "attributes = { name = 'a', address = 'b', platform = 'c' }\n"
        for text, told in (
            (head + good, "a source needs one of 'url', 'file' and 'folder'"),
            (head + 'file = "x.csv"\n', "'name' is missing"),
            (
                head + 'file = "x.csv"\nattributes = { name = "a[", address = "b", platform = "c" }\n',
                "'a[' is not a valid JMESPath",
            ),
            (head + 'file = "x.csv"\nrecords = "r"\n' + good, "'records' can only be used with JSON"),
            (head + 'url = "ftp://x"\n' + good, "'url' must be https://… or http://…"),
            (
                head + 'url = "https://me:pw@x.example/"\n' + good,
                "it contains a secret, which must not be in a file",
            ),
            (
                head + 'url = "http://x.example/"\ntoken = { secret = "t" }\n' + good,
                "a token can only be sent over TLS",
            ),
            (head + 'url = "https://x.example/"\ntoken = "t"\n' + good, "which names a secret"),
            (
                head + 'file = "x.csv"\nlimits = { share = 2 }\n' + good,
                "'share' must be a number from 0 to 1",
            ),
            (
                head.replace("office", "Off ice") + 'file = "x.csv"\n' + good,
                "is not a valid name for a source",
            ),
            (head + 'file = "x.csv"\nfiel = 1\n' + good, "did you mean 'file'"),
        ):
            with self.subTest(text):
                path.write_text(before + text)
                found = self.oast("lint", "--format", "json", expect=3).json()["problems"]
                self.assertTrue(any(told in f"{f['message']} {f['hint']}" for f in found), found)
                self.assertTrue(all(f["file"] == "oast.toml" and f["line"] for f in found), found)
        path.write_text(before)
        self.assertIn("has no [[sources]]", self.oast("source", "list", expect=3).err)


class InServiceTest(LarkwaterTest):
    delivered = True

    def test_what_is_not_in_service_is_left_out_and_named_and_nothing_is_expected_of_it(self) -> None:
        self.fault("heron-core-1", "down")
        self.edit("inventory/devices.yaml", "  heron-core-1:\n", "  heron-core-1:\n    stage: retired\n")
        self.oast("verify", "--on", "role=core", expect=4)
        with (self.estate / "oast.toml").open("a") as file:
            file.write('\n[inventory]\nin_service = "not stage=retired"\n')
        self.oast("lint")
        self.assertIn("heron-core-1", self.oast("devices").out)
        self.edit("values/network.yaml", "Larkwater network desk", "Larkwater day desk")
        for command in (
            ("diff",),
            ("drift",),
            ("verify", "--wait", "10"),
            ("backup",),
            ("ask", "system"),
            ("push", "-m", "desk", "--yes"),
        ):
            run = self.oast(*command, expect=None)
            self.assertIn(run.code, (0, 1), run.out + run.err)
            self.assertIn("skipped, because out of service: heron-core-1\n", run.err)
            self.assertNotIn("heron-core-1: ", run.out)
        self.assertIn(
            "selected devices are out of service",
            self.oast("push", "-m", "x", "--on", "name=heron-core-1", expect=3).err,
        )
        self.assertNotIn("left out", self.oast("diff", "--on", "site=tern").err)
        self.edit("oast.toml", "not stage=retired", "not stage=retierd")
        self.assertIn("did you mean 'retired'", self.oast("lint", expect=3).out)


PUBLISHED = """
[sources.publish.fields]
"seen.serial" = 'system."serial-num"'
"seen.release" = 'system."os-release"'
"seen.ports" = '"interfaces"[?"oper-status"==`"up"`].name | sort(@)'
"seen.neighbors" = '"lldp-neighbors"[].{port: interface, name: "system-name"}'
"seen.drift" = "drift.state"
"seen.change" = "last_change"
"seen.backup" = "last_backup.commit"
"seen.rotation" = "environment[?name==`nothing`] | [0]"
"""


class PublishTest(Served, LarkwaterTest):
    """What is known of devices goes back to the service."""

    delivered = True

    def setUp(self) -> None:
        super().setUp()
        self.serve(
            [
                device(11 + n, hostname=name, note="by hand", seen={"serial": "?", "by": "desk"})
                for n, name in enumerate(("gull-core-1", "heron-core-1"))
            ]
        )
        self.edit("oast.toml", "[sources.attributes]", f"{PUBLISHED}\n[sources.attributes]")
        self.refresh("--yes")

    def publish(self, *arguments: str, expect: int = 0) -> Run:
        return self.oast(
            "source", "publish", *arguments, expect=expect, environment={"OAST_SECRET_OFFICE_TOKEN": TOKEN}
        )

    def records(self) -> dict[str, dict[str, Any]]:
        kept = json.loads((self.estate / "inventory-service.json").read_text())["devices"]
        return {one["hostname"]: one for one in kept}

    def test_what_is_known_is_shown_written_read_again_and_not_written_twice(self) -> None:
        self.edit("values/network.yaml", "Larkwater network desk", "Larkwater day desk")
        self.oast("push", "-m", "desk", "--yes")
        self.oast("verify", "--wait", "20")
        before = self.records()
        run = self.publish("--dry-run", expect=1)
        self.assertIn(
            "office: 2 records; 2 to update\n  ~ gull-core-1\n      seen.serial  ? -> LW",
            run.out,
        )
        self.assertIn("  seen.rotation is unknown for gull-core-1, heron-core-1 and no", run.out)
        self.assertEqual(self.records(), before)
        self.assertIn("office: 2 records written and verified", self.publish("--yes").out)
        found = self.records()["gull-core-1"]
        seen = found.pop("seen")
        self.assertEqual(
            {**before["gull-core-1"], "seen": None},
            {**found, "seen": None},
            "nothing but the fields that it owns",
        )
        self.assertEqual((seen["by"], seen["release"], seen["drift"]), ("desk", "4.2", "as delivered"))
        self.assertIn({"port": "port1", "name": "heron-core-1"}, seen["neighbors"])
        self.assertRegex(seen["change"]["id"], r"^20\d{6}T\d{6}Z-")
        self.assertRegex(seen["backup"], r"^[0-9a-f]{12}$")
        self.assertIn("office: 2 records; 0 to update", self.publish("--yes").out)
        # Somebody has changed the device, and another the record.
        self.console(
            "gull-core-1", "raise", SECRETS["privilege-password"], "edit", "system", "  contact me", "close"
        )
        shown = self.publish("--dry-run", "--format", "json", expect=1).json()["sources"][0]
        self.assertEqual(
            [(c["device"], c["fields"]) for c in shown["changes"]],
            [("gull-core-1", {"seen.drift": ["as delivered", "drifted"]})],
        )

    def test_what_cannot_be_known_or_written_stays_and_is_told(self) -> None:
        self.fault("heron-core-1", "down")
        run = self.publish("--yes", expect=4)
        self.assertIn("heron-core-1: cannot connect", run.err)
        self.assertEqual(self.records()["heron-core-1"]["seen"], {"serial": "?", "by": "desk"})
        self.assertIn("release", self.records()["gull-core-1"]["seen"])
        self.fault("heron-core-1", "none")
        self.sim("fault", "expire", "--after", "2")
        self.assertIn(
            "heron-core-1: source 'office': authentication failed: HTTP 401",
            self.publish("--yes", expect=4).err,
        )
        self.sim("fault", "error", "--after", "1", "--times", "2")
        self.publish("--yes")
        self.assertIn("release", self.records()["heron-core-1"]["seen"])

    def test_mistakes_in_what_is_to_be_published(self) -> None:
        for old, new, told in (
            ("seen.serial", "seen..serial", "'seen..serial' is not a field name"),
            ('"seen.change"', '"seen"', "'seen' and a field inside it cannot both be published"),
            ("drift.state", "drift.[state", "'drift.[state' is not a valid JMESPath"),
            (
                "[sources.publish.fields]",
                '[sources.publish]\nat = "https://elsewhere.example/{record}"\n[sources.publish.fields]',
                "of the same service",
            ),
            ('record = "key"\n', "", "'record' is missing"),
        ):
            with self.subTest(new):
                self.edit("oast.toml", old, new)
                self.assertIn(told, self.oast("lint", expect=3).out)
                self.edit("oast.toml", new, old) if new else self.edit(
                    "oast.toml", PUBLISHED, f'record = "key"\n{PUBLISHED}'
                )


ZONE = """$TTL 3600
@ IN SOA ns.larkwater.example. desk.larkwater.example. (1 2 3 4 5)
@ IN NS ns.larkwater.example.
{}
dunlin-edge-8 IN A 192.0.2.108
              IN TXT "platform=cowl" "; site=dunlin"
desk IN CNAME www.larkwater.example.
"""
LEASES = {
    "ietf-dhcpv6-server:dhcpv6-server": {"allocation-ranges": {"allocation-range": [{"allocation-range-id": "piers", "address-pools": {
        "address-pool": [{"pool-id": "boxes", "active-leases": {"total-count": 2, "active-lease": [
            {"leased-address": "2001:db8:5::17", "duid": "00:02:00:00:ab:11:4c:57:2d:37", "valid-lifetime": 7200},
            {"leased-address": "2001:db8:5::18", "duid": "00:03:00:01:02:00:00:00:00:18", "valid-lifetime": 7200},
        ]}}]}}]}}
}  # fmt: skip


class KindsTest(EstateTest):
    """Sources that are no service: a zone, leases, saved configurations."""

    def source(self, text: str) -> None:
        with (self.estate / "oast.toml").open("a") as file:
            file.write(f"\n[[sources]]\n{text}\n")

    def refreshed(self, *arguments: str) -> dict[str, Any]:
        self.oast("source", "refresh", "--yes", *arguments)
        return {d["name"]: d for d in self.oast("devices", "--format", "json").json()["devices"]}

    def test_a_dns_zone(self) -> None:
        self.source(
            'name = "names"\nfile = "net.zone"\norigin = "net.larkwater.example"\nwhich = "a"\n[sources.attributes]\nname = "name"\n'
            'address = "a[0]"\nplatform = { path = "(txt[?contains(@, `platform=cowl`)] | [0]) && `cowl`", default = "bine" }\nfqdn = "fqdn"\nsite = { default = "dunlin" }'
        )
        zone = self.estate / "net.zone"
        zone.write_text(ZONE.format("dunlin-edge-7 IN A 192.0.2.107"))
        devices = self.refreshed()
        self.assertEqual(
            (devices["dunlin-edge-7"]["address"], devices["dunlin-edge-7"]["platform"]),
            ("192.0.2.107", "bine"),
        )
        self.assertEqual(devices["dunlin-edge-8"]["platform"], "cowl")
        self.assertEqual(
            self.oast("explain", "dunlin-edge-8", "device.fqdn").out.splitlines()[0],
            "device.fqdn = dunlin-edge-8.net.larkwater.example",
        )
        for wrong, why in (
            ("dunlin-edge-9 IN A 192.0.2.999", r"it is not a DNS zone: near line [45]: "),
            ("$INCLUDE /etc/passwd", r"it is not a DNS zone: "),
        ):
            with self.subTest(wrong):
                zone.write_text(ZONE.format(wrong))
                run = self.oast("source", "refresh", "--yes", expect=4)
                self.assertRegex(run.err, why)
                self.assertNotIn("root:", run.err)

    def test_leases_of_a_dhcp_server(self) -> None:
        leases = self.estate.parent / "leases.json"
        leases.write_text(json.dumps(LEASES))
        self.source(
            'name = "leases"\nfile = "../leases.json"\nwhich = "starts_with(duid, \'00:02\')"\nrecord = "duid"\n'
            'records = \'"ietf-dhcpv6-server:dhcpv6-server"."allocation-ranges"."allocation-range"[]."address-pools"."address-pool"[]'
            '."active-leases"."active-lease"[]\'\n[sources.attributes]\n'
            'name = { path = "duid", values = { \'00:02:00:00:ab:11:4c:57:2d:37\' = "dunlin-edge-7" } }\n'
            'address = \'"leased-address"\'\nplatform = { default = "bine" }'
        )
        self.assertEqual(self.refreshed()["dunlin-edge-7"]["address"], "2001:db8:5::17")

    def test_a_folder_of_saved_configurations(self) -> None:
        saved = self.estate / "saved"
        for name, text in (
            ("pier/dunlin-edge-7.txt", (self.estate / "startup" / "dunlin-edge-1.txt").read_text()),
            (
                "pier/dunlin-access-7.txt",
                "/system/hostname = dunlin-access-7\n/interfaces/interface[name=manage0]/ipv4/address[ip=192.0.2.77]/prefix-length = 24\n",
            ),
            ("pier/.hidden", "x"),
            ("notes.txt", "Ask the harbour master.\n"),
        ):
            (saved / name).parent.mkdir(parents=True, exist_ok=True)
            (saved / name).write_text(text)
        (saved / "pier/broken.txt").write_bytes(b"\xff\xfe")
        self.source(
            'name = "saved"\nfolder = "saved"\nwhich = "platform"\nrecord = "file"\n[sources.attributes]\nname = "name"\n'
            'address = "interfaces.manage0[0]"\nplatform = "platform"\nsite = { path = "folder", values = { pier = "dunlin" } }'
        )
        devices = self.refreshed()
        one, other = devices["dunlin-edge-7"], devices["dunlin-access-7"]
        self.assertEqual((one["platform"], one["address"], one["site"]), ("bine", "192.0.2.24", "dunlin"))
        self.assertEqual((other["platform"], other["address"]), ("cowl", "192.0.2.77"))
        self.assertNotIn("notes", devices)
        (saved / "pier/dunlin-edge-7.txt").chmod(0o644)
        self.edit("oast.toml", 'folder = "saved"', 'folder = "sawed"')
        self.assertIn("is not a folder", self.oast("source", "refresh", "--yes", expect=4).err)


PLAIN = st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=20)
TREES = st.recursive(
    PLAIN,
    lambda inner: (
        st.lists(inner, max_size=4)
        | st.dictionaries(st.sampled_from("abcd") | st.text(max_size=4), inner, max_size=4)
    ),
)


class HostileTest(unittest.TestCase):
    @settings(max_examples=75, deadline=None)
    @given(st.lists(TREES, max_size=5))
    def test_whatever_records_are_they_are_devices_or_told_as_wrong(self, records: list[Any]) -> None:
        import jmespath

        attributes = {name: Mapped(path, jmespath.compile(path).search) for name, path in
                      {"name": "a", "address": "b", "platform": "c || 'bine'", "site": "d", "tags": "d"}.items()}  # fmt: skip
        source = SourceSettings(
            "s",
            None,
            None,
            None,
            "json",
            None,
            None,
            None,
            None,
            None,
            None,
            None,
            None,
            attributes,
            10,
            0.1,
            1000,
            1_000_000,
            1.0,
            Place("oast.toml", 1),
        )
        try:
            text = json.dumps(records, allow_nan=False)
        except ValueError:
            with self.assertRaisesRegex(StateError, "is not a JSON number"):
                mapping.map_records(source, [Page("x", json.dumps(records), None)])
            return
        read = mapping.map_records(source, [Page("x", text, None)])
        self.assertGreaterEqual(len(read.devices) + len(read.wrong), bool(records))
        for name, found in read.devices.items():
            self.assertRegex(name, r"^[A-Za-z0-9][A-Za-z0-9._-]*$")
            self.assertIsInstance(found["address"], str)


if __name__ == "__main__":
    unittest.main()
