"""The session contract on a scripted line: answers in any pieces, pages, privilege, errors, and text that would act on a terminal."""

from __future__ import annotations

import asyncio
import dataclasses
import random
import tempfile
import time
import unittest
from pathlib import Path

from oast.config.line import Line
from oast.connect import prompt_reader as dialogue
from oast.connect.session import AnswerLimits, CommandLineSession
from oast.connect.transcript import Transcript
from oast.errors import AuthenticationFailed, ConnectionFailed, DeviceRefused, DeviceTimeout
from oast.platforms.definition import StatePattern
from oast.records import Fingerprints
from oastsim.bine.device import Device
from oastsim.bine.shell import Shell
from oastsim.network import Account, DevicePlan, NetworkPlan
from oastsim.state import NetworkState
from trees import BINE


class ShellLine:
    """A transport without a network: a simulated shell whose output arrives in pieces of any size."""

    def __init__(self, shell: Shell, seed: int) -> None:
        self._shell = shell
        self._waiting = shell.greeting()
        self._random = random.Random(seed)
        self.silent = False

    async def read(self) -> str:
        if self.silent or not self._waiting:
            if self._shell.closed:
                return ""
            await asyncio.sleep(3600)
        size = self._random.randint(1, 40)
        piece, self._waiting = self._waiting[:size], self._waiting[size:]
        return piece

    def write(self, text: str) -> None:
        self._waiting += self._shell.receive(text)

    async def close(self) -> None:
        self._shell.end()


class SessionTest(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        lines = "".join(f"ntp\n  server 198.51.100.{n}\n" for n in range(1, 120))
        startup = "system\n  hostname pier\ninterface manage0\n  ipv4\n    address 192.0.2.7/24\n" + lines
        plan = DevicePlan("pier", "bine", frozenset(("manage0",)), frozenset(), "192.0.2.7", startup)
        state = NetworkState(NetworkPlan((plan,), (), (), "x", 0.0), lambda: 0.0)
        self.device = Device(plan, folder, state)
        self.device.start((Account("ada", "administrator", "pw"),), "s3sam")

    async def session(
        self, seed: int, *, prepare: tuple[str, ...] = (), password: str | None = "s3sam"
    ) -> CommandLineSession:
        self.shell = Shell(self.device, "ada", height=24)
        self.line = ShellLine(self.shell, seed)
        self.transcript = Transcript(time.monotonic)
        secret = Fingerprints(b"").secret("privilege", password) if password else None
        platform = dataclasses.replace(BINE, dialect=dataclasses.replace(BINE.dialect, prepare=prepare))
        session = CommandLineSession(
            self.line, platform, AnswerLimits(0.5, 2.0, 100_000), [secret] if secret else [], self.transcript
        )  # type: ignore[arg-type]
        await session.start()
        return session

    async def begin(self, session: CommandLineSession) -> None:
        await session.gain_privilege()
        await session.ask("revert-timer arm 60")
        await session.ask("edit")

    async def test_lines_in_flight_are_answered_one_by_one_and_the_first_bad_one_is_named(self) -> None:
        for seed in range(8):
            session = await self.session(seed, prepare=BINE.dialect.prepare)
            await self.begin(session)
            told: list[int] = []
            lines = [
                Line((text,))
                for n in range(30)
                for text in (f"interface loop{n}", f'  description "hub edit| {n}"')
            ]
            await session.send(lines, told.append)
            self.assertEqual(told, [20, 40, 60])
            self.assertIn('description "hub edit| 29"', self.device.running.text())
            wrong = [*lines[:27], Line(("interface nowhere",)), *lines[27:31], Line(("nonsense",))]
            with self.assertRaises(DeviceRefused) as caught:
                await session.send(wrong)
            self.assertEqual((caught.exception.number, caught.exception.statement), (27, "interface nowhere"))
            await session.leave_editing()
            self.assertTrue(await session.shows(StatePattern("revert-timer state", "armed .*")))
            await session.ask("revert-timer now")
            self.assertFalse(await session.shows(StatePattern("revert-timer state", "armed .*")))

    async def test_a_listing_is_the_same_in_pages_and_without_however_it_arrives(self) -> None:
        wanted = self.device.running.text().rstrip("\n")
        for seed in range(12):
            paged = await self.session(seed)
            self.assertEqual((await paged.read_running()).rstrip("\n"), wanted)
            whole = await self.session(seed, prepare=BINE.dialect.prepare)
            self.assertEqual((await whole.read_running()).rstrip("\n"), wanted)

    async def test_a_change_goes_in_under_the_timer_and_is_kept_or_taken_back(self) -> None:
        before = self.device.running.text()
        session = await self.session(1)
        for keep in (False, True):
            await self.begin(session)
            self.assertIsNotNone(self.device.timer)
            await session.send([Line(("system",)), Line(("  contact desk",))])
            await session.leave_editing()
            self.assertNotEqual(self.device.running.text(), before)
            await session.ask("revert-timer confirm" if keep else "revert-timer now")
            self.assertEqual(self.device.running.text() == before, not keep)
            self.assertIsNone(self.device.timer)
        await session.ask("save startup")
        self.assertEqual(self.device.startup, self.device.running.text())
        self.assertEqual((await session.read_startup()).rstrip(), self.device.startup.rstrip())
        with self.assertRaises(DeviceRefused):
            await session.ask("revert-timer now")

    async def test_a_refusal_carries_the_devices_words_without_the_secret(self) -> None:
        session = await self.session(2)
        hush = Fingerprints(b"").secret("", "hush")
        await self.begin(session)
        with self.assertRaises(DeviceRefused) as caught:
            await session.send([Line(("snmpp ", hush))])
        self.assertEqual(caught.exception.statement, f"snmpp {hush}")
        self.assertIn("unknown here", caught.exception.answer)
        path = self.device.folder / "log"
        self.transcript.write(path)
        self.assertNotIn("hush", path.read_text())
        self.assertNotIn("s3sam", path.read_text())
        await session.leave_editing()

    async def test_privilege_that_is_refused_or_not_given_is_an_authentication_failure(self) -> None:
        for password in ("guess", None):
            session = await self.session(3, password=password)
            with self.assertRaises(AuthenticationFailed):
                await session.gain_privilege()

    async def test_silence_and_the_end_of_the_session_are_told_apart(self) -> None:
        session = await self.session(4)
        self.line.silent = True
        with self.assertRaises(DeviceTimeout):
            await session.ask("read interfaces")
        session = await self.session(5)
        self.shell.closed = True
        with self.assertRaises(ConnectionFailed) as caught:
            await session.ask("read interfaces")
        self.assertNotIsInstance(caught.exception, DeviceTimeout)

    def test_what_a_device_says_never_acts_on_a_terminal(self) -> None:
        self.assertEqual(
            dialogue.as_on_screen("a\x1b[31mb\x1b[0m\x07c\r\n[ page 1 ]\r          \rnext\x9b2J"),
            "abc\nnext2J",
        )
