"""NETCONF servers whose rollback does nothing although they answer ok: the device is asked for the truth."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from unittest import mock

import oast
import odd_netconf as odd
from oast import Cause, Outcome, State

BEFORE = {"quay": "green", "pier": "white"}
TEMPLATE = """{#
section: all
owns: [lamps]
#}
<lamps xmlns="urn:example:beacon">
  <lamp><name>quay</name><colour>red</colour></lamp>
  <lamp><name>mole</name><colour>white</colour></lamp>
</lamps>
"""
AFTER = {"quay": "red", "mole": "white"}


class RollbackTest(unittest.IsolatedAsyncioTestCase):
    async def push(
        self, server: odd.Beacon, *, colour: str = "never", timer_s: float = 8, more: str = ""
    ) -> Outcome:
        """A push with a check that fails, unless quay has to have the `colour` that it gets."""
        port = await server.listen()
        self.addAsyncCleanup(server.close)
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-beacon-")))
        files = {
            "oast.toml": f'format = 1\n[connection]\nusername = "{odd.USER}"\npassword = {{ secret = "login" }}\n'
            f"[delivery]\nrevert_timer_s = {timer_s}\nverify_timeout_s = 0.1\n{more}",
            "inventory/devices.yaml": f"devices:\n  mole-light: {{address: 127.0.0.1, port: {port}, platform: beacon, out_of_band: true}}\n",
            "intent.yaml": "sections:\n  - section: all\n",
            "templates/beacon/all.j2": TEMPLATE,
            "checks/lamps.yaml": f"checks:\n  - {{check: quay-colour, reading: lamps, where: {{name: quay}}, must_be: {{colour: {colour}}}}}\n",
            "platforms/beacon.toml": odd.PLATFORM,
            "known_hosts": f"mole-light {server.trusted}\n",
        }
        for name, text in files.items():
            (folder / name).parent.mkdir(parents=True, exist_ok=True)
            (folder / name).write_text(text)
        estate = oast.open(folder, {"OAST_SECRET_LOGIN": odd.PASSWORD})
        async with await estate.compare() as plan:
            self.assertEqual(plan.failed, ())
            return (await plan.deliver("a test")).outcomes[0]

    async def test_a_server_that_does_what_it_says_delivers_and_rolls_back(self) -> None:
        delivered, failed = odd.Beacon(BEFORE), odd.Beacon(BEFORE)
        outcome = await self.push(delivered, colour="red")
        self.assertEqual(
            (outcome.state, outcome.cause, delivered.running), (State.DELIVERED, Cause.NONE, AFTER), outcome
        )
        outcome = await self.push(failed)
        self.assertEqual(
            (outcome.state, outcome.cause, failed.running), (State.REVERTED, Cause.CHECKS, BEFORE), outcome
        )
        self.assertNotIn("inverse", str(outcome.reason))

    async def test_a_cancel_that_is_ignored_never_leaves_the_failed_change_in_running(self) -> None:
        for kind, by_edits in (
            (odd.CancelIgnoredWhileLocked, False),
            (odd.CancelEndsTimer, True),
            (odd.CancelRefused, True),
        ):
            with self.subTest(kind=kind.__name__):
                server = kind(BEFORE)
                outcome = await self.push(server)
                self.assertEqual(
                    (outcome.state, outcome.cause, server.running),
                    (State.REVERTED, Cause.CHECKS, BEFORE),
                    outcome,
                )
                self.assertEqual("with inverse edits" in str(outcome.reason), by_edits, outcome)
                self.assertEqual((server.candidate, server.locks, server.timer), (BEFORE, {}, None))

    async def compared(self, server: odd.Beacon, platform: str = "", connection: str = "") -> str:
        """Why the server could not be compared; "" when it could."""
        port = await server.listen()
        self.addAsyncCleanup(server.close)
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-beacon-")))
        files = {
            "oast.toml": f'format = 1\n[connection]\nusername = "{odd.USER}"\npassword = {{ secret = "login" }}\n{connection}',
            "inventory/devices.yaml": f"devices:\n  mole-light: {{address: 127.0.0.1, port: {port}, platform: beacon}}\n",
            "intent.yaml": "sections:\n  - section: all\n",
            "templates/beacon/all.j2": TEMPLATE,
            "platforms/beacon.toml": f"{odd.PLATFORM}\n{platform}",
            "known_hosts": f"mole-light {server.trusted}\n",
        }
        for name, text in files.items():
            (folder / name).parent.mkdir(parents=True, exist_ok=True)
            (folder / name).write_text(text)
        async with await oast.open(folder, {"OAST_SECRET_LOGIN": odd.PASSWORD}).compare() as plan:
            return plan.failed[0][1].message if plan.failed else ""

    async def test_a_reply_without_a_message_id_is_the_answer_only_where_the_platform_says_so(self) -> None:
        told = await self.compared(odd.WithoutId(BEFORE))
        self.assertIn("without a message-id (RFC 6241, section 4.2)", told)
        self.assertEqual(
            await self.compared(odd.WithoutId(BEFORE), "[netconf]\nreplies_without_id = true\n"), ""
        )

    async def test_notifications_without_end_end_by_the_deadline_of_the_answer(self) -> None:
        limits = "command_timeout_s = 1\nmax_answer_s = 1\nretries = 0\n"
        self.assertIn(
            "within 1 s, only other messages", await self.compared(odd.Notifies(BEFORE), connection=limits)
        )

    async def test_a_commit_is_extended_by_a_follow_up_and_a_server_that_takes_it_for_the_confirmation_is_rolled_back(
        self,
    ) -> None:
        # As if the wave took longer than what was measured: the timer is shorter than its checks have to stay passed.
        with mock.patch("oast.change.rollout.wave.timer_needed_s", return_value=0.0):
            server = odd.Beacon(BEFORE)
            outcome = await self.push(server, colour="red", more="stable_for_s = 5\n")
            self.assertEqual(
                (outcome.state, outcome.cause, server.running), (State.DELIVERED, Cause.NONE, AFTER), outcome
            )
            self.assertGreaterEqual(server.extended, 1)
            server = odd.ExtensionConfirms(BEFORE)
            outcome = await self.push(server, more="stable_for_s = 5\n")
            self.assertEqual(
                (outcome.state, outcome.cause, server.running),
                (State.REVERTED, Cause.CHECKS, BEFORE),
                outcome,
            )
            self.assertEqual((server.extended, server.timer), (0, None))

    async def test_a_cancel_that_does_nothing_is_waited_out_until_the_timer_rolls_back(self) -> None:
        server = odd.CancelDoesNothing(BEFORE)
        outcome = await self.push(server, timer_s=4)
        self.assertEqual(
            (outcome.state, outcome.cause, server.running), (State.REVERTED, Cause.CHECKS, BEFORE), outcome
        )
        self.assertNotIn("inverse", str(outcome.reason))

    async def test_a_candidate_that_keeps_what_was_discarded_is_emptied_by_edits(self) -> None:
        class RefusesCommit(odd.DiscardDoesNothing):
            def commit(self, number: int, operation: object) -> None:
                raise odd.Refused("operation-failed")

        server = RefusesCommit(BEFORE)
        outcome = await self.push(server)
        self.assertEqual(
            (outcome.state, server.running, server.candidate), (State.REVERTED, BEFORE, BEFORE), outcome
        )

    async def test_what_another_session_committed_meanwhile_is_named_and_stays(self) -> None:
        class Colleague(odd.CancelEndsTimer):
            def cancel_commit(self, number: int, operation: object) -> None:
                self.end_timer()
                self.running["lock-gate"] = "blue"
                self.candidate = dict(self.running)

        server = Colleague(BEFORE)
        outcome = await self.push(server)
        self.assertEqual(
            (outcome.state, server.running), (State.UNKNOWN, AFTER | {"lock-gate": "blue"}), outcome
        )
        self.assertIn(
            "these parts have changed since the change was applied (+ lamps / lamp lock-gate",
            str(outcome.reason),
        )


if __name__ == "__main__":
    unittest.main()
