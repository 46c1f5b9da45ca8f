"""roundel: what the tool thinks of it and what it is, held against each other; delivery to it over NETCONF through the program."""

from __future__ import annotations

import json
import shutil
import tempfile
import tomllib
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from larkwater import Run, program, simulator_of
from netconf_client import Client
from oast.config.tree import canonical
from oast.platforms.load import SHIPPED
from oast.platforms.statements import Rule
from oastsim.model import Schema, Tree
from oastsim.roundel.schema import SCHEMA
from roundels import ROUNDEL, SYNTAX

ESTATE = Path(__file__).parent / "data" / "estates" / "wharf"
QUICK = ("--revert-timer", "15", "--verify-timeout", "5")


def device_paths(schema: Schema, path: str = "") -> Iterator[tuple[str, Schema]]:
    for node in schema.inner:
        here = f"{path}/{node.name}".strip("/")
        yield here, node
        yield from device_paths(node, here)


def line_for(rule: Rule, number: int) -> str:
    """A path statement with the statement of `rule` in it; of its value another spelling for 1, where the type has one."""
    levels: list[str] = []
    here: Rule | None = rule
    while here is not None and here.path:
        keys = "".join(f"[{here.arguments[n].name}='{example(here, n, 0)}']" for n in here.keys)
        levels.insert(0, f"/{here.name}{keys}")
        here = here.outer
    value = f" = {SYNTAX.grammar.quote(example(rule, 0, number))}" if rule.arguments and not rule.holds_others else ""
    return "".join(levels) + value + "\n"


# What a pattern alone does not tell an example of.
EXAMPLES = {"password": "$pbkdf2-sha256$500$c2FsdA$aGFzaA"}


def example(rule: Rule, number: int, which: int) -> str:
    kind = rule.arguments[number].type
    if kind is None or not kind.examples:
        return EXAMPLES.get(rule.name, "pier")
    return kind.examples[min(which, len(kind.examples) - 1)].strip('"')


class ContractTest(unittest.TestCase):
    def test_both_know_the_same_statements_in_the_same_modules(self) -> None:
        tool = {rule.path: (rule.kind, rule.module.name if rule.module else "") for rule in ROUNDEL.grammar.rules()}
        self.assertEqual(tool, {path: (node.kind, node.module) for path, node in device_paths(SCHEMA)})

    def test_both_have_the_same_defaults_order_and_presence(self) -> None:
        device = dict(device_paths(SCHEMA))
        for rule in ROUNDEL.grammar.rules():
            with self.subTest(path=rule.path):
                node = device[rule.path]
                default = rule.default[0] if rule.default else None
                self.assertEqual((default, rule.user_ordered, rule.presence), (node.default, node.by_user, node.presence))

    def test_the_device_takes_what_the_tool_allows_and_both_keep_it_in_one_spelling(self) -> None:
        for rule in ROUNDEL.grammar.rules():
            for number in (0, 1):
                text = line_for(rule, number)
                if rule.kind == "container" and not rule.presence:
                    continue
                with self.subTest(path=rule.path, text=text):
                    tree = SYNTAX.parse(text)
                    self.assertEqual(tree.problems, ())
                    device = Tree(SCHEMA)
                    # As the tool has it: identities with their modules, values in their canonical form.
                    device.load("".join(f"{line.written()}\n" for line, _ in SYNTAX._paths.printed(tree.tree)))
                    self.assertEqual(canonical(SYNTAX.parse(device.text()).tree), canonical(tree.tree))


class ProgramTest(unittest.TestCase):
    """Three routers in a ring, delivered to by the real program."""

    without: tuple[str, ...] = ()

    def setUp(self) -> None:
        super().setUp()
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))
        self.estate = folder / "wharf"
        shutil.copytree(ESTATE, self.estate)
        if self.without:
            self.edit("network.yaml", "defaults: {", f"defaults: {{without: [{', '.join(self.without)}], ")
        self.environment = {"OAST_SECRET_LOGIN": "reed-and-sedge"}
        self.simulator = simulator_of(self.estate, self.environment)
        self.addCleanup(self.simulator.stop)
        self.simulator.start()
        self.oast("devices", "trust", "--yes")

    def oast(self, *arguments: str, expect: int | None = 0) -> Run:
        run = program(*arguments, cwd=self.estate, environment=self.environment)
        self.assertNotIn("fault of Oast", run.err + run.out)
        self.assertNotIn("Traceback", run.err)
        if expect is not None:
            self.assertEqual(run.code, expect, run.out + run.err)
        return run

    def push(self, *arguments: str, expect: int = 0) -> dict[str, dict[str, Any]]:
        run = self.oast("push", "-m", "a reason", "--yes", "--format", "json", *arguments, expect=expect)
        return {device["device"]: device for device in run.json()["devices"]}

    def kept(self, device: str, file: str = "running") -> str:
        """What the device itself has on its disk."""
        return (self.estate / ".oast" / "sim" / "devices" / device / file).read_text()

    def client(self, device: str) -> Client:
        """A session of somebody else."""
        where = json.loads((self.estate / ".oast" / "sim" / "listening.json").read_text())["devices"][device]
        return Client(where["host"], where["port"], "oast", "reed-and-sedge")

    def edit(self, file: str, old: str, new: str) -> None:
        path = self.estate / file
        self.assertIn(old, path.read_text())
        path.write_text(path.read_text().replace(old, new))


class DeliveryTest(ProgramTest):
    def test_a_ring_is_delivered_verified_saved_and_then_as_intended(self) -> None:
        self.oast("lint")
        self.assertEqual({d["state"] for d in self.push().values()}, {"delivered"})
        self.assertIn("nothing to do", self.oast("diff").out)
        self.assertIn("15 checks on 3 devices: all true", self.oast("verify").out)
        for name in ("rt-1", "rt-2", "rt-3"):
            self.assertEqual(self.kept(name), self.kept(name, "startup"))
            self.assertIn("/ospf/area[area-id=0.0.0.0]/interface[name=port1]/hello-interval = 1\n", self.kept(name))

    def test_order_removal_and_what_nobody_owns(self) -> None:
        self.push()
        self.edit(
            "templates/roundel/base.j2",
            "<ace><name>rest</name>",
            "<ace><name>ssh</name><actions><forwarding>drop</forwarding></actions></ace>\n      <ace><name>rest</name>",
        )
        self.edit("templates/roundel/base.j2", "  <contact>wharf desk</contact>\n", "")
        self.push()
        running = self.kept("rt-2")
        order = [line.partition("ace[name=")[2].partition("]")[0] for line in running.splitlines() if "forwarding = ietf" in line]
        self.assertEqual(order, ["web", "ssh", "rest"])
        self.assertNotIn("contact", running)
        self.assertIn("/system/authentication/user[name=oast]/password", running)
        self.assertIn("nothing to do", self.oast("diff").out)

    def test_what_is_refused_is_told_with_tag_path_and_template_line_and_leaves_all_as_it_was(self) -> None:
        before = self.kept("rt-2")
        self.edit("values/addresses.yaml", "port1: 203.0.113.18, port2", "port1: 203.0.113.18, port9")
        found = self.push("--on", "name=rt-2", "--section", "base", expect=4)["rt-2"]
        self.assertIn("operation-failed at /if:interfaces/if:interface[if:name='port9']: this device has no port9", found["reason"])
        self.assertIn("(templates/roundel/base.j2:", found["reason"])
        self.assertEqual((found["state"], self.kept("rt-2")), ("unchanged", before))

    def test_a_commit_that_is_not_confirmed_goes_back(self) -> None:
        before = {name: self.kept(name) for name in ("rt-1", "rt-2", "rt-3")}
        self.edit(
            "templates/roundel/routing.j2",
            "area[area-id=0.0.0.0]/interface[name={{ port }}]/hello",
            "area[area-id=0.0.0.{{ device.number }}]/interface[name={{ port }}]/hello",
        )
        states = {name: found["state"] for name, found in self.push(*QUICK, expect=5).items()}
        self.assertEqual(set(states.values()), {"reverted"})
        self.assertEqual({name: self.kept(name) for name in before}, before)

    def test_a_device_that_is_lost_at_the_confirmation_goes_back_by_itself(self) -> None:
        before = self.kept("rt-3")
        self.oast("sim", "fault", "rt-3", "drop", "--match", "persist-id")
        found = self.push(*QUICK, expect=4)["rt-3"]
        self.oast("sim", "fault", "rt-3", "none")
        self.assertEqual((found["state"], self.kept("rt-3")), ("reverted", before), found)

    def test_a_device_that_goes_back_only_when_it_is_left_alone_goes_back(self) -> None:
        before = self.kept("rt-3")
        self.oast("sim", "fault", "rt-3", "busy", "--seconds", "0.8")
        self.edit("values/addresses.yaml", "203.0.113.25", "203.0.113.125")
        found = self.push("--on", "name=rt-3", *QUICK, expect=5)["rt-3"]
        self.assertEqual((found["state"], self.kept("rt-3")), ("reverted", before), found)

    def test_an_ok_that_is_not_true_is_not_believed(self) -> None:
        for match, told in (
            ("<commit", "differences are left"),
            ("edit-config", "its candidate lacks"),
            ("copy-config", "would start with something else"),
        ):
            with self.subTest(match=match):
                self.oast("sim", "fault", "rt-1", "untrue", "--match", match)
                before = self.kept("rt-1")
                found = self.push(*QUICK, expect=4)["rt-1"]
                self.oast("sim", "fault", "rt-1", "none")
                self.assertIn(told, found["reason"])
                self.assertEqual(found["state"] == "delivered", self.kept("rt-1") != before, found)

    def test_the_platform_is_made_from_the_device(self) -> None:
        self.oast("platform", "from-yang", "again", "--on", "name=rt-1")
        made = tomllib.loads((self.estate / "platforms" / "again.toml").read_text())
        shipped = tomllib.loads((SHIPPED / "roundel.toml").read_text())
        for table in ("statements", "types"):
            self.assertEqual(made[table], shipped[table])
        self.assertEqual({**made["modules"], "roundel-lldp": shipped["modules"]["roundel-lldp"]}, shipped["modules"])
        # And it drives the device.
        self.edit("inventory/devices.yaml", "rt-1: {address: 192.0.2.41, platform: roundel", "rt-1: {address: 192.0.2.41, platform: again")
        shutil.copytree(self.estate / "templates" / "roundel", self.estate / "templates" / "again")
        self.assertIn("rt-1  +", self.oast("diff", "--on", "name=rt-1", expect=1).out)


class SomebodyElseTest(ProgramTest):
    def test_what_somebody_else_has_begun_is_left_alone(self) -> None:
        with self.client("rt-1") as one, self.client("rt-2") as two:
            contact = '<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><location>pier</location></system>'
            edit = f"<edit-config><target><candidate/></target><config>{contact}</config></edit-config>"
            self.assertIn("<ok/>", one.ask(edit))
            self.assertIn("<ok/>", one.ask("<commit><confirmed/><confirm-timeout>300</confirm-timeout><persist>mine</persist></commit>"))
            self.assertIn("<ok/>", two.ask(edit))
            found = self.push(expect=4)
            for name, told in (("rt-1", "a commit waits to be confirmed"), ("rt-2", "holds changes that are not committed")):
                self.assertIn("somebody else is at its", found[name]["reason"])
                self.assertIn(told, found[name]["reason"])
                self.assertEqual(found[name]["state"], "unchanged")
            self.assertIn("<ok/>", one.ask("<commit><persist-id>mine</persist-id></commit>"), "her commit still waits")
            self.assertIn("location", two.ask("<get-config><source><candidate/></source></get-config>"), "her edit is still there")
            self.assertNotIn("contact", self.kept("rt-1"))


class OldTest(ProgramTest):
    """Sessions of base:1.0, in which a commit ends with its session."""

    without = ("base:1.1", "startup", "validate")

    def test_it_is_delivered_and_goes_back_with_its_session(self) -> None:
        before = self.kept("rt-1")
        self.oast("sim", "fault", "rt-1", "refuse", "--match", '<commit xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"/>')
        found = self.push("--on", "name=rt-1", "--revert-timer", "60", expect=5)["rt-1"]
        self.assertEqual((found["state"], self.kept("rt-1")), ("reverted", before), found)
        self.oast("sim", "fault", "rt-1", "none")
        self.assertEqual({d["state"] for d in self.push().values()}, {"delivered"})
        self.assertIn("nothing to do", self.oast("diff").out)


class RunningTest(ProgramTest):
    """Servers without a candidate are edited as they run."""

    without = ("candidate", "confirmed-commit")

    def test_it_is_edited_as_it_runs_and_taken_back_by_inverse_edits(self) -> None:
        before = self.kept("rt-1")
        self.edit("values/addresses.yaml", "203.0.113.26", "203.0.113.126")
        found = self.push("--on", "name=rt-1", *QUICK, expect=5)["rt-1"]
        self.assertEqual((found["state"], found["way_back"]), ("reverted", "inverse edits that Oast sends"))
        self.assertEqual(self.kept("rt-1"), before)
        self.edit("values/addresses.yaml", "203.0.113.126", "203.0.113.26")
        self.assertEqual({d["state"] for d in self.push().values()}, {"delivered"})


class NeitherTest(ProgramTest):
    without = ("candidate", "rollback-on-error")

    def test_it_is_refused_with_the_reason(self) -> None:
        before = self.kept("rt-1")
        found = self.push("--on", "name=rt-1", expect=4)["rt-1"]
        self.assertIn("its hello offers neither candidate nor rollback-on-error", found["reason"])
        self.assertEqual((found["state"], self.kept("rt-1")), ("unchanged", before))


if __name__ == "__main__":
    unittest.main()
