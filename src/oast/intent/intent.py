"""Intent: what a device's configuration should be, rendered section by section and checked against the grammar."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import jinja2

from oast.config.indented import IndentedSyntax, TextProblem
from oast.config.ownership import Scope, same_part
from oast.config.tree import Node, Path, canonical, joined
from oast.errors import EstateError, Mistakes
from oast.estate import selectors, yaml_text
from oast.estate.estate import Estate
from oast.estate.expressions import template_environment
from oast.estate.inventory import Device
from oast.estate.selectors import Selector
from oast.estate.values import Values
from oast.estate.yaml_text import YamlList, YamlMap
from oast.intent import templates
from oast.intent.templates import Template
from oast.intent.variables import violations, with_defaults
from oast.nearest import suggestion
from oast.platforms.load import Platform, shipped
from oast.records import Place, Problem

FILE = "intent.yaml"


@dataclass(frozen=True)
class SectionUse:
    """A line of intent.yaml: a section, and the devices that have it (None: all)."""

    name: str
    on: Selector | None
    place: Place


@dataclass(frozen=True)
class RenderedSection:
    """One section of one device: the text as rendered and its tree."""

    template: Template
    text: str
    tree: Node


@dataclass(frozen=True)
class Intent:
    """The whole intended configuration of one device; `tree` is canonical, `scope` is what its sections own together.

    `unsound` are sections in which something is wrong; an intent with any is for looking at only.
    """

    device: Device
    platform: Platform
    sections: tuple[RenderedSection, ...]
    tree: Node
    scope: Scope
    unsound: frozenset[str]
    _places: Callable[[], Mapping[Path, Place]] = field(repr=False)

    def place_of(self, path: Path) -> Place | None:
        """The template line that the statement at `path`, or the nearest above it, was rendered from."""
        places = self._places()
        for length in range(len(path), 0, -1):
            if path[:length] in places:
                return places[path[:length]]
        return None


class IntentBuilder:
    """Renders and parses for the devices of one estate; templates and platforms are loaded once. `only` limits to sections."""

    def __init__(self, estate: Estate, only: Sequence[str] = (), mistakes: Mistakes | None = None) -> None:
        """What is wrong in intent.yaml goes to `mistakes`; without them it is raised as EstateError."""
        self._estate = estate
        found = mistakes or Mistakes()
        self._uses = read_sections(estate, found)
        if mistakes is None:
            found.raise_any()
        self._environments: dict[str, jinja2.Environment] = {}
        self._templates: dict[tuple[str, str], Template] = {}
        self._syntaxes: dict[str, IndentedSyntax] = {}
        self._only = frozenset(only)
        # Many devices have the same sections; what these own is compared once.
        self._compared: dict[tuple[str, ...], list[Problem]] = {}
        known = {use.name for use in self._uses}
        for name in only:
            if name not in known:
                raise EstateError(f"there is no section '{name}' in {FILE}", hint=suggestion(name, known))

    def syntax(self, device: Device) -> IndentedSyntax:
        """The syntax of the device's platform, with everything it has seen before. Raises EstateError for an unknown platform."""
        platform = self.platform(device)
        if platform.name not in self._syntaxes:
            self._syntaxes[platform.name] = IndentedSyntax(platform.grammar, platform.spelling.comment)
        return self._syntaxes[platform.name]

    def platform(self, device: Device) -> Platform:
        """The platform of the device. Raises EstateError at the device's place."""
        try:
            return shipped(device.platform)
        except EstateError as error:
            raise EstateError(error.message, place=device.place, hint=error.hint) from None

    def concerned(self, devices: Sequence[Device]) -> list[Device]:
        """Those of `devices` that have one of the sections asked for. Raises EstateError when none has."""
        found = [device for device in devices if self._uses_of(device)]
        if not found:
            wanted = " or ".join(f"'{name}'" for name in sorted(self._only)) or "any"
            raise EstateError(f"none of the devices picked has the section {wanted}", hint=f"look at 'on' in {FILE}")
        return found

    def texts(self, device: Device) -> list[tuple[Template, str]]:
        """The rendered text of each section of the device, in order. Raises EstateError."""
        values = self._values(device)
        templates = self._of(device)
        problems = list(self._violations(templates, values, device))
        if problems:
            raise EstateError.of(problems)
        return [(template, template.render(_given(template, values))) for template in templates]

    def _violations(self, templates: Sequence[Template], values: Values, device: Device) -> Iterator[Problem]:
        """What is wrong with the values that the templates declare, each at the place of the value."""
        for template in templates:
            for name, variable in (template.variables or {}).items():
                if name in values:
                    for found in violations(variable, values[name], name):
                        place = self._estate.layers.place_of(device, found.key) or found.variable.place
                        hint = f"{found.hint} (declared in {found.variable.place})"
                        yield Problem(found.message, place, hint, devices=(device.name,), kind="variable")
                elif variable.required and not variable.has_default:
                    message = f"the section '{template.section}' needs the value '{name}', which is not given"
                    hint = f"give it in values/: {variable.help or variable.described}"
                    yield Problem(message, variable.place, hint, devices=(device.name,), kind="undefined", subject=name)

    def templates_of(self, device: Device) -> list[Template]:
        """The templates of the device's sections, in order. Raises EstateError."""
        return self._of(device)

    def build(self, device: Device) -> Intent:
        """The device's intent. Raises EstateError with every problem found in it."""
        intent, problems = self.examine(device)
        if problems:
            raise EstateError.of(problems)
        return intent

    def examine(self, device: Device) -> tuple[Intent, list[Problem]]:
        """The device's intent as far as it can be understood, and every problem found in it.

        Raises EstateError when its values cannot be worked out.
        """
        syntax = self.syntax(device)
        values = self._values(device)
        mistakes = Mistakes()
        wanted = self._uses_of(device)
        every: list[Template] = []
        sections: list[RenderedSection] = []
        unsound: list[str] = []
        for use in self._uses_of(device, everything=True):
            with mistakes.collected():
                every.append(self._template(use, device))
        mistakes.found.extend(replace(problem, devices=(device.name,)) for problem in self._owned_twice(tuple(every)))
        for use in wanted:
            template = next((t for t in every if t.section == use.name), None)
            before = len(mistakes.found)
            if template is not None:
                with mistakes.collected():
                    section, found = self._section(template, every, values, device)
                    sections.append(section)
                    mistakes.found.extend(found)
            if template is None or len(mistakes.found) > before:
                unsound.append(use.name)
        tree = canonical(joined((section.tree for section in sections), syntax.grammar))
        owned = [pattern for section in sections for pattern in section.template.owns]
        others = [p for t in every if t not in [s.template for s in sections] for p in t.owns]
        find_places = _once(lambda: self._places(sections, values, syntax))
        scope = Scope.of(owned, others)
        intent = Intent(device, self.platform(device), tuple(sections), tree, scope, frozenset(unsound), find_places)
        return intent, mistakes.found

    def _section(
        self, template: Template, every: Sequence[Template], values: Values, device: Device
    ) -> tuple[RenderedSection, list[Problem]]:
        """One section rendered and read, with what is wrong in its text. Raises EstateError when it cannot be rendered."""
        wrong = list(self._violations([template], values, device))
        if wrong:
            raise EstateError.of(wrong)
        given = _given(template, values)
        text = template.render(given)
        parsed = self.syntax(device).parse(text)
        problems: list[Problem] = []
        if parsed.problems:
            places = template.line_places(given)
            problems.extend(self._problem(p, places.get(p.line, Place(template.shown)), text, device) for p in parsed.problems)
        problems.extend(self._outside(template, every, text, parsed.tree, given, device))
        return RenderedSection(template, text, parsed.tree), problems

    def _problem(self, found: TextProblem, place: Place, text: str, device: Device) -> Problem:
        line = _line(text, found.line)
        hidden = self._estate.secrets.hide(line)
        if hidden == line:
            return Problem(found.message, place, found.hint, line, (device.name,), "grammar")
        # The message could quote a part of the secret.
        hint = "look at the secret itself; one with spaces needs quotes around it in the template"
        return Problem("the statement is not allowed with this secret", place, hint, hidden, (device.name,), "grammar")

    def _outside(
        self, template: Template, every: Sequence[Template], text: str, tree: Node, values: Values, device: Device
    ) -> Iterable[Problem]:
        """What a template renders without owning it: it would be compared by nobody, or by another section."""
        scope = Scope.of(template.owns, [pattern for other in every if other is not template for pattern in other.owns])
        if scope.within(tree) is tree:
            return
        places: dict[int, Place] | None = None
        for number, path in self.syntax(device).lines_of(text):
            node = tree.at(path)
            # What is not a statement, or stands below one that is not, has been told already.
            if node is None or node.children or not node.statement.rule.known or scope.covers(path):
                continue
            places = template.line_places(values) if places is None else places
            hint = f"it owns {', '.join(' / '.join(own) for own in template.owns)}: extend 'owns' in its header, or move the line"
            message = f"the section '{template.section}' renders what it does not own"
            excerpt = self._estate.secrets.hide(_line(text, number))
            yield Problem(message, places.get(number, Place(template.shown)), hint, excerpt, (device.name,), "ownership")

    def _owned_twice(self, every: tuple[Template, ...]) -> list[Problem]:
        key = tuple(template.shown for template in every)
        if key not in self._compared:
            self._compared[key] = list(_owned_twice(every))
        return self._compared[key]

    def _places(self, sections: Sequence[RenderedSection], values: Values, syntax: IndentedSyntax) -> Mapping[Path, Place]:
        found: dict[Path, Place] = {}
        for section in sections:
            places = section.template.line_places(_given(section.template, values))
            for number, path in syntax.lines_of(section.text):
                found[path] = places.get(number, Place(section.template.shown))
        return found

    def _values(self, device: Device) -> Values:
        return {**self._estate.values_of(device), "device": device.attributes, "network": self._estate.network}

    def _uses_of(self, device: Device, *, everything: bool = False) -> list[SectionUse]:
        uses = self._uses if everything or not self._only else [use for use in self._uses if use.name in self._only]
        return [use for use in uses if use.on is None or use.on.matches(device.known_by)]

    def _of(self, device: Device, *, everything: bool = False) -> list[Template]:
        return [self._template(use, device) for use in self._uses_of(device, everything=everything)]

    def _template(self, use: SectionUse, device: Device) -> Template:
        key = (device.platform, use.name)
        if key not in self._templates:
            platform = self.platform(device).name
            if platform not in self._environments:
                self._environments[platform] = template_environment(self._estate.folder / "templates" / platform)
            try:
                self._templates[key] = templates.load(self._estate.folder, use.name, platform, self._environments[platform])
            except EstateError as error:
                if error.place is not None and not (self._estate.folder / error.place.file).exists():
                    raise EstateError(error.message, place=use.place, hint=error.hint) from None
                raise
        return self._templates[key]


def _given(template: Template, values: Values) -> Values:
    """`values` with the defaults that the template declares."""
    return with_defaults(template.variables, values) if template.variables else values


def _owned_twice(every: Sequence[Template]) -> Iterable[Problem]:
    """Parts that two sections own: neither could be authoritative. One strictly inside the other is fine."""
    for number, one in enumerate(every):
        for other in every[number + 1 :]:
            for mine in one.owns:
                for theirs in other.owns:
                    if same_part(mine, theirs):
                        part = " / ".join(theirs)
                        message = f"'{part}' is owned by the section '{one.section}' already ({one.shown})"
                        hint = "take it out of one header, or divide it into parts"
                        yield Problem(message, other.owns_place, hint, kind="ownership")


def _once(make: Callable[[], Mapping[Path, Place]]) -> Callable[[], Mapping[Path, Place]]:
    made: list[Mapping[Path, Place]] = []

    def once() -> Mapping[Path, Place]:
        if not made:
            made.append(make())
        return made[0]

    return once


def _line(text: str, number: int) -> str:
    return text.split("\n")[number - 1].rstrip("\r")


def read_sections(estate: Estate, mistakes: Mistakes) -> tuple[SectionUse, ...]:
    """The sections of intent.yaml in order; what is wrong goes to `mistakes`. Raises EstateError when there is none at all."""
    data = yaml_text.read_map(estate.folder / FILE, FILE)
    for key in data:
        if key != "sections":
            with mistakes.collected():
                raise EstateError(f"'{key}' is not known here", place=data.place(key), hint=suggestion(key, ["sections"]))
    written = data.get("sections")
    if not isinstance(written, YamlList) or not written:
        raise EstateError("'sections' has to list at least one '- section: NAME'", place=Place(FILE, data.lines.get("sections")))
    uses: list[SectionUse] = []
    for index, item in enumerate(written):
        with mistakes.collected():
            use = _use(item, written.place(index), estate)
            if any(use.name == other.name for other in uses):
                raise EstateError(f"the section '{use.name}' is listed twice", place=use.place, hint="join the two, with 'or' in 'on'")
            uses.append(use)
    return tuple(uses)


def _use(item: Any, place: Place, estate: Estate) -> SectionUse:
    if not isinstance(item, YamlMap) or not isinstance(item.get("section"), str):
        raise EstateError("this has to be '- section: NAME'", place=place)
    for key in item:
        if key not in ("section", "on"):
            raise EstateError(f"'{key}' is not known here", place=item.place(key), hint=suggestion(key, ("section", "on")))
    on = None
    if "on" in item:
        on = selectors.parse(str(item["on"]), item.place("on"))
        on.pick({device.name: device.known_by for device in estate.devices.values()})
    return SectionUse(item["section"], on, place)
