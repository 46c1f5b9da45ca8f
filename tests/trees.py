"""Random bine configurations for property tests: every kind of statement, references that hold, unique addresses."""

from __future__ import annotations

from hypothesis import strategies as st

from oast.config.indented_syntax import IndentedSyntax
from oast.config.path_syntax import PathSyntax
from oast.config.tree import Node, canonical
from oast.platforms.load import SHIPPED, load_platform
from oast.records import Fingerprints

BINE = load_platform(SHIPPED / "bine.toml", Fingerprints(b"key"))
SYNTAX = IndentedSyntax(BINE)
COWL = load_platform(SHIPPED / "cowl.toml", Fingerprints(b"key"))
COWL_SYNTAX = PathSyntax(COWL)
PORTS = ("port1", "port2", "port3")
ACES = (
    "accept ip",
    "drop ip log",
    "accept tcp destination-port 22",
    "accept udp source-network 192.0.2.0/24 destination-port 53",
    "reject icmp",
    "drop tcp source-port 1-1023 destination-network 198.51.100.0/24",
)


def tree_of(text: str) -> Node:
    """The canonical tree of `text`, which has to be right."""
    parsed = SYNTAX.parse(text)
    assert not parsed.problems, parsed.problems
    return canonical(parsed.tree)


def cowl_tree_of(text: str) -> Node:
    """The same of a cowl's configuration."""
    parsed = COWL_SYNTAX.parse(text)
    assert not parsed.problems, parsed.problems
    return canonical(parsed.tree)


def _maybe(line: str) -> st.SearchStrategy[list[str]]:
    return st.sampled_from([[], [line]])


@st.composite
def configurations(draw: st.DrawFn) -> str:
    """The text of a configuration that a device with PORTS accepts line by line."""
    lines = ["system", f"  hostname {draw(st.sampled_from(['quay-1', 'quay-2']))}"]
    lines += draw(_maybe('  contact "night desk"'))
    lines += draw(_maybe("  timezone-name Europe/London"))
    servers = draw(st.permutations(["192.0.2.1", "192.0.2.2", "192.0.2.3", "2001:db8::53"]))
    lines += ["  dns-resolver", *(f"    server {s}" for s in servers[: draw(st.integers(0, 4))])]
    for user in draw(st.sets(st.sampled_from(["ada", "ben"]))):
        lines += [f"user {user}", *draw(_maybe("  role operator"))]
        lines += draw(
            st.sampled_from(
                [
                    [],
                    ["  authorized-key k ssh-ed25519 " + "A" * 20],
                    ["  authorized-key k ssh-rsa " + "B" * 20],
                ]
            )
        )
    lines.append("ntp")
    for server in draw(st.sets(st.sampled_from(["192.0.2.9", "192.0.2.10"]))):
        lines += [f"  server {server}", *draw(_maybe("    prefer true")), *draw(_maybe("    port 1123"))]
    acls = draw(st.sets(st.sampled_from(["in-a", "in-b"])))
    for acl in acls:
        aces = draw(st.permutations(ACES))
        lines += [f"acl {acl}", *(f"  ace {a}" for a in aces[: draw(st.integers(0, len(ACES)))])]
    lines.append("snmp")
    for community in draw(st.sets(st.sampled_from(["red", "blue", '"two words"']))):
        lines += [f"  community {community}", *draw(_maybe("    access read-write"))]
        lines += (
            [f"    source-acl {draw(st.sampled_from(sorted(acls)))}"] if acls and draw(st.booleans()) else []
        )
    interfaces = draw(st.sets(st.sampled_from([*PORTS, "port1.110", "port1.120", "loop0"])))
    addresses = draw(st.permutations([f"203.0.113.{n}/31" for n in range(0, 16, 2)]))
    for number, interface in enumerate(sorted(interfaces)):
        lines += [
            f"interface {interface}",
            *draw(_maybe(f'  description "to {interface} #1"')),
            *draw(_maybe("  enabled false")),
        ]
        lines += [f"  vlan-id {interface[-3:]}"] if "." in interface else []
        lines += (
            [f"  ingress-acl {draw(st.sampled_from(sorted(acls)))}"] if acls and draw(st.booleans()) else []
        )
        lines += ["  ipv4", f"    address {addresses[number]}"] if draw(st.booleans()) else []
    if draw(st.booleans()):
        lines += ["ospf", *draw(_maybe("  router-id 203.0.113.99"))]
        area = draw(st.sampled_from(["0.0.0.0", "0.0.0.7"]))
        for interface in sorted(interfaces):
            lines += [
                f"  area {area}",
                f"    interface {interface}",
                *draw(_maybe("      cost 7")),
                *draw(_maybe("      passive true")),
            ]
    for prefix in draw(st.sets(st.sampled_from(["198.51.100.0/24", "2001:db8:5::/48"]))):
        lines += [f"static-route {prefix}", "  next-hop 192.0.2.1", *draw(_maybe("  route-preference 44"))]
    return "\n".join(lines) + "\n"
