"""The simulated devices by themselves: the command line, and the state that follows from configurations and links."""

from __future__ import annotations

import asyncio
import re
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from oastsim.bine.configuration import Configuration, Refused
from oastsim.bine.device import Device
from oastsim.bine.facts import facts_of
from oastsim.bine.shell import Shell
from oastsim.network import Account, DevicePlan, NetworkError, NetworkPlan, load
from oastsim.passwords import fits, hashed
from oastsim.state import NetworkState

PORTS = frozenset(("manage0", "port1", "port2"))
FIRST = "system\n  hostname pier\ninterface manage0\n  ipv4\n    address 192.0.2.7/24\n"


def plan_of(name: str, startup: str = "", management: str = "192.0.2.7") -> DevicePlan:
    return DevicePlan(name, "bine", PORTS, frozenset(), management, startup)


class ShellTest(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        plan = plan_of("pier", FIRST)
        self.state = NetworkState(NetworkPlan((plan,), (), (), "x", 0.0), lambda: 0.0)
        self.device = Device(plan, self.folder, self.state)
        self.device.start((Account("ada", "administrator", "pw"), Account("ben", "viewer", "pw")), "s3sam")
        self.shell = Shell(self.device, "ada", height=0)

    def type(self, *lines: str) -> str:
        """What comes back for whole lines, without carriage returns."""
        return self.shell.receive("".join(f"{line}\n" for line in lines)).replace("\r", "")

    def edit(self, *lines: str) -> str:
        self.type("raise", "s3sam", "edit")
        return self.type(*lines)

    async def test_an_error_points_at_the_word(self) -> None:
        lines = self.edit("ntp", "  sevrer 192.0.2.1").split("\n")
        echo, caret, error = lines[-4:-1]
        self.assertEqual(echo[caret.index("^") :][:6], "sevrer")
        self.assertEqual(error, 'error: "sevrer" is unknown here; known: server source-interface')

    async def test_unambiguous_abbreviations_are_stored_in_full(self) -> None:
        self.edit("int port1", "  desc x", "  ipv4", "    addr 192.0.2.99 255.255.255.0")
        self.assertIn(
            "interface port1\n  description x\n  ipv4\n    address 192.0.2.99/24\n",
            self.device.running.text(),
        )
        self.assertIn(
            'error: "i" could be ipv4 or ipv6', self.type("int port1", "  ip").replace('"ip"', '"i"')
        )

    async def test_privilege_needs_its_password_and_editing_needs_a_role(self) -> None:
        self.assertIn("this needs the full level", self.type("edit"))
        self.assertIn("the privilege password is wrong", self.type("raise", "guess"))
        self.assertTrue(self.type("raise", "s3sam").endswith("pier full| "))
        viewer = Shell(self.device, "ben", height=0)
        self.assertIn("only an administrator may edit", viewer.receive("raise\ns3sam\nedit\n"))

    async def test_one_session_edits_at_a_time(self) -> None:
        self.edit()
        other = Shell(self.device, "ada", height=0)
        self.assertIn("ada is editing", other.receive("raise\ns3sam\nedit\n"))
        self.shell.end()
        self.assertIn("pier edit| ", other.receive("edit\n"))

    async def test_a_long_listing_comes_in_pages(self) -> None:
        self.shell.page_length = 5
        first = self.shell.receive("read running\n")
        self.assertTrue(first.endswith("[ page 1: Enter for more, q to stop ]"))
        self.assertEqual(first.count("\r\n"), 5)
        self.assertIn("[ page 2", self.shell.receive("\n"))
        self.assertTrue(self.shell.receive("q").endswith("pier view| "))

    async def test_typing_can_be_corrected_and_given_up(self) -> None:
        self.assertIn("error", self.shell.receive("raed\n"))
        self.assertIn("hostname pier", self.shell.receive("raed\b\b\x7fead running\n"))
        self.assertTrue(self.shell.receive("half a line\x03").endswith("pier view| "))
        self.assertIn("read running", self.shell.receive("?"))

    async def test_the_timer_brings_back_what_was_running(self) -> None:
        before = self.device.running.text()
        self.type("raise", "s3sam", "revert-timer arm 1", "edit", "system", "  contact x", "close")
        self.assertIn("contact x", self.device.running.text())
        async with asyncio.timeout(10):
            while self.device.timer is not None:
                await asyncio.sleep(0.05)
        self.assertEqual(self.device.running.text(), before)
        self.assertIn("the revert timer is not armed", self.type("revert-timer confirm"))

    async def test_an_armed_timer_is_extended_by_its_name_alone(self) -> None:
        self.assertIn("not armed", self.type("raise", "s3sam", "revert-timer extend 60"))
        self.type("revert-timer arm 60 as hers")
        self.assertIn("another is armed: as hers", self.type("revert-timer extend 900 as mine"))
        self.assertIn("a number of seconds is needed", self.type("revert-timer extend soon"))
        self.assertIn("extended: 900 s left", self.type("revert-timer extend 900 as hers"))
        self.assertRegex(self.type("revert-timer state"), "armed as hers by ada, (900|899) s left")
        self.device.confirm()

    async def test_a_timer_that_was_armed_when_the_simulator_died_has_gone_off(self) -> None:
        before = self.device.running.text()
        self.edit("close")
        self.type("revert-timer arm 60", "edit", "system", "  contact x", "close")
        again = Device(self.device.plan, self.folder, self.state)
        again.start((), "s3sam")
        self.assertEqual(again.running.text(), before)
        self.device.confirm()

    async def test_running_and_startup_are_kept_apart(self) -> None:
        self.edit("system", "  contact x", "close")
        again = Device(self.device.plan, self.folder, self.state)
        again.start((), "s3sam")
        self.assertIn("contact x", again.running.text())
        self.assertNotIn("contact x", again.startup)
        self.assertIn("startup saved", self.type("save startup"))
        self.assertIn("contact x", self.type("read startup"))


class RefusalTest(unittest.TestCase):
    def refused(self, text: str) -> str:
        device = Configuration(PORTS)
        with self.assertRaises(Refused) as caught:
            device.load(text)
        return caught.exception.message

    def test_a_device_refuses_what_its_hardware_and_references_do_not_allow(self) -> None:
        self.assertEqual(self.refused("interface port9\n"), "this device has no port9")
        self.assertEqual(
            self.refused("interface port1\n  vlan-id 5\n"), "vlan-id is for a sub-interface such as port1.110"
        )
        self.assertEqual(self.refused("interface port1\n  ingress-acl x\n"), "there is no acl x")
        self.assertEqual(
            self.refused("ospf\n  area 0\n    interface port1\n"), "interface port1 is not configured"
        )
        twice = "interface port1\n  ipv4\n    address 192.0.2.1/24\ninterface port2\n  ipv4\n    address 192.0.2.1/24\n"
        self.assertEqual(self.refused(twice), "192.0.2.1/24 is in use on port1")
        used = "acl x\ninterface port1\n  ingress-acl x\nremove acl x\n"
        self.assertEqual(self.refused(used), "acl x is in use by interface port1")
        self.assertEqual(self.refused("remove acl x\n"), "acl x is not configured")
        self.assertEqual(
            self.refused("acl x\n  insert ace accept ip before ace drop ip\n"),
            "ace drop ip is not there to stand before",
        )

    def test_a_password_fits_its_hash_alone(self) -> None:
        self.assertTrue(fits("pier", hashed("pier")))
        self.assertFalse(fits("Pier", hashed("pier")))
        self.assertFalse(fits("pier", "$other$x"))
        self.assertNotEqual(hashed("pier"), hashed("pier"))


class NetworkFileTest(unittest.TestCase):
    """network.yaml: whatever is wrong in it is told, and nothing in it is passed over."""

    RIGHT = """format: 1
accounts: [{name: oast, password: login}]
privilege-password: login
devices:
  near: {system: bine, management: 192.0.2.1, ports: [port1, port2], station: desk}
  far: {system: cowl, management: 192.0.2.2, ports: [port1, port2]}
links: [[near port2, far port1]]
outside:
  desk: {at: near port1, addresses: [192.0.2.10/24], gateways: [192.0.2.1], stratum: 2}
  other: {addresses: [192.0.2.11/24], bgp: {as: 64511, neighbors: {192.0.2.1: 64500}, networks: [198.51.100.0/24]}}
"""
    MISTAKES = (
        (
            "management: 192.0.2.1,",
            "managment: 192.0.2.1,",
            "the device near has 'managment', which is not known; did you mean 'management'?",
        ),
        ("links:", "lniks:", "the file has 'lniks', which is not known; did you mean 'links'?"),
        ("{name: oast,", "{nam: oast,", "account 1 has 'nam', which is not known; did you mean 'name'?"),
        ("station: desk", "station: dsek", "near: the station 'dsek' is not one of 'outside'"),
        ("at: near port1", "at: near port9", "a link names 'port9', which near does not have"),
        ("at: near port1", "at: near port2", "the port near port2 is linked twice"),
        ("  desk: {at: near port1", "  far: {at: near port1", "outside: far is the name of a device"),
        ("192.0.2.10/24", "192.0.2.10", "outside: desk needs 'addresses', each with its length"),
        ("192.0.2.10/24", "192.0.2.300/24", "outside: desk: "),
        ("gateways: [192.0.2.1]", "gateways: [gull]", "outside: desk: 'gull' does not appear to be"),
        ("gateways: [192.0.2.1]", "gateways: 192.0.2.1", "outside: 'gateways' of desk has to be a list"),
        ("stratum: 2", "stratum: good", "outside: 'stratum' of desk has to be a number, not 'good'"),
        ("{192.0.2.1: 64500}", "[192.0.2.1]", "outside: bgp of other has to be"),
        ("as: 64511", "ass: 64511", "outside: bgp of other has to be"),
        ("198.51.100.0/24", "198.51.100.1/24", "outside: other: 198.51.100.1/24 has host bits set"),
        (
            "  other: {addresses: [192.0.2.11/24], bgp",
            "  other: [192.0.2.11/24]\n  third: {addresses: [192.0.2.11/24], bgp",
            "outside: other has to be",
        ),
    )

    def test_each_mistake_is_told(self) -> None:
        path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "network.yaml"
        with mock.patch.dict("os.environ", {"OAST_SECRET_LOGIN": "x"}):
            path.write_text(self.RIGHT)
            self.assertEqual([host.name for host in load(path).outside], ["desk", "other"])
            for old, new, told in self.MISTAKES:
                with self.subTest(new=new):
                    self.assertIn(old, self.RIGHT)
                    path.write_text(self.RIGHT.replace(old, new, 1))
                    with self.assertRaises(NetworkError) as caught:
                        load(path)
                    self.assertIn(told, str(caught.exception))


class NetworkTest(unittest.TestCase):
    """a --- b --- c, with an area on each link where a test says so."""

    def network(self, configurations: dict[str, str]) -> NetworkState:
        links = ((("a", "port1"), ("b", "port1")), (("b", "port2"), ("c", "port1")))
        plan = NetworkPlan(tuple(plan_of(name) for name in configurations), links, (), "x", 1.0)
        self.now = 0.0
        state = NetworkState(plan, lambda: self.now)
        for name, text in configurations.items():
            self.load(state, name, text)
        self.now = 10.0
        return state

    def load(self, state: NetworkState, name: str, text: str) -> None:
        configuration = Configuration(PORTS)
        configuration.load(text)
        state.update(name, facts_of(configuration))

    @staticmethod
    def router(number: int, *ports: tuple[str, str, str], more: str = "") -> str:
        """A router with an id; `ports` are (port, address, area)."""
        text = f"interface loop0\n  ipv4\n    address 203.0.113.{number}/32\n"
        text += "".join(f"interface {port}\n  ipv4\n    address {address}\n" for port, address, _ in ports)
        text += f"ospf\n  area {ports[0][2]}\n    interface loop0\n      passive true\n"
        return (
            text
            + "".join(f"  area {area}\n    interface {port}\n      cost 7\n" for port, _, area in ports)
            + more
        )

    def chain(self, first: str = "0", second: str = "0") -> dict[str, str]:
        return {
            "a": self.router(1, ("port1", "192.0.2.0/31", first)),
            "b": self.router(2, ("port1", "192.0.2.1/31", first), ("port2", "192.0.2.2/31", second)),
            "c": self.router(3, ("port1", "192.0.2.3/31", second)),
        }

    def neighbors(self, state: NetworkState, name: str) -> list[tuple[str, str]]:
        return [(n.router_id, n.state) for n in state.neighbors(name)]

    def route(self, state: NetworkState, name: str, prefix: str) -> tuple[str, str, int] | None:
        return next(
            ((r.source, r.next_hop, r.metric) for r in state.routes(name) if r.prefix == prefix), None
        )

    def test_adjacencies_form_over_time_and_routes_follow(self) -> None:
        state = self.network(self.chain())
        self.now = 0.5
        self.assertEqual(self.neighbors(state, "a"), [("203.0.113.2", "exchange")])
        self.assertIsNone(self.route(state, "a", "203.0.113.3/32"))
        self.now = 10.0
        self.assertEqual(self.neighbors(state, "b"), [("203.0.113.1", "full"), ("203.0.113.3", "full")])
        self.assertEqual(self.route(state, "a", "203.0.113.3/32"), ("ospf", "192.0.2.1", 14))
        self.assertEqual(self.route(state, "a", "192.0.2.2/31"), ("ospf", "192.0.2.1", 14))

    def test_whatever_the_two_ends_disagree_about_there_is_no_adjacency(self) -> None:
        good = self.chain()["a"]
        for old, new in (
            ("area 0.0.0.0", "area 9"),
            ("cost 7\n", "cost 7\n      hello-interval 5\n"),
            ("cost 7\n", "cost 7\n      interface-type point-to-point\n"),
            ("cost 7\n", "cost 7\n      passive true\n"),
            ("interface port1\n  ipv4", "interface port1\n  mtu 9000\n  ipv4"),
            ("interface port1\n  ipv4", "interface port1\n  enabled false\n  ipv4"),
            ("192.0.2.0/31", "192.0.2.8/31"),
            ("203.0.113.1/32", "203.0.113.2/32"),
        ):
            with self.subTest(new=new):
                text = good.replace("area 0\n", "area 0.0.0.0\n")
                self.assertIn(old, text)
                state = self.network({**self.chain(), "a": text.replace(old, new)})
                self.assertEqual(self.neighbors(state, "a"), [])
                self.assertEqual(self.neighbors(state, "b"), [("203.0.113.3", "full")])
                self.assertIsNone(self.route(state, "a", "203.0.113.3/32"))

    def test_areas_are_joined_through_the_backbone_only(self) -> None:
        through = self.network(self.chain("0", "4"))
        self.assertEqual(self.route(through, "a", "203.0.113.3/32"), ("ospf", "192.0.2.1", 14))
        self.assertEqual(self.route(through, "c", "203.0.113.1/32"), ("ospf", "192.0.2.2", 14))
        without = self.network(self.chain("3", "4"))
        self.assertIsNone(self.route(without, "a", "203.0.113.3/32"))

    def test_a_link_is_up_when_both_ends_are(self) -> None:
        state = self.network(self.chain())
        self.assertTrue(state.oper_up("a", "port1"))
        self.load(state, "b", "interface port1\n  enabled false\n")
        self.assertFalse(state.oper_up("a", "port1"))
        self.assertFalse(state.oper_up("a", "port2"))

    def test_sub_interfaces_meet_by_their_vlan(self) -> None:
        def tagged(number: int, vlan: int, end: int) -> str:
            port = f"interface port1\ninterface port1.{vlan}\n  vlan-id {vlan}\n  ipv4\n    address 198.51.100.{end}/31\n"
            loop = f"interface loop0\n  ipv4\n    address 203.0.113.{number}/32\n"
            return loop + port + f"ospf\n  area 0\n    interface port1.{vlan}\n"

        state = self.network({"a": tagged(1, 110, 0), "b": tagged(2, 110, 1), "c": ""})
        self.assertEqual(self.neighbors(state, "a"), [("203.0.113.2", "full")])
        self.load(state, "b", tagged(2, 120, 1))
        self.now += 41
        self.assertEqual(self.neighbors(state, "a"), [])

    def test_a_neighbour_that_falls_silent_is_missed_after_the_dead_interval(self) -> None:
        state = self.network(self.chain())
        before = self.neighbors(state, "a")
        self.assertEqual([full for _, full in before], ["full"])
        self.load(
            state,
            "a",
            self.chain()["a"].replace("cost 7\n", "cost 7\n      hello-interval 5\n      dead-interval 20\n"),
        )
        self.now += 19
        self.assertEqual(self.neighbors(state, "a"), before)
        self.now += 2
        self.assertEqual(self.neighbors(state, "a"), [])

    def test_a_static_route_needs_a_connected_next_hop(self) -> None:
        text = self.router(
            1, ("port1", "192.0.2.0/31", "0"), more="static-route 198.51.100.0/24\n  next-hop 192.0.2.1\n"
        )
        state = self.network({**self.chain(), "a": text})
        self.assertEqual(self.route(state, "a", "198.51.100.0/24"), ("static", "192.0.2.1", 0))
        self.load(state, "b", "")
        self.assertIsNone(self.route(state, "a", "198.51.100.0/24"))

    def test_names_of_listings_are_plain_words(self) -> None:
        from oastsim.bine import listings

        state = self.network(self.chain())
        heading = listings.interfaces(state, "a").split("\n")[0]
        self.assertEqual(re.split(r"\s+", heading.strip()), ["interface", "admin", "oper", "ipv4", "ipv6"])
