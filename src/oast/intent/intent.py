"""Intent: what a device's configuration should be, rendered section by section and checked against the
grammar."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from types import MappingProxyType

import jinja2

from oast.config import (
    IndentedSyntax,
    Node,
    Path,
    Pattern,
    Scope,
    TextProblem,
    canonical,
    join_trees,
    syntax_of,
)
from oast.errors import ErrorCollector, EstateError
from oast.estate import Device, Estate, Values, template_environment
from oast.intent import templates
from oast.intent.printed_values import (
    added_statements,
    repeated_leaves,
    special_values,
    without_raw_marks,
)
from oast.intent.sections import FILE, Composition, SectionUse, read_sections, scope_of
from oast.intent.templates import Template
from oast.intent.variables import Prepared
from oast.platforms import Platform, Platforms, UnknownStatement
from oast.records import MARK, Place, Problem, Secret
from oast.spelling import spelling_hint

NO_PLACES: Mapping[Path, Place] = MappingProxyType({})


@dataclass(frozen=True)
class RenderedSection:
    """One section of one device: the text as rendered, with marks in place of secrets, and its tree."""

    template: Template
    text: str
    tree: Node


@dataclass(frozen=True)
class Intent:
    """The whole intended configuration of one device; `tree` is canonical, `scope` is what its sections own
    together.

    `unsound` are sections in which something is wrong; an intent with any is for looking at only. One that
    comes from a record has no rendered sections, but their names and what they owned, in `recorded`.
    """

    device: Device
    platform: Platform
    sections: tuple[RenderedSection, ...]
    tree: Node
    scope: Scope
    unsound: frozenset[str]
    _places: Callable[[], Mapping[Path, Place]] = field(repr=False)
    recorded: Mapping[str, tuple[Pattern, ...]] = field(default_factory=dict)
    removals: tuple[Path, ...] = ()

    @classmethod
    def of_record(
        cls,
        device: Device,
        platform: Platform,
        tree: Node,
        scope: Scope,
        owners: Mapping[str, tuple[Pattern, ...]],
        removals: tuple[Path, ...] = (),
        places: Mapping[Path, Place] = NO_PLACES,
    ) -> Intent:
        """What was intended once, or is to be again: `owners` are the sections it came from, with what they
        owned; `removals` are removed even where nothing else that is extra is; `places` are the lines of a
        file that statements are from.
        """
        return cls(device, platform, (), tree, scope, frozenset(), lambda: dict(places), owners, removals)

    @property
    def owners(self) -> Mapping[str, tuple[Pattern, ...]]:
        """What each of its sections owns."""
        return self.recorded or {section.template.section: section.template.owns for section in self.sections}

    def place_of(self, path: Path) -> Place | None:
        """The template line that the statement at `path`, or the nearest above it, was rendered from."""
        places = self._places()
        for length in range(len(path), 0, -1):
            if path[:length] in places:
                return places[path[:length]]
        return None


class IntentBuilder:
    """Renders and parses for the devices of one estate; templates and platforms are loaded once. `only`
    limits to sections."""

    def __init__(
        self,
        estate: Estate,
        only: Sequence[str] = (),
        mistakes: ErrorCollector | None = None,
        platforms: Platforms | None = None,
    ) -> None:
        """What is wrong in intent.yaml goes to `mistakes`; without them it is raised as EstateError. Trees of
        two builders can be compared when they have the same `platforms`."""
        self._estate = estate
        found = mistakes or ErrorCollector()
        self._uses = read_sections(estate, found)
        if mistakes is None:
            found.raise_any()
        self.platforms = platforms or Platforms(estate.folder, estate.fingerprints)
        self._marks: dict[str, Secret] = {}
        self._environments: dict[str, jinja2.Environment] = {}
        self._templates: dict[tuple[str, str], Template] = {}
        self._syntaxes: dict[str, IndentedSyntax] = {}
        # Of the device that is rendered: its values, and those that could add statements.
        self._special: tuple[Values, list[tuple[str, str]]] = {}, []
        self._only = frozenset(only)
        # Many devices are composed alike, and share values; both are looked at once.
        self._compositions: dict[tuple[str, ...], Composition] = {}
        self._prepared = Prepared()
        known = {use.name for use in self._uses}
        for name in only:
            if name not in known:
                raise EstateError(f"unknown section '{name}' in {FILE}", hint=spelling_hint(name, known))

    @property
    def uses(self) -> Sequence[SectionUse]:
        """The sections that there are."""
        return self._uses

    def syntax(self, device: Device) -> IndentedSyntax:
        """The syntax of the device's platform, with everything it has seen before. Raises EstateError for an
        unknown platform."""
        platform = self.platform(device)
        if platform.name not in self._syntaxes:
            self._syntaxes[platform.name] = syntax_of(platform)
        return self._syntaxes[platform.name]

    def platform(self, device: Device) -> Platform:
        """The platform of the device. Raises EstateError at the device's place."""
        try:
            return self.platforms.get(device.platform)
        except EstateError as error:
            if error.place is not None:
                raise
            raise EstateError(error.message, place=device.place, hint=error.hint) from None

    def concerned(self, devices: Sequence[Device]) -> list[Device]:
        """Those of `devices` that have one of the sections asked for. Raises EstateError when none has."""
        found = [device for device in devices if self._uses_of(device)]
        if not found:
            sections_text = " or ".join(f"'{name}'" for name in sorted(self._only)) or "any"
            raise EstateError(
                f"no selected device has the section {sections_text}", hint=f"check 'on' in {FILE}"
            )
        return found

    def texts(self, device: Device) -> list[tuple[Template, str]]:
        """The rendered text of each section of the device, in order. Raises EstateError."""
        values = self._values(device)
        given = [(template, *self._given(template, values, device)) for template in self.templates_of(device)]
        problems = [problem for _, _, wrong in given for problem in wrong]
        if problems:
            raise EstateError.of(problems)
        return [(template, template.render(values)) for template, values, _ in given]

    def rendered_text(self, device: Device, name: str, text: str) -> tuple[str, Mapping[str, Secret]]:
        """Render a text that is not a template of the estate (from the file `name`) with the device's values.
        Also returns the secrets that its marks stand for. Raises EstateError with the line in the file."""
        template = templates.template_of_text(name, text, self._environment(self.platform(device).name))
        return template.render(self._values(device)), self._marks

    def _given(self, template: Template, values: Values, device: Device) -> tuple[Values, list[Problem]]:
        """`values` with the defaults that the template declares; and what is wrong with them, each at the
        place of the value."""
        if not template.variables:
            return values, []
        given = dict(values)
        problems: list[Problem] = []
        for name, variable in template.variables.items():
            if name in values and (values[name] is not None or variable.required):
                given[name], wrong = self._prepared.of(variable, values[name])
                for found in wrong:
                    place = self._estate.layers.place_of(device, found.key) or found.variable.place
                    hint = f"{found.hint} (declared in {found.variable.place})"
                    problems.append(
                        Problem(found.message, place, hint, devices=(device.name,), kind="variable")
                    )
            elif variable.has_default:
                given[name] = variable.default
            elif name in values:
                del given[name]  # An empty value that is not required is like none.
            elif variable.required:
                message = f"the section '{template.section}' needs the value '{name}', which is not defined"
                hint = f"define it in values/: {variable.help or variable.described}"
                problems.append(
                    Problem(
                        message, variable.place, hint, devices=(device.name,), kind="undefined", subject=name
                    )
                )
        return given, problems

    def templates_of(self, device: Device) -> list[Template]:
        """The templates of the device's sections asked for, in order. Raises EstateError."""
        return [self._template(use, device) for use in self._uses_of(device)]

    def build(self, device: Device) -> Intent:
        """The device's intent. Raises EstateError with every problem found in it."""
        intent, problems = self.examine(device)
        if problems:
            raise EstateError.of(problems)
        return intent

    def examine(self, device: Device) -> tuple[Intent, list[Problem]]:
        """Return the device's intent as far as it can be understood, and every problem found in it.

        Raises EstateError when its values cannot be evaluated.
        """
        syntax = self.syntax(device)
        composed = self._composition(device)
        problems = [
            *composed.problems,
            *(replace(conflict, devices=(device.name,)) for conflict in composed.conflicts),
        ]
        try:
            values = self._values(device)
        except EstateError as error:
            raise EstateError.of([*problems, *error.problems()]) from None
        sections: list[RenderedSection] = []
        unsound = set(composed.broken)
        for template in composed.selected:
            try:
                section, found = self._section(template, composed.scopes[template.section], values, device)
                sections.append(section)
            except EstateError as error:
                found = list(error.problems())
            if found:
                problems.extend(found)
                unsound.add(template.section)
        tree = canonical(join_trees((section.tree for section in sections), syntax.grammar))
        scope = composed.scope
        if len(sections) < len(composed.selected):
            scope = scope_of([section.template for section in sections], composed.every)
        find_places = _once(lambda: self._places(sections, values, device))
        return (
            Intent(
                device, self.platform(device), tuple(sections), tree, scope, frozenset(unsound), find_places
            ),
            problems,
        )

    def _composition(self, device: Device) -> Composition:
        uses = self._uses_of(device, everything=True)
        key = (device.platform, *(use.name for use in uses))
        if key not in self._compositions:
            mistakes = ErrorCollector()
            every: list[Template] = []
            for use in uses:
                with mistakes.collected():
                    every.append(self._template(use, device))
            broken = {use.name for use in uses} - {template.section for template in every}
            self._compositions[key] = Composition.of(every, self._only, broken, mistakes.found)
        return self._compositions[key]

    def _section(
        self, template: Template, scope: Scope, values: Values, device: Device
    ) -> tuple[RenderedSection, list[Problem]]:
        """One section rendered and read, with what is wrong in its text. Raises EstateError when it cannot be
        rendered."""
        given, wrong = self._given(template, values, device)
        if wrong:
            raise EstateError.of(wrong)
        place_of = partial(self._estate.layers.place_of, device)
        rendered = template.render_marked(given, place_of)
        text, syntax = without_raw_marks(rendered), self.syntax(device)
        parsed = syntax.parse(text, self._marks)
        problems = list(self._added_by_values(template, rendered, parsed.tree, values, device))
        if parsed.problems and not problems:
            places = template.line_places(given)
            problems.extend(
                self._problem(p, places.get(p.line, Place(template.file)), text, device)
                for p in parsed.problems
            )
        if parsed.sets_twice and not problems:
            problems.extend(self._set_twice(template, text, parsed.tree, given, device))
        if not scope.holds(parsed.tree):
            problems.extend(self._outside(template, scope, text, parsed.tree, given, device))
        return RenderedSection(template, text, parsed.tree), problems

    def _added_by_values(
        self, template: Template, rendered: str, tree: Node, values: Values, device: Device
    ) -> Iterator[Problem]:
        """The values that would add statements to a section, each at its own line."""
        if self._special[0] is not values:
            texts = {**values, "device": device.attributes}
            texts.pop("network", None)
            self._special = values, special_values(texts)
        platform, comment = self.platform(device), self.syntax(device).comment
        for one in added_statements(rendered, tree, self._special[1], platform, comment):
            key = one.key.removeprefix("device.")
            place = (
                self._estate.layers.place_of(device, one.key)
                if key == one.key
                else device.places.get(key.partition("[")[0], device.place)
            )
            yield Problem(
                f"'{one.key}' contains {one.what}: printed as it is, it would end its statement",
                place or Place(template.file),
                f"write it without, or print it with the filter 'raw' in {template.file}",
                devices=(device.name,),
                kind="variable",
            )

    def _set_twice(
        self, template: Template, text: str, tree: Node, values: Values, device: Device
    ) -> Iterator[Problem]:
        """The statements that a section sets twice to different values; only the last would count."""
        syntax = self.syntax(device)
        places: dict[int, Place] | None = None
        for first, last, node in repeated_leaves(text, syntax.lines_of(text, self._marks), tree):
            places = template.line_places(values) if places is None else places
            yield Problem(
                f"'{node.statement.rule.name}' is set twice, to different values",
                places.get(last, Place(template.file)),
                f"keep one of the two; it is set first at {places.get(first, template.file)}",
                self._masked(_line(text, last)),
                (device.name,),
                "grammar",
            )

    def _problem(self, found: TextProblem, place: Place, text: str, device: Device) -> Problem:
        return Problem(
            found.message, place, found.hint, self._masked(_line(text, found.line)), (device.name,), "grammar"
        )

    def _masked(self, line: str) -> str:
        """A rendered line to look at."""
        return MARK.sub(lambda match: str(self._marks.get(match[1], match[0])), line)

    def _outside(
        self, template: Template, scope: Scope, text: str, tree: Node, values: Values, device: Device
    ) -> Iterable[Problem]:
        """A statement that a template renders without owning it: it would never be compared, or by another
        section."""
        places: dict[int, Place] | None = None
        for number, path in self.syntax(device).lines_of(text, self._marks):
            node = tree.at(path)
            # Text that is not a statement, or is inside of such text, was reported already.
            if node is None or node.children or not node.statement.rule.known or scope.covers(path):
                continue
            places = template.line_places(values) if places is None else places
            hint = (
                f"it owns {', '.join(' / '.join(own) for own in template.owns)}: extend 'owns' in its header,"
                " or move the line"
            )
            message = f"the section '{template.section}' renders a statement that it does not own"
            excerpt = self._masked(_line(text, number))
            yield Problem(
                message, places.get(number, Place(template.file)), hint, excerpt, (device.name,), "ownership"
            )

    def _places(
        self, sections: Sequence[RenderedSection], values: Values, device: Device
    ) -> Mapping[Path, Place]:
        found: dict[Path, Place] = {}
        for section in sections:
            given, _ = self._given(section.template, values, device)
            places = section.template.line_places(given)
            for number, path in self.syntax(device).lines_of(section.text, self._marks):
                found[path] = places.get(number, Place(section.template.file))
        return found

    def _values(self, device: Device) -> Values:
        return {
            **self._estate.values_of(device),
            "device": device.attributes,
            "network": self._estate.network,
        }

    def _uses_of(self, device: Device, *, everything: bool = False) -> list[SectionUse]:
        uses = (
            self._uses
            if everything or not self._only
            else [use for use in self._uses if use.name in self._only]
        )
        return [use for use in uses if use.on is None or use.on.matches(device.known_by)]

    def _environment(self, platform: str) -> jinja2.Environment:
        if platform not in self._environments:
            self._environments[platform] = template_environment(
                self._estate.folder / "templates" / platform, self._marks
            )
        return self._environments[platform]

    def _template(self, use: SectionUse, device: Device) -> Template:
        key = (device.platform, use.name)
        if key not in self._templates:
            platform = self.platform(device).name
            environment = self._environment(platform)
            try:
                loaded = templates.load_template(self._estate.folder, use.name, platform, environment)
                for own in loaded.owns:
                    try:
                        self.platform(device).grammar.check_pattern(own)
                    except UnknownStatement as unknown:
                        message = f"the section owns '{' / '.join(own)}', but {unknown.message}"
                        raise EstateError(message, place=loaded.owns_place, hint=unknown.hint) from None
                self._templates[key] = loaded
            except EstateError as error:
                if error.place is not None and not (self._estate.folder / error.place.file).exists():
                    raise EstateError(error.message, place=use.place, hint=error.hint) from None
                raise
        return self._templates[key]


def _once(make: Callable[[], Mapping[Path, Place]]) -> Callable[[], Mapping[Path, Place]]:
    made: list[Mapping[Path, Place]] = []

    def once() -> Mapping[Path, Place]:
        if not made:
            made.append(make())
        return made[0]

    return once


def _line(text: str, number: int) -> str:
    return text.split("\n")[number - 1].rstrip("\r")
