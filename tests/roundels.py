"""Random configurations of roundels for property tests, as path statements."""

from __future__ import annotations

from hypothesis import strategies as st

from oast.config.tree import Node, canonical
from oast.config.xml_syntax import XmlSyntax
from oast.platforms.load import SHIPPED, load_platform
from oast.records import Fingerprints

ROUNDEL = load_platform(SHIPPED / "roundel.toml", Fingerprints(b"key"))
SYNTAX = XmlSyntax(ROUNDEL)
ONE = st.sampled_from
OSPF = "/routing/control-plane-protocols/control-plane-protocol[type=roundel-ospf:ospf][name=main]/ospf"
STATIC = "/routing/control-plane-protocols/control-plane-protocol[type=ietf-routing:static][name=main]/static-routes"


def tree_of(text: str) -> Node:
    """The canonical tree of `text`, which has to be right."""
    parsed = SYNTAX.parse(text)
    assert not parsed.problems, parsed.problems
    return canonical(parsed.tree)


def device_text(text: str) -> str:
    """The same as the device spells it: identities always with their modules."""
    return text.replace("= ethernet", "= roundel-if-type:ethernet")


@st.composite
def configurations(draw: st.DrawFn) -> str:
    """What a roundel may run."""
    lines = draw(ONE([[], ["/system/contact = desk"], ['/system/contact = "a < b & \\"c\\" d"']]))
    lines += [
        f"/system/dns-resolver/search = {name}.example"
        for name in draw(st.permutations(["a", "b", "c"]))[: draw(st.integers(0, 3))]
    ]
    for name in draw(st.permutations(["one", "two", "it's"]))[: draw(st.integers(0, 3))]:
        key = f'"{name}"' if "'" in name else name
        lines.append(
            f"/system/dns-resolver/server[name={key}]/udp-and-tcp/address = 192.0.2.{draw(st.integers(1, 3))}"
        )
    acls = sorted(draw(st.sets(ONE(["in-a", "in-b"]))))
    for acl in acls:
        lines.append(f"/acls/acl[name={acl}]")
        for ace in draw(st.permutations(["web", "ssh", "rest"]))[: draw(st.integers(0, 3))]:
            here = f"/acls/acl[name={acl}]/aces/ace[name={ace}]"
            lines.append(
                f"{here}/actions/forwarding = ietf-access-control-list:{draw(ONE(['accept', 'drop']))}"
            )
            lines += (
                [f"{here}/matches/ipv4/source-ipv4-network = 192.0.2.0/24"] if draw(st.booleans()) else []
            )
            kind = draw(ONE(["", "tcp", "udp"]))
            lines += [f"{here}/matches/{kind}/destination-port/port = {draw(ONE([80, 443]))}"] if kind else []
    ports = sorted(draw(st.sets(ONE(["port1", "port2", "port3"]))))
    for number, port in enumerate(ports):
        here = f"/interfaces/interface[name={port}]"
        lines.append(f"{here}/type = ethernet")
        lines += draw(ONE([[], [f"{here}/enabled = false"]])) + draw(
            ONE([[], [f'{here}/description = "a / b = c [d]"']])
        )
        lines += draw(
            ONE(
                [
                    [],
                    [f"{here}/ipv4"],
                    [f"{here}/ipv4/address[ip=203.0.113.{number}]/prefix-length = {draw(ONE([24, 30]))}"],
                ]
            )
        )
        way = draw(ONE(["", "ingress", "egress"])) if acls else ""
        lines += (
            [f"/acls/attachment-points/interface[interface-id={port}]/{way}/acl-sets/acl-set[name={acls[0]}]"]
            if way
            else []
        )
    if draw(st.booleans()):
        lines.append(OSPF)
        lines += [
            f"{OSPF}/area[area-id=0.0.0.{draw(ONE([0, 7]))}]/interface[name={port}]/cost = {draw(ONE([5, 10]))}"
            for port in ports
        ]
    for prefix in sorted(draw(st.sets(ONE(["198.51.100.0/24", "192.0.2.0/25"])))):
        here = f"{STATIC}/ipv4/route[destination-prefix={prefix}]/next-hop"
        lines.append(
            draw(ONE([f"{here}/next-hop-address = 203.0.113.9", f"{here}/special-next-hop = blackhole"]))
        )
    return "".join(f"{line}\n" for line in lines)
