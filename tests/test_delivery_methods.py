"""Every delivery method against a device that shows what is pending: what is sent for it, and what is never sent."""

from __future__ import annotations

import asyncio
import re
import tempfile
import unittest
from collections.abc import Awaitable, Callable, Sequence
from pathlib import Path
from typing import Any, cast
from unittest import mock

from lxml import etree

from lab import BEFORE, COMMON
from oast.change.methods.base import ChangeRequest
from oast.change.methods.netconf import NetconfCandidateMethod, NetconfRunningMethod
from oast.change.methods.selection import method_for
from oast.change.methods.startup import NetconfStartupMethod
from oast.change.plan.diff import ApplyMode, ReadDevice, compare
from oast.change.state import Phase
from oast.config.edits import difference
from oast.config.line import Line
from oast.config.ownership import Scope
from oast.config.syntaxes import syntax_of
from oast.connect.capability import Capability
from oast.connect.netconf.messages import RpcError
from oast.connect.netconf.session import NetconfSession, Refused
from oast.connect.session import offered_by
from oast.errors import ConnectionFailed, DeviceError, DeviceRefused, ProtocolError, RollbackLeftover
from oast.platforms.definition import Platform, StatePattern
from oast.platforms.load import Platforms
from oast.records import Fingerprints
from roundels import SYNTAX, tree_of
from test_safety_rules import ROUTE, intent_of

STATE = '{ command = "state", pattern = "armed by (?P<owner>\\\\S+) as (?P<token>\\\\S+)(?: left (?P<left>\\\\d+))?" }\n'
SAVED = 'lock = "lock"\nunlock = "unlock"\n[readings'
TABLES = {
    "timer": f'[timer]\narm = "arm {{token}} {{seconds}}"\nconfirm = "confirm {{token}}"\nrevert = "cancel"\nextend = "extend {{seconds}}"\narmed = {STATE}',
    "candidate": f'[candidate]\ncommit = "commit {{token}} {{seconds}}"\nconfirm = "confirm {{token}}"\ncancel = "cancel"\nvalidate = "validate"\ndiscard = "discard"\npending = {STATE}',
    "file": '[file]\npath = "/etc/lab.conf"\nput = "store {path} until {end}\\n{text}{end}"\ncheck = "check {path}"\nremove = "rm {path}"\n'
    f'apply = "apply {{path}} {{token}} {{seconds}}"\nconfirm = "confirm {{token}}"\ncancel = "cancel"\npending = {STATE}',
    "scheduled": f'[scheduled]\narm = "schedule {{token}} {{seconds}}"\ncancel = "unschedule"\nextend = "extend {{seconds}}"\narmed = {STATE}',
    "none": "",
}
RUNNING = "\n".join((*BEFORE, ""))
INTENDED = RUNNING.replace("name pier", "name jetty").replace("port two text x\n", "")
OURS, HERS = "armed by oast as t1 left 7", "armed by ada as t9"


def platform_of(way: str, *changes: tuple[str, str]) -> Platform:
    text = COMMON.replace("[readings", TABLES[way] + "[readings", 1)
    text = text.replace(
        "[edit]\n",
        '[edit]\nlock = "lock"\nunlock = "unlock"\nwrite_startup = "put until {end}\\n{text}{end}"\n',
    )
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new)
    with tempfile.TemporaryDirectory() as folder:
        Path(folder, "platforms").mkdir()
        Path(folder, "platforms", "lab.toml").write_text(text)
        return Platforms(Path(folder), Fingerprints(b"k" * 32)).get("lab")


class Scripted:
    """A session whose device shows `state`, refuses some commands, and forgets what waits when it is confirmed."""

    level = "user"

    def __init__(
        self,
        platform: Platform,
        state: str = "",
        refuses: str = "",
        running: str = RUNNING,
        startup: str = RUNNING,
    ) -> None:
        self.platform = platform
        self.capabilities = offered_by(platform)
        self.transcript = mock.Mock()
        self.state, self.running, self.startup = state, running, startup
        self.asked: list[str] = []
        self._refuses = refuses

    async def gain_privilege(self) -> None:
        return

    leave_editing = gain_privilege

    async def ask(self, command: str) -> str:
        if command != "lock":
            self.asked.append(command)
        if self._refuses and re.match(self._refuses, command):
            raise DeviceRefused("no", statement=command, answer="% no")
        return ""

    async def shown(self, state: StatePattern) -> re.Match[str] | None:
        return re.fullmatch(state.pattern, self.state)

    async def send(self, lines: Sequence[Line], sent: Callable[[int], None] = lambda number: None) -> None:
        for number, line in enumerate(lines, 1):
            await self.ask("".join(str(part) for part in line.parts))
            sent(number)

    async def read_running(self) -> str:
        return self.running

    async def read_startup(self) -> str:
        return self.startup


class Delivery:
    """One method over one scripted session, with the phases that it reported."""

    def __init__(self, way: str, *changes: tuple[str, str], into: Any = "running", **device: str) -> None:
        platform = platform_of(way, *changes)
        self.session = Scripted(platform, **device)
        self.phases: list[Phase] = []
        self.sent: list[int] = []
        owned = ["name", "port *", "route *"]
        comparison = compare(
            intent_of(platform, INTENDED, owned),
            ReadDevice(RUNNING, RUNNING, ROUTE),
            syntax_of(platform),
            ApplyMode(into=into),
        )
        assert comparison.commands
        self.commands = [str(command.line.masked) for command in comparison.commands]
        work = ChangeRequest(
            comparison, syntax_of(platform), self._reached, self.sent.append, "t1", self._reset
        )
        self.method: Any = method_for(cast(Any, self.session), work)

    async def _reached(self, phase: Phase) -> None:
        self.phases.append(phase)
        self.session.asked.append(f"<{phase.name}>")

    async def _reset(self, phase: Phase) -> None:
        self.phases.append(phase)

    def run(self, *steps: Callable[[Any], Awaitable[object]]) -> list[str]:
        """What was sent for these steps."""

        async def all_of_them() -> None:
            for step in steps:
                self.returned = await step(self.method)

        asyncio.run(all_of_them())
        return self.session.asked


class CommandLineTest(unittest.TestCase):
    """Each row: the way, the device, what is asked of the method, and what is sent for it or the error."""

    def check(
        self, delivery: Delivery, steps: Sequence[Callable[[Any], Awaitable[object]]], expected: Any
    ) -> None:
        if isinstance(expected, list):
            self.assertEqual(delivery.run(*steps), expected)
            return
        error, told = expected
        with self.assertRaises(error) as raised:
            delivery.run(*steps)
        self.assertIs(type(raised.exception), error)
        self.assertIn(told, raised.exception.message)

    def test_nothing_is_begun_while_something_of_others_is_pending(self) -> None:
        for way in ("timer", "candidate", "file", "scheduled"):
            with self.subTest(way=way):
                self.check(Delivery(way), [lambda m: m.check_nothing_pending()], [])
                self.check(
                    Delivery(way, state=HERS),
                    [lambda m: m.check_nothing_pending()],
                    (DeviceError, "(by ada, as t9), started by another session"),
                )
        self.check(Delivery("none", state=HERS), [lambda m: m.check_nothing_pending()], [])

    def test_what_each_way_sends(self) -> None:
        lines = Delivery("timer").commands
        self.assertEqual(len(lines), 2)
        for way, steps in {
            "timer": ["<STAGED>", "arm t1 9", "edit", "<APPLYING>", *lines, "end", "unlock"],
            "scheduled": ["<STAGED>", "schedule t1 9", "edit", "<APPLYING>", *lines, "end", "unlock"],
            "none": ["edit", "<APPLYING>", *lines, "end", "unlock"],
            "candidate": ["edit", "<STAGED>", *lines, "validate", "<APPLYING>", "commit t1 9"],
        }.items():
            with self.subTest(way=way):
                steps = [step for step in steps if step != "end"]
                delivery = Delivery(way, state=OURS)
                self.check(
                    delivery, [lambda m: m.stage(), lambda m: m.validate(), lambda m: m.apply(8.2)], steps
                )
                self.assertEqual(delivery.sent, [1, 2])
        file = Delivery("file", state=OURS)
        put = f"store /etc/lab.conf.new until END\n{INTENDED}END"
        sent = ["<STAGED>", put, "check /etc/lab.conf.new", "<APPLYING>", "apply /etc/lab.conf.new t1 9"]
        self.check(file, [lambda m: m.stage(), lambda m: m.validate(), lambda m: m.apply(8.2)], sent)
        self.assertEqual(file.sent[-1], 2)
        unchecked = Delivery("file", ('check = "check {path}"\n', ""), state=OURS)
        self.check(unchecked, [lambda m: m.validate()], [])
        self.check(Delivery("candidate", ('validate = "validate"\n', "")), [lambda m: m.validate()], [])

    def test_a_timer_that_is_not_ours_or_not_shown_is_not_relied_on(self) -> None:
        for way in ("timer", "scheduled"):
            for state, error, told, phase in (
                ("", ProtocolError, "does not show it as active", Phase.STAGED),
                (HERS, DeviceError, "belongs to another session (by ada, as t9)", Phase.UNTOUCHED),
            ):
                delivery = Delivery(way, state=state)
                self.check(delivery, [lambda m: m.apply(8)], (error, told))
                self.assertEqual(delivery.phases[-1], phase)
            refused = Delivery(way, refuses="arm|schedule")
            self.check(refused, [lambda m: m.apply(8)], (DeviceRefused, "no"))
            self.assertEqual(refused.phases, [Phase.STAGED, Phase.UNTOUCHED])

    def test_a_refused_commit_has_applied_nothing(self) -> None:
        for way in ("candidate", "file"):
            delivery = Delivery(way, refuses="commit|apply")
            self.check(delivery, [lambda m: m.apply(8)], (DeviceRefused, "no"))
            self.assertEqual(delivery.phases, [Phase.APPLYING, Phase.STAGED], way)
            self.assertEqual(delivery.sent, [])

    def test_a_confirmation_counts_when_nothing_is_pending_any_more(self) -> None:
        for way, confirm in (
            ("timer", "confirm t1"),
            ("candidate", "confirm t1"),
            ("file", "confirm t1"),
            ("scheduled", "unschedule"),
        ):
            with self.subTest(way=way):
                sent = [confirm, "unlock"] if way == "candidate" else [confirm]
                self.check(Delivery(way), [lambda m: m.confirm()], sent)
                self.check(Delivery(way, state=HERS), [lambda m: m.confirm()], sent)
                self.check(
                    Delivery(way, state=OURS),
                    [lambda m: m.confirm()],
                    (ProtocolError, "still shows a pending rollback"),
                )
        self.check(Delivery("none", state=OURS), [lambda m: m.confirm()], [])

    def test_what_is_pending_is_told_by_the_token(self) -> None:
        for way in ("timer", "candidate", "file", "scheduled"):
            for state, waits in (("", False), (HERS, False), (OURS, True)):
                delivery = Delivery(way, state=state)
                self.check(delivery, [lambda m: m.is_waiting()], [])
                self.assertIs(delivery.returned, waits, (way, state))
            self.assertIs(Delivery(way).method.shows_pending, True)
        unshown = ("armed = " + STATE, "")
        silent = Delivery("timer", unshown, state=OURS)
        silent.run(lambda m: m.is_waiting())
        self.assertIsNone(silent.returned)
        self.assertIs(silent.method.shows_pending, False)
        for way in ("candidate", "file"):
            self.assertIs(Delivery(way, ("pending = " + STATE, "")).method.shows_pending, False)
        none = Delivery("none")
        none.run(lambda m: m.is_waiting())
        self.assertIs(none.returned, False)
        self.assertIs(none.method.shows_pending, False)

    def test_an_extension_counts_when_the_device_shows_ours(self) -> None:
        for way in ("timer", "scheduled"):
            for state, expected in (
                (OURS, 7.0),
                ("armed by oast as t1", 30.0),
                ("", ProtocolError),
                (HERS, ProtocolError),
            ):
                delivery = Delivery(way, state=state)
                if isinstance(expected, float):
                    self.check(delivery, [lambda m: m.extend(30.0)], ["extend 30"])
                    self.assertEqual(delivery.returned, expected)
                else:
                    self.check(
                        delivery, [lambda m: m.extend(30.0)], (expected, "does not show a running timer")
                    )
        for way in ("candidate", "file", "none"):
            delivery = Delivery(way, state=OURS)
            self.check(delivery, [lambda m: m.extend(30.0)], [])
            self.assertIsNone(delivery.returned)

    def test_a_rollback_sends_what_its_phase_needs_and_leaves_what_is_not_ours(self) -> None:
        changed = RUNNING.replace("name pier", "name jetty")
        for way, state, phase, sent in (
            ("timer", OURS, Phase.APPLYING, ["cancel", "unlock"]),
            ("timer", HERS, Phase.APPLYING, ["unlock"]),
            ("timer", "", Phase.APPLYING, ["unlock"]),
            ("candidate", OURS, Phase.APPLYING, ["cancel", "unlock"]),
            ("candidate", HERS, Phase.APPLYING, ["unlock"]),
            ("candidate", "", Phase.STAGED, ["discard", "unlock"]),
            ("file", OURS, Phase.APPLYING, ["cancel", "rm /etc/lab.conf.new", "unlock"]),
            ("file", HERS, Phase.APPLYING, ["rm /etc/lab.conf.new", "unlock"]),
            ("file", OURS, Phase.STAGED, ["rm /etc/lab.conf.new", "unlock"]),
            ("scheduled", HERS, Phase.APPLYING, ["edit", "name pier", "unlock"]),
            ("scheduled", OURS, Phase.UNTOUCHED, ["unlock"]),
            ("none", "", Phase.APPLYING, ["edit", "name pier", "unlock"]),
            ("none", "", Phase.STAGED, ["unlock"]),
        ):
            with self.subTest(way=way, state=state, phase=phase):
                device = {"running": changed} if way in ("scheduled", "none") else {}
                self.check(Delivery(way, state=state, **device), [lambda m, p=phase: m.cancel(p)], sent)

    def test_a_timer_that_stays_armed_after_it_was_stopped_is_a_leftover(self) -> None:
        leftover = (RollbackLeftover, "is still armed, although Oast canceled it")
        self.check(Delivery("timer", state=OURS), [lambda m: m.cancel(Phase.STAGED)], leftover)
        self.check(Delivery("scheduled", state=OURS), [lambda m: m.cancel(Phase.STAGED)], leftover)
        self.check(
            Delivery("scheduled", state=OURS, refuses="unschedule"),
            [lambda m: m.cancel(Phase.STAGED)],
            leftover,
        )
        self.check(
            Delivery("timer", state=OURS, refuses="confirm"), [lambda m: m.cancel(Phase.STAGED)], leftover
        )

    def test_a_candidate_is_discarded_only_when_it_can_only_be_ours(self) -> None:
        self.check(Delivery("candidate", refuses="lock"), [lambda m: m.cancel(Phase.STAGED)], ["unlock"])
        unlocked = ('lock = "lock"\nunlock = "unlock"\n', "")
        self.check(Delivery("candidate", unlocked), [lambda m: m.cancel(Phase.STAGED)], [])
        held = Delivery("candidate", unlocked)
        sent = held.run(lambda m: m.stage(), lambda m: m.cancel(Phase.STAGED))
        self.assertEqual(sent[-1], "discard")
        kept = Delivery("candidate", ('discard = "discard"\n', ""))
        self.check(kept, [lambda m: m.cancel(Phase.STAGED)], ["unlock"])

    def test_a_file_that_is_as_it_was_is_not_written(self) -> None:
        changed = f"# by the night desk\n{INTENDED}"
        put = f"store /etc/lab.conf until END\n# by the night desk\n{RUNNING}END"
        delivery = Delivery("file", startup=changed)
        sent = delivery.run(lambda m: m.cancel(Phase.APPLYING))
        self.assertEqual(sorted(sent[0].split("\n")), sorted(put.split("\n")))
        self.assertEqual(sent[1:], ["rm /etc/lab.conf.new", "unlock"])
        staged = Delivery("file")
        staged.run(lambda m: m.stage())
        staged.session.asked.clear()
        staged.session.startup = INTENDED
        self.check(
            staged,
            [lambda m: m.cancel(Phase.APPLYING)],
            [f"store /etc/lab.conf until END\n{RUNNING}END", "rm /etc/lab.conf.new", "unlock"],
        )

    def test_the_former_text_is_applied_and_confirmed_like_a_change(self) -> None:
        delivery = Delivery("file", startup=INTENDED)
        sent = delivery.run(lambda m: m.undo())
        self.assertEqual(
            [line.split("\n")[0] for line in sent],
            [
                "store /etc/lab.conf.new until END",
                "check /etc/lab.conf.new",
                "apply /etc/lab.conf.new t1 60",
                "confirm t1",
                "store /etc/lab.conf until END",
                "rm /etc/lab.conf.new",
                "unlock",
            ],
        )
        candidate = Delivery("candidate", running=RUNNING.replace("name pier", "name jetty"))
        sent = candidate.run(lambda m: m.undo())
        self.assertEqual(sent, ["edit", "name pier", "validate", "commit t1 60", "confirm t1", "unlock"])
        self.check(Delivery("candidate"), [lambda m: m.undo()], ["unlock"])
        self.check(Delivery("none"), [lambda m: m.undo()], ["unlock"])

    def test_saving_counts_when_startup_is_what_runs(self) -> None:
        for way in ("timer", "candidate", "scheduled", "none"):
            self.check(Delivery(way), [lambda m: m.save()], ["save"])
            # The same statements in another order are the same configuration.
            other = "".join(sorted(RUNNING.splitlines(keepends=True)))
            self.check(Delivery(way, startup=other), [lambda m: m.save()], ["save"])
            self.check(
                Delivery(way, startup=INTENDED),
                [lambda m: m.save()],
                (ProtocolError, "startup configuration differs from running"),
            )
        same = {"running": INTENDED, "startup": INTENDED}
        self.check(Delivery("file", **same), [lambda m: m.save()], ["save", "rm /etc/lab.conf.new", "unlock"])

    def test_a_whole_text_ends_with_a_line_that_it_does_not_have(self) -> None:
        delivery = Delivery("file", startup=f"{RUNNING}user END\nEND\nEND_\n")
        sent = delivery.run(
            lambda m: m.put("store {path} until {end}\n{text}{end}", ["a\nEND\nEND_\n"], "/x")
        )
        self.assertEqual(sent, ["store /x until END__\na\nEND\nEND_\nEND__"])

    def test_startup_is_written_whole_and_taken_back_only_if_it_is_what_was_written(self) -> None:
        startup = Delivery("timer", into="startup")
        startup.session.startup = INTENDED
        sent = startup.run(lambda m: m.stage(), lambda m: m.apply(8))
        self.assertEqual([line.split("\n")[0] for line in sent], ["<STAGED>", "<APPLYING>", "put until END"])
        self.check(startup, [lambda m: m.save()], sent)
        for listed, error in ((RUNNING, ProtocolError), (f"{INTENDED}user ada\n", ProtocolError)):
            wrong = Delivery("timer", into="startup", startup=listed)
            for step in ("apply", "save"):
                arguments = (8,) if step == "apply" else ()
                self.check(
                    wrong,
                    [lambda m, s=step, a=arguments: getattr(m, s)(*a)],
                    (error, "but lists a different one"),
                )
        for listed, phase, writes in (
            (INTENDED, Phase.APPLYING, True),
            (INTENDED, Phase.STAGED, False),
            (RUNNING, Phase.APPLYING, False),
            (f"{INTENDED}user ada\n", Phase.APPLYING, False),
        ):
            back = Delivery("timer", into="startup", startup=listed)
            sent = back.run(lambda m, p=phase: m.cancel(p))
            self.assertEqual(sent, [f"put until END\n{RUNNING}END"] if writes else [], (listed, phase))
        waits = Delivery("timer", into="startup")
        waits.run(lambda m: m.is_waiting())
        self.assertIs(waits.returned, False)


def spelt(operation: Any) -> str:
    """An operation in a word, with its datastore: `lock running`."""
    names = [etree.QName(element).localname for element in operation.iter()]
    return " ".join(name for name in names if name in ("running", "candidate", "startup") or name == names[0])


class NetconfTest(unittest.TestCase):
    """A server that answers an operation with an error of the tag that `refuses` has for it."""

    BEFORE, AFTER = "/system/contact = a\n", "/system/contact = b\n"
    # What stands in startup beside what the platform reads.
    besides: Sequence[Any] = ()

    def method(
        self, kind: Any, *offered: Capability, refuses: dict[str, str] | None = None, **datastores: str
    ) -> Any:
        self.asked: list[str] = []
        self.phases: list[Phase] = []
        refusing = refuses or {}

        async def rpc(operation: Any, **_: object) -> None:
            self.asked.append(spelt(operation))
            tag = refusing.get(spelt(operation))
            if tag:
                raise Refused([RpcError("protocol", tag, "error", info="session 7")], spelt(operation), str)

        async def read(datastore: str) -> str:
            return datastores.get(datastore, self.BEFORE)

        async def besides(datastore: str) -> Sequence[Any]:
            return next(texts) if isinstance(self.besides, list) else ()

        async def reached(phase: Phase) -> None:
            self.phases.append(phase)

        texts = iter(self.besides)
        session = mock.Mock(spec=NetconfSession, capabilities=frozenset(offered), held=set(), committed=False)
        session.rpc, session.read, session.besides = rpc, read, besides
        session.read_startup = lambda: read("startup")
        session.close, session.netconf = mock.AsyncMock(), mock.Mock(validate=False)
        before, after = tree_of(self.BEFORE), tree_of(self.AFTER)
        scope = Scope((("system",),))
        comparison = mock.Mock(
            intent=mock.Mock(scope=scope, tree=after, removals=()),
            running=before,
            manner=ApplyMode(),
            commands=(),
            edits=tuple(difference(before, after)),
        )
        return kind(session, ChangeRequest(comparison, SYNTAX, reached, lambda number: None, "t1"))

    def steps(self, method: Any, *names: Any) -> Any:
        """What the last of these steps returns."""

        async def all_of_them() -> Any:
            returned = None
            for name, *arguments in names:
                returned = await getattr(method, name)(*arguments)
            return returned

        return asyncio.run(all_of_them())

    def test_a_candidate_is_locked_filled_and_read_before_it_is_committed(self) -> None:
        method = self.method(NetconfCandidateMethod, Capability.VALIDATE, Capability.PERSIST)
        method.session.netconf.validate = True
        with self.assertRaisesRegex(ProtocolError, "1 of them is missing in its candidate"):
            self.steps(method, ("stage",))
        self.assertEqual(self.asked, ["lock running", "lock candidate", "edit-config candidate"])
        self.steps(method, ("validate",), ("apply", 8))
        self.assertEqual(self.asked[3:], ["validate candidate", "commit"])
        self.assertEqual(self.phases, [Phase.STAGED, Phase.APPLYING])
        self.assertIs(method.session.committed, True)
        self.assertIs(method.is_session_bound, False)
        method.session.netconf.validate = False
        self.steps(method, ("validate",))
        self.assertEqual(len(self.asked), 5)
        self.assertIs(self.method(NetconfCandidateMethod).is_session_bound, True)
        with self.assertRaisesRegex(DeviceError, "uncommitted changes of another session"):
            self.steps(self.method(NetconfCandidateMethod, candidate="/system/contact = c\n"), ("stage",))

    def test_another_sessions_lock_is_named_and_another_error_is_not_taken_for_one(self) -> None:
        for kind, first in (
            (NetconfCandidateMethod, "lock running"),
            (NetconfRunningMethod, "lock running"),
            (NetconfStartupMethod, "lock startup"),
        ):
            for tag in ("lock-denied", "in-use"):
                method = self.method(kind, refuses={first: tag})
                with self.assertRaisesRegex(DeviceError, "another session has locked the"):
                    self.steps(method, ("stage",))
                self.assertEqual((method.session.held, self.phases), (set(), []))
            with self.assertRaises(Refused):
                self.steps(self.method(kind, refuses={first: "operation-failed"}), ("stage",))

    def test_a_confirmation_is_believed_when_the_change_runs(self) -> None:
        confirmed = {"commit": "invalid-value"}
        bound = self.method(NetconfCandidateMethod, running=self.AFTER)
        with self.assertRaisesRegex(ConnectionFailed, "the session that holds the confirmed commit is gone"):
            self.steps(bound, ("confirm",))
        bound.session.committed = True
        self.steps(bound, ("confirm",))
        self.assertEqual(self.asked, ["commit"])
        gone = self.method(NetconfCandidateMethod)
        gone.session.committed = True
        with self.assertRaisesRegex(ProtocolError, "the change is not active"):
            self.steps(gone, ("confirm",))
        with self.assertRaises(Refused):
            self.steps(
                self.method(NetconfCandidateMethod, Capability.PERSIST, refuses=confirmed), ("confirm",)
            )

    def test_a_waiting_commit_is_told_by_the_lock(self) -> None:
        for refuses, held, waits in (
            ({}, set(), False),
            ({"lock running": "in-use"}, set(), True),
            ({"lock running": "operation-failed"}, set(), None),
            ({}, {"running"}, None),
        ):
            method = self.method(NetconfCandidateMethod, refuses=refuses)
            method.session.held = held
            self.assertIs(self.steps(method, ("is_waiting",)), waits)
            self.assertEqual(
                self.asked, [] if held else ["lock running"] + ["unlock running"] * (waits is False)
            )
        committed = self.method(NetconfCandidateMethod)
        committed.session.committed = True
        self.assertIsNone(self.steps(committed, ("is_waiting",)))
        self.assertIs(self.steps(self.method(NetconfRunningMethod), ("is_waiting",)), False)

    def test_only_a_persistent_commit_is_extended(self) -> None:
        self.assertIsNone(self.steps(self.method(NetconfCandidateMethod), ("extend", 30.0)))
        self.assertEqual(self.asked, [])
        self.assertEqual(
            self.steps(self.method(NetconfCandidateMethod, Capability.PERSIST), ("extend", 30.0)), 30.0
        )
        self.assertEqual(self.asked, ["commit"])

    def test_a_rollback_unlocks_cancels_and_empties_the_candidate(self) -> None:
        persistent = self.method(NetconfCandidateMethod, Capability.PERSIST)
        persistent.session.held = {"running", "candidate"}
        self.steps(persistent, ("cancel", Phase.APPLYING))
        self.assertEqual(
            self.asked, ["unlock running", "cancel-commit", "discard-changes", "unlock candidate"]
        )
        staged = self.method(NetconfCandidateMethod, Capability.PERSIST)
        staged.session.held = {"candidate"}
        self.steps(staged, ("cancel", Phase.STAGED))
        self.assertEqual(self.asked, ["discard-changes", "unlock candidate"])
        bound = self.method(NetconfCandidateMethod)
        bound.session.committed = True
        with self.assertRaisesRegex(ConnectionFailed, "rolled back when its session ends"):
            self.steps(bound, ("cancel", Phase.APPLYING))
        self.assertEqual(bound.session.close.await_count, 1)
        self.steps(self.method(NetconfCandidateMethod), ("cancel", Phase.UNTOUCHED))
        self.assertEqual(self.asked, [])
        kept = self.method(NetconfCandidateMethod, candidate=self.AFTER)
        kept.session.held = {"candidate"}
        with self.assertRaisesRegex(RollbackLeftover, "candidate still differs from running"):
            self.steps(kept, ("cancel", Phase.STAGED))
        self.assertEqual(self.asked, ["discard-changes", "edit-config candidate"])

    def test_a_candidate_that_was_left_is_discarded_when_it_is_the_change(self) -> None:
        for candidate, asked in (
            (self.BEFORE, []),
            ("/system/contact = c\n", []),
            (self.AFTER, ["discard-changes"]),
        ):
            method = self.method(
                NetconfCandidateMethod, candidate=candidate, refuses={"discard-changes": "in-use"}
            )
            self.steps(method, ("clean_up",))
            self.assertEqual(self.asked, asked, candidate)
        broken = self.method(
            NetconfCandidateMethod, candidate=self.AFTER, refuses={"discard-changes": "operation-failed"}
        )
        with self.assertRaises(Refused):
            self.steps(broken, ("clean_up",))

    def test_inverse_edits_are_committed_or_discarded(self) -> None:
        method = self.method(NetconfCandidateMethod, running=self.AFTER, candidate=self.AFTER)
        self.steps(method, ("undo",))
        self.assertEqual(
            self.asked,
            [
                "lock running",
                "lock candidate",
                "edit-config candidate",
                "commit",
                "unlock candidate",
                "unlock running",
            ],
        )
        refused = self.method(
            NetconfCandidateMethod,
            running=self.AFTER,
            candidate=self.AFTER,
            refuses={"commit": "operation-failed"},
        )
        with self.assertRaises(Refused):
            self.steps(refused, ("undo",))
        self.assertEqual(self.asked[-1], "discard-changes")
        self.steps(self.method(NetconfCandidateMethod), ("undo",))
        self.assertNotIn("commit", self.asked)

    def test_running_is_edited_only_where_all_or_nothing_is_promised(self) -> None:
        both = (Capability.WRITABLE_RUNNING, Capability.ROLLBACK_ON_ERROR)
        self.steps(self.method(NetconfRunningMethod, *both), ("check_nothing_pending",))
        for offered, told in (
            ((), "neither candidate nor writable-running"),
            (both[:1], "neither candidate nor rollback-on-error"),
            ((both[1], Capability.CANDIDATE), "neither confirmed-commit nor writable-running"),
        ):
            with self.assertRaisesRegex(DeviceError, told):
                self.steps(self.method(NetconfRunningMethod, *offered), ("check_nothing_pending",))
        self.steps(self.method(NetconfRunningMethod, running=self.AFTER), ("cancel", Phase.APPLYING))
        self.assertEqual(self.asked, ["edit-config running"])
        for phase, running in ((Phase.APPLYING, self.BEFORE), (Phase.STAGED, self.AFTER)):
            self.steps(self.method(NetconfRunningMethod, running=running), ("cancel", phase))
            self.assertEqual(self.asked, [])

    def test_saving_counts_when_startup_is_what_runs(self) -> None:
        self.steps(self.method(NetconfRunningMethod, Capability.STARTUP), ("save",))
        self.assertEqual(self.asked, ["copy-config startup running"])
        with self.assertRaisesRegex(ProtocolError, "startup configuration differs from running"):
            self.steps(self.method(NetconfRunningMethod, Capability.STARTUP, startup=self.AFTER), ("save",))
        self.steps(self.method(NetconfRunningMethod, startup=self.AFTER), ("save",))
        self.assertEqual(self.asked, [])

    def test_startup_is_copied_and_taken_back_only_if_it_is_what_was_copied(self) -> None:
        method = self.method(NetconfStartupMethod, startup=self.AFTER)
        self.steps(method, ("stage",), ("apply", 8), ("save",))
        self.assertEqual(self.asked, ["lock startup", "copy-config startup", "unlock startup"])
        self.assertEqual(self.phases, [Phase.STAGED, Phase.APPLYING])
        with self.assertRaisesRegex(ProtocolError, "lists a different one"):
            self.steps(self.method(NetconfStartupMethod), ("apply", 8))
        for startup, phase, copies in (
            (self.AFTER, Phase.APPLYING, True),
            (self.AFTER, Phase.STAGED, False),
            ("/system/contact = c\n", Phase.APPLYING, False),
        ):
            self.steps(self.method(NetconfStartupMethod, startup=startup), ("cancel", phase))
            self.assertEqual(self.asked, ["copy-config startup"] * copies)
        self.besides = [[etree.fromstring("<a/>")], [etree.fromstring("<b/>")]]
        with self.assertRaisesRegex(ProtocolError, "also changed other statements"):
            self.steps(self.method(NetconfStartupMethod, startup=self.AFTER), ("apply", 8))
        self.besides = [[etree.fromstring("<a> </a>")], [etree.fromstring("<a/>")]]
        self.steps(self.method(NetconfStartupMethod, startup=self.AFTER), ("apply", 8))


if __name__ == "__main__":
    unittest.main()
