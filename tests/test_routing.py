"""The simulated network's routing: BGP, clocks, network instances, shared addresses; and that what is worked out step by step is what a
fresh look would find."""

from __future__ import annotations

import os
import random
import unittest
from collections.abc import Iterable

from oastsim.bine.configuration import Configuration
from oastsim.bine.facts import facts_of as bine_facts, filters_of as bine_filters
from oastsim.cowl.configuration import empty as cowl_empty, facts_of as cowl_facts, problems
from oastsim.facts import Facts
from oastsim.network import DevicePlan, NetworkPlan
from oastsim.outside import Host
from oastsim.probes import ping, trace_lines
from oastsim.state import NetworkState

PORTS = frozenset(f"port{n}" for n in range(9)) | {"manage0"}
CHANGES = int(os.environ.get("OAST_CHANGES", "60"))
Link = tuple[tuple[str, str], tuple[str, str]]


def ends(*links: str) -> tuple[Link, ...]:
    """`a1 b2` is a cable from port1 of a to port2 of b."""
    return tuple(
        ((a[0], f"port{a[1:]}"), (b[0], f"port{b[1:]}")) for a, b in (link.split() for link in links)
    )


class Net:
    """Routers called by one letter, all bine but those in `switches`; a clock that a test turns."""

    def __init__(
        self, links: Iterable[Link], names: str, outside: tuple[Host, ...] = (), switches: str = ""
    ) -> None:
        self.now = 0.0
        systems = {name: "cowl" if name in switches else "bine" for name in names}
        devices = tuple(
            DevicePlan(n, s, PORTS, frozenset(("port8",)), f"192.0.2.{ord(n)}", "")
            for n, s in systems.items()
        )
        every = [*links, *((host.at, (host.name, host.port)) for host in outside if host.at is not None)]
        self.state = NetworkState(NetworkPlan(devices, tuple(every), (), "x", 1.0, outside), lambda: self.now)
        for name in names:
            self.state.update(name, Facts(name, {}, (), None))

    def load(self, name: str, text: str) -> None:
        configuration = Configuration(PORTS)
        configuration.load(text)
        self.state.update(name, bine_facts(configuration), lambda: bine_filters(configuration))

    def switch(self, name: str, *lines: str) -> None:
        tree = cowl_empty()
        tree.load("\n".join((f"/system/hostname = {name}", *lines)))
        assert not list(problems(tree, PORTS)), list(problems(tree, PORTS))
        self.state.update(name, cowl_facts(tree))

    def later(self, seconds: float = 5.0) -> None:
        self.now += seconds

    def sessions(self, name: str) -> dict[str, tuple[str, str | None]]:
        return {s.address: (s.state, s.error) for s in self.state.sessions(name)}

    def route(self, name: str, prefix: str, instance: str = "") -> tuple[str, str, str] | None:
        return next(
            (
                (r.source, r.next_hop, r.interface)
                for r in self.state.routes(name)
                if (r.prefix, r.instance) == (prefix, instance)
            ),
            None,
        )


def router(number: int, ports: dict[str, str], *more: str, area: str = "0") -> str:
    """A router with a loopback 203.0.113.NUMBER, in OSPF on all its ports."""
    lines = ["interface loop0", "  ipv4", f"    address 203.0.113.{number}/32"]
    for port, address in ports.items():
        lines += [f"interface {port}", f"  ipv{6 if ':' in address else 4}", f"    address {address}"]
    lines += ["ospf", f"  area {area}", "    interface loop0", "      passive true"]
    for port in ports:
        lines += [f"    interface {port}", "      dead-interval 4"]
    return "\n".join([*lines, *more]) + "\n"


def speaker(
    as_number: int, neighbors: dict[str, int], *networks: str, local: str | None = None, hold: int = 90
) -> tuple[str, ...]:
    lines = ["bgp", f"  as {as_number}", *(f"  network {network}" for network in networks)]
    for address, peer in neighbors.items():
        lines += [f"  neighbor {address}", f"    peer-as {peer}", f"    hold-time {hold}"]
        lines += [f"    local-address {local}"] if local else []
    return tuple(lines)


class BgpTest(unittest.TestCase):
    """e (AS 64511) - a - b - c, all of 64500 but e; sessions inside between loopbacks, b speaks no BGP."""

    def setUp(self) -> None:
        provider = Host(
            "e",
            ("a", "port8"),
            ("198.51.100.2/30",),
            (),
            None,
            64511,
            (("198.51.100.1", 64500),),
            ("192.0.2.0/25", "0.0.0.0/0"),
        )
        self.net = Net(ends("a1 b1", "b2 c1"), "abc", (provider,))
        self.load_a()
        self.net.load("b", router(2, {"port1": "192.0.2.129/31", "port2": "192.0.2.130/31"}))
        self.load_c()
        self.net.later()

    def load_a(self, inside: int = 64500, outside: int = 64511, extra: str = "") -> None:
        ports = {"port1": "192.0.2.128/31", "port8": "198.51.100.1/30"}
        inner = speaker(64500, {"203.0.113.3": inside}, local="203.0.113.1", hold=3)
        self.net.load(
            "a",
            router(1, ports, *inner, "  neighbor 198.51.100.2", f"    peer-as {outside}", *extra.split("\n")),
        )

    def load_c(self, *networks: str) -> None:
        inner = speaker(
            64500, {"203.0.113.1": 64500}, "203.0.113.3/32", *networks, local="203.0.113.3", hold=3
        )
        self.net.load("c", router(3, {"port1": "192.0.2.131/31"}, *inner))

    def test_sessions_inside_and_between_as_and_the_paths_they_bring(self) -> None:
        self.net.later(0)
        self.assertEqual(
            self.net.sessions("a"),
            {"203.0.113.3": ("established", None), "198.51.100.2": ("established", None)},
        )
        self.assertEqual(self.net.route("a", "192.0.2.0/25"), ("bgp", "198.51.100.2", "port8"))
        # c resolves the next hop, which is outside, by what OSPF knows.
        self.assertEqual(self.net.route("c", "192.0.2.0/25"), ("bgp", "192.0.2.130", "port1"))
        self.assertEqual(self.net.route("c", "0.0.0.0/0"), ("bgp", "192.0.2.130", "port1"))
        self.assertIsNone(self.net.route("b", "192.0.2.0/25"))
        received = {s.address: s.received for s in self.net.state.sessions("a")}
        self.assertEqual(received, {"203.0.113.3": 1, "198.51.100.2": 2})
        self.assertEqual([s.received for s in self.net.state.sessions("e")], [1])

    def test_a_session_takes_its_time(self) -> None:
        self.load_a(inside=64501)
        self.net.later()
        self.load_a()
        self.assertEqual(self.net.sessions("a")["203.0.113.3"][0], "connect")
        self.assertIsNone(self.net.route("c", "192.0.2.0/25"))
        self.net.later(1)
        self.assertEqual(self.net.sessions("a")["203.0.113.3"][0], "established")

    def test_a_wrong_as_is_told_on_both_sides(self) -> None:
        self.load_a(inside=64501, outside=64512)
        self.net.later()
        self.assertEqual(self.net.sessions("a")["198.51.100.2"], ("idle", "bad peer AS: it is of 64511"))
        self.assertEqual(self.net.sessions("a")["203.0.113.3"][0], "active")
        self.assertEqual(
            self.net.sessions("e")["198.51.100.1"], ("idle", "bad peer AS: it takes this AS for 64512")
        )
        self.assertIsNone(self.net.route("c", "192.0.2.0/25"))

    def test_whom_nobody_wants_is_refused_and_what_is_disabled_is_idle(self) -> None:
        self.net.load("c", router(3, {"port1": "192.0.2.131/31"}))
        self.assertEqual(self.net.sessions("a")["203.0.113.3"][0], "active")
        self.assertIn("refused", self.net.sessions("a")["203.0.113.3"][1] or "")
        self.load_a(extra="    enabled false")
        self.assertEqual(self.net.sessions("a")["198.51.100.2"], ("idle", "disabled"))
        self.assertIsNone(self.net.route("a", "192.0.2.0/25"))

    def test_silence_is_borne_for_the_hold_time_and_a_link_that_is_down_is_not(self) -> None:
        self.net.load("b", router(2, {"port1": "192.0.2.129/31"}))
        self.assertEqual(self.net.sessions("a")["203.0.113.3"][0], "established")
        self.net.later(20)
        self.assertEqual(self.net.sessions("a")["203.0.113.3"][0], "idle")
        self.net.state.cut("a", "port8", is_cut=True)
        self.assertEqual(self.net.sessions("a")["198.51.100.2"], ("idle", "no route to it"))
        self.net.state.cut("a", "port8", is_cut=False)
        self.net.later(1)
        self.assertEqual(self.net.sessions("a")["198.51.100.2"][0], "established")

    def test_a_filter_for_the_port_ends_sessions_and_one_for_another_does_not(self) -> None:
        for port, state in ((179, "active"), (180, "established")):
            with self.subTest(port=port):
                lists = f"acl in\n  ace drop tcp destination-port {port}\n  ace drop tcp source-port {port}\n  ace accept ip\n"
                self.net.load(
                    "b",
                    lists
                    + router(2, {"port1": "192.0.2.129/31", "port2": "192.0.2.130/31"})
                    + "interface port2\n  ingress-acl in\n",
                )
                self.net.later(10)
                self.assertEqual(self.net.sessions("a")["203.0.113.3"][0], state)

    def test_what_is_announced_has_to_be_in_the_table(self) -> None:
        self.load_c("198.51.100.128/25")
        self.net.later(1)
        self.assertIsNone(self.net.route("a", "198.51.100.128/25"))
        inner = speaker(64500, {"203.0.113.1": 64500}, "198.51.100.128/25", local="203.0.113.3")
        static = ("static-route 198.51.100.128/25", "  next-hop 192.0.2.130")
        self.net.load("c", router(3, {"port1": "192.0.2.131/31"}, *inner, *static))
        self.net.later(1)
        self.assertEqual(self.net.route("a", "198.51.100.128/25"), ("bgp", "192.0.2.129", "port1"))

    def test_the_shorter_way_through_other_as_wins_and_none_goes_in_a_circle(self) -> None:
        net = Net(ends("a1 b1", "b2 c1", "c2 a2"), "abc")
        addresses = {"a": ("0", "5"), "b": ("1", "2"), "c": ("3", "4")}
        peers = {"a": {"1": 64502, "4": 64503}, "b": {"0": 64501, "3": 64503}, "c": {"2": 64502, "5": 64501}}
        order = {"a": ("port1", "port2"), "b": ("port1", "port2"), "c": ("port1", "port2")}
        for number, name in enumerate("abc", 1):
            text = f"interface loop0\n  ipv4\n    address 203.0.113.{number}/32\n"
            for port, end in zip(order[name], addresses[name], strict=True):
                text += f"interface {port}\n  ipv4\n    address 192.0.2.{end}/31\n"
            neighbors = {f"192.0.2.{end}": peer for end, peer in peers[name].items()}
            net.load(
                name, text + "\n".join(speaker(64500 + number, neighbors, f"203.0.113.{number}/32")) + "\n"
            )
        net.later()
        self.assertEqual(net.route("a", "203.0.113.2/32"), ("bgp", "192.0.2.1", "port1"))
        self.assertEqual(net.route("a", "203.0.113.3/32"), ("bgp", "192.0.2.4", "port2"))
        net.state.cut("a", "port2", is_cut=True)
        self.assertEqual(net.route("a", "203.0.113.3/32"), ("bgp", "192.0.2.1", "port1"))
        self.assertTrue(ping(net.state, "a", "203.0.113.3", "203.0.113.1").arrived)


class OtherTest(unittest.TestCase):
    def test_both_families_take_the_links_that_have_them(self) -> None:
        net = Net(ends("a1 b1", "b2 c1"), "abc")
        both = "interface port{}\n  ipv6\n    address {}/64\n"
        net.load("a", router(1, {"port1": "192.0.2.0/31"}) + both.format(1, "2001:db8:1::1"))
        net.load(
            "b",
            router(2, {"port1": "192.0.2.1/31", "port2": "192.0.2.2/31"})
            + both.format(1, "2001:db8:1::2")
            + both.format(2, "2001:db8:2::2"),
        )
        net.load("c", router(3, {"port1": "192.0.2.3/31"}))
        net.later()
        self.assertEqual(net.route("a", "2001:db8:2::/64"), ("ospf", "2001:db8:1::2", "port1"))
        self.assertIsNone(net.route("c", "2001:db8:1::/64"))
        self.assertEqual(net.route("c", "203.0.113.1/32"), ("ospf", "192.0.2.2", "port1"))
        self.assertTrue(ping(net.state, "a", "2001:db8:2::2").arrived)

    def test_network_instances_have_tables_of_their_own(self) -> None:
        net = Net(ends("a1 b1", "a2 b2"), "ab")
        for name, end in (("a", 1), ("b", 2)):
            text = "network-instance crew\n  static-route 198.51.100.0/24\n    next-hop 203.0.113.66\n"
            text += f"interface port1\n  ipv4\n    address 192.0.2.{end}/30\n"
            net.load(
                name,
                text
                + f"interface port2\n  network-instance crew\n  ipv4\n    address 203.0.113.{64 + end}/30\n",
            )
        self.assertEqual(net.route("a", "198.51.100.0/24", "crew"), ("static", "203.0.113.66", "port2"))
        self.assertIsNone(net.route("a", "198.51.100.0/24"))
        self.assertEqual((ping(net.state, "a", "203.0.113.66").reason or "")[:15], "a has no route ")
        self.assertTrue(ping(net.state, "a", "203.0.113.66", instance="crew").arrived)
        self.assertEqual(list(trace_lines(net.state, "a", "203.0.113.66 in crew"))[-1], "arrived")
        self.assertFalse(ping(net.state, "a", "192.0.2.2", instance="crew").arrived)
        with self.assertRaisesRegex(ValueError, "no network-instance quay"):
            ping(net.state, "a", "192.0.2.2", instance="quay")

    def test_clocks_are_asked_through_the_network(self) -> None:
        near, far = (
            Host("x", None, ("192.0.2.200/24",), (), 2),
            Host("y", ("b", "port8"), ("198.51.100.2/30",), ("198.51.100.1",), 1),
        )
        net = Net(ends("a1 b1"), "ab", (near, far))
        ntp = "ntp\n  server 192.0.2.200\n  server 198.51.100.2\n  server 192.0.2.201\n"
        manage = "interface manage0\n  ipv4\n    address 192.0.2.7/24\n"
        net.load("a", router(1, {"port1": "203.0.113.128/31"}) + manage + ntp)
        net.load("b", router(2, {"port1": "203.0.113.129/31", "port8": "198.51.100.1/30"}))
        net.later()
        found = [(c.server.address, c.stratum, c.state) for c in net.state.clocks("a")]
        self.assertEqual(
            found,
            [
                ("192.0.2.200", 2, "candidate"),
                ("198.51.100.2", 1, "system-peer"),
                ("192.0.2.201", None, "unreachable"),
            ],
        )
        closed = "acl in\n  ace drop udp destination-port 123\n  ace accept ip\n"
        net.load(
            "b",
            closed
            + router(2, {"port1": "203.0.113.129/31", "port8": "198.51.100.1/30"})
            + "interface port1\n  ingress-acl in\n",
        )
        self.assertEqual(
            [c.state for c in net.state.clocks("a")], ["system-peer", "unreachable", "unreachable"]
        )

    def test_a_shared_address_moves_to_the_other_router(self) -> None:
        net = Net(ends("s1 t1", "s2 u1"), "stu", switches="stu")

        def router_of(name: str, end: int, priority: int, *more: str) -> None:
            net.switch(
                name,
                "/vlans/vlan[vlan-id=10]/name = office",
                *(f"/interfaces/interface[name=port{n}]/switched-vlan/access-vlan = 10" for n in (1, 2)),
                f"/interfaces/interface[name=vlan10]/ipv4/address[ip=192.0.2.{end}]/prefix-length = 24",
                "/interfaces/interface[name=vlan10]/ipv4/vrrp-instance[vrid=1]/virtual-address = 192.0.2.1",
                f"/interfaces/interface[name=vlan10]/ipv4/vrrp-instance[vrid=1]/priority = {priority}",
                *more,
            )

        router_of("s", 2, 120)
        router_of("t", 3, 100)
        net.switch("u", "/interfaces/interface[name=port1]/ipv4/address[ip=192.0.2.9]/prefix-length = 24")
        states = {name: [(v.state, v.active) for v in net.state.virtual_addresses(name)] for name in "st"}
        self.assertEqual(states, {"s": [("active", "192.0.2.2")], "t": [("backup", "192.0.2.2")]})
        self.assertEqual(ping(net.state, "u", "192.0.2.1").there.hops[-1].device, "s")
        router_of("s", 2, 90)
        self.assertEqual(ping(net.state, "u", "192.0.2.1").there.hops[-1].device, "t")
        router_of("s", 2, 90, "/interfaces/interface[name=port1]/enabled = false")
        self.assertEqual(ping(net.state, "u", "192.0.2.1").there.hops[-1].device, "s")

    def test_a_pair_says_what_it_does_not_agree_about(self) -> None:
        net = Net(ends("s1 t1"), "st", switches="st")

        def one(name: str, other: str, vlans: tuple[int, ...], end: int) -> None:
            lines = [f"/vlans/vlan[vlan-id={vlan}]/name = v{vlan}" for vlan in vlans]
            lines += [f"/interfaces/interface[name=vlan10]/ipv4/address[ip=192.0.2.{end}]/prefix-length = 24"]
            net.switch(
                name,
                *lines,
                "/interfaces/interface[name=port1]/enabled = true",
                f"/pair/partner = {other}",
                "/pair/link = port1",
            )

        one("s", "t", (10, 20), 2)
        one("t", "s", (10, 20), 3)
        self.assertTrue(all(a.agrees for a in net.state.agreements("s")))
        one("t", "s", (10, 30), 3)
        wrong = [(a.what, a.here, a.partner) for a in net.state.agreements("s") if not a.agrees]
        self.assertEqual(wrong, [("vlan 20", "v20", None), ("vlan 30", None, "v30")])
        net.state.cut("s", "port1", is_cut=True)
        self.assertEqual(
            [(a.what, a.here, a.agrees) for a in net.state.agreements("s")], [("partner", "not seen", False)]
        )


class IncrementalTest(unittest.TestCase):
    """A ring with a chord, changed by chance: what was worked out step by step is what a fresh network of the same says."""

    def text(self, chance: random.Random, name: str) -> str:
        number = ord(name) - 96
        links = {("a", "b"): 0, ("b", "c"): 2, ("c", "d"): 4, ("d", "a"): 6, ("a", "c"): 8}
        ports = {}
        for place, (pair, low) in enumerate(links.items(), 1):
            if name in pair and chance.random() > 0.1:
                ports[f"port{place}"] = f"192.0.2.{low + pair.index(name)}/31"
        more: list[str] = []
        if chance.random() < 0.7:
            peers = {f"203.0.113.{n}": 64500 for n in range(1, 5) if n != number}
            more += speaker(
                64500, peers, f"203.0.113.{number}/32", "198.51.100.0/24", local=f"203.0.113.{number}", hold=3
            )
        if ports and chance.random() < 0.5:
            more += [
                "static-route 198.51.100.0/24",
                f"  next-hop {next(iter(ports.values())).partition('/')[0]}",
            ]
        area = chance.choice(("0", "0", "0", "1"))
        text = router(number, ports, *more, area=area)
        if ports and chance.random() < 0.2:
            text = (
                "acl x\n  ace drop tcp\n  ace accept ip\n"
                + text
                + f"interface {next(iter(ports))}\n  ingress-acl x\n"
            )
        return text

    def said(self, net: Net) -> object:
        return {
            name: (
                net.state.routes(name),
                net.sessions(name),
                [(n.interface, n.device, n.state) for n in net.state.neighbors(name)],
            )
            for name in "abcd"
        }

    def test_step_by_step_is_what_a_fresh_look_finds(self) -> None:
        links = ends("a1 b1", "b2 c2", "c3 d3", "d4 a4", "a5 c5")
        chance = random.Random(7)
        net = Net(links, "abcd")
        now: dict[str, str] = {}
        cut: set[tuple[str, str]] = set()
        for step in range(CHANGES):
            if step > 3 and chance.random() < 0.3:
                end = chance.choice(links)[0]
                (cut.discard if end in cut else cut.add)(end)
                net.state.cut(*end, is_cut=end in cut)
            else:
                name = "abcd"[step] if step < 4 else chance.choice("abcd")
                now[name] = self.text(chance, name)
                net.load(name, now[name])
            net.later(chance.choice((0.1, 0.5)))
            self.said(net)  # what is asked in between may not spoil what comes
            if step < 4:
                continue
            net.later(30)
            fresh = Net(links, "abcd")
            for name, text in now.items():
                fresh.load(name, text)
            for end in cut:
                fresh.state.cut(*end, is_cut=True)
            fresh.later(30)
            self.said(fresh)
            fresh.later(30)
            with self.subTest(step=step):
                self.assertEqual(self.said(net), self.said(fresh))


if __name__ == "__main__":
    unittest.main()
