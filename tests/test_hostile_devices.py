"""Devices that are hostile or broken: each ends by itself, within its limits, and what it says is neither believed nor repeated."""

from __future__ import annotations

import asyncio
import dataclasses
import json
import time
import unittest
from collections.abc import Callable, Iterable
from unittest import mock

from larkwater import LarkwaterTest
from oast.config.line import Line
from oast.connect.session import AnswerLimits, CommandLineSession
from oast.connect.transcript import Transcript
from oast.errors import DeviceError, DeviceRefused, DeviceTimeout, ProtocolError
from oast.records import Fingerprints
from oast.redaction import Masking
from trees import BINE

Answering = Callable[[str], Iterable[str | float]]
SECRETS = Fingerprints(b"key")


class Scripted:
    """A transport whose device answers each line with pieces of text and seconds of waiting."""

    def __init__(self, answering: Answering) -> None:
        self._answering = answering
        self._typed = ""
        self._said: asyncio.Queue[str] = asyncio.Queue()
        self._lines: asyncio.Queue[str] = asyncio.Queue()
        self._said.put_nowait("quay view| ")
        self._task = asyncio.create_task(self._run())
        self.addresses = ("", "")

    async def _run(self) -> None:
        while True:
            line = await self._lines.get()
            for piece in self._answering(line):
                if isinstance(piece, str):
                    self._said.put_nowait(piece)
                await asyncio.sleep(piece if isinstance(piece, float) else 0)

    async def read(self) -> str:
        return await self._said.get()

    def write(self, text: str) -> None:
        *lines, self._typed = (self._typed + text).split("\n")
        for line in lines:
            self._lines.put_nowait(line)

    async def close(self) -> None:
        self._task.cancel()


def plain(line: str) -> list[str | float]:
    return [f"{line}\r\nquay view| "]


class HostileSessionTest(unittest.IsolatedAsyncioTestCase):
    async def session(
        self,
        answering: Answering,
        limits: AnswerLimits = AnswerLimits(0.5, 1.0, 100_000),  # noqa: B008
    ) -> CommandLineSession:
        platform = dataclasses.replace(BINE, dialect=dataclasses.replace(BINE.dialect, prepare=()))
        password = SECRETS.secret("privilege", "Rudder-77")
        session = CommandLineSession(
            Scripted(answering), platform, limits, [password], Transcript(time.monotonic)
        )  # type: ignore[arg-type]
        self.addAsyncCleanup(session.close)
        await session.start()
        return session

    async def test_what_never_ends_is_ended(self) -> None:
        def trickling(line: str) -> Iterable[str | float]:
            while True:
                yield "x"
                yield 0.1

        def paging(line: str) -> Iterable[str | float]:
            while True:
                yield "some\r\n[ page 7: Enter for more, q to stop ]"
                yield 0.01

        def flooding(line: str) -> Iterable[str | float]:
            while True:
                yield "x" * 1000 + "\r\n"

        for answering, kind, at_most_s in (
            (trickling, DeviceTimeout, 1.0),
            (paging, DeviceError, 1.0),
            (flooding, ProtocolError, 60.0),
        ):
            for asked in ("read_running", "ask", "listing"):
                # Somebody who stands still for a moment is not what this is about.
                session = await self.session(answering, AnswerLimits(20.0, at_most_s, 100_000))
                started = time.monotonic()
                with self.assertRaises(kind) as caught:
                    await (
                        session.read_running()
                        if asked == "read_running"
                        else getattr(session, asked)("read interfaces")
                    )
                self.assertIn("in oast.toml", str(caught.exception.hint))
                self.assertLess(time.monotonic() - started, 60)

    async def test_an_answer_of_nothing_but_line_ends_is_ended(self) -> None:
        def all_lines(line: str) -> Iterable[str | float]:
            while True:
                yield "\r\n" * 1000

        session = await self.session(all_lines, AnswerLimits(0.5, 5.0, 100_000_000, 20_000))
        with self.assertRaises(ProtocolError) as lines:
            await session.read_running()
        self.assertIn("more than 20000 lines", str(lines.exception))
        self.assertIn("max_answer_lines in oast.toml", str(lines.exception.hint))

    async def test_a_listing_that_pauses_behind_what_looks_like_the_prompt_is_read_to_its_end(self) -> None:
        parts = [
            "system\r\n  hostname quay\r\nquay view| ",
            0.2,
            "\r\nntp\r\n",
            "quay view| ",
            0.2,
            "\r\n  server 192.0.2.1\r\nquay view| ",
        ]

        def pausing(line: str) -> Iterable[str | float]:
            return [f"{line}\r\n", *parts] if line.startswith("read") else plain(line)

        session = await self.session(pausing, AnswerLimits(30.0, 60.0, 100_000))
        for _ in range(3):
            listing = await session.read_running()
            self.assertIn("  server 192.0.2.1", listing)
            self.assertIn("  server 192.0.2.1", await session.listing("read interfaces"))
            self.assertEqual(await session.ask("state"), "")

    async def test_a_device_that_repeats_what_it_is_sent_gets_no_secret_into_the_log_or_an_error(
        self,
    ) -> None:
        community = SECRETS.secret("", 'reads "7f31"')

        def echoing(line: str) -> Iterable[str | float]:
            if line == "raise":
                return ["raise\r\nPrivilege password: "]
            if line == "Rudder-77":
                return ["Rudd", 0.01, "er-77\r\nwelcome Rudder-77\r\nquay full| "]
            said = json.dumps(line)
            return [
                f"{line}\r\nerror: what is {line} or {said} supposed to be; you said Rudder-77\r\nquay full| "
            ]

        session = await self.session(echoing)
        await session.gain_privilege()
        with self.assertRaises(DeviceRefused) as caught:
            await session.send([Line(("  community ", community.become('"reads \\"7f31\\""')))])
        session.transcript.note("at the end Rudder-77")
        told = "\n".join([*session.transcript._lines, caught.exception.message, caught.exception.answer])
        for spelling in ("Rudder-77", 'reads "7f31"', 'reads \\"7f31', "7f31"):
            self.assertNotIn(spelling, told)
        self.assertIn("<secret ", told)

    async def test_a_secret_that_is_a_word_of_a_reading_hides_it_in_the_log_and_nowhere_else(self) -> None:
        def reading(line: str) -> Iterable[str | float]:
            asked = {"raise": ["raise\r\nPrivilege password: "], "Rudder-77": ["\r\nquay full| "]}
            return asked.get(line, [f"{line}\r\nport1 Rudder-77\r\nquay full| "])

        session = await self.session(reading)
        await session.gain_privilege()
        self.assertEqual((await session.ask("read neighbors")).strip(), "port1 Rudder-77")
        self.assertNotIn("Rudder-77", "\n".join(session.transcript._lines))

    def test_of_secrets_inside_each_other_the_longest_is_hidden_and_short_ones_as_words_only(self) -> None:
        masking = Masking()
        for text in ("tide", "tide-table", "a", "two\nlines here"):
            masking.add(SECRETS.secret("", text))
        hidden = masking.hide("a tide-table and a tide, lines here: two")
        self.assertNotIn("tide", hidden)
        self.assertNotIn("table", hidden)
        self.assertNotIn("lines here", hidden)
        self.assertIn(" and ", hidden)


class OneBadDeviceTest(LarkwaterTest):
    delivered = True

    def test_a_listing_of_ever_deeper_lines_ends_its_device_alone(self) -> None:
        deep = "".join(" " * n + "deeper\n" for n in range(3000))
        real = CommandLineSession.read_running

        async def reading(session: CommandLineSession) -> str:
            text = await real(session)
            return deep if "hostname plover-edge-1" in text else text

        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        with mock.patch.object(CommandLineSession, "read_running", reading):
            run = self.oast("push", "-m", "desk", "--yes", "--format", "json", expect=4)
        states = {d["device"]: (d["state"], d["cause"]) for d in run.json()["devices"]}
        self.assertEqual(states.pop("plover-edge-1"), ("unchanged", "failed"))
        self.assertEqual(set(states.values()), {("delivered", "none")})
        self.assertIn("levels of nesting,", self.outcome(run, "plover-edge-1")["reason"])

    def test_a_fault_of_ours_in_one_devices_part_ends_that_part_alone_and_says_where_to_look(self) -> None:
        real = CommandLineSession.read_running
        for step in (1, 2, 3):
            asked = 0

            async def reading(session: CommandLineSession, step: int = step) -> str:
                nonlocal asked
                text = await real(session)
                asked += "hostname plover-edge-1" in text
                if "hostname plover-edge-1" in text and asked == step:
                    raise ZeroDivisionError("".join(("a planted", " fault")))
                return text

            self.edit("values/network.yaml", "network desk", f"network desk {step}")
            with mock.patch.object(CommandLineSession, "read_running", reading):
                run = self.oast(
                    "push", "-m", "desk", "--yes", "--format", "json", "--revert-timer", "60", expect=4
                )
            found = self.outcome(run, "plover-edge-1")
            self.assertEqual(
                (found["state"], found["cause"]), ("unchanged" if step < 3 else "reverted", "failed"), found
            )
            self.assertIn("internal error in Oast: ZeroDivisionError", found["reason"])
            log = (
                self.estate / found["log"]
                if found["log"]
                else next((self.estate / ".oast/log").glob("*/plover-edge-1.log"))
            )
            self.assertIn("internal error in Oast", log.read_text())
            self.assertIn("test_hostile_devices.py", log.read_text())
            self.assertNotIn("a planted fault", log.read_text(), "words of an error may hold a secret")
            self.assertEqual(
                {d["state"] for d in run.json()["devices"] if d["device"] != "plover-edge-1"}, {"delivered"}
            )
            self.oast("push", "-m", "desk", "--yes")
