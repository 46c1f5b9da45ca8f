"""Deliveries in waves, and what is held back after failures."""

from __future__ import annotations

from larkwater import LarkwaterTest


class WavesTest(LarkwaterTest):
    delivered = True

    def setUp(self) -> None:
        super().setUp()
        self.edit("oast.toml", "[delivery]\n", '[delivery]\nwaves = ["site=dunlin", "role=edge"]\n')
        self.edit("values/network.yaml", "Larkwater network desk", "Larkwater day desk")

    def push(self, *arguments: str, code: int) -> dict[str, str]:
        run = self.oast("push", "-m", "desk", "--yes", "--format", "json", *arguments, expect=code)
        return {d["device"]: f"{d['state']} {d['cause']}" for d in run.json()["devices"]}

    def order(self) -> list[set[str]]:
        """The devices in the order in which they were loaded, by what their transcripts say: those of one wave together."""
        shown = self.oast("push", "-m", "desk", "--yes").err
        ended = [line.split()[0] for line in shown.splitlines() if " delivered " in line]
        return [set(ended[:1]), set(ended[1:4]), set(ended[4:])]

    def test_waves_come_in_order_and_the_others_last(self) -> None:
        edges = {"tern-edge-1", "plover-edge-1", "sandpiper-edge-1"}
        self.assertEqual(self.order(), [{"dunlin-edge-1"}, edges, {"gull-core-1", "heron-core-1"}])

    def test_after_a_failure_the_rest_is_held_back(self) -> None:
        self.fault("plover-edge-1", "refuse", "--match", "contact")
        found = self.push(code=4)
        self.assertEqual(found["dunlin-edge-1"], "delivered none")
        self.assertEqual(found["plover-edge-1"], "reverted failed")
        self.assertEqual(found["tern-edge-1"], "delivered none", "it was in the same wave")
        self.assertEqual((found["gull-core-1"], found["heron-core-1"]), ("unchanged held", "unchanged held"))
        self.assertIn("Larkwater network desk", self.running("gull-core-1"))
        self.fault("plover-edge-1", "none")
        shown = self.oast("push", "-m", "desk", "--yes", "--parallel", "1").out
        self.assertIn("3 devices delivered", shown)

    def test_some_failures_may_be_allowed_and_waves_left_out(self) -> None:
        self.fault("dunlin-edge-1", "refuse", "--match", "contact")
        self.assertEqual(set(self.push(code=4).values()), {"unchanged held", "reverted failed"})
        found = self.push("--max-failures", "1", code=4)
        self.assertEqual(sorted(found.values()), ["delivered none"] * 5 + ["reverted failed"])
        self.edit("values/network.yaml", "Larkwater day desk", "Larkwater desk")
        found = self.push("--one-wave", code=4)
        self.assertEqual(sorted(found.values()), ["delivered none"] * 5 + ["reverted failed"])

    def test_a_canary_that_cannot_be_reached_is_a_failure_of_its_wave(self) -> None:
        self.fault("dunlin-edge-1", "down")
        found = self.push(code=4)
        self.assertEqual(found.pop("dunlin-edge-1"), "unchanged failed")
        self.assertEqual(set(found.values()), {"unchanged held"})

    def test_how_many_are_worked_on_never_cuts_a_wave(self) -> None:
        self.edit("oast.toml", 'waves = ["site=dunlin", "role=edge"]\n', "")
        self.edit("values/network.yaml", "Larkwater day desk", "Larkwater desk")
        # Both ends of every link move: in two waves the neighbours of the first would be lost.
        run = self.oast("push", "-m", "area", "--yes", "--parallel", "1", "--with", "area=0.0.0.9")
        self.assertIn("6 devices delivered", run.out)

    def test_a_wave_that_would_not_fit_is_split_where_that_is_allowed(self) -> None:
        for core in ("gull-core-1", "heron-core-1"):
            self.fault(core, "slow", "--seconds", "0.3")
        cores = ("push", "--on", "role=core", "--revert-timer", "7", "--verify-timeout", "2")
        unsplit = self.oast(*cores, "--dry-run", expect=1).out
        self.assertIn("warning: a wave of 2 devices may take", unsplit)
        self.assertIn(" or more, or --split-waves\n", unsplit)
        pushed = self.oast(*cores, "--split-waves", "-m", "desk", "--yes")
        self.assertIn("waves: 2 instead of 1, of at most 1 device", pushed.out)
        self.assertNotIn("or --split-waves", pushed.out, "it is given already")
        self.assertIn("2 devices delivered", pushed.out)
        told = [
            line.split("  ")[0]
            for line in pushed.err.splitlines()
            if line.startswith("wave ") or " delivered " in line
        ]
        self.assertEqual(
            told, ["wave 1 of 2: 1 device", "gull-core-1", "wave 2 of 2: 1 device", "heron-core-1"]
        )

    def test_settings_that_are_wrong_are_told(self) -> None:
        settings = (self.estate / "oast.toml").read_text()
        line = self.line_of("oast.toml", "waves =")
        for wrong, message in (
            ('waves = ["site=dunln"]', "no device has site=dunln"),
            ('waves = "site=dunlin"', "'waves' must be a list of selectors"),
            ("waves = [1]", "a wave must be a selector or a size in quotes"),
            ("max_failures = -1", "'max_failures' must be a whole number, 0 or more"),
        ):
            with self.subTest(wrong=wrong):
                (self.estate / "oast.toml").write_text(
                    settings.replace('waves = ["site=dunlin", "role=edge"]', wrong)
                )
                self.assertIn(f"oast.toml:{line}: {message}", self.oast("lint", expect=3).out)


class TogetherTest(LarkwaterTest):
    """What devices of one wave do to each other's checks."""

    delivered = True

    def test_what_is_confirmed_is_true_after_the_last_that_went_back(self) -> None:
        """One end of a link goes back for a reason of its own, and takes the neighbour along: the other end is not confirmed."""
        self.edit("checks/network.yaml", "checks:\n", DESK)
        both = (
            "--on",
            "name in (gull-core-1, heron-core-1)",
            "--revert-timer",
            "40",
            "--verify-timeout",
            "4",
        )
        # Both ends move to another MTU. gull-core-1 breaks a check that is its own besides, and goes back.
        self.edit(
            "templates/bine/interfaces.j2",
            "  mtu 9000\n",
            "  mtu {{ 8000 if link.port == 'port1' and 'core' in device.name else 9000 }}\n",
        )
        run = self.oast(
            "push", "-m", "mtu", "--yes", "--format", "json", *both, "--with", "contact=nobody", expect=5
        )
        told = {d["device"]: (d["state"], d["reason"] or "") for d in run.json()["devices"]}
        self.assertEqual(told["gull-core-1"][0], "reverted")
        self.assertEqual(told["heron-core-1"][0], "reverted", told)
        self.assertIn("OSPF neighbor gull-core-1", told["heron-core-1"][1])
        self.assertIn("all passed", self.oast("verify", "--wait", "20").out)

    def test_a_check_without_a_section_is_excused_only_where_nothing_changes_that_it_may_depend_on(
        self,
    ) -> None:
        failing = "checks:\n  - check: three-ways\n    on: name=tern-edge-1\n{}    reading: ospf-neighbors\n    where: {{state: full}}\n    least: 3\n"
        self.edit("values/network.yaml", "Larkwater network desk", "Larkwater day desk")
        push = (
            "push",
            "-m",
            "desk",
            "--on",
            "name=tern-edge-1",
            "--yes",
            "--revert-timer",
            "20",
            "--verify-timeout",
            "1",
        )
        (self.estate / "checks" / "more.yaml").write_text(failing.format(""))
        self.assertIn(
            "three-ways: ospf-neighbors with state full: expected at least 3,", self.oast(*push, expect=5).out
        )
        (self.estate / "checks" / "more.yaml").write_text(failing.format("    section: system\n"))
        self.assertNotIn("as before the change", self.oast(*push, expect=5).out)
        (self.estate / "checks" / "more.yaml").write_text(failing.format("    section: routing\n"))
        self.assertIn("before the change, and not affected by it)", self.oast(*push).out)


DESK = """checks:
  - check: somebody-to-call
    on: name=gull-core-1
    section: system
    reading: interfaces
    where: {name: "{{ 'port1' if contact != 'nobody' else 'port99' }}"}
"""


class SlowDeviceTest(LarkwaterTest):
    """A device that is loaded waits for a slow one of its wave."""

    whole = True

    def test_the_timer_of_a_loaded_device_is_extended_while_another_is_slow(self) -> None:
        self.edit("values/network.yaml", "Larkwater network desk", "Larkwater day desk")
        self.fault("gull-dist-1", "slow", "--match", "validate", "--seconds", "14")
        devices = ("--on", "name in (gull-core-1, gull-dist-1)", "--section", "system")
        pushed = self.oast(
            "push", *devices, "--revert-timer", "16", "--verify-timeout", "2", "-m", "desk", "--yes"
        )
        self.assertIn("2 devices delivered", pushed.out)
        self.assertIn("Larkwater day desk", self.running("gull-core-1"))
        log = next(self.estate.glob(".oast/log/*/gull-core-1.log")).read_text()
        self.assertRegex(log, r"> revert-timer extend \d+ as oast-")
        self.assertRegex(log, r"\* the device now waits \d+ s for the confirmation")
