"""Mistakes that show when all of a network's intents are looked at together; no device is touched."""

from __future__ import annotations

import datetime
from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path as FilePath

from oast.config import Node, Path, Scope
from oast.errors import ErrorCollector, EstateError
from oast.estate import Device, Estate
from oast.gc_tuning import gc_disabled
from oast.intent.intent import Intent, IntentBuilder
from oast.intent.policy import Policies
from oast.intent.roles import InterfaceAddress, addresses, bound_interfaces, interfaces
from oast.intent.value_origins import value_origins
from oast.platforms import Leafref, Rule, quoted
from oast.records import Problem
from oast.spelling import spelling_hint
from oast.text_file import read_text_file


class Lint:
    """Finds the mistakes of an estate. `trace` adds where the values on each line come from."""

    def __init__(
        self,
        estate: Estate,
        mistakes: ErrorCollector,
        today: datetime.date,
        only: Sequence[str],
        *,
        trace: bool = False,
    ) -> None:
        """`mistakes` are those found when the estate was read; `only` limits to sections."""
        self._estate = estate
        self._mistakes = mistakes
        self._today = today
        self._trace = trace
        self.builder = IntentBuilder(estate, only, mistakes)

        # How many problems of the last search follow from others, and are not reported.
        self.followers = 0

    def concerned(self, devices: Sequence[Device]) -> list[Device]:
        """Those of `devices` that have a section asked for. Raises EstateError when none has."""
        return self.builder.concerned(devices)

    def by_structure(self, device: Device) -> bool:
        """Whether nothing is known of the device's statements: its platform has no grammar."""
        try:
            return self.builder.platform(device).by_structure
        except EstateError:  # told with the mistakes
            return False

    def problems(self, devices: Sequence[Device]) -> list[Problem]:
        """Every mistake found for `devices`; what two devices disagree about is found when either is among
        them."""
        with gc_disabled():
            return self._problems(devices)

    def _problems(self, devices: Sequence[Device]) -> list[Problem]:
        found = list(self._mistakes.found)
        unread = self._unread_values()
        self.followers = 0
        intents: dict[str, Intent] = {}
        for device in self._estate.devices.values():
            try:
                intent, problems = self.builder.examine(device)
            except EstateError as error:
                found.extend(error.problems())
                continue
            causes = [problem for problem in problems if not _follows(problem, device, unread)]
            self.followers += len(problems) - len(causes)
            found.extend(causes)
            intents[device.name] = intent
        picked = {device.name for device in devices}
        holders: dict[tuple[str, str], tuple[Intent, Path]] = {}
        for name, intent in intents.items():
            bound = bound_interfaces(intent.platform, intent.tree)
            for path, node in _telling(intent.tree):
                rule = node.statement.rule
                if rule.unique:
                    instance = next((name for at, name in bound.items() if path[: len(at)] == at), "")
                    found.extend(self._used_twice(intent, path, node, instance, holders))
                for leafref in rule.leafrefs if name in picked else ():
                    found.extend(self._reference(intent, path, node, leafref))
                if name in picked and rule.children:
                    found.extend(self._too_many(intent, path, node))
                for needed in rule.least if name in picked and not _in_unsound(intent, path) else ():
                    found.extend(self._empty(intent, path, node, needed))
        found.extend(self._links(intents))
        for name in picked & intents.keys():
            found.extend(_management(intents[name]))
        before = len(self._mistakes.found)
        policies = Policies(self._estate, self._today, self._mistakes)
        with self._mistakes.collected():
            found.extend(policies.problems(list(intents.values())))
        found.extend(self._mistakes.found[before:])
        concerned = [p for p in found if not p.devices or picked & set(p.devices)]
        return concerned if not self._trace else [self._traced(p) for p in concerned]

    def _unread_values(self) -> list[tuple[str, str | None]]:
        """The values files with mistakes, each with its text where that can be read: a template that misses a
        value from them is not a mistake of its own."""
        files = {
            p.place.file
            for p in self._mistakes.found
            if p.place is not None and p.place.file.startswith("values/")
        }
        paths = {file: self._estate.folder / file for file in sorted(files)}
        found: list[tuple[str, str | None]] = []
        for file, path in paths.items():
            try:
                found.append((file, read_text_file(path, file)))
            except (EstateError, FileNotFoundError):  # It is reported already.
                found.append((file, None))
        return found

    def _at(self, intent: Intent, path: Path, kind: str, message: str, hint: str | None) -> Problem:
        node = intent.tree.at(path)
        excerpt = "  " * (len(path) - 1) + node.text if node else None
        return Problem(message, intent.place_of(path), hint, excerpt, (intent.device.name,), kind)

    def _reference(self, intent: Intent, path: Path, node: Node, leafref: Leafref) -> Iterator[Problem]:
        """The name of an entry that is not configured, where the sections own such entries."""
        value = node.statement.arguments[leafref.number]
        if not isinstance(value, str):
            return
        target = self._target(intent, leafref, value)
        if (
            intent.tree.at(target) is not None
            or not intent.scope.covers(target)
            or _in_unsound(intent, target)
        ):
            return
        number = leafref.target_argument
        known = [str(n.statement.arguments[number]) for _, n in intent.tree.find(leafref.target)]
        if value not in known:
            word = leafref.target.rpartition("/")[2]
            message = f"'{node.statement.rule.name}' refers to the {word} '{value}', which is not configured"
            yield self._at(intent, path, "reference", message, spelling_hint(value, known))

    def _target(self, intent: Intent, leafref: Leafref, value: str) -> Path:
        """Where the entry would stand; what is not known of its path is a star."""
        rule: Rule = intent.platform.grammar.root
        target: list[str] = []
        for name in leafref.target.split("/"):
            rule = rule.children[name]
            target.append(f"{name} *" if rule.kind == "list" else name)
        if rule.keys == (leafref.target_argument,):
            target[-1] = f"{rule.name} {quoted(value)}"
        return tuple(target)

    def _empty(self, intent: Intent, path: Path, node: Node, needed: Rule) -> Iterator[Problem]:
        count = sum(1 for child in node.children.values() if child.statement.rule is needed)
        if count < needed.min_elements:
            least = "one" if needed.min_elements == 1 else str(needed.min_elements)
            message = (
                f"'{node.text}' has no '{needed.name}'"
                if not count
                else f"'{node.text}' has only {count} '{needed.name}'"
            )
            yield self._at(
                intent,
                path,
                "empty",
                message,
                f"render at least {least} '{needed.name}' in it, or leave it out",
            )

    def _too_many(self, intent: Intent, path: Path, node: Node) -> Iterator[Problem]:
        numbers = Counter(
            child.statement.rule
            for child in node.children.values()
            if child.statement.rule.max_elements is not None
        )
        for rule, number in numbers.items():
            if number > (rule.max_elements or number):
                message = f"'{node.text}' can have {rule.max_elements} '{rule.name}', but has {number}"
                yield self._at(intent, path, "grammar", message, f"render at most {rule.max_elements}")

    def _used_twice(
        self,
        intent: Intent,
        path: Path,
        node: Node,
        instance: str,
        holders: dict[tuple[str, str], tuple[Intent, Path]],
    ) -> Iterator[Problem]:
        """An address that is on another interface of the network, too, in network instances of one name."""
        address = node.statement.value.partition("/")[0]
        other, there = holders.setdefault((instance, address), (intent, path))
        if there is not path:
            message = f"duplicate address {address}, also on {other.device.name} {there[0]}"
            yield self._at(
                intent, path, "address", message, f"the other one comes from {other.place_of(there)}"
            )

    def _links(self, intents: dict[str, Intent]) -> Iterator[Problem]:
        for link in self._estate.links:
            ends = [(intents.get(device), interface) for device, interface in (link.one, link.other)]
            found = [list(_addresses_of(intent, name)) if intent else [] for intent, name in ends]
            for version in (4, 6):
                one, other = ([(p, a) for p, a in side if a.version == version] for side in found)
                if not one or not other or {a.network for _, a in one} & {a.network for _, a in other}:
                    continue
                intent, far = ends[0][0], link.other
                if intent is not None:
                    message = (
                        f"the two ends of a link are in different subnets: {one[0][1]} here, {other[0][1]} on"
                        f" {far[0]} {far[1]}"
                    )
                    yield self._at(intent, one[0][0], "link", message, f"the link is in {link.place}")

    def _traced(self, problem: Problem) -> Problem:
        behind = value_origins(self._estate, self.builder, problem)
        return Problem(
            problem.message,
            problem.place,
            problem.hint,
            problem.excerpt,
            problem.devices,
            problem.kind,
            tuple(behind),
        )


def _management(intent: Intent) -> Iterator[Problem]:
    """An alternate management address that is on the same interface as the first is cut off
    together with it."""
    device, access = intent.device, intent.device.management
    if access.alternate is None or access.is_out_of_band or access.alternate.is_out_of_band:
        return
    first = access.interface or _interface_with(intent, access.address)
    other = access.alternate.interface or _interface_with(intent, access.alternate.host)
    if first is not None and first == other:
        message = (
            f"the alternate management address {access.alternate.host} and {access.address} are both on "
            f"{other}"
        )
        hint = "choose an address on another interface"
        yield Problem(
            message, device.places.get("alternate_address"), hint, devices=(device.name,), kind="address"
        )


def _interface_with(intent: Intent, host: str) -> str | None:
    """The interface that the intent gives an address, if it does."""
    for interface in interfaces(intent.platform, intent.tree):
        if any(str(own.ip) == host for _, own in addresses(intent.platform, interface.node)):
            return interface.name
    return None


def _in_unsound(intent: Intent, path: Path) -> bool:
    """Whether a part belongs to a section in which something is wrong: what it lacks may only be missing
    because of that."""
    unsound = [
        section.template.owns for section in intent.sections if section.template.section in intent.unsound
    ]
    return any(Scope.of(owns).covers(path) for owns in unsound)


def _telling(node: Node, path: Path = ()) -> Iterator[tuple[Path, Node]]:
    """The nodes that a check of a whole network looks at; what cannot hold any is passed over."""
    for identity, child in node.children.items():
        rule = child.statement.rule
        if rule.concerns_others:
            here = (*path, identity)
            if rule.unique or rule.leafrefs or rule.least:
                yield here, child
            if child.children:
                yield from _telling(child, here)


def _addresses_of(intent: Intent, name: str) -> Iterator[tuple[Path, InterfaceAddress]]:
    for interface in interfaces(intent.platform, intent.tree):
        if interface.name == name:
            for below, address in addresses(intent.platform, interface.node):
                yield (*interface.path, *below), address


def _follows(problem: Problem, device: Device, unread: Sequence[tuple[str, str | None]]) -> bool:
    """Whether a value is missing because a file that may hold it could not be read."""
    return problem.kind == "undefined" and any(
        (text is None or f"{problem.subject}:" in text or text.lstrip().startswith("- "))
        and (not file.startswith("values/devices/") or FilePath(file).stem == device.name)
        for file, text in unread
    )
