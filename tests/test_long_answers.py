"""Answers that are too long, too deep or of no use: given up early, parsed beside the event loop, and no other device waits for them."""

from __future__ import annotations

import asyncio
import gc
import threading
import unittest
import weakref
from typing import Any, cast
from unittest import mock

import asyncssh

from oast import answer_parsing
from oast.answer_parsing import INLINE_LINES, parse_answer, parse_if_long, spend
from oast.config.edits import apply_edits, difference
from oast.config.indented_syntax import read_tree
from oast.config.syntaxes import syntax_of
from oast.config.tree import Node, canonical
from oast.connect.channel import WAITING_AT_MOST, ReceiveBuffer
from oast.connect.netconf.framing import Decoder, FramingError, TooManyElements
from oast.connect.prompt_reader import AnswerMemory, PromptReader, TooMuchHeld
from oast.connect.transcript import LONGEST_LINE, Transcript
from oast.errors import ProtocolError
from oast.fleet.concurrency import for_each
from oast.platforms.load import Platforms
from oast.records import Fingerprints

PLATFORMS = Platforms(None, Fingerprints(b"k" * 32))


class ParsingTest(unittest.IsolatedAsyncioTestCase):
    async def ticks(self, work: asyncio.Task[Any]) -> int:
        """How often the event loop went round before `work` was done."""
        number = 0
        while not work.done():
            number += 1
            await asyncio.sleep(0)
        return number

    async def test_a_long_listing_is_parsed_beside_the_event_loop_and_a_short_one_at_once(self) -> None:
        syntax = syntax_of(PLATFORMS.get("bine"))
        short = "".join(f"interface port{n}\n" for n in range(INLINE_LINES // 2))
        long = "".join(f"interface port{n}\n  description x\n" for n in range(5 * INLINE_LINES))
        task = asyncio.create_task(read_tree(syntax, short))
        self.assertLessEqual(await self.ticks(task), 2)
        task = asyncio.create_task(read_tree(syntax, long))
        self.assertGreater(await self.ticks(task), 2)
        self.assertEqual(len(task.result().children), 5 * INLINE_LINES)

    async def test_what_the_platform_hardly_knows_is_given_up_long_before_its_end(self) -> None:
        for name, line in (
            ("bine", "zz {} foo\n"),
            ("bine", "  zz {} foo\n"),
            ("cowl", "/zz/{} = foo\n"),
            ("roundel", "<zz>{}</zz>\n"),
        ):
            with self.subTest(platform=name, line=line):
                text = "".join(line.format(n) for n in range(50_000))
                with self.assertRaisesRegex(
                    ProtocolError, r"the platform knows only \d+ of the first [56]\d\d\d statements"
                ):
                    await read_tree(syntax_of(PLATFORMS.get(name)), text)

    async def test_parsing_ends_when_its_budget_is_used_up_or_nobody_waits_any_more(self) -> None:
        began = threading.Event()

        def endless() -> None:
            began.set()
            while True:
                spend(1)

        with (
            mock.patch.object(answer_parsing, "CPU_S_AT_LEAST", 0.0),
            self.assertRaisesRegex(ProtocolError, "parsing the answer takes too long"),
        ):
            await parse_answer(0, endless)
        began.clear()
        task = asyncio.create_task(parse_answer(10**9, endless))
        while not began.is_set():
            await asyncio.sleep(0)
        task.cancel()
        with self.assertRaises(asyncio.CancelledError):
            await task
        # The thread is free again.
        self.assertEqual(await asyncio.gather(*(parse_answer(0, int) for _ in range(4))), [0, 0, 0, 0])

    async def test_without_a_budget_nothing_is_counted(self) -> None:
        for _ in range(20_000):
            spend(0, 1)
        self.assertEqual(await parse_if_long(("short",), len, "short"), 5)


class LimitsTest(unittest.TestCase):
    def test_the_error_of_a_device_holds_nothing_that_the_device_has_sent(self) -> None:
        held: list[object] = []

        async def work(item: int) -> None:
            session = type("Session", (), {"sent": "x" * 1000})()
            held.append(weakref.ref(session))
            try:
                raise ValueError(session.sent)
            except ValueError:
                raise ProtocolError("too much") from None

        found: dict[int, object] = {}
        asyncio.run(for_each(range(3), work, 2, lambda item, result: found.update({item: result})))
        self.assertEqual([str(one) for one in found.values()], ["too much"] * 3)
        self.assertEqual([one() for one in held], [None] * 3)  # type: ignore[operator]

    def test_a_tree_that_is_let_go_is_gone_without_the_garbage_collector(self) -> None:
        syntax = syntax_of(PLATFORMS.get("bine"))
        text = "interface port1\n  description x\nsystem\n  contact desk\n"

        def nodes() -> int:
            return sum(isinstance(one, Node) for one in gc.get_objects())

        gc.collect()
        gc.disable()
        try:
            before = nodes()
            for number in range(20):
                tree = canonical(syntax.parse(text.replace("x", f"x{number}")).tree)
                self.assertEqual(
                    apply_edits(difference(tree, canonical(syntax.parse(text).tree)), tree),
                    canonical(syntax.parse(text).tree),
                )
            del tree
            # The syntax remembers blocks and leaves, two for each; nothing of the trees.
            self.assertLessEqual(nodes() - before, 70)
        finally:
            gc.enable()

    def test_elements_and_attributes_are_counted_while_they_arrive(self) -> None:
        for piece in (b"<a/>", b"<a></a>", b"<a\n", b"<!---->", b' x="" ', b" x='1'"):
            for chunked in (False, True):
                with self.subTest(piece=piece, chunked=chunked):
                    decoder = Decoder(16_000_000, 1000)
                    decoder.chunked = chunked
                    data = piece * 400
                    fed = 0
                    with self.assertRaises(TooManyElements):
                        for _ in range(100):
                            fed += 1
                            list(decoder.feed(b"\n#%d\n%s" % (len(data), data) if chunked else data))
                    self.assertLess(fed, 30)
        # What is within the limits arrives, as often as it is asked for.
        decoder = Decoder(16_000_000, 1000)
        for _ in range(5):
            self.assertEqual(list(decoder.feed(b"<a/>" * 900 + b"]]>]]>")), [b"<a/>" * 900])
        with self.assertRaisesRegex(FramingError, "more than 100 bytes"):
            list(Decoder(100, 1000).feed(b"x" * 101))

    def test_the_largest_unfinished_answer_is_given_up_when_all_together_are_too_much(self) -> None:
        memory = AnswerMemory(1000)
        sessions = [type("Session", (), {})() for _ in range(5)]
        honest, greedy, gone = sessions[:3], sessions[3], sessions[4]
        memory.hold(gone, 400)
        del sessions[4], gone
        for session in honest:
            memory.hold(session, 100)
        memory.hold(greedy, 650)
        with self.assertRaises(TooMuchHeld):
            memory.hold(greedy, 800)
        for session in honest:
            memory.hold(session, 300)
        # One that stands still is given up as soon as it goes on; those that are small go on meanwhile.
        memory.hold(honest[1], 100)
        memory.hold(honest[0], 600)
        memory.hold(honest[1], 310)
        with self.assertRaises(TooMuchHeld):
            memory.hold(honest[0], 601)
        memory.hold(honest[2], 10)
        for session in honest:
            memory.release(session)
        self.assertEqual(memory.total, 0)

    def test_a_device_that_sends_more_than_is_read_has_to_wait(self) -> None:
        channel = mock.Mock()
        arriving: ReceiveBuffer[str] = ReceiveBuffer("")
        arriving.connection_made(cast("asyncssh.SSHClientChannel[str]", channel))
        for _ in range(WAITING_AT_MOST // 1000 + 5):
            arriving.data_received("x" * 1000, None)
        channel.pause_reading.assert_called_once()
        self.assertGreater(len(asyncio.run(arriving.read())), WAITING_AT_MOST)
        channel.resume_reading.assert_called_once()

    def test_answers_to_many_lines_are_found_without_looking_through_all_each_time(self) -> None:
        dialect = PLATFORMS.get("bine").dialect
        reader = PromptReader(dialect)
        reader.counts_prompts = True
        said = "".join(f"line {n}\r\nquay edit| " for n in range(20))
        for letter in said[:-1]:
            reader.feed(letter)
            self.assertIsNone(reader.answers(20))
        reader.feed(said[-1])
        answers = reader.answers(20)
        assert answers is not None
        self.assertEqual((len(answers), answers[3]), (20, "line 3\r\nquay edit| "))

    def test_of_a_long_answer_only_what_is_written_down_is_looked_through_for_secrets(self) -> None:
        transcript = Transcript(lambda: 0.0)
        looked: list[int] = []
        with mock.patch.object(
            transcript.masking, "hide", side_effect=lambda text: looked.append(len(text)) or text
        ):
            transcript.received("x" * 5_000_000)
            transcript.received("x\n" * 5_000_000)
        self.assertLess(max(looked), 10 * LONGEST_LINE)


if __name__ == "__main__":
    unittest.main()
