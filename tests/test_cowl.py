"""cowl: what the tool thinks of it and what it is, held against each other; its command line; delivery to it through the program."""

from __future__ import annotations

import asyncio
import re
import shutil
import tempfile
import unittest
from collections.abc import Iterator
from pathlib import Path

from hypothesis import given, settings, strategies as st

from larkwater import Run, program, simulator_of
from oast.config.commands import commands_of
from oast.config.dependency_order import NoDependencyOrder, in_dependency_order
from oast.config.edits import apply_edits, difference
from oast.config.tree import canonical
from oast.platforms.statements import Argument, Rule
from oastsim.cowl.configuration import empty, problems
from oastsim.cowl.device import Device
from oastsim.cowl.schema import SCHEMA
from oastsim.cowl.shell import Shell
from oastsim.model import Schema, Tree, steps_of
from oastsim.network import Account, DevicePlan, NetworkPlan
from oastsim.state import NetworkState
from trees import COWL, COWL_SYNTAX as SYNTAX, cowl_tree_of as tree_of

PORTS = frozenset(("manage0", "port1", "port2", "port3"))
ESTATE = Path(__file__).parent / "data" / "estates" / "quay"
ONE = st.sampled_from


def device_paths(schema: Schema, path: str = "") -> Iterator[str]:
    for node in schema.inner:
        here = f"{path}/{node.name}".strip("/")
        yield here
        yield from device_paths(node, here)


def carried_out(tree: Tree, line: str) -> None:
    """One line of the candidate, as the device takes it."""
    word, _, rest = line.partition(" ")
    if word == "place":
        if rest.endswith(" last"):
            tree.place(*steps_of(SCHEMA, rest[:-5]), None, None)
        else:
            one, _, other = rest.partition(" before ")
            tree.place(*steps_of(SCHEMA, one), *steps_of(SCHEMA, other))
    else:
        getattr(tree, word)(*steps_of(SCHEMA, rest))


@st.composite
def configurations(draw: st.DrawFn) -> str:
    """What a cowl may run."""
    lines = draw(ONE([[], ["/system/contact = desk"], ['/system/contact = "night \\"desk\\""']]))
    lines += [
        f"/system/dns-resolver/server = 192.0.2.{n}"
        for n in draw(st.permutations([1, 2, 3]))[: draw(st.integers(0, 3))]
    ]
    acls = draw(st.sets(ONE(["in-a", "in-b"])))
    for acl in sorted(acls):
        lines.append(f"/acls/acl[name={acl}]")
        for ace in draw(st.permutations(["web", "ssh", "rest"]))[: draw(st.integers(0, 3))]:
            here = f"/acls/acl[name={acl}]/ace[name={ace}]"
            lines += [f"{here}/forwarding = {draw(ONE(['accept', 'drop']))}"]
            lines += (
                [f"{here}/source-network = {draw(ONE(['any', '192.0.2.0/24']))}"]
                if draw(st.booleans())
                else []
            )
    vlans = draw(st.sets(ONE([110, 120, 130])))
    lines += [
        f"/vlans/vlan[vlan-id={n}]" if draw(st.booleans()) else f"/vlans/vlan[vlan-id={n}]/name = v{n}"
        for n in sorted(vlans)
    ]
    for number, port in enumerate(sorted(draw(st.sets(ONE(["port1", "port2", "port3"]))))):
        here = f"/interfaces/interface[name={port}]"
        lines += draw(ONE([[], [f"{here}/enabled = false"]])) + draw(
            ONE([[], [f'{here}/description = "a / b = c [d]"']])
        )
        lines += [f"{here}/ingress-acl = {draw(ONE(sorted(acls)))}"] if acls and draw(st.booleans()) else []
        kind = draw(ONE(["trunk", "access", "routed"])) if vlans else "routed"
        if kind == "trunk":
            lines += [f"{here}/switched-vlan/interface-mode = trunk"]
            lines += [
                f"{here}/switched-vlan/trunk-vlan = {n}" for n in sorted(draw(st.sets(ONE(sorted(vlans)))))
            ]
        elif kind == "access":
            lines += [f"{here}/switched-vlan/access-vlan = {draw(ONE(sorted(vlans)))}"]
        else:
            lines += [
                f"{here}/ipv4/address[ip=203.0.113.{draw(ONE([1, 2])) + 2 * number}]/prefix-length = {draw(ONE([30, 31]))}"
            ]
    return "".join(f"{line}\n" for line in lines)


class ContractTest(unittest.TestCase):
    """The tool's grammar of cowl and the device's own schema, written apart."""

    def test_both_know_the_same_statements_in_the_same_order(self) -> None:
        self.assertEqual([rule.path for rule in COWL.grammar.rules()], list(device_paths(SCHEMA)))

    def lines_for(self, rule: Rule, number: int) -> str:
        chain: list[Rule] = []
        here: Rule | None = rule
        while here is not None and here.path:
            chain.insert(0, here)
            here = here.outer
        path = ""
        for one in chain:
            last = one is rule
            keys = (
                "".join(f"[{a.name}={example(a, number if last else 0)}]" for a in one.arguments)
                if one.kind == "list"
                else ""
            )
            path += f"/{one.name}{keys}"
            if one.kind in ("leaf", "leaf-list"):
                path += f" = {example(one.arguments[0], number)}"
        return path + "\n"

    def test_the_device_takes_what_the_tool_allows_and_both_keep_it_in_one_spelling(self) -> None:
        for rule in COWL.grammar.rules():
            for number in (0, 1):
                text = self.lines_for(rule, number)
                if rule.kind == "container" and not rule.presence:
                    continue
                with self.subTest(text=text):
                    tree = empty()
                    tree.load(text)
                    self.assertEqual(SYNTAX.written(tree_of(tree.text())), SYNTAX.written(tree_of(text)))

    def test_both_mean_the_same_by_leaving_a_leaf_out(self) -> None:
        def node_at(path: str) -> Schema:
            node = SCHEMA
            for word in path.split("/"):
                node = node.below[word]
            return node

        for rule in COWL.grammar.rules():
            if rule.kind == "leaf":
                self.assertEqual(
                    rule.default[0] if rule.default else None, node_at(rule.path).default, rule.path
                )

    @settings(max_examples=80, deadline=None)
    @given(configurations(), configurations())
    def test_after_the_commands_the_device_runs_what_was_intended(self, one: str, other: str) -> None:
        running, wanted = empty(), tree_of(other)
        running.load(one)
        self.assertFalse(list(problems(running, PORTS)))
        a = tree_of(running.text())
        edits = difference(a, wanted)
        try:
            ordered = in_dependency_order(edits, running=a)
        except NoDependencyOrder:
            ordered = edits  # committed as a whole
        for command in commands_of(ordered, COWL):
            carried_out(running, command.line.written())
        self.assertFalse(list(problems(running, PORTS)), running.text())
        self.assertEqual(tree_of(running.text()), wanted)
        self.assertEqual(canonical(apply_edits(edits, a)), wanted)
        self.assertEqual(tree_of(SYNTAX.written(wanted)), wanted)


def example(argument: Argument, number: int) -> str:
    examples = argument.type.examples if argument.type else ()
    return examples[min(number, len(examples) - 1)]


class ShellTest(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        plan = DevicePlan(
            "pier",
            "cowl",
            PORTS,
            frozenset(("port3",)),
            "192.0.2.7",
            "/interfaces/interface[name=manage0]/ipv4/address[ip=192.0.2.7]/prefix-length = 24\n",
        )
        self.state = NetworkState(NetworkPlan((plan,), (), (), "x", 0.0), lambda: 0.0)
        self.device = Device(plan, folder, self.state)
        self.device.start((Account("ada", "administrator", "pw"), Account("ben", "viewer", "pw")), "x")
        self.again = lambda: Device(plan, folder, self.state)
        self.shell = Shell(self.device, "ada", height=0)

    def type(self, *lines: str, shell: Shell | None = None) -> str:
        return (shell or self.shell).receive("".join(f"{line}\n" for line in lines)).replace("\r", "")

    async def test_what_is_wrong_is_refused_with_its_path(self) -> None:
        self.type("open candidate")
        for line, told in (
            ("set /vlans/vlan[vlan-id=5000]", '"5000" for vlan-id: a number between 1 and 4094 is needed'),
            ("set /vlans/valn[vlan-id=5]", "valn is not known below vlans; known: vlan"),
            ("set /vlans/vlan = 5", "vlan takes [vlan-id=…]"),
            ("set /vlans", "vlans means nothing by itself"),
            ("set /system/contact", "contact needs a value"),
            ('set /system/contact = "half', "the quote is not closed"),
            ("unset /system/contact", "that is not configured\n  at /system/contact"),
            ("place /system/dns-resolver/server = 192.0.2.1 last", "that is not configured"),
            ("unser x", "'unser' is not a command"),
            ("commit timer now", "say timer SECONDS"),
        ):
            self.assertIn(f"refused: {told}", self.type(line))
        self.type(
            "set /interfaces/interface[name=port9]/enabled = true",
            "set /interfaces/interface[name=port1]/ingress-acl = none",
        )
        self.assertIn("acl none does not exist", self.type("validate"))
        self.type("unset /interfaces/interface[name=port1]/ingress-acl")
        self.assertIn("this device has no port9", self.type("commit"))
        self.assertEqual(self.device.running.at("interfaces", "interface", ("port9",)), None)

    async def test_a_commit_that_is_not_confirmed_is_undone_also_over_a_restart(self) -> None:
        before = self.device.running.text()
        self.type("open candidate", "set /system/contact = desk")
        self.assertIn("undone in 1 s unless confirmed", self.type("commit timer 1"))
        self.assertIn("commit of ada waits to be confirmed", self.type("list pending"))
        self.assertIn("a commit of ada waits", self.type("set /system/contact = x", "commit"))
        async with asyncio.timeout(10):
            while self.device.pending is not None:
                await asyncio.sleep(0.05)
        self.assertEqual(self.device.running.text(), before)
        self.type("set /system/contact = desk", "commit timer 600")
        self.assertIn("another commit waits", self.type("extend 900 as mine"))
        self.assertIn("say SECONDS, or SECONDS as NAME", self.type("extend soon"))
        self.assertIn("undone in 900 s unless confirmed", self.type("extend 900"))
        self.assertRegex(self.type("list pending"), "waits to be confirmed: (900|899) s left")
        other = self.again()
        other.start((), "x")
        self.assertEqual(other.running.text(), before)
        self.type("confirm", "save")
        other = self.again()
        other.start((), "x")
        self.assertIn("/system/contact = desk", other.running.text())
        self.assertIn("/system/contact = desk", other.startup)

    async def test_the_candidate_is_everybodys_until_somebody_locks_it(self) -> None:
        other = Shell(self.device, "ada", height=0)
        self.type("open candidate", "set /system/contact = desk")
        self.assertIn("+ /system/contact = desk", self.type("open candidate", "compare", shell=other))
        self.assertIn("holds changes that are not committed", self.type("lock candidate", shell=other))
        self.type("discard", shell=other)
        self.type("lock candidate", "set /system/contact = gate", shell=other)
        self.assertIn("refused: ada has the lock", self.type("set /system/location = x"))
        other.end()
        self.assertEqual(
            self.type("compare"), "compare\ncowl candidate ~ ", "with the lock went what was not committed"
        )

    async def test_who_may_do_what(self) -> None:
        viewer = Shell(self.device, "ben", height=0)
        self.assertIn("only an administrator may do this", self.type("open candidate", shell=viewer))
        self.assertIn("/users/user[name=ben]", self.type("list running", shell=viewer))
        self.assertIn("open the candidate first", self.type("set /system/contact = x"))

    async def test_long_listings_come_in_pages(self) -> None:
        self.shell.page_length = 4
        self.assertTrue(self.shell.receive("list running\n").endswith("-- page 1, space: more, x: enough --"))
        self.assertIn("page 2", self.shell.receive(" ") + "page 2")
        self.shell.receive("x")
        self.assertEqual(self.shell.receive("page off\n").count("~ "), 1)


class ProgramTest(unittest.TestCase):
    """Three switches in a ring, delivered to by the real program."""

    def setUp(self) -> None:
        super().setUp()
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))
        self.estate = folder / "quay"
        shutil.copytree(ESTATE, self.estate)
        self.environment = {"OAST_SECRET_LOGIN": "reed-and-sedge"}
        simulator = simulator_of(self.estate, self.environment)
        self.addCleanup(simulator.stop)
        simulator.start()
        self.oast("devices", "trust", "--yes")

    def oast(self, *arguments: str, expect: int | None = 0, stdin: str = "") -> Run:
        run = program(*arguments, cwd=self.estate, environment=self.environment, stdin=stdin)
        self.assertNotIn("fault of Oast", run.err)
        if expect is not None:
            self.assertEqual(run.code, expect, run.out + run.err)
        return run

    def console(self, device: str, *lines: str) -> str:
        return self.oast(
            "sim", "console", device, stdin="".join(f"{line}\n" for line in ("page off", *lines, "leave"))
        ).out

    def edit(self, old: str, new: str) -> None:
        path = self.estate / "templates" / "cowl" / "all.j2"
        self.assertIn(old, path.read_text())
        path.write_text(path.read_text().replace(old, new))

    def test_a_ring_of_switches_is_delivered_verified_and_then_as_intended(self) -> None:
        self.oast("lint")
        run = self.oast("push", "-m", "first", "--yes", "--format", "json")
        self.assertEqual({d["state"] for d in run.json()["devices"]}, {"delivered"})
        self.assertRegex(self.oast("diff").out, r"(?m)^\d+ devices? in sync$")
        self.oast("verify")
        # One port of the ring blocks, at the switch that is farthest from the root.
        blocked = [
            line.split()[:3]
            for name in ("sw-1", "sw-2", "sw-3")
            for line in self.console(name, "list spanning-tree").splitlines()
            if "alternate" in line
        ]
        self.assertEqual(blocked, [["port1", "alternate", "discarding"]])
        self.assertRegex(self.console("sw-2", "trace 203.0.113.3"), r"1  203\.0\.113\.3  sw-3\narrived")
        self.assertEqual(
            self.console("sw-1", "list running"),
            self.console("sw-1", "list startup").replace("list startup", "list running"),
        )

    def test_order_and_removal(self) -> None:
        self.oast("push", "-m", "first", "--yes")
        self.edit(
            "ace[name=web]/forwarding = accept",
            "ace[name=ssh]/forwarding = drop\n/acls/acl[name=gates-in]/ace[name=web]/forwarding = accept",
        )
        self.edit('/system/contact = "quay desk"\n', "")
        self.oast("push", "-m", "ssh first", "--yes")
        running = self.console("sw-2", "list running")
        self.assertEqual(re.findall(r"ace\[name=(\w+)\]/forwarding", running), ["ssh", "web", "rest"])
        self.assertNotIn("contact", running)
        self.assertRegex(self.oast("diff").out, r"(?m)^\d+ devices? in sync$")

    def test_what_a_device_refuses_leaves_all_as_it_was(self) -> None:
        before = self.console("sw-2", "list running")
        self.oast("sim", "fault", "sw-2", "refuse", "--match", "vlan-id=110")
        run = self.oast("push", "-m", "first", "--yes", "--one-wave", expect=4)
        self.assertIn("the system could not do this (cause 41) (templates/cowl/all.j2:", run.out)
        self.oast("sim", "fault", "sw-2", "none")
        self.assertEqual(self.console("sw-2", "list running"), before)
        self.assertNotIn("+", self.console("sw-2", "open candidate", "compare").split("compare")[1])

    def test_a_commit_or_a_candidate_of_somebody_else_is_left_alone(self) -> None:
        mine = self.console("sw-1", "open candidate", "set /system/location = pier", "commit timer 300")
        self.assertIn("undone in 300 s", mine)
        self.console("sw-2", "open candidate", "set /system/location = pier")
        run = self.oast("push", "-m", "first", "--yes", "--format", "json", expect=4)
        found = {d["device"]: d for d in run.json()["devices"]}
        self.assertIn("a commit is waiting for confirmation (by oast)", found["sw-1"]["reason"])
        self.assertIn("holds changes that are not committed", found["sw-2"]["reason"])
        self.assertEqual({found[name]["state"] for name in ("sw-1", "sw-2")}, {"unchanged"})
        self.assertIn("commit of oast waits", self.console("sw-1", "list pending"))
        self.assertIn("+ /system/location = pier", self.console("sw-2", "open candidate", "compare"))

    def test_a_switch_that_hangs_after_the_commit_goes_back_by_itself(self) -> None:
        before = self.console("sw-3", "list running")
        self.oast("sim", "fault", "sw-3", "drop", "--match", "confirm")
        run = self.oast(
            "push",
            "-m",
            "first",
            "--yes",
            "--format",
            "json",
            "--revert-timer",
            "8",
            "--verify-timeout",
            "2",
            expect=4,
        )
        found = next(d for d in run.json()["devices"] if d["device"] == "sw-3")
        self.assertEqual(found["state"], "reverted", found)
        self.oast("sim", "fault", "sw-3", "none")
        self.assertEqual(self.console("sw-3", "list running"), before)

    def test_filters_that_interfaces_exchange_are_delivered_at_once(self) -> None:
        one, other = "vlan110]/ingress-acl = gates-in\n", "port3]/ingress-acl = other\n"
        self.edit(
            f"/interfaces/interface[name={one}",
            f"/interfaces/interface[name={one}/interfaces/interface[name={other}/acls/acl[name=other]/ace[name=a]/forwarding = drop\n",
        )
        self.oast("push", "-m", "first", "--yes")
        self.edit(one, one.replace("gates-in", "other"))
        self.edit(other, other.replace("other", "gates-in"))
        self.edit(
            "acl[name=other]/ace[name=a]/forwarding = drop", "acl[name=other]/ace[name=a]/forwarding = accept"
        )
        self.edit("ace[name=rest]/forwarding = accept", "ace[name=rest]/forwarding = drop")
        self.oast("push", "-m", "exchanged", "--yes")
        self.assertRegex(self.oast("diff").out, r"(?m)^\d+ devices? in sync$")
