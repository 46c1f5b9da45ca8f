"""Text to tree: spellings that mean the same are the same, and what is wrong is said at its line."""

from __future__ import annotations

import ipaddress
import unittest

from hypothesis import given, strategies as st

from oast.config.commands import commands_of
from oast.config.dependency_order import in_dependency_order
from oast.config.diff_text import view
from oast.config.edits import Edit, difference
from oast.config.ownership import Scope, pattern_of
from oast.config.tree import canonical, root_of
from oast.platforms.types import BUILT_IN
from trees import BINE, SYNTAX, tree_of


def first_problem(text: str) -> tuple[int, str, str | None]:
    problem = SYNTAX.parse(text).problems[0]
    return problem.line, problem.message, problem.hint


class SpellingTest(unittest.TestCase):
    def same(self, one: str, other: str) -> None:
        self.assertEqual(tree_of(one), tree_of(other))
        self.assertEqual(difference(tree_of(one), tree_of(other)), [])

    def test_abbreviated_words_are_the_words(self) -> None:
        self.same("int port1\n  desc x\n  en false\n", "interface port1\n  description x\n  enabled false\n")
        self.same(
            "acl a\n  ace acc tcp destination-n any source-port 1\n",
            "acl a\n  ace accept tcp source-port 1\n",
        )
        self.same("acl a\n  ace acc udp destination-p 53\n", "acl a\n  ace accept udp destination-port 53\n")

    def test_an_address_with_a_mask_is_the_address_with_its_length(self) -> None:
        self.same(
            "interface port1\n  ipv4\n    address 192.0.2.1 255.255.255.0\n",
            "interface port1\n  ipv4\n    address 192.0.2.1/24\n",
        )
        self.same("ntp\n  server 2001:DB8:0:0::1\n", "ntp\n  server 2001:db8::1\n")

    def test_defaults_empty_containers_comments_and_order_do_not_count(self) -> None:
        self.same(
            "# a comment\nntp\n  server 192.0.2.2\n  server 192.0.2.1\n\nsnmp\n",
            "ntp\n  server 192.0.2.1\n  server 192.0.2.2\n    port 123\n",
        )
        self.same("interface port1\n  mtu 1500\n  enabled true\n", "interface PORT1\n")
        self.same("ospf\n  area 0\n", "ospf\n  area 0.0.0.0\n")

    def test_a_statement_opened_twice_is_one(self) -> None:
        self.same(
            "interface port1\n  mtu 9000\ninterface port1\n  mtu 1600\n", "interface port1\n  mtu 1600\n"
        )

    def test_the_order_of_access_list_entries_counts(self) -> None:
        edits = difference(
            tree_of("acl a\n  ace accept ip\n  ace drop tcp\n"),
            tree_of("acl a\n  ace drop tcp\n  ace accept ip\n"),
        )
        self.assertEqual([edit.operation for edit in edits], ["move"])
        lines = view(edits)
        self.assertEqual([(line.sign, line.text) for line in lines], [(" ", "acl a"), (">", lines[1].text)])

    def test_quoted_text_keeps_its_words(self) -> None:
        text = 'system\n  contact "a \\"b\\" c"\n'
        self.assertEqual(SYNTAX.written(tree_of(text)), text)


class MistakesTest(unittest.TestCase):
    def test_each_mistake_has_its_line_message_and_likely_fix(self) -> None:
        cases = {
            "ntp\n  sevrer 192.0.2.1\n": (2, "'sevrer' is not a statement below 'ntp'", "did you mean 'server'?"),
            "ntp\nserver 192.0.2.1\n": (2, "'server' is not a statement at the top level", "check the indentation: 'server' belongs below 'system / dns-resolver'"),
            "interface port1\n  ip\n": (2, "'ip' below 'interface' can mean ipv4, ipv6", "write more letters"),
            "interface gate1\n": (1, "'gate1' is not an interface name such as port1, port1.110, loop0 or manage0", None),
            "ntp\n  server 192.0.2.300\n": (2, "'192.0.2.300' is not an IPv4 or IPv6 address", None),
            "interface port1\n  mtu 99999\n": (2, "'99999' is not a whole number from 576 to 9216", None),
            "user ada\n  role adminstrator\n": (2, "'adminstrator' is not administrator, operator or viewer", "did you mean 'administrator'?"),
            "interface port1\n  description\n": (2, "'description' needs text; in quotes when it has spaces", None),
            "ntp\n  server 192.0.2.1 192.0.2.2\n": (2, "unexpected '192.0.2.2' after 'server'", "put text with spaces in quotes"),
            "interface port1\n  mtu 9000\n   enabled true\n": (3, "'enabled' stands 3 spaces, the lines around it by 2 spaces in", "add or remove spaces"),
            "  ntp\n": (1, "'ntp' is indented, but no line above it can contain it", "remove the indentation"),
            "ntp\n\tserver 192.0.2.1\n": (2, "the indentation has a tab", "use 2 spaces per level"),
            'system\n  contact "night\n': (2, "a quoted text is not closed", "add the closing quote"),
            "static-route 192.0.2.1/24\n": (1, "'192.0.2.1/24' is not a prefix: bits after its length are set", "did you mean 192.0.2.0/24?"),
        }  # fmt: skip
        for text, wanted in cases.items():
            with self.subTest(text=text):
                found = first_problem(text)
                if text.startswith("interface port1\n  mtu 9000"):
                    # It is deeper than the leaf above it, so it stands in the wrong place in two ways.
                    self.assertIn(
                        found[1],
                        ("'mtu' cannot contain other lines", "'enabled' is not a statement below 'mtu'"),
                    )
                else:
                    self.assertEqual(found, wanted)

    def test_what_a_device_runs_beyond_the_grammar_is_kept_and_left_alone(self) -> None:
        text = "telemetry fast\n  sensor 7\nntp\n  server 192.0.2.1\n"
        running = canonical(SYNTAX.parse(text).tree)
        scope = Scope.of([pattern_of("ntp")])
        edits = difference(scope.within(running), scope.within(root_of(BINE.grammar)))
        self.assertEqual([edit.path for edit in edits], [("ntp",)])
        self.assertIn("telemetry fast\n  sensor 7\n", SYNTAX.written(running))


class CommandOrderTest(unittest.TestCase):
    def commands(self, a: str, b: str, last: str | None = None) -> list[str]:
        edits = difference(tree_of(a), tree_of(b))

        def goes_last(edit: Edit) -> bool:
            return edit.path[0] == last

        return [c.line.written().strip() for c in commands_of(in_dependency_order(edits, goes_last), BINE)]

    def test_an_access_list_is_made_before_it_is_used_and_removed_after(self) -> None:
        free = "interface port1\n"
        used = "acl a\n  ace accept ip\ninterface port1\n  ingress-acl a\n"
        self.assertEqual(
            self.commands(free, used), ["acl a", "ace accept ip", "interface port1", "ingress-acl a"]
        )
        self.assertEqual(self.commands(used, free), ["interface port1", "remove ingress-acl", "remove acl a"])

    def test_an_address_is_given_up_before_another_interface_takes_it(self) -> None:
        a = "interface port1\n  ipv4\n    address 192.0.2.1/24\ninterface port2\n"
        b = "interface port1\ninterface port2\n  ipv4\n    address 192.0.2.1/24\n"
        lines = self.commands(a, b)
        self.assertLess(lines.index("remove ipv4"), lines.index("address 192.0.2.1/24"))

    def test_the_path_to_the_device_itself_comes_last(self) -> None:
        a = "interface manage0\n  mtu 1600\nsystem\n  contact x\n"
        b = "interface manage0\n  mtu 1700\nsystem\n  contact y\nstatic-route 198.51.100.0/24\n  next-hop 192.0.2.1\n"
        self.assertEqual(self.commands(a, b, "interface manage0")[-2:], ["interface manage0", "mtu 1700"])
        self.assertNotEqual(self.commands(a, b)[-2:], ["interface manage0", "mtu 1700"])

    def test_a_secret_is_sent_but_not_shown(self) -> None:
        edits = difference(tree_of("snmp\n"), tree_of("snmp\n  community s3cret\n    access read-write\n"))
        made = commands_of(in_dependency_order(edits), BINE)
        self.assertIn("s3cret", "".join(c.line.written() for c in made))
        self.assertNotIn("s3cret", "".join(c.masked for c in made) + repr(made))
        self.assertNotIn("s3cret", repr(edits) + repr([line.text for line in view(edits)]))


class OwnershipTest(unittest.TestCase):
    TEXT = "interface port1\n  description a\n  mtu 9000\ninterface port2\n  mtu 1600\nstatic-route 192.0.2.0/24\n  next-hop 192.0.2.9\n"

    def within(self, *owned: str, others: tuple[str, ...] = ()) -> str:
        return SYNTAX.written(
            Scope.of(map(pattern_of, owned), map(pattern_of, others)).within(tree_of(self.TEXT))
        )

    def test_patterns_name_statements_level_by_level(self) -> None:
        self.assertEqual(self.within("interface port1"), "interface port1\n  description a\n  mtu 9000\n")
        self.assertEqual(
            self.within("interface */mtu"), "interface port1\n  mtu 9000\ninterface port2\n  mtu 1600\n"
        )
        self.assertEqual(
            self.within("static-route 192.0.2.0/24/next-hop *"),
            "static-route 192.0.2.0/24\n  next-hop 192.0.2.9\n",
        )

    def test_an_inner_owner_has_its_part_to_itself(self) -> None:
        self.assertEqual(
            self.within("interface *", others=("interface */mtu",)),
            "interface port1\n  description a\ninterface port2\n",
        )


class AddressSpellingTest(unittest.TestCase):
    @given(st.ip_addresses(), st.integers(0, 128))
    def test_an_address_has_one_spelling_however_it_was_written(
        self, address: ipaddress.IPv4Address | ipaddress.IPv6Address, length: int
    ) -> None:
        length = min(length, address.max_prefixlen)
        wanted = str(ipaddress.ip_interface(f"{address}/{length}"))
        convert = BUILT_IN[f"ipv{address.version}-address-and-length"].convert
        for written in (f"{address}/{length}", f"{address.exploded.upper()}/{length}"):
            self.assertEqual(convert([written]), wanted)
