"""roundel: what the tool thinks of it and what it is, held against each other; delivery to it over NETCONF through the program."""

from __future__ import annotations

import shutil
import tomllib
import unittest
from collections.abc import Iterator

from oast.config.tree import canonical
from oast.platforms.load import SHIPPED
from oast.platforms.statements import Rule
from oastsim.model import Schema, Tree
from oastsim.roundel.schema import SCHEMA
from roundels import ROUNDEL, SYNTAX
from wharf import QUICK, ProgramTest


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
    value = (
        f" = {SYNTAX.grammar.quote(example(rule, 0, number))}"
        if rule.arguments and not rule.holds_others
        else ""
    )
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
        tool = {
            rule.path: (rule.kind, rule.module.name if rule.module else "")
            for rule in ROUNDEL.grammar.rules()
        }
        self.assertEqual(tool, {path: (node.kind, node.module) for path, node in device_paths(SCHEMA)})

    def test_both_have_the_same_defaults_order_and_presence(self) -> None:
        device = dict(device_paths(SCHEMA))
        for rule in ROUNDEL.grammar.rules():
            with self.subTest(path=rule.path):
                node = device[rule.path]
                default = rule.default[0] if rule.default else None
                self.assertEqual(
                    (default, rule.user_ordered, rule.presence), (node.default, node.by_user, node.presence)
                )

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
                    device.load(
                        "".join(f"{line.written()}\n" for line, _ in SYNTAX._paths.printed(tree.tree))
                    )
                    self.assertEqual(canonical(SYNTAX.parse(device.text()).tree), canonical(tree.tree))


class DeliveryTest(ProgramTest):
    def test_a_ring_is_delivered_verified_saved_and_then_as_intended(self) -> None:
        self.oast("lint")
        self.assertEqual({d["state"] for d in self.push().values()}, {"delivered"})
        self.assertRegex(self.oast("diff").out, r"(?m)^\d+ devices? in sync$")
        self.assertIn("checks on 3 devices: all", self.oast("verify").out)
        for name in ("rt-1", "rt-2", "rt-3"):
            self.assertEqual(self.kept(name), self.kept(name, "startup"))
            self.assertIn(
                "/ospf/area[area-id=0.0.0.0]/interface[name=port1]/hello-interval = 1\n", self.kept(name)
            )

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
        order = [
            line.partition("ace[name=")[2].partition("]")[0]
            for line in running.splitlines()
            if "forwarding = ietf" in line
        ]
        self.assertEqual(order, ["web", "ssh", "rest"])
        self.assertNotIn("contact", running)
        self.assertIn("/system/authentication/user[name=oast]/password", running)
        self.assertRegex(self.oast("diff").out, r"(?m)^\d+ devices? in sync$")

    def test_what_is_refused_is_told_with_tag_path_and_template_line_and_leaves_all_as_it_was(self) -> None:
        before = self.kept("rt-2")
        self.edit("values/addresses.yaml", "port1: 203.0.113.18, port2", "port1: 203.0.113.18, port9")
        found = self.push("--on", "name=rt-2", "--section", "base", expect=4)["rt-2"]
        self.assertIn(
            "operation-failed at /if:interfaces/if:interface[if:name='port9']: this device has no port9",
            found["reason"],
        )
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

    def test_the_platform_is_made_from_the_device(self) -> None:
        self.oast("platform", "from-yang", "again", "--on", "name=rt-1")
        made = tomllib.loads((self.estate / "platforms" / "again.toml").read_text())
        shipped = tomllib.loads((SHIPPED / "roundel.toml").read_text())
        for table in ("statements", "types"):
            self.assertEqual(made[table], shipped[table])
        # Modules of state and operations alone have no statements; the shipped file needs them for its readings.
        of_state = {
            name: shipped["modules"][name]
            for name in ("roundel-hardware", "roundel-lldp", "roundel-ntp", "roundel-tools")
        }
        self.assertEqual({**made["modules"], **of_state}, shipped["modules"])
        # And it drives the device.
        self.edit(
            "inventory/devices.yaml",
            "rt-1: {address: 192.0.2.41, platform: roundel",
            "rt-1: {address: 192.0.2.41, platform: again",
        )
        shutil.copytree(self.estate / "templates" / "roundel", self.estate / "templates" / "again")
        self.assertIn("rt-1  +", self.oast("diff", "--on", "name=rt-1", expect=1).out)


if __name__ == "__main__":
    unittest.main()
