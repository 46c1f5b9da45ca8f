"""Policies: what must be true of intended configurations and values before anything is sent. The page:
docs/policies.md."""

from __future__ import annotations

import datetime
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import jinja2

from oast.config import Node, Path, Pattern, Scope, glob_matches, pattern_of
from oast.errors import ErrorCollector, EstateError
from oast.estate import (
    Estate,
    MissingError,
    Selector,
    YamlMap,
    describe_jinja_error,
    evaluated,
    parse_selector,
    read_entries,
)
from oast.intent.intent import Intent
from oast.intent.roles import is_off
from oast.platforms import UnknownStatement
from oast.records import Place, Problem
from oast.spelling import spelling_hint

RULES = ("must_contain", "must_not_contain", "must_be_equal", "must_differ", "expression", "secret_age")
_KEYS = ("policy", "on", "severity", "message", "each", "by", "waivers", *RULES)


@dataclass(frozen=True)
class Waiver:
    """Devices that a policy does not hold for, why, and until when (that day included)."""

    on: Selector
    reason: str
    until: datetime.date


@dataclass(frozen=True)
class Policy:
    """One policy: exactly one of RULES with its argument. `each`: the rule holds below each statement that
    matches."""

    name: str
    on: Selector | None
    severity: str
    message: str
    rule: str
    argument: Any
    each: Pattern | None
    by: str | None
    waivers: tuple[Waiver, ...]
    place: Place


def _is_text(value: Any) -> bool:
    return isinstance(value, str) and bool(value.strip())


# A policy without an effect would never fail, and go unnoticed.
_SHAPES: Mapping[str, tuple[str, Callable[[Any], bool]]] = {
    **dict.fromkeys(
        ("must_contain", "must_not_contain", "must_be_equal", "each"),
        ("a pattern such as 'interface */mtu *'", _is_text),
    ),
    "must_differ": (
        "expressions in a list, or one that gives a list",
        lambda v: isinstance(v, (str, list)) and bool(v),
    ),
    "expression": ("an expression", lambda v: _is_text(v) or isinstance(v, bool)),
    "secret_age": ("a number of days", lambda v: isinstance(v, int) and not isinstance(v, bool) and v >= 0),
    "by": ("the name of an attribute", _is_text),
    "message": ("text", _is_text),
    "waivers": ("a list of '{on: SELECTOR, reason: TEXT, until: DATE}'", lambda v: isinstance(v, list)),
}


def read_policies(estate: Estate, mistakes: ErrorCollector) -> tuple[Policy, ...]:
    """All policies of the estate, in file and then written order; what is wrong goes to `mistakes`."""
    make = partial(_policy, estate=estate)
    return tuple(read_entries(estate.folder, "policy", "policies", _KEYS, make, mistakes))


def _policy(item: YamlMap, place: Place, estate: Estate) -> Policy:
    rules = [rule for rule in RULES if rule in item]
    if len(rules) != 1:
        raise EstateError(f"the policy needs exactly one of {', '.join(RULES)}", place=place)
    for key, (needed, fits) in _SHAPES.items():
        if key in item and not fits(item[key]):
            raise EstateError(f"'{key}' must be {needed}", place=item.place(key))
    if "by" in item and not any(item["by"] in device.attributes for device in estate.devices.values()):
        known = {key for device in estate.devices.values() for key in device.attributes}
        raise EstateError(
            f"no device has the attribute '{item['by']}'",
            place=item.place("by"),
            hint=spelling_hint(item["by"], known),
        )
    severity = str(item.get("severity", "error"))
    if severity not in ("error", "warning"):
        raise EstateError(
            f"the severity must be error or warning, not '{severity}'", place=item.place("severity")
        )
    return Policy(
        name=item["policy"],
        on=_selector(item, estate) if "on" in item else None,
        severity=severity,
        message=str(item.get("message", "")),
        rule=rules[0],
        argument=item[rules[0]],
        each=pattern_of(str(item["each"])) if "each" in item else None,
        by=str(item["by"]) if "by" in item else None,
        waivers=tuple(_waiver(w, item, estate) for w in item.get("waivers") or ()),
        place=place,
    )


def _selector(written: YamlMap, estate: Estate) -> Selector:
    selector = parse_selector(str(written["on"]), written.place("on"))
    selector.check(device.known_by for device in estate.devices.values())
    return selector


def _waiver(written: Any, policy: YamlMap, estate: Estate) -> Waiver:
    place = policy.place("waivers")
    if not isinstance(written, YamlMap) or set(written) != {"on", "reason", "until"}:
        raise EstateError("a waiver needs 'on', 'reason' and 'until', and nothing else", place=place)
    try:
        until = datetime.date.fromisoformat(str(written["until"]))
    except ValueError:
        message = f"'{written['until']}' is not a date"
        raise EstateError(message, place=written.place("until"), hint="write YYYY-MM-DD") from None
    return Waiver(_selector(written, estate), str(written["reason"]), until)


class Policies:
    """The policies of an estate; `today` decides which waivers still hold."""

    def __init__(self, estate: Estate, today: datetime.date, mistakes: ErrorCollector | None = None) -> None:
        """What is wrong in the policies' files goes to `mistakes`; without them it is raised as
        EstateError."""
        self._estate = estate
        self._today = today
        found = mistakes or ErrorCollector()
        self._policies = read_policies(estate, found)
        if mistakes is None:
            found.raise_any()

    def problems(self, intents: Sequence[Intent]) -> Iterator[Problem]:
        """What the intents violate; `kind` is policy for errors and policy-warning for warnings."""
        for policy in self._policies:
            yield from _meaningless(policy, intents)
            held = [intent for intent in intents if self._holds_for(policy, intent)]
            kind = "policy" if policy.severity == "error" else "policy-warning"
            if policy.rule == "secret_age":
                found = self._old_secrets(policy)
            else:
                found = (
                    self._equal(policy, held)
                    if policy.rule == "must_be_equal"
                    else self._single(policy, held)
                )
            for problem in found:
                yield replace(problem, kind=kind)

    def _holds_for(self, policy: Policy, intent: Intent) -> bool:
        known_by = intent.device.known_by
        if intent.unsound and policy.rule != "must_not_contain":
            return False  # what is missing or different may only be so because of what is wrong
        waived = any(w.on.matches(known_by) and self._today <= w.until for w in policy.waivers)
        return not waived and (policy.on is None or policy.on.matches(known_by))

    def _old_secrets(self, policy: Policy) -> Iterator[Problem]:
        """The secrets of the encrypted file that have not been changed for too long; how old others are is
        not known."""
        file = self._estate.secrets.encrypted
        for name, kept in sorted(file.all().items()) if file is not None else ():
            days = (self._today - kept.changed).days
            if days > policy.argument:
                hint = f"oast secret rotate {name}, then push (required in {policy.place})"
                yield Problem(
                    f"policy '{policy.name}': the secret '{name}' is {days} days old", policy.place, hint
                )

    def _single(self, policy: Policy, intents: Sequence[Intent]) -> Iterator[Problem]:
        for intent in intents:
            if policy.rule in ("must_contain", "must_not_contain"):
                yield from self._contains(policy, intent)
            elif policy.rule == "must_differ":
                yield from self._differ(policy, intent)
            elif not self._evaluated(policy, str(policy.argument), intent):
                yield self._problem(
                    policy, intent, f"the expression is false: {policy.argument}", policy.place
                )

    def _contains(self, policy: Policy, intent: Intent) -> Iterator[Problem]:
        pattern = pattern_of(str(policy.argument))
        tops: list[tuple[Path, Node]] = [((), intent.tree)]
        if policy.each is not None:
            tops = [
                (path, node)
                for path, node in _matching(intent.tree, policy.each)
                if not is_off(intent.platform, node)
            ]
        for path, top in tops:
            matching = list(_matching(top, pattern, path))
            if policy.rule == "must_not_contain":
                for where, node in matching:
                    words = node.text
                    yield self._problem(
                        policy, intent, f"'{words}' is not allowed", intent.place_of(where), words
                    )
            elif not matching:
                holder = f"'{top.text}'" if path else "the configuration"
                place = intent.place_of(path) if path else policy.place
                yield self._problem(policy, intent, f"{holder} has no '{policy.argument}'", place)

    def _differ(self, policy: Policy, intent: Intent) -> Iterator[Problem]:
        if isinstance(policy.argument, list):
            names = [f"'{expression}'" for expression in policy.argument]
            values = [self._evaluated(policy, str(expression), intent) for expression in policy.argument]
        else:
            values = list(self._evaluated(policy, policy.argument, intent))
            names = [f"item {number}" for number in range(1, len(values) + 1)]
        of = "" if isinstance(policy.argument, list) else f" of '{policy.argument}'"
        for number, value in enumerate(values):
            if value in values[:number]:
                same = names[values.index(value)]
                yield self._problem(
                    policy, intent, f"{same} and {names[number]}{of} must differ", policy.place
                )

    def _equal(self, policy: Policy, intents: Sequence[Intent]) -> Iterator[Problem]:
        """The part is the same on all devices of a platform; with `by`, on all of them that have the same
        attribute."""
        scope = Scope((pattern_of(str(policy.argument)),), ())
        groups: dict[tuple[str, str], list[tuple[Intent, Node]]] = {}
        for intent in intents:
            key = str(intent.device.attributes.get(policy.by, "")) if policy.by else ""
            groups.setdefault((intent.platform.name, key), []).append((intent, scope.within(intent.tree)))
        for group in groups.values():
            usual, _ = Counter(part for _, part in group).most_common(1)[0]
            model = next(intent for intent, part in group if part == usual)
            for intent, part in group:
                if part != usual:
                    message = f"'{policy.argument}' differs from {model.device.name}"
                    place = next(
                        (intent.place_of(path) for path, _ in scope.within(intent.tree).walk()), policy.place
                    )
                    yield self._problem(policy, intent, message, place)

    def _evaluated(self, policy: Policy, expression: str, intent: Intent) -> Any:
        names: Mapping[str, Any] = {
            **self._estate.values_of(intent.device),
            "device": intent.device.attributes,
            "network": self._estate.network,
        }
        try:
            result = evaluated(expression, names)
            if (
                policy.rule == "must_differ"
                and isinstance(policy.argument, str)
                and not isinstance(result, list)
            ):
                raise TypeError("its result is not a list")
            return result
        except MissingError as error:
            told, hint = error.told(None, names)
        except jinja2.TemplateSyntaxError as error:
            told, hint = (error.message or "it is not an expression").rstrip("."), None
        except Exception as error:
            told, hint = describe_jinja_error(error)
        message = f"cannot evaluate the expression '{expression}': {told}"
        raise EstateError.of(
            [Problem(message, policy.place, hint, devices=(intent.device.name,), kind="policy")]
        )

    def _problem(
        self, policy: Policy, intent: Intent, message: str, place: Place | None, excerpt: str | None = None
    ) -> Problem:
        told = f"policy '{policy.name}': {message}"
        hint = (
            f"{policy.message} (required in {policy.place})"
            if policy.message
            else f"meet the policy in {policy.place}, or add a waiver to it"
        )
        return Problem(told, place or policy.place, hint, excerpt, (intent.device.name,))


def _meaningless(policy: Policy, intents: Sequence[Intent]) -> Iterator[Problem]:
    """A pattern that no platform's grammar knows can never match, so the policy would hold
    whatever happens."""
    pattern = policy.each or ()
    if policy.rule in ("must_not_contain", "must_be_equal"):
        pattern = (*pattern, *pattern_of(str(policy.argument)))
    unknown: UnknownStatement | None = None
    for platform in {intent.platform.name: intent.platform for intent in intents}.values():
        try:
            platform.grammar.check_pattern(pattern)
        except UnknownStatement as error:
            unknown = error
        else:
            return
    if unknown is not None:
        yield Problem(
            f"policy '{policy.name}' can never match: {unknown.message}",
            policy.place,
            unknown.hint,
            kind="policy",
        )


def _matching(top: Node, pattern: Pattern, path: Path = ()) -> Iterator[tuple[Path, Node]]:
    """The nodes below `top` that `pattern` matches, level by level, by what they are known by or by their
    whole text."""
    for identity, child in top.children.items():
        if glob_matches(pattern[0], identity) or glob_matches(pattern[0], child.text):
            here = (*path, identity)
            if len(pattern) == 1:
                yield here, child
            else:
                yield from _matching(child, pattern[1:], here)
