"""Which devices come in which wave; and what is taken back when one fails."""

from __future__ import annotations

import json
import unittest

from larkwater import LarkwaterTest
from oast.change.rollout.rollout import RolloutOrder, rolled_back_outcome
from oast.change.state import Cause, Outcome, State
from oast.config.diff_text import Counts
from oast.estate import selectors
from oast.estate.inventory import Device
from oast.estate.settings import AntiAffinity, BatchSize
from oast.records import Place

SLOW = ("--revert-timer", "30", "--verify-timeout", "2")


def device(name: str, site: str | None) -> Device:
    attributes = {"name": name, "role": name.split("-")[1]} | ({} if site is None else {"site": site})
    known_by = {key: frozenset((value,)) for key, value in attributes.items()}
    return Device(name, "192.0.2.1", "bine", None, attributes, known_by, Place("inventory/a.yaml", 1), {})


DEVICES = [device(f"{site}-dist-{number}", site) for site in ("gull", "heron") for number in (1, 2)] + [
    device("lone-edge-1", None)
]


class OrderTest(unittest.TestCase):
    def names(self, order: RolloutOrder) -> list[list[str]]:
        return [[one.name for one in wave] for wave in order.of(DEVICES)]

    def test_sizes_and_percentages_count_what_no_wave_before_has(self) -> None:
        whole = [one.name for one in DEVICES]
        self.assertEqual(self.names(RolloutOrder()), [whole])
        self.assertEqual(
            self.names(RolloutOrder((BatchSize(1), BatchSize(percent=40.0), BatchSize()))),
            [whole[:1], whole[1:3], whole[3:]],
        )
        self.assertEqual(
            self.names(RolloutOrder((selectors.parse_selector("site=heron"), BatchSize(1)))),
            [whole[2:4], whole[:1], [whole[1], whole[4]]],
        )
        self.assertEqual(self.names(RolloutOrder((BatchSize(9),))), [whole])
        self.assertEqual(RolloutOrder((BatchSize(1),)).of([]), [])

    def test_who_belongs_together_is_never_in_one_wave(self) -> None:
        pairs = self.names(RolloutOrder(apart=AntiAffinity("site")))
        self.assertEqual(
            pairs, [["gull-dist-1", "heron-dist-1", "lone-edge-1"], ["gull-dist-2", "heron-dist-2"]]
        )
        self.assertEqual(
            self.names(RolloutOrder(apart=AntiAffinity("site", 2))), [[one.name for one in DEVICES]]
        )


class ToldTest(unittest.TestCase):
    def test_what_became_of_taking_back_is_what_is_told_of_the_device(self) -> None:
        def outcome(state: State, cause: Cause, reason: str | None = None) -> Outcome:
            return Outcome("pier", state, cause, Counts(1, 0), 1.0, reason)

        delivered = outcome(State.DELIVERED, Cause.NONE)
        for became, state, cause in (
            (outcome(State.DELIVERED, Cause.NONE), State.REVERTED, Cause.HELD),
            (
                outcome(State.DELIVERED, Cause.FAILED, "startup may not be saved"),
                State.REVERTED,
                Cause.FAILED,
            ),
            (outcome(State.REVERTED, Cause.FAILED, "it refused a line"), State.DELIVERED, Cause.FAILED),
            (outcome(State.UNKNOWN, Cause.FAILED, "it cannot be reached"), State.UNKNOWN, Cause.FAILED),
            (None, State.DELIVERED, Cause.FAILED),
        ):
            told = rolled_back_outcome(delivered, became, "taken back")
            self.assertEqual((told.state, told.cause), (state, cause), became)
            if became is not None and became.reason is not None:
                self.assertIn(became.reason, str(told.reason))


class TakenBackTest(LarkwaterTest):
    delivered = True

    def fails_in_wave_two(self, on_failure: str) -> dict[str, tuple[str, str]]:
        """A contact for all; and plover, in wave two with dunlin, loses its neighbours. What became of each."""
        self.edit(
            "oast.toml",
            "verify_timeout_s",
            f'waves = ["name=gull-core-1", "name=plover-edge-1 or name=dunlin-edge-1", "rest"]\non_failure = "{on_failure}"\nverify_timeout_s',
        )
        self.before = {
            name: self.running(name)
            for name in ("gull-core-1", "plover-edge-1", "dunlin-edge-1", "tern-edge-1")
        }
        self.edit("values/devices/plover-edge-1.yaml", "links:\n", "area: 0.0.0.9\nlinks:\n")
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        run = self.oast("push", "-m", "mixed", "--yes", "--format", "json", *SLOW, expect=5)
        found = {d["device"]: (d["state"], d["cause"]) for d in run.json()["devices"]}
        self.assertEqual(found["plover-edge-1"], ("reverted", "checks"))
        for name in ("heron-core-1", "tern-edge-1", "sandpiper-edge-1"):
            self.assertEqual(found[name], ("unchanged", "held"), "wave three is not begun")
        for name, text in self.before.items():
            changed = found[name][0] == "delivered"
            self.assertEqual(
                self.running(name),
                text.replace("network desk", "day desk") if changed else text,
                (name, found[name]),
            )
            startup = (
                self.console(name, "read startup")
                .partition("read startup\n")[2]
                .rpartition(" view| leave")[0]
                .rpartition("\n")[0]
            )
            self.assertEqual(f"{startup}\n", self.running(name), name)
            self.assertIsNone(self.timer(name))
        return found

    def test_what_was_delivered_stays_when_it_is_to_stop(self) -> None:
        found = self.fails_in_wave_two("stop")
        self.assertEqual({found["gull-core-1"], found["dunlin-edge-1"]}, {("delivered", "none")})

    def test_the_wave_goes_back(self) -> None:
        found = self.fails_in_wave_two("wave")
        self.assertEqual(
            (found["gull-core-1"], found["dunlin-edge-1"]), (("delivered", "none"), ("reverted", "held"))
        )

    def test_the_whole_change_goes_back(self) -> None:
        found = self.fails_in_wave_two("change")
        self.assertEqual(
            (found["gull-core-1"], found["dunlin-edge-1"]), (("reverted", "held"), ("reverted", "held"))
        )
        shown = self.oast("change", "show", "last").out
        self.assertIn("rolled back, because 1 device failed or did not stay healthy", shown)
        self.assertIn(
            "no drift: 4 devices",
            self.oast("drift", "--on", "name in (gull-core-1, dunlin-edge-1, tern-edge-1, heron-core-1)").out,
        )

    def test_what_does_not_stay_true_is_a_failure_and_goes_back_with_the_change(self) -> None:
        self.edit(
            "oast.toml",
            "verify_timeout_s",
            'waves = ["name=dunlin-edge-1"]\non_failure = "change"\nsoak_s = 15\nverify_timeout_s',
        )
        before = self.running("dunlin-edge-1")
        self.edit("values/network.yaml", "contact: Larkwater network desk", "contact: Larkwater day desk")
        process = self.started("push", "-m", "x", "--on", "role=edge", "--yes", "--format", "json", *SLOW)
        while "day desk" not in self.console("dunlin-edge-1", "read startup"):
            self.assertIsNone(process.poll())
        self.fault("dunlin-edge-1", "cut", "--match", "port1")
        out, err = process.communicate(timeout=90)
        found = {d["device"]: d for d in json.loads(out)["devices"]}
        dunlin = found["dunlin-edge-1"]
        self.assertEqual(
            (process.returncode, dunlin["state"], dunlin["cause"]), (5, "reverted", "checks"), err
        )
        self.assertRegex(
            dunlin["reason"],
            r"checks did not stay passed: .*; rolled back, because 1 device failed or did not stay healthy",
        )
        self.assertEqual(
            {found[name]["cause"] for name in ("tern-edge-1", "plover-edge-1", "sandpiper-edge-1")}, {"held"}
        )
        self.assertEqual(self.running("dunlin-edge-1"), before)

    def test_mistakes_in_the_order_have_their_place(self) -> None:
        for old, new, told in (
            ("verify_timeout_s", 'waves = ["rest", "1"]\nverify_timeout_s', "'rest' must be the last wave"),
            ('waves = ["rest", "1"]', 'waves = ["120%"]', "'120%' is not a valid wave size"),
            (
                'waves = ["120%"]',
                'apart = "sites"',
                "oast.toml:16: no device has the attribute 'sites' of 'apart'",
            ),
            ('apart = "sites"', 'apart = { by = "site", most = 2 }', "unknown key 'most'"),
            (
                'apart = { by = "site", most = 2 }',
                'on_failure = "back"',
                "'on_failure'",
            ),
        ):
            self.edit("oast.toml", old, new)
            self.assertIn(told, self.oast("diff", expect=3).err)


if __name__ == "__main__":
    unittest.main()
