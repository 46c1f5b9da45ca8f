"""The simulated network behind switches: what a VLAN, a trunk, a bundle, the spanning tree, a route and an access list do to it."""

from __future__ import annotations

import itertools
import unittest

from oastsim.bine.configuration import Configuration
from oastsim.bine.facts import facts_of as bine_facts, filters_of as bine_filters
from oastsim.cowl.configuration import empty, facts_of as cowl_facts, filters_of as cowl_filters
from oastsim.network import DevicePlan, NetworkPlan
from oastsim.observed import lldp_neighbors
from oastsim.probes import ping, trace_lines
from oastsim.state import NetworkState

PORTS = frozenset(f"port{n}" for n in range(1, 7))


class Network:
    """Devices without sessions: `links` are pairs of "NAME PORT"; what is configured takes effect at once."""

    def __init__(self, links: list[tuple[str, str]], attached: dict[str, set[str]] | None = None) -> None:
        ends = [tuple(tuple(end.split()) for end in link) for link in links]
        names = sorted({name for link in ends for name, _ in link})
        plans = tuple(
            DevicePlan(
                n,
                "bine" if "rt" in n else "cowl",
                PORTS,
                frozenset((attached or {}).get(n, ())),
                "192.0.2.1",
                "",
            )
            for n in names
        )
        self.now = 0.0
        self.state = NetworkState(NetworkPlan(plans, tuple(ends), (), "x", 0.0), lambda: self.now)  # type: ignore[arg-type]

    def switch(self, name: str, *lines: str) -> None:
        tree = empty()
        tree.load("\n".join([f"/system/hostname = {name}", *lines]))
        self.state.update(name, cowl_facts(tree), lambda: cowl_filters(tree))

    def router(self, name: str, text: str) -> None:
        configuration = Configuration(PORTS)
        configuration.load(f"system\n  hostname {name}\n{text}")
        self.state.update(name, bine_facts(configuration), lambda: bine_filters(configuration))

    def neighbors(self, name: str) -> list[str]:
        return sorted(n.device for n in self.state.neighbors(name))

    def up(self, name: str, interface: str) -> bool:
        return self.state.oper_up(name, interface)

    def discarding(self) -> list[str]:
        bridges = {name: self.state.bridging.bridge(name) for name in self.state.names()}
        return sorted(
            f"{n} {p.port}"
            for n, bridge in bridges.items()
            if bridge
            for p in bridge.ports.values()
            if p.role == "alternate"
        )


def trunk(port: str, *vlans: int) -> list[str]:
    here = f"/interfaces/interface[name={port}]/switched-vlan"
    return [f"{here}/interface-mode = trunk", *(f"{here}/trunk-vlan = {vlan}" for vlan in vlans)]


def access(port: str, vlan: int) -> str:
    return f"/interfaces/interface[name={port}]/switched-vlan/access-vlan = {vlan}"


def vlans(*numbers: int) -> list[str]:
    return [f"/vlans/vlan[vlan-id={number}]" for number in numbers]


def router(port: str, address: str, tag: int | None = None, more: str = "") -> str:
    name, vlan = (port, "") if tag is None else (f"{port}.{tag}", f"  vlan-id {tag}\n")
    upper = "" if tag is None else f"interface {port}\n"
    ospf = f"ospf\n  area 0.0.0.0\n    interface {name}\n      hello-interval 1\n      dead-interval 3\n"
    return f"{upper}interface {name}\n{vlan}{more}  ipv4\n    address {address}\n{ospf}"


class VlanTest(unittest.TestCase):
    def setUp(self) -> None:
        self.net = Network(
            [("rt-1 port1", "sw-1 port1"), ("sw-1 port2", "sw-2 port2"), ("sw-2 port1", "rt-2 port1")]
        )
        self.net.router("rt-1", router("port1", "203.0.113.1/24", 110))
        self.net.router("rt-2", router("port1", "203.0.113.2/24"))
        self.net.switch("sw-1", *vlans(110), *trunk("port1", 110), *trunk("port2", 110))
        self.net.switch("sw-2", *vlans(110), access("port1", 110), *trunk("port2", 110))

    def test_routers_meet_in_a_vlan_one_with_a_tag_and_one_without(self) -> None:
        self.assertEqual((self.net.neighbors("rt-1"), self.net.neighbors("rt-2")), (["rt-2"], ["rt-1"]))
        self.assertTrue(ping(self.net.state, "rt-1", "203.0.113.2").arrived)

    def test_what_breaks_a_vlan_parts_them(self) -> None:
        good = [*vlans(110), access("port1", 110), *trunk("port2", 110)]
        for name, lines in (
            ("not on the trunk", [*vlans(110, 120), access("port1", 110), *trunk("port2", 120)]),
            (
                "another number at the edge",
                [*vlans(110, 120), access("port1", 120), *trunk("port2", 110, 120)],
            ),
            ("no such vlan on the switch", [access("port1", 110), *trunk("port2", 110)]),
            ("the trunk is shut", [*good, "/interfaces/interface[name=port2]/enabled = false"]),
            (
                "an access port where a trunk has to be",
                [*vlans(110), access("port1", 110), access("port2", 110)],
            ),
        ):
            with self.subTest(name):
                self.net.switch("sw-2", *lines)
                self.net.now += 10
                self.assertEqual(self.net.neighbors("rt-1"), [])
                answer = ping(self.net.state, "rt-1", "203.0.113.2")
                self.assertIn("nobody answers for 203.0.113.2 on port1.110 of rt-1", str(answer.reason))
                self.net.switch("sw-2", *good)
                self.assertEqual(self.net.neighbors("rt-1"), ["rt-2"])

    def test_the_switchs_own_interface_is_up_while_a_port_of_its_vlan_is(self) -> None:
        own = ["/interfaces/interface[name=vlan110]/ipv4/address[ip=203.0.113.3]/prefix-length = 24"]
        self.net.switch("sw-1", *vlans(110), *own, *trunk("port1", 110), *trunk("port2", 110))
        self.assertTrue(ping(self.net.state, "rt-2", "203.0.113.3").arrived)
        self.net.switch("sw-1", *vlans(110, 120), *own, *trunk("port1", 120), access("port2", 120))
        self.assertFalse(self.net.up("sw-1", "vlan110"))

    def test_neighbours_are_heard_whatever_else_is_wrong(self) -> None:
        self.net.switch("sw-2")
        self.assertEqual(
            [(n.interface, n.system_name, n.port_id) for n in lldp_neighbors(self.net.state, "sw-1")],
            [("port1", "rt-1", "port1")],
        )
        self.net.switch("sw-2", access("port2", 1))
        heard = [(n.interface, n.system_name, n.port_id) for n in lldp_neighbors(self.net.state, "sw-1")]
        self.assertEqual(heard, [("port1", "rt-1", "port1"), ("port2", "sw-2", "port2")])


class SpanningTreeTest(unittest.TestCase):
    def ring(self, *names: str) -> Network:
        net = Network(
            [
                (f"{one} port1", f"{other} port2")
                for one, other in zip(names, (*names[1:], names[0]), strict=True)
            ]
        )
        for name in names:
            self.one(net, name)
        return net

    def one(self, net: Network, name: str, *more: str) -> None:
        net.switch(name, *vlans(110), *trunk("port1", 110), *trunk("port2", 110), *more)

    def test_a_ring_has_one_port_that_does_not_forward_and_it_moves_with_the_root(self) -> None:
        net = self.ring("sw-1", "sw-2", "sw-3", "sw-4")
        self.assertEqual(net.discarding(), ["sw-3 port1"])
        self.one(net, "sw-3", "/spanning-tree/bridge-priority = 4096")
        self.assertEqual({net.state.bridging.bridge(n).root for n in net.state.names()}, {"sw-3"})  # type: ignore[union-attr]
        self.assertEqual(net.discarding(), ["sw-1 port2"])

    def test_when_a_cable_is_cut_the_port_that_waited_forwards(self) -> None:
        net = self.ring("sw-1", "sw-2", "sw-3")
        self.assertEqual(net.discarding(), ["sw-3 port2"])
        net.state.cut("sw-1", "port1", is_cut=True)
        self.assertEqual(net.discarding(), [])
        self.assertFalse(net.up("sw-2", "port2"))
        net.state.cut("sw-1", "port1", is_cut=False)
        self.assertEqual(net.discarding(), ["sw-3 port2"])

    def test_a_frame_passes_hundreds_of_switches(self) -> None:
        names = [f"sw-{n}" for n in range(400)]
        net = Network([(f"{one} port2", f"{other} port1") for one, other in itertools.pairwise(names)])
        own = "/interfaces/interface[name=vlan110]/ipv4/address[ip=203.0.113.{}]/prefix-length = 24"
        for name in names:
            ends = {"sw-0": [own.format(1)], "sw-399": [own.format(2)]}
            net.switch(name, *vlans(110), *trunk("port1", 110), *trunk("port2", 110), *ends.get(name, []))
        self.assertTrue(ping(net.state, "sw-0", "203.0.113.2").arrived)
        net.state.cut("sw-200", "port1", is_cut=True)
        self.assertFalse(ping(net.state, "sw-0", "203.0.113.2").arrived)

    def test_in_any_network_the_ports_that_forward_make_a_tree(self) -> None:
        names = [f"sw-{n}" for n in range(1, 6)]
        pairs = list(itertools.combinations(names, 2))
        used: dict[str, int] = dict.fromkeys(names, 0)
        links = []
        for one, other in pairs:  # everybody with everybody
            used[one] += 1
            used[other] += 1
            links.append((f"{one} port{used[one]}", f"{other} port{used[other]}"))
        net = Network(links)
        for name in names:
            net.switch(name, *vlans(110), *(line for n in range(1, 5) for line in trunk(f"port{n}", 110)))
        self.assertEqual(len(links) - len(net.discarding()), len(names) - 1)


class BundleTest(unittest.TestCase):
    LINES = (
        "/interfaces/interface[name=port1]/aggregate = bundle1",
        "/interfaces/interface[name=port2]/aggregate = bundle1",
    )

    def setUp(self) -> None:
        self.net = Network([("sw-1 port1", "sw-2 port1"), ("sw-1 port2", "sw-2 port2")])
        self.whole = [*vlans(110), *trunk("bundle1", 110), *self.LINES]
        self.own = "/interfaces/interface[name=vlan110]/ipv4/address[ip=203.0.113.{}]/prefix-length = 24"
        self.net.switch("sw-1", *self.whole, self.own.format(1))

    def test_two_cables_are_one_link_and_one_of_them_is_enough(self) -> None:
        self.net.switch("sw-2", *self.whole, self.own.format(2))
        self.assertEqual(self.net.discarding(), [])
        self.assertTrue(ping(self.net.state, "sw-1", "203.0.113.2").arrived)
        self.net.state.cut("sw-1", "port1", is_cut=True)
        self.assertTrue(ping(self.net.state, "sw-1", "203.0.113.2").arrived)
        self.net.state.cut("sw-1", "port2", is_cut=True)
        self.assertFalse(self.net.up("sw-1", "bundle1"))

    def test_a_bundle_whose_other_end_is_none_carries_nothing(self) -> None:
        self.net.switch("sw-2", *vlans(110), *trunk("port1", 110), *trunk("port2", 110), self.own.format(2))
        self.assertFalse(self.net.up("sw-1", "bundle1"))
        self.assertTrue(self.net.up("sw-1", "port1"), "its ports have a carrier")
        self.assertIsNotNone(ping(self.net.state, "sw-1", "203.0.113.2").reason)


class ProbeTest(unittest.TestCase):
    """rt-1, rt-2 and rt-3 in a row; a packet follows the tables there and back."""

    def setUp(self) -> None:
        self.net = Network([("rt-1 port1", "rt-2 port1"), ("rt-2 port2", "rt-3 port1")])
        self.net.router("rt-1", self.of("198.51.100.0/24", "192.0.2.1", "192.0.2.0/31"))
        self.middle = (
            "interface port1\n{}  ipv4\n    address 192.0.2.1/31\ninterface port2\n  ipv4\n    address 198.51.100.0/31\n"
            "acl shut\n  ace drop icmp source-network 192.0.2.0/31\n  ace accept ip\n"
        )
        self.net.router("rt-2", self.middle.format(""))
        self.net.router("rt-3", self.of("192.0.2.0/24", "198.51.100.0", "198.51.100.1/31"))

    def of(self, prefix: str, hop: str, address: str) -> str:
        return f"interface port1\n  ipv4\n    address {address}\nstatic-route {prefix}\n  next-hop {hop}\n"

    def lines(self, device: str, words: str) -> list[str]:
        return list(trace_lines(self.net.state, device, words))

    def test_hop_by_hop(self) -> None:
        self.assertEqual(
            self.lines("rt-1", "198.51.100.1"), ["1  192.0.2.1  rt-2", "2  198.51.100.1  rt-3", "arrived"]
        )

    def test_why_it_does_not_come_back(self) -> None:
        self.net.router("rt-3", "interface port1\n  ipv4\n    address 198.51.100.1/31\n")
        self.assertEqual(
            self.lines("rt-1", "198.51.100.1")[-1],
            "no answer: the answer was lost: rt-3 has no route to 192.0.2.0",
        )

    def test_an_access_list_really_drops(self) -> None:
        shut = self.middle.format("  ingress-acl shut\n")
        acl = shut.index("acl shut\n  ace")
        self.net.router("rt-2", shut[acl:] + shut[:acl])
        self.assertIn("no answer: rt-2 does not let it in at port1", self.lines("rt-1", "198.51.100.1"))

    def test_a_route_to_nowhere_and_a_circle(self) -> None:
        self.assertEqual(self.lines("rt-1", "203.0.113.9"), ["no answer: rt-1 has no route to 203.0.113.9"])
        self.net.router(
            "rt-2", self.middle.format("") + "static-route 203.0.113.0/24\n  next-hop 192.0.2.0\n"
        )
        self.net.router("rt-1", self.of("203.0.113.0/24", "192.0.2.1", "192.0.2.0/31"))
        self.assertEqual(self.lines("rt-1", "203.0.113.9")[-1], "no answer: it went in a circle")

    def test_what_is_no_address_is_told(self) -> None:
        for words in ("", "x", "192.0.2.1 from", "192.0.2.1 from 203.0.113.1"):
            with self.assertRaises(ValueError):
                self.lines("rt-1", words)
