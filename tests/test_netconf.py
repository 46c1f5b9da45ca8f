"""NETCONF by itself: framing, messages, XML as configuration, and the edits that are made of a difference."""

from __future__ import annotations

import itertools
import unittest
from unittest import mock

from hypothesis import given, settings, strategies as st
from lxml import etree

from oast.change.methods.base import ChangeRequest
from oast.change.methods.netconf import NetconfCandidateMethod, command_for_error
from oast.change.plan.diff import DEFAULT_MODE
from oast.change.state import Phase
from oast.config.commands import Command
from oast.config.edits import difference
from oast.config.line import Line
from oast.config.ownership import Scope
from oast.config.tree import canonical
from oast.config.xml_edits import config_parts
from oast.connect.capability import Capability
from oast.connect.netconf.capabilities import ServerCapabilities
from oast.connect.netconf.framing import END_OF_MESSAGE, Decoder, FramingError, encoded
from oast.connect.netconf.messages import NotNetconf, RpcError, capabilities_in, errors_in, hello, parsed
from oast.connect.netconf.session import NetconfSession, Refused
from oast.errors import ConnectionFailed, ProtocolError
from oastsim.model import Tree
from oastsim.roundel.elements import edit, printed
from oastsim.roundel.framing import Framing
from oastsim.roundel.schema import SCHEMA
from roundels import SYNTAX, configurations, device_text, tree_of

MESSAGES = st.lists(
    st.binary(min_size=1, max_size=60).filter(
        lambda m: END_OF_MESSAGE not in m + b"]" and not m.endswith(b"]")
    ),
    max_size=5,
)


def fed(decoder: Decoder, data: bytes, cuts: list[int]) -> list[bytes]:
    """What comes out when the bytes arrive in pieces."""
    edges = sorted({0, len(data), *(cut % (len(data) + 1) for cut in cuts)})
    return [message for a, b in itertools.pairwise(edges) for message in decoder.feed(data[a:b])]


class FramingTest(unittest.TestCase):
    @given(MESSAGES, st.booleans(), st.lists(st.integers(0, 10_000), max_size=8))
    def test_messages_survive_any_split_of_the_bytes(
        self, messages: list[bytes], chunked: bool, cuts: list[int]
    ) -> None:
        decoder = Decoder(10_000)
        decoder.chunked = chunked
        data = b"".join(encoded(message, chunked=chunked) for message in messages)
        self.assertEqual(fed(decoder, data, cuts), messages)
        self.assertEqual(decoder.waiting, b"")

    @given(
        st.lists(st.binary(min_size=1, max_size=20), min_size=1, max_size=6),
        st.lists(st.integers(0, 10_000), max_size=8),
    )
    def test_a_message_may_come_in_any_chunks(self, parts: list[bytes], cuts: list[int]) -> None:
        decoder = Decoder(10_000)
        decoder.chunked = True
        data = b"".join(b"\n#%d\n%s" % (len(part), part) for part in parts) + b"\n##\n"
        self.assertEqual(fed(decoder, data * 2, cuts), [b"".join(parts)] * 2)

    def test_what_is_no_framing_is_told_at_once(self) -> None:
        for data in (
            b"<rpc/>",
            b"\n#0\nx",
            b"\n#01\nx",
            b"\n##\n",
            b"\n#x\n",
            b"\n#4294967296\n",
            b"\n#99999999999",
            b"\n\n#3\nabc",
        ):
            with self.subTest(data=data), self.assertRaises(FramingError):
                decoder = Decoder(10_000)
                decoder.chunked = True
                list(decoder.feed(data))
        for chunked, data in ((False, b"x" * 101), (True, b"\n#4000\n" + b"x" * 101)):
            with self.assertRaisesRegex(FramingError, "more than 100 bytes"):
                decoder = Decoder(100)
                decoder.chunked = chunked
                list(decoder.feed(data))

    def test_both_ends_understand_each_other(self) -> None:
        device, decoder = Framing(), Decoder(10_000)
        device.chunked = decoder.chunked = True
        self.assertEqual(list(decoder.feed(device.framed(b"<rpc-reply/>"))), [b"<rpc-reply/>"])
        self.assertEqual(device.feed(encoded(b"<rpc/>", chunked=True)), [b"<rpc/>"])
        self.assertTrue(
            encoded(b"<hello/>", chunked=False).endswith(b"]]>]]>"), "nothing stands behind the mark"
        )


class MessageTest(unittest.TestCase):
    def test_hellos(self) -> None:
        text = hello(["urn:a"]).replace(b"</hello>", b"<session-id>7</session-id></hello>")
        self.assertEqual(capabilities_in(parsed(text)), (("urn:a",), "7"))
        for wrong, told in ((b"<hello/>", "where a hello"), (hello(["urn:a"]), "without a session-id")):
            with self.assertRaisesRegex(NotNetconf, told):
                capabilities_in(parsed(wrong))
        with self.assertRaisesRegex(NotNetconf, "document type"):
            parsed(b'<!DOCTYPE x [<!ENTITY a "b">]><x>&a;</x>')
        with self.assertRaisesRegex(NotNetconf, "not XML"):
            parsed(b"<a>")

    def test_what_is_offered_decides_what_can_be_done(self) -> None:
        cap = "urn:ietf:params:netconf:capability:"
        old = ServerCapabilities(
            ("urn:ietf:params:netconf:base:1.0", f"{cap}candidate:1.0", f"{cap}confirmed-commit:1.1")
        )
        self.assertEqual(
            (old.is_netconf, old.base_11, old.candidate, old.confirmed_commit, old.persist),
            (True, False, True, True, False),
        )
        new = ServerCapabilities(
            (
                *old.capabilities,
                "urn:ietf:params:netconf:base:1.1",
                "urn:x?module=pier&revision=2026-01-01&features=a,b",
            )
        )
        self.assertTrue(new.persist)
        self.assertEqual((new.modules[0].name, new.modules[0].features), ("pier", ("a", "b")))
        self.assertEqual(new.lacks(["urn:x", "urn:y"]), ["urn:y"])

    def test_errors_say_tag_path_and_message(self) -> None:
        reply = parsed(
            b'<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><rpc-error><error-type>application</error-type>'
            b"<error-tag>data-missing</error-tag><error-severity>error</error-severity><error-path>\n /a:b \n</error-path>"
            b"<error-message>there is\n none</error-message><error-info><bad-element>b</bad-element></error-info></rpc-error></rpc-reply>"
        )
        self.assertEqual(str(errors_in(reply)[0]), "data-missing at /a:b: there is none [bad-element b]")

    def test_an_error_is_about_the_command_that_is_nearest_to_its_path(self) -> None:
        def command(*path: str) -> Command:
            return Command(Line(("x",)), path)

        commands = [
            command("interfaces", "interface port1", "mtu"),
            command("interfaces", 'interface "port 2"'),
            command("system"),
        ]
        for path, number in (
            ("/if:interfaces/if:interface[if:name='port 2']/if:type", 1),
            ('/interfaces/interface[name="port1"]', 0),
            ("/interfaces/interface[name='port3']", None),
            ("/sys:system/sys:contact", 2),
            ("", None),
        ):
            self.assertEqual(command_for_error(path, commands), number, path)


class LockedOutTest(unittest.IsolatedAsyncioTestCase):
    """A lock that somebody holds, a session of ours that the device still believes in perhaps, says nothing of a commit."""

    def delivery(self, *tags: str | None) -> NetconfCandidateMethod:
        """A delivery to a device that answers one operation after the other, with an error of each tag."""
        answers = [
            None if tag is None else Refused([RpcError("protocol", tag, "error")], "commit", str)
            for tag in tags
        ]
        session = mock.Mock(
            spec=NetconfSession, capabilities=frozenset((Capability.PERSIST,)), held=set(), committed=False
        )
        session.rpc = mock.AsyncMock(side_effect=answers)
        session.read = mock.AsyncMock(return_value="/system/contact = b\n")
        intent = mock.Mock(scope=Scope((("*",),)), tree=tree_of("/system/contact = b\n"))
        comparison = mock.Mock(
            intent=intent, running=tree_of("/system/contact = a\n"), manner=DEFAULT_MODE, commands=()
        )
        return NetconfCandidateMethod(
            session, ChangeRequest(comparison, SYNTAX, mock.AsyncMock(), lambda number: None, "word")
        )

    async def test_a_confirmation_is_proved_by_a_word_that_is_not_known_any_more_and_by_nothing_else(
        self,
    ) -> None:
        await self.delivery(None, "invalid-value").confirm()
        await self.delivery(None, "in-use", "invalid-value").confirm()
        for tags, error in (
            (("in-use",), ConnectionFailed),
            ((None, "operation-failed"), ConnectionFailed),
            (("invalid-value",), Refused),
            ((None, "in-use", "in-use", "in-use"), ProtocolError),
            ((None, None, None, None), ProtocolError),
        ):
            with self.subTest(tags=tags), self.assertRaises(error):
                await self.delivery(*tags).confirm()

    async def test_whatever_a_cancel_is_answered_with_the_configuration_is_what_tells(self) -> None:
        for tag in ("in-use", "invalid-value", None):
            with self.subTest(tag=tag):
                await self.delivery(tag).cancel(Phase.APPLYING)


class XmlTest(unittest.TestCase):
    def problems(self, text: str) -> list[tuple[int, str]]:
        return [(problem.line, problem.message) for problem in SYNTAX.parse(text).problems]

    def test_what_is_wrong_is_told_at_its_line(self) -> None:
        system = '<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system">\n{}\n</system>'
        for text, line, told in (
            (system.format("<contact>a & b</contact>"), 2, "write a single '&' as '&amp;'"),
            (system.format("<contact>a"), 2, "'<contact>' is closed as 'system' in line 3"),
            (system.format("<contact>a</contact></x>"), 1, "closed as 'x'"),
            (system.format("<p:contact>a</p:contact>"), 2, "the prefix p on contact is not declared"),
            (system.format("<contcat>a</contcat>"), 2, "'contcat' is not a statement below 'system'"),
            (system.format('<contact xmlns="urn:x">a</contact>'), 2, "has the namespace 'urn:x'"),
            (
                system.format("<dns-resolver>\n<options><timeout>x</timeout></options></dns-resolver>"),
                3,
                "'x' is not a whole number",
            ),
            (
                system.format("<ntp><server><iburst>true</iburst></server></ntp>"),
                2,
                "'server' has no key 'name'",
            ),
            (system.format("<contact><b/></contact>"), 2, "'contact' is a leaf and cannot contain elements"),
            (system.format("contact = a"), 1, "'contact' between elements"),
            (system.format("<contact>night\u00a0desk</contact>"), 2, "'contact' contains U+00A0"),
            ("<system/>\n<!DOCTYPE x>", 2, "declares a document type"),
        ):
            with self.subTest(text=text):
                found = self.problems(text)
                self.assertTrue(any(number == line and told in message for number, message in found), found)

    def test_spelling_makes_no_difference(self) -> None:
        one = tree_of(
            "/interfaces/interface[name=port1]/type = ethernet\n/interfaces/interface[name=port1]/ipv4/mtu = 1500\n"
        )
        other = (
            '<?xml version="1.0"?>\n<data><i:interfaces xmlns:i="urn:ietf:params:xml:ns:yang:ietf-interfaces"><i:interface\n>'
            '<p:ipv4 xmlns:p="urn:ietf:params:xml:ns:yang:ietf-ip"><p:mtu> 1500\n</p:mtu></p:ipv4><!-- hm --><i:enabled>true</i:enabled>'
            '<i:type xmlns:k="urn:example:roundel:if-type">k:ethernet</i:type><i:name>port1</i:name></i:interface>'
            "</i:interfaces></data>"
        )
        self.assertEqual(canonical(SYNTAX.parse(other).tree), one)

    def test_what_is_not_known_is_kept_whole(self) -> None:
        text = (
            '<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><contact>a</contact>\n'
            '<beacon xmlns="urn:x"><lamp n="1">red  and\ngreen</lamp></beacon></system>'
        )
        tree = canonical(SYNTAX.parse(text).tree)
        again = canonical(SYNTAX.parse(SYNTAX.written(tree)).tree)
        self.assertEqual(again, tree)
        self.assertIn('<lamp n="1">', SYNTAX.written(tree))

    @given(configurations())
    @settings(max_examples=60)
    def test_printed_and_read_again_it_is_the_same(self, text: str) -> None:
        tree = tree_of(text)
        self.assertEqual(canonical(SYNTAX.parse(SYNTAX.written(tree)).tree), tree)
        self.assertEqual(canonical(tree), tree)

    @given(configurations(), configurations())
    @settings(max_examples=60)
    def test_the_edits_of_a_difference_make_one_configuration_into_the_other(
        self, one: str, other: str
    ) -> None:
        before, after = tree_of(one), tree_of(other)
        device = Tree(SCHEMA)
        device.load(device_text(one))
        for part in config_parts(difference(before, after), SYNTAX):
            # As it arrives: prefixes and all.
            edit(device, etree.fromstring(etree.tostring(part.sent)), "merge")
        listed = "".join(etree.tostring(element, encoding="unicode") for element in printed(device))
        self.assertEqual(canonical(SYNTAX.parse(listed).tree), after)


if __name__ == "__main__":
    unittest.main()
