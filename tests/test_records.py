"""What is written down of a change, who may approve it, in which order it goes: each rule in process."""

from __future__ import annotations

import asyncio
import base64
import dataclasses
import json
import sqlite3
import tempfile
import unittest
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, cast
from unittest import mock

from oast.change.device.pre_post_state import PrePostState, state_diff, state_document
from oast.change.plan.diff import ApplyMode
from oast.change.plan.limits import limit_violations
from oast.change.plan.stored_plan import plan_from
from oast.change.record.approval import Signers, public_key, require_valid_approval
from oast.change.record.journal import DeviceJournal, Journal
from oast.change.record.journal_reader import (
    devices_in_unknown_state,
    interrupted_runs,
    open_runs,
    stored_plan_of,
    timeline_of,
)
from oast.change.record.ledger import Ledger
from oast.change.record.ledger_entry import Entry, Finding, author_identity, commit_of, signed_entry
from oast.change.record.locks import RunLock, device_lock
from oast.change.rollout.monitoring import _together
from oast.change.rollout.rollout import RolloutOrder
from oast.change.rollout.stability_time import stable_for_s
from oast.change.state import (
    CONFIRMED_COMMIT,
    DAEMON_TIMER,
    FILE_TIMER,
    INVERSE_COMMANDS,
    INVERSE_EDITS,
    REVERT_TIMER,
    SCHEDULED,
    Cause,
    Outcome,
    Phase,
    State,
    rollback_method_of,
)
from oast.config.diff_text import Counts, counts, view
from oast.config.documents import edits_document
from oast.config.edits import difference
from oast.config.indented_syntax import tree_of_device
from oast.config.syntaxes import syntax_of
from oast.connect.capability import Capability
from oast.errors import ApprovalError, DeviceError, StateError
from oast.estate.inventory import Device
from oast.estate.selectors import parse_selector
from oast.estate.settings import AntiAffinity, BatchSize, LimitSettings
from oast.records import Place
from oast.verify.checks import Check, CheckResult
from test_delivery_methods import platform_of
from test_safety_rules import BINE, comparison_of


class TemporaryFolderTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))


class LimitTest(unittest.TestCase):
    def violations(self, before: str, after: str, **given: Any) -> list[tuple[str, str]]:
        limits = LimitSettings(**{"removals": 1000, "share": 1.0, "last_of": (), **given})
        comparison = comparison_of(BINE, before, after, ["user *", "ntp", "static-route *"])
        return [(one.limit, one.what) for one in limit_violations(comparison, limits)]

    def test_the_last_of_a_list_is_counted_in_what_is_owned(self) -> None:
        two = "user ada\n  role viewer\nuser cy\n  role viewer\n"
        one, other = two[: len(two) // 2 + 1], "user eve\n  role viewer\n"
        all_of_them = [("last_of", "all 2 'user' entries")]
        for before, after, kinds, expected in (
            (two, "", ("user",), all_of_them),
            (two, "", ("static-route",), []),
            (two, "", (), []),
            (two, one, ("user",), []),
            (two, other, ("user",), []),
            (two + "ntp\n  server 192.0.2.7\n", two, ("user",), []),
            # A leaf of that name is no list.
            (two, two.replace("  role viewer\n", ""), ("role",), []),
        ):
            with self.subTest(after=after, kinds=kinds):
                self.assertEqual(self.violations(before, after, last_of=kinds), expected)

    def test_so_many_removals_are_allowed_and_one_more_is_not(self) -> None:
        before = "".join(f"ntp\n  server 192.0.2.{n}\n" for n in range(1, 6))
        self.assertEqual(self.violations(before, "ntp\n  server 192.0.2.1\n", removals=4), [])
        self.assertEqual(
            self.violations(before, "ntp\n  server 192.0.2.1\n", removals=3),
            [("removals", "4 statements (at most 3)")],
        )
        self.assertEqual(self.violations("", before, removals=0), [])

    def test_of_few_statements_a_share_says_nothing_and_what_comes_instead_is_not_lost(self) -> None:
        def servers(first: int, end: int) -> str:
            return "".join(f"ntp\n  server 192.0.2.{n}\n" for n in range(first, end))

        share = [("share", "11 of 11 statements of the section 'all'")]
        self.assertEqual(self.violations(servers(1, 11), servers(10, 11), share=0.1), [])
        self.assertEqual(self.violations(servers(1, 11), "", share=0.1), share)
        self.assertEqual(self.violations(servers(1, 11), servers(11, 21), share=0.1), [])


class ApprovalRulesTest(unittest.TestCase):
    class Known(Signers):
        """Whoever signs with a word has the key of that word."""

        def verify(self, text: bytes, signed: object, who: str, namespace: str = "") -> bytes:
            if not isinstance(signed, str):
                raise StateError(f"it is not signed by {who}")
            said = json.loads(text)
            assert {said.get("proposer"), said.get("approver")} & {who}, said
            return signed.encode()

    def test_with_signatures_both_are_proved_and_by_two_keys(self) -> None:
        signers = self.Known(Path("signers"), {})
        proposal = {"author": "Ada", "difference": "d1", "signature": "ada-key"}
        approval = {"author": "Cy", "difference": "d1", "signature": "cy-key"}
        require_valid_approval("c", proposal, approval, signers)
        for proposed, approved, told in (
            ({"signature": None}, {}, "the proposal's signature is not valid: it is not signed by Ada"),
            ({}, {"signature": None}, "it is not signed by Cy"),
            ({}, {"signature": "ada-key"}, "Cy signed with the key of Ada, who proposed the change"),
            ({}, {"author": "Ada"}, "Ada made the change, and cannot approve it"),
            ({}, {"author": ""}, "an unknown user made the change"),
            ({}, {"difference": "d2"}, "Cy approved a different diff"),
        ):
            with self.subTest(told=told), self.assertRaisesRegex(ApprovalError, told):
                require_valid_approval("c", proposal | proposed, approval | approved, signers)

    def test_a_public_key_is_read_from_a_whole_signature_only(self) -> None:
        def armored(blob: bytes) -> str:
            return f"-----BEGIN SSH SIGNATURE-----\n{base64.b64encode(blob).decode()}\n-----END SSH SIGNATURE-----\n"

        head = b"SSHSIG\x00\x00\x00\x01"
        self.assertEqual(public_key(armored(head + b"\x00\x00\x00\x03keyrest")), b"key")
        for text in (
            armored(head + b"\x00\x00\x00\x09key"),
            armored(head + b"\x00\x00\x00\x00"),
            armored(b"SSHSIX\x00\x00\x00\x01\x00\x00\x00\x03key"),
            armored(head),
            "key",
            "-----BEGIN SSH SIGNATURE-----\nA\n-----END SSH SIGNATURE-----\n",
        ):
            with self.subTest(text=text), self.assertRaisesRegex(StateError, "not an SSH signature"):
                public_key(text)

    def test_ssh_keygen_that_fails_says_why(self) -> None:
        signers = Signers(None, {"PATH": "/nowhere"})
        with self.assertRaisesRegex(StateError, "cannot sign it: ssh-keygen"):
            signers.sign(b"text", Path("/nowhere/key"))
        for out, told in (
            (b"no\nsuch key\n", "cannot sign it: such key"),
            (b"", "ssh-keygen gave no reason"),
        ):
            ended = mock.Mock(returncode=1, stderr=out, stdout=b"")
            run = mock.patch("oast.change.record.approval.subprocess.run", return_value=ended)
            with run, self.assertRaisesRegex(StateError, told):
                signers.sign(b"text", Path("/nowhere/key"))
        with self.assertRaisesRegex(StateError, "file of allowed signers .* does not exist"):
            Signers(Path("/nowhere/signers"), {}).verify(b"text", "signature", "Ada")


class JournalTest(TemporaryFolderTest):
    def journal(self) -> Journal:
        journal = Journal(self.folder)
        self.addCleanup(journal.close)
        return journal

    def test_a_run_that_has_not_ended_is_open_with_the_devices_that_something_was_sent_to(self) -> None:
        self.assertEqual((open_runs(self.folder), timeline_of(self.folder, "r1")), ([], []))
        journal = self.journal()
        journal.begin("r1", "c1", 7, {"format": "x"}, ["gull", "heron", "dunlin"])
        journal.begin("r2", "c2", 7, {"format": "x"}, ["knot"])
        armed = datetime(2026, 3, 1, 12, tzinfo=UTC)

        async def steps() -> None:
            gull = DeviceJournal(journal, "r1", "gull")
            await gull.step(
                "applying",
                first=True,
                phase=int(Phase.APPLYING),
                token="t1",
                timer_s=60.0,
                armed=armed.isoformat(),
            )
            with self.assertRaisesRegex(ValueError, "the journal has no colour"):
                await gull.step("painting", colour="red")
            for name, state, phase, asked in (
                ("heron", State.UNKNOWN, Phase.APPLYING, False),
                ("dunlin", State.DELIVERED, Phase.CONFIRMED, True),
            ):
                outcome = Outcome(name, state, Cause.NONE, Counts(1, 0), 1.0)
                await DeviceJournal(journal, "r1", name).ended(outcome, phase, asked=asked)
            await DeviceJournal(journal, "r1", "heron").step("end", first=True)

        asyncio.run(steps())
        journal.end("r2", recorded=True)
        [left] = open_runs(self.folder)
        self.assertEqual((left.run, left.change), ("r1", "c1"))
        self.assertEqual([one.name for one in left.devices], ["gull", "heron"])
        self.assertEqual([(one.name, one.state) for one in left.known], [("dunlin", State.DELIVERED)])
        gull, heron = left.devices
        self.assertEqual(
            (gull.phase, gull.token, gull.timer_s, gull.armed), (Phase.APPLYING, "t1", 60.0, armed)
        )
        self.assertIsNone(heron.armed)
        self.assertEqual([one.name for one in left.devices_in_unknown_state], ["gull"])
        self.assertIn(
            ("gull", "applying"), [(device, what) for _, device, what in timeline_of(self.folder, "r1")]
        )
        self.assertEqual(stored_plan_of(self.folder, "r1"), {"format": "x"})
        self.assertEqual(list(devices_in_unknown_state(self.folder)), ["gull"])
        lock = RunLock(self.folder, "r1")
        lock.acquire()
        self.assertEqual(interrupted_runs(self.folder), [], "it is alive")
        lock.release(done=False)
        self.assertEqual([one.run for one in interrupted_runs(self.folder)], ["r1"])
        with self.assertRaisesRegex(StateError, "cannot use the journal"):
            stored_plan_of(self.folder, "r9")

    def test_what_is_unknown_stays_open_unless_the_device_was_asked_or_nothing_was_sent(self) -> None:
        journal = self.journal()
        names = ["asked", "untouched", "left"]
        journal.begin("r1", "c1", 7, {}, names)

        async def ended() -> None:
            for name, phase, asked in (
                ("asked", Phase.APPLYING, True),
                ("untouched", Phase.UNTOUCHED, False),
                ("left", Phase.STAGED, False),
            ):
                outcome = Outcome(name, State.UNKNOWN, Cause.FAILED, Counts(1, 0), 1.0)
                await DeviceJournal(journal, "r1", name).ended(outcome, phase, asked=asked)
            await DeviceJournal(journal, "r1", "left").step("end", first=True)

        asyncio.run(ended())
        self.assertEqual([one.name for one in open_runs(self.folder)[0].devices], ["left"])

    def test_a_step_that_must_be_written_stops_the_delivery_where_it_cannot_be(self) -> None:
        journal = self.journal()
        journal.begin("r1", "c1", 7, {"format": "x"}, ["gull"])
        step = DeviceJournal(journal, "r1", "gull").step
        with mock.patch.object(journal, "put", side_effect=self._failed):
            asyncio.run(step("applying", first=True))
            self.assertEqual(journal.broken, "disk full")
            with self.assertRaisesRegex(DeviceError, "cannot write the journal"):
                asyncio.run(step("applying", first=True, must=True))
            journal.broken = None
            asyncio.run(step("reading"))
            self.assertEqual(journal.broken, "disk full")

    @staticmethod
    def _failed(statements: object) -> Any:
        from concurrent.futures import Future

        written: Future[None] = Future()
        written.set_exception(sqlite3.OperationalError("disk full"))
        return written

    def test_a_journal_of_another_version_is_not_used(self) -> None:
        self.journal().close()
        database = sqlite3.connect(self.folder / "journal.sqlite")
        database.execute("PRAGMA user_version = 99")
        database.close()
        for use in (open_runs, Journal):
            with self.subTest(use=use), self.assertRaisesRegex(StateError, "its version is 99"):
                use(self.folder)  # type: ignore[operator]

    def test_a_journal_that_was_never_written_to_is_empty(self) -> None:
        (self.folder / "journal.sqlite").touch()
        self.assertEqual(open_runs(self.folder), [])


class LockTest(TemporaryFolderTest):
    def test_one_run_delivers_to_a_device_at_a_time_and_is_named(self) -> None:
        with device_lock(self.folder, "gull"):
            busy = self.assertRaisesRegex(DeviceError, r"another run of Oast \(process \d+\) is delivering")
            with busy, device_lock(self.folder, "gull"):
                pass
            with device_lock(self.folder, "heron"):
                pass
        with device_lock(self.folder, "gull"):
            pass

    def test_a_lock_that_nobody_holds_is_not_held_and_stays_where_the_run_is_not_done(self) -> None:
        lock = RunLock(self.folder, "r1")
        self.assertIs(lock.is_held(), False)
        lock.acquire()
        self.assertIs(RunLock(self.folder, "r1").is_held(), True)
        lock.release(done=False)
        lock.release(done=True)
        file = self.folder / "runs" / "r1.lock"
        self.assertTrue(file.exists())
        self.assertIs(RunLock(self.folder, "r1").is_held(), False)
        self.assertTrue(file.exists())
        lock.acquire()
        lock.release(done=True)
        self.assertFalse(file.exists())


class LedgerRecordTest(TemporaryFolderTest):
    def test_the_latest_changes_are_whole_and_it_is_known_whether_there_are_more(self) -> None:
        ledger = Ledger(self.folder, self.folder / ".oast", {})
        for number in range(4):
            ledger.append("begun", f"c{number}", {})
            ledger.append("ended", f"c{number}", {})
        for asked, changes, more in (
            (2, ["c2", "c2", "c3", "c3"], True),
            (4, ["c0", "c0", "c1", "c1", "c2", "c2", "c3", "c3"], False),
        ):
            entries, there_are_more = ledger.latest(asked)
            self.assertEqual(([one.change for one in entries], there_are_more), (changes, more))
        self.assertEqual([one.kind for one in ledger.entries("c1")], ["begun", "ended"])

    def test_an_entry_lacks_nothing_and_its_signature_is_not_signed(self) -> None:
        entry = Entry.of({"kind": "begun"}, "w", "f", 7)
        self.assertEqual((entry.number, entry.kind, entry.change, entry.at), (7, "begun", "", ""))
        self.assertEqual(Entry.of({"number": 3}, "w", "f", 7).number, 3)
        self.assertEqual(signed_entry({"a": 1, "signature": "x"}), b'{"a":1}')
        self.assertEqual((str(Finding("f", 3, "x")), str(Finding("f", 0, "x"))), ("f:3: x", "f: x"))

    def test_who_runs_oast_is_known_from_git_or_the_login(self) -> None:
        git = "oast.change.record.ledger_entry.Git.run"
        for email, expected in (
            ("ada@larkwater.example\n", "ada@larkwater.example"),
            ("", "login"),
            ("a" * 201, "login"),
            ("a\x07b", "login"),
        ):
            with mock.patch(git, return_value=email), mock.patch("getpass.getuser", return_value="login"):
                self.assertEqual(author_identity(self.folder, {}), expected)
        with (
            mock.patch(git, side_effect=StateError("no git")),
            mock.patch("getpass.getuser", side_effect=KeyError),
        ):
            self.assertEqual(author_identity(self.folder, {}), "nobody")

    def test_a_commit_is_clean_when_nothing_else_was_read(self) -> None:
        self.assertIsNone(commit_of(self.folder, {}))
        (self.folder / ".git").mkdir()
        for changed, clean in (("", True), (" M intent.yaml", False)):
            with mock.patch("oast.change.record.ledger_entry.Git.run", side_effect=["abc\n", changed]):
                commit = commit_of(self.folder / "values", {})
            assert commit is not None
            self.assertEqual((commit.name, commit.clean), ("abc", clean))


class PlanRecordTest(unittest.TestCase):
    def test_a_stored_plan_is_delivered_as_it_was_made(self) -> None:
        base = {
            "format": "oast.plan/1",
            "key": "k",
            "devices": {},
            "mode": "replace",
            "remove_unknown": False,
        }
        with self.assertRaises(StateError):
            plan_from({})
        stored = plan_from(base)
        self.assertEqual(stored.manner, ApplyMode("replace", False, "running"))
        other = plan_from(base | {"mode": "merge", "remove_unknown": True, "into": "startup"})
        self.assertEqual(other.manner, ApplyMode("merge", True, "startup"))

    def test_the_rollback_is_what_the_platform_declares(self) -> None:
        for way, method in (
            ("timer", REVERT_TIMER),
            ("candidate", CONFIRMED_COMMIT),
            ("file", DAEMON_TIMER),
            ("scheduled", SCHEDULED),
            ("none", INVERSE_COMMANDS),
        ):
            self.assertIs(rollback_method_of(platform_of(way)), method)
        file = platform_of("file")
        assert file.file is not None
        own = dataclasses.replace(file, file=dataclasses.replace(file.file, is_own_timer=True))
        self.assertIs(rollback_method_of(own), FILE_TIMER)
        netconf = dataclasses.replace(file, netconf=cast(Any, object()))
        for capabilities, method in (
            (None, CONFIRMED_COMMIT),
            ({Capability.REVERT_TIMER}, CONFIRMED_COMMIT),
            (set(), INVERSE_EDITS),
        ):
            self.assertIs(rollback_method_of(netconf, capabilities), method)

    def test_records_that_grow_by_themselves_are_no_difference(self) -> None:
        neighbor = {"neighbor": "192.0.2.9", "state": "full", "uptime": 5}
        reading = "ospf-neighbors"
        counting = {"in-octets": 5}
        before = {"interfaces": [{"name": "one", "oper-status": "up", **counting}], reading: [neighbor]}
        after = {
            "interfaces": [{"name": "one", "oper-status": "up", "in-octets": 9}],
            reading: [{**neighbor, "state": "down"}],
        }
        state = PrePostState(before=before, after=after, checked=[], hide=str)  # type: ignore[arg-type]
        document = state.document()
        self.assertEqual(document["same"], ["interfaces"])
        found = state_diff(document)
        self.assertEqual([(name, sign) for name, sign, _ in found], [(reading, "-"), (reading, "+")])
        self.assertEqual([row for _, _, row in found], [["192.0.2.9", "full", 5], ["192.0.2.9", "down", 5]])
        hidden = dataclasses.replace(state, hide=lambda text: text.replace("full", "*****"))
        rows = state_document("r1", {"gull": hidden})["devices"]["gull"]["before"][reading]["rows"]
        self.assertEqual(rows, [["192.0.2.9", "*****", 5]])

    def test_the_same_thing_on_several_devices_is_one_result(self) -> None:
        def result(device: str, actual: str) -> CheckResult:
            return CheckResult(
                Check(device, "port up", "interfaces", {}, None, "up", ()), actual, passed=False
            )

        names = [f"d{number}" for number in range(8)]
        made = _together([*(result(name, "down") for name in names), result("x", "gone")])
        titles = [one.check.title for one in made]
        self.assertEqual(titles[1], "x: port up")
        self.assertRegex(titles[0], r"^d0, .* and \d+ more: port up$")
        few = _together([result(name, "down") for name in names[:2]])
        self.assertEqual([one.check.title for one in few], ["d0, d1: port up"])


class OrderTest(unittest.TestCase):
    @staticmethod
    def devices(*sites: str | None) -> list[Device]:
        return [
            Device(
                f"d{n}",
                "192.0.2.1",
                "bine",
                None,
                {} if site is None else {"site": site},
                {"site": frozenset((site or "",))},
                Place("a", 1),
                {},
            )
            for n, site in enumerate(sites)
        ]

    def waves(self, order: RolloutOrder, *sites: str | None) -> list[list[str]]:
        return [[device.name for device in wave] for wave in order.of(self.devices(*sites))]

    def test_waves_take_a_number_a_share_a_selection_and_the_rest(self) -> None:
        sites = ("a", "b", "a", "b", "a")
        for waves, expected in (
            ((), [["d0", "d1", "d2", "d3", "d4"]]),
            ((BatchSize(2, None),), [["d0", "d1"], ["d2", "d3", "d4"]]),
            ((BatchSize(None, 25),), [["d0", "d1"], ["d2", "d3", "d4"]]),
            ((BatchSize(None, None), BatchSize(1, None)), [["d0", "d1", "d2", "d3", "d4"]]),
            ((parse_selector("site=b"), BatchSize(None, 20)), [["d1", "d3"], ["d0"], ["d2", "d4"]]),
        ):
            with self.subTest(waves=waves):
                self.assertEqual(self.waves(RolloutOrder(waves), *sites), expected)

    def test_no_wave_has_more_of_one_kind_or_of_all_than_it_may(self) -> None:
        apart = RolloutOrder(apart=AntiAffinity("site", 1))
        self.assertEqual(self.waves(apart, "a", "a", "b", None, "a"), [["d0", "d2", "d3"], ["d1"], ["d4"]])
        two = RolloutOrder(apart=AntiAffinity("site", 2))
        self.assertEqual(self.waves(two, "a", "a", "a"), [["d0", "d1"], ["d2"]])
        largest = RolloutOrder(largest=2)
        self.assertEqual(self.waves(largest, *"abcde"), [["d0", "d1"], ["d2", "d3"], ["d4"]])
        self.assertEqual(self.waves(largest), [])

    def test_the_default_of_an_interval_counts_and_a_check_beside_the_change_does_not(self) -> None:
        def seconds(before: str, after: str, concerns: tuple[str, ...]) -> float:
            check = Check("pier", "OSPF neighbor", "ospf-neighbors", {}, "state", "full", (concerns,))
            return stable_for_s(comparison_of(BINE, before, after, ["ospf"]), [check])

        text = "interface port2\nospf\n  area 0.0.0.0\n    interface port2\n      cost {}\n"
        path = ("ospf", "area 0.0.0.0", "interface port2")
        default = seconds(text.format(5), text.format(6), path)
        self.assertGreater(default, 0.0)
        self.assertEqual(
            seconds(text.format(5), text.format(6), ("ospf", "area 0.0.0.0", "interface port3")), 0.0
        )
        declared = Check("pier", "own", "own", {}, "state", "full", (path,), stable_for_s=33.0)
        comparison = comparison_of(BINE, text.format(5), text.format(6), ["ospf"])
        self.assertEqual(stable_for_s(comparison, [declared]), 33.0)


class DiffTextTest(unittest.TestCase):
    def test_every_operation_is_counted_and_shown(self) -> None:
        before = "interface port2\n  description gull\nntp\n  server 192.0.2.7\nuser ada\n  role operator\n"
        after = "interface port2\n  description heron\n  mtu 1400\nntp\n  server 192.0.2.7\nuser cy\n  role operator\n"
        tree = [tree_of_device(syntax_of(BINE), text) for text in (before, after)]
        edits = difference(*tree)
        self.assertEqual(counts(edits), Counts(4, 3))
        lines = [(line.sign, line.depth, line.text) for line in view(edits)]
        self.assertEqual(
            sorted(lines),
            sorted(
                [
                    (" ", 0, "interface port2"),
                    ("-", 1, "description gull"),
                    ("+", 1, "description heron"),
                    ("+", 1, "mtu 1400"),
                    ("-", 0, "user ada"),
                    ("-", 1, "role operator"),
                    ("+", 0, "user cy"),
                    ("+", 1, "role operator"),
                ]
            ),
        )
        by_operation: Mapping[str, Any] = {one["operation"]: one for one in edits_document(edits)}
        self.assertEqual(
            by_operation["remove"]["old"],
            {"statement": "user ada", "below": [{"statement": "role operator"}]},
        )
        self.assertEqual(by_operation["replace"]["new"], {"statement": "description heron"})
        self.assertNotIn("below", by_operation["replace"]["old"])
        self.assertNotIn("before", by_operation["remove"])


if __name__ == "__main__":
    unittest.main()
