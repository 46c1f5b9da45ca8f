"""A routing suite with a shell, and a routing daemon with one file, that do not do what they say: what is reported is what they run."""

from __future__ import annotations

import io
import tempfile
import unittest
from collections import Counter
from collections.abc import Callable, Coroutine
from contextlib import redirect_stderr
from pathlib import Path
from typing import Any
from unittest import mock

import oast
import real_systems as real
from in_memory import LABS, run
from oast import Cause, Outcome, State
from oast.cli.output import show_other_values
from oast.config.syntaxes import syntax_of
from oast.connect.connector import Connector
from oast.estate.secrets import fingerprints_of
from oast.operations.platforms import ProbeStep
from oast.operations.rehearsal import Rehearsal, rehearse
from oast.platforms.load import Platforms
from odd_servers import PASSWORD, Petrel

PLATFORMS = Path(__file__).parent / "data" / "platforms"


class SystemTest(unittest.TestCase):
    """An estate with one device, in a time that passes by itself."""

    platform = ""

    def _callTestMethod(self, method: Callable[[], Coroutine[Any, Any, None]]) -> None:
        run(method())

    def setUp(self) -> None:
        super().setUp()
        LABS.clear()
        self.folders = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-real-")))

    def estate(self, template: str, *, checks: str = "", extra: str = "") -> oast.OpenEstate:
        folder = self.folders / str(len(list(self.folders.iterdir())))
        out_of_band = ", out_of_band: true" if self.platform == "petrel" else ""
        files = {
            "oast.toml": 'format = 1\n[connection]\nusername = "oast"\npassword = { secret = "login" }\n'
            f"[delivery]\nrevert_timer_s = 20\nverify_timeout_s = 2\n{extra}",
            "inventory/devices.yaml": f"devices:\n  quay: {{address: 127.0.0.1, port: 2, platform: {self.platform}{out_of_band}}}\n",
            "intent.yaml": "sections:\n  - section: all\n",
            f"templates/{self.platform}/all.j2": template,
            f"platforms/{self.platform}.toml": (PLATFORMS / f"{self.platform}.toml").read_text(),
            "known_hosts": "",
        }
        if checks:
            files["checks/own.yaml"] = checks
        for name, text in files.items():
            (folder / name).parent.mkdir(parents=True, exist_ok=True)
            (folder / name).write_text(text)
        return oast.open(folder, {"OAST_SECRET_LOGIN": PASSWORD})

    async def outcome(self, estate: oast.OpenEstate) -> Outcome:
        async with await estate.compare() as plan:
            self.assertEqual(plan.failed, ())
            return (await plan.deliver("a test")).outcomes[0]


# --- a routing suite with a shell ---------------------------------------------------------------------------------------

SHELL = """hostname quay
interface e0
 note way in
interface e1
 address 198.51.100.1/24
 note old
speaker 64500
 peer 192.0.2.9 as 64501
 peer 192.0.2.9 word kelp
 peer 192.0.2.9 note north
route 203.0.113.0/24 by 198.51.100.9
"""
SHELL_TEMPLATE = """{#
section: all
owns: [interface *, speaker *, route *]
#}
interface e0
 note way in
interface e1
 address 198.51.100.1/24
 note new
speaker 64500
 peer 192.0.2.9 as 64501
route 203.0.113.0/24 by 198.51.100.9
route 192.0.2.128/25 by 198.51.100.9
"""
SHELL_AFTER = {
    "hostname quay": set(),
    "interface e0": {"note way in"},
    "interface e1": {"address 198.51.100.1/24", "note new"},
    "speaker 64500": {"peer 192.0.2.9 as 64501", "peer 192.0.2.9 word kelp"},
    "route 203.0.113.0/24 by 198.51.100.9": set(),
    "route 192.0.2.128/25 by 198.51.100.9": set(),
}
NEVER = "checks:\n  - {check: never, reading: routes, where: {destination-prefix: 192.0.2.128/25}, must_be: {source-protocol: ospf}}\n"


class RoutingShellTest(SystemTest):
    platform = "redshank"

    async def push(
        self, device: real.RoutingShell, template: str = SHELL_TEMPLATE, checks: str = ""
    ) -> Outcome:
        LABS[2] = device  # type: ignore[assignment]
        drop_at, hang_at, device.drop_at, device.hang_at = device.drop_at, device.hang_at, 0, 0
        async with await self.estate(template, checks=checks).compare() as plan:
            self.assertEqual(plan.failed, ())
            device.typed.clear()
            device.drop_at, device.hang_at = drop_at, hang_at
            self.result = await plan.deliver("a test")
            return self.result.outcomes[0]

    async def test_it_is_delivered_and_what_the_grammar_does_not_know_of_an_entry_stays(self) -> None:
        device = real.RoutingShell(SHELL)
        outcome = await self.push(device)
        self.assertEqual((outcome.state, outcome.cause), (State.DELIVERED, Cause.NONE), outcome)
        self.assertEqual(device.truth(), SHELL_AFTER, "the word of the peer is retained")
        self.assertEqual(device.stored, device.text())

    async def test_the_interface_whose_address_the_operating_system_sets_is_known_and_the_others_are_not_taken_for_it(
        self,
    ) -> None:
        device = real.RoutingShell(SHELL)
        outcome = await self.push(device, SHELL_TEMPLATE.replace(" note way in\n", " closed\n"))
        self.assertEqual(
            (outcome.state, device.truth()), (State.UNCHANGED, real.RoutingShell(SHELL).truth()), outcome
        )
        self.assertIn("the change may cut off management access: interface e0 / ", str(outcome.reason))
        self.assertNotIn("alter", device.typed)
        self.assertIs((await self.push(device)).state, State.DELIVERED, "the note on e1 is harmless")

    async def test_a_word_outside_of_a_closed_list_stops_no_check(self) -> None:
        device = real.RoutingShell(SHELL)
        estate = self.estate(SHELL_TEMPLATE)
        LABS[2] = device  # type: ignore[assignment]
        async with estate.session("quay") as session:
            found = await session.read("routes")
        self.assertEqual([record["source-protocol"] for record in found], ["other", "static"])
        outcome = await self.push(device, checks=NEVER)
        self.assertEqual((outcome.state, outcome.cause), (State.REVERTED, Cause.CHECKS), outcome)
        self.assertEqual(
            self.result.other_values,
            {("source-protocol", "kernel"): Counter(quay=1)},
            "reported once, and not for each time",
        )
        err = io.StringIO()
        with redirect_stderr(err):
            show_other_values(self.result.other_values)
        told = "warning: source-protocol 'kernel' is not a known value and counts as 'other' (1 record on quay)\n"
        self.assertEqual(err.getvalue(), told)
        LABS[2] = real.RoutingShell(SHELL)  # type: ignore[assignment]
        found = await self.estate(SHELL_TEMPLATE).verify()
        self.assertEqual(found.other_values, self.result.other_values)

    async def test_of_what_there_can_be_one_the_former_goes_first(self) -> None:
        LABS[2] = real.RoutingShell(SHELL)  # type: ignore[assignment]
        async with await self.estate(
            SHELL_TEMPLATE.replace("speaker 64500", "speaker 64510")
        ).compare() as plan:
            [(_, error)] = plan.failed
        self.assertIn(
            "at most 1 'speaker' are allowed, and there would be 2;",
            error.message,
            "the one with an unknown line stays",
        )
        device = real.RoutingShell(SHELL.replace(" peer 192.0.2.9 word kelp\n", ""))
        outcome = await self.push(device, SHELL_TEMPLATE.replace("speaker 64500", "speaker 64510"))
        self.assertEqual(outcome.state, State.DELIVERED, outcome)
        self.assertEqual(device.truth()["speaker 64510"], {"peer 192.0.2.9 as 64501"})

    async def test_removals_that_are_accepted_and_not_done_are_never_reported_as_rolled_back(self) -> None:
        device = real.KeepsWhatIsRemoved(SHELL)
        outcome = await self.push(device, checks=NEVER)
        self.assertIs(outcome.state, State.UNKNOWN, outcome)
        self.assertIn(
            "the running configuration is neither the one from before the change nor the intended one",
            str(outcome.reason),
        )
        self.assertIn("route 192.0.2.128/25 by 198.51.100.9", device.truth())

    async def test_a_save_that_is_accepted_and_not_done_is_reported(self) -> None:
        outcome = await self.push(real.StoresNothing(SHELL))
        self.assertEqual((outcome.state, outcome.cause), (State.DELIVERED, Cause.FAILED), outcome)
        self.assertIn("startup may not be saved", str(outcome.reason))

    async def test_a_session_that_ends_or_falls_silent_at_any_line_leaves_a_state_that_is_reported_truly(
        self,
    ) -> None:
        clean = real.RoutingShell(SHELL)
        await self.push(clean)
        for at in range(1, len(clean.typed) + 1):
            for kind in ("drop_at", "hang_at"):
                device = real.RoutingShell(SHELL)
                setattr(device, kind, at)
                outcome = await self.push(device)
                told = (kind, at, outcome, device.typed)
                wanted = SHELL_AFTER if outcome.state is State.DELIVERED else real.RoutingShell(SHELL).truth()
                self.assertIn(outcome.state, (State.DELIVERED, State.REVERTED, State.UNCHANGED), told)
                self.assertEqual(device.truth(), wanted, told)


# --- a routing daemon with one file -------------------------------------------------------------------------------------

FILE = """# Kept by the night desk.
name pier;

rule fog {   # code: nobody edits this but the harbour master
    if (sight < 200 || horn = 3) { flash 3; }
}
link quay/1 {
    text   old;   # since the storm
    address 192.0.2.2/24;
}
link quay/2 { closed; }
# The neighbour across the water.
peer 192.0.2.9 { as 64500; }
"""
FILE_TEMPLATE = """{#
section: all
owns: [link *]
#}
link quay/1 {
    text new;
    address 192.0.2.2/24;
}
link quay/2 { closed; }
"""
FILE_AFTER = FILE.replace("text   old;", "text new;")
FAILING = (
    "checks:\n  - {check: never, reading: interfaces, where: {name: quay/1}, must_be: {oper-status: down}}\n"
)


class OneFileTest(SystemTest):
    platform = "petrel"

    async def push(self, device: Petrel, checks: str = "") -> Outcome:
        async def connected(*_: object) -> real.OneShot:
            return real.OneShot(device)

        with mock.patch("oast.connect.connector.connect_commands", connected):
            return await self.outcome(self.estate(FILE_TEMPLATE, checks=checks))

    def truth(self, device: Petrel, outcome: Outcome, text: str) -> None:
        self.assertEqual((device.running, device.files["/etc/petrel.conf"]), (text, text), outcome)
        self.assertIsNone(device.before, "nothing is pending")
        self.assertNotIn("/etc/petrel.new", [path for path in device.files if path != "/etc/petrel.conf"][1:])

    async def test_one_word_changes_and_every_other_byte_stays(self) -> None:
        device = Petrel(FILE)
        outcome = await self.push(device)
        self.assertEqual((outcome.state, outcome.cause), (State.DELIVERED, Cause.NONE), outcome)
        self.truth(device, outcome, FILE_AFTER)

    async def test_a_failed_check_restores_every_byte_however_the_daemon_takes_the_cancel(self) -> None:
        for kind in (Petrel, real.CancelIgnored, real.CancelEndsTimer):
            device = kind(FILE)
            outcome = await self.push(device, FAILING)
            self.assertEqual((outcome.state, outcome.cause), (State.REVERTED, Cause.CHECKS), (kind, outcome))
            self.truth(device, outcome, FILE)

    async def test_a_confirmation_that_is_ignored_ends_in_the_daemons_own_rollback(self) -> None:
        device = real.ConfirmIgnored(FILE)
        outcome = await self.push(device)
        self.assertEqual((outcome.state, outcome.cause), (State.REVERTED, Cause.FAILED), outcome)
        self.truth(device, outcome, FILE)

    async def test_a_file_that_is_accepted_and_not_used_is_noticed(self) -> None:
        device = real.LoadIgnored(FILE)
        outcome = await self.push(device)
        self.assertEqual((outcome.state, outcome.cause), (State.REVERTED, Cause.FAILED), outcome)
        self.truth(device, outcome, FILE)

    async def test_half_a_file_is_never_applied(self) -> None:
        device = real.HalfWritten(FILE)
        outcome = await self.push(device)
        self.assertIn(outcome.state, (State.UNCHANGED, State.REVERTED), outcome)
        self.truth(device, outcome, FILE)

    async def rehearsed(self, device: Petrel) -> list[ProbeStep]:
        async def connected(*_: object) -> real.OneShot:
            return real.OneShot(device)

        estate = self.estate(FILE_TEMPLATE)._estate
        [quay] = estate.devices.values()
        platform = Platforms(estate.folder, fingerprints_of(estate.working, estate.environment)).get("petrel")
        with mock.patch("oast.connect.connector.connect_commands", connected):
            parts = (
                Connector(estate, [quay]),
                quay,
                platform,
                syntax_of(platform),
                Rehearsal(None, 5.0),
                estate.working,
            )
            return [step async for step in rehearse(*parts, estate.working / "log" / "trial.log")]

    async def test_without_a_harmless_statement_a_comment_is_rehearsed_and_every_byte_comes_back(
        self,
    ) -> None:
        for kind, failed in (
            (Petrel, []),
            (real.CancelIgnored, []),  # its timer does it
            (real.CancelEndsTimer, ["apply it again and cancel"]),
            (real.LoadIgnored, ["rehearse"]),
        ):
            device = kind(FILE)
            steps = await self.rehearsed(device)
            self.assertEqual([step.what for step in steps if not step.passed], failed, (kind, steps))
            self.assertEqual(device.files["/etc/petrel.conf"], FILE, kind)
            self.assertEqual(device.running == FILE, kind is not real.CancelEndsTimer, kind)
            if not failed:
                self.assertIn("apply a comment", steps[0].what)

    async def test_a_daemon_that_writes_its_file_anew_ends_with_the_comments_that_the_file_had(self) -> None:
        device = real.ReplacesItsFile(FILE)
        outcome = await self.push(device)
        self.assertEqual(outcome.state, State.DELIVERED, outcome)
        self.assertEqual(device.running, FILE_AFTER)


if __name__ == "__main__":
    unittest.main()
