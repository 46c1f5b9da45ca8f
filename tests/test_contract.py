"""The tool's grammar of bine and the device's own, written apart, held against each other."""

from __future__ import annotations

import unittest
from collections.abc import Iterator

from oast.platforms.statements import Argument, Rule
from oastsim.bine.configuration import Configuration
from oastsim.bine.schema import STATEMENTS, Known
from trees import BINE, SYNTAX, tree_of

PORTS = frozenset(("port1", "port2"))
SUPPORT = "acl quay-in\nnetwork-instance quay-in\ninterface port1\ninterface port2\ninterface port2.110\ninterface loop0\n"


def arguments(rule: Rule, number: int) -> str:
    """Example arguments for `rule`: the canonical spelling for 0, another one for 1 where the type has one."""
    words = []
    for place in rule.positional:
        words.append(example(rule.arguments[place], number))
    for option in rule.options.values():
        words.append(option.keyword)
        words.extend(
            example(rule.arguments[place], number) for place in option.numbers if rule.arguments[place].type
        )
    return " ".join(words)


def example(argument: Argument, number: int) -> str:
    examples = argument.type.examples if argument.type else ()
    return examples[min(number, len(examples) - 1)]


def lines_for(path: str, number: int) -> str:
    """A configuration with the statement at `path` of the tool's grammar in it."""
    lines = [SUPPORT] if not path.startswith("interface") else ["acl quay-in\nnetwork-instance quay-in\n"]
    rule = BINE.grammar.root
    for depth, word in enumerate(path.split("/")):
        rule = rule.children[word]
        last = depth == path.count("/")
        lines.append("  " * depth + f"{word} {arguments(rule, number if last else 0)}".rstrip() + "\n")
    return "".join(lines)


def device_paths(known: Known, path: str = "") -> Iterator[str]:
    for word, below in known.below.items():
        here = f"{path}/{word}" if path else word
        yield here
        yield from device_paths(below, here)


class ContractTest(unittest.TestCase):
    def test_both_know_the_same_statements(self) -> None:
        self.assertEqual({rule.path for rule in BINE.grammar.rules()}, set(device_paths(STATEMENTS)))

    def test_the_device_takes_what_the_tool_allows_and_both_keep_it_in_one_spelling(self) -> None:
        for rule in BINE.grammar.rules():
            for number in (0, 1):
                text = lines_for(rule.path, number)
                with self.subTest(path=rule.path, text=text):
                    device = Configuration(PORTS)
                    device.load(text)
                    self.assertEqual(SYNTAX.written(tree_of(device.text())), SYNTAX.written(tree_of(text)))

    def test_both_leave_out_the_same_defaults(self) -> None:
        for rule in BINE.grammar.rules():
            if rule.default is None:
                continue
            outer = rule.path.rpartition("/")[0]
            text = lines_for(outer, 0) + "  " * rule.path.count("/") + f"{rule.name} {rule.default[0]}\n"
            with self.subTest(path=rule.path):
                device = Configuration(PORTS)
                device.load(text)
                self.assertNotIn(f"{rule.name} {rule.default[0]}", device.text())
                self.assertNotIn(f"{rule.name} {rule.default[0]}", SYNTAX.written(tree_of(text)))
