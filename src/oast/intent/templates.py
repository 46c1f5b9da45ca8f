"""Templates: sandboxed Jinja2 with strict undefined values, and the template line that each rendered line
comes from."""

from __future__ import annotations

import re
import traceback
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import jinja2
import jinja2.meta
import jinja2.nodes

from oast.config import Pattern, pattern_of
from oast.errors import EstateError
from oast.estate import (
    BEYOND,
    EmptyValueError,
    JinjaErrorText,
    MissingError,
    YamlMap,
    beyond,
    describe_jinja_error,
    join_limited,
    missing_path,
    parse_yaml,
    plain_text,
    rendering,
    stays_within,
    syntax,
    unknown_words,
)
from oast.intent.printed_values import PlaceOf, empty_name, without_raw_marks
from oast.intent.variables import Variable, declarations
from oast.records import MARK, MARK_BEGINS, MARK_ENDS, Place, Problem, secrets_stay_objects
from oast.spelling import spelling_hint
from oast.text_file import read_text_file

_HEADER = re.compile(r"\A\s*\{#-?(?P<text>.*?)-?#\}", re.DOTALL)
HEADER = ("section", "owns", "variables")
TEMPLATE = ".j2"
_MARK = re.compile("\ue000([0-9]+)\ue001")


def _no_place(key: str) -> None:
    return None


@dataclass(frozen=True)
class Template:
    """One template: what its header says, and the compiled text. `file` is its path as errors name it."""

    section: str
    owns: tuple[Pattern, ...]
    owns_place: Place
    variables: Mapping[str, Variable] | None
    file: str
    source: str
    compiled: jinja2.Template

    @cached_property
    def _globals(self) -> Mapping[str, Any]:
        return dict(self.compiled.globals)

    def _rendered(self, values: Mapping[str, Any]) -> str:
        # Template.render() does the same, but merges the globals each time: a fifth of the time for a short
        # section.
        context = self.compiled.new_context({**self._globals, **values}, shared=True)
        try:
            with rendering():
                return join_limited(self.compiled.root_render_func(context))
        except Exception:
            self.compiled.environment.handle_exception()

    def render(self, values: Mapping[str, Any]) -> str:
        """The text for `values`. Raises EstateError with the line of the template."""
        return without_raw_marks(self.render_marked(values))

    def render_marked(self, values: Mapping[str, Any], place_of: PlaceOf = _no_place) -> str:
        """The text for `values`, with marks around what the filter `raw` prints; `place_of` says where the
        value at a dotted key is written. Raises EstateError with the line of the template, or of the value
        that is wrong."""
        try:
            text = self._rendered(values)
        except EmptyValueError as error:
            raise self._empty_value(error, values, place_of) from None
        except MissingError as error:
            place, tree = self._place_of(error), self.compiled.environment.parse(self.source)
            path = missing_path(tree, place.line, error.name) if place.file == self.file else None
            message, hint = error.told(path, [name for name in values if name not in self._globals])
            raise self._for_device(message, place, hint, values, str(error.name)) from None
        except jinja2.TemplateSyntaxError as error:
            raise _syntax_error(error, self.file, self.source, self.compiled.environment) from None
        except Exception as error:
            # A filter given a wrong value can raise anything; whatever it is, the template's line is what
            # helps.
            message, hint = describe_jinja_error(error)
            place = self._place_of(error)
            raise self._for_device(f"cannot render the template: {message}", place, hint, values) from None
        rest = MARK.sub("", text)
        for sign in ("<secret ", MARK_BEGINS, MARK_ENDS):
            if sign in rest:
                raise self._joined_secret(text, text.index(sign), values)
        return text

    def _empty_value(self, error: BaseException, values: Mapping[str, Any], place_of: PlaceOf) -> EstateError:
        """The value is wrong, not the template: its line comes first."""
        place = self._place_of(error)
        tree = self.compiled.environment.parse(self.source)
        name = empty_name(tree, place.line, values) if place.file == self.file else None
        written = place_of(name) if name is not None else None
        hint = f"write a value, or leave the line out with {{% if {name or 'NAME'} %}} ({place})"
        if written is None:
            return self._for_device(f"'{name}' is empty" if name else str(error), place, hint, values)
        return self._for_device(f"'{name}' is empty", written, hint, values)

    def _joined_secret(self, text: str, at: int, values: Mapping[str, Any]) -> EstateError:
        """Half a mark of a secret, or a fingerprint, never reaches a device."""
        number = text[:at].count("\n") + 1
        place = self.line_places(values).get(number, Place(self.file))
        message = "a secret is joined with other text, or passed through a filter"
        return self._for_device(
            message,
            place,
            "print it alone (text{{ secret }}text), or join it with +, which gives a secret",
            values,
        )

    def line_places(self, values: Mapping[str, Any]) -> dict[int, Place]:
        """The place in the template of each rendered line (counted from 1). Slow: renders again,
        with marks."""
        env = self.compiled.environment
        marked = env.overlay(trim_blocks=False, lstrip_blocks=False).from_string(
            _with_marks(env, self.source)
        )
        with secrets_stay_objects():
            text, unmarked = (
                without_raw_marks(plain_text(one.render(values))) for one in (marked, self.compiled)
            )
        places: dict[int, Place] = {}
        if _MARK.sub("", text) != unmarked:
            # The marks changed what a filter or a comparison did: no place is better than a wrong one.
            return places
        for number, line in enumerate(text.split("\n"), 1):
            indent = re.match("(?:\ue000[0-9]+\ue001|\\s)*", line)
            marks = _MARK.findall(indent[0] if indent else "")
            if marks:
                places[number] = Place(self.file, int(marks[-1]))
        return places

    def _place_of(self, error: BaseException) -> Place:
        """The innermost line of a template in the traceback; jinja2 puts the templates' names and lines
        there."""
        frames = [f for f in traceback.extract_tb(error.__traceback__) if f.filename.endswith(".j2")]
        if not frames:
            return Place(self.file)
        inner = frames[-1]
        if inner.filename == f"{self.file}{TEMPLATE}":
            return Place(self.file, inner.lineno)
        return Place(f"{Path(self.file).parent}/{Path(inner.filename).name}", inner.lineno)

    def _for_device(
        self, message: str, place: Place, hint: str | None, values: Mapping[str, Any], undefined: str = ""
    ) -> EstateError:
        device = values.get("device")
        names = (str(device["name"]),) if isinstance(device, Mapping) and "name" in device else ()
        written = _line(self.source, place.line) if place.file == self.file else None
        kind = "undefined" if undefined else "template"
        return EstateError.of([Problem(message, place, hint, written, names, kind, subject=undefined)])


def _line(source: str, number: int | None) -> str | None:
    """Return the line of a template as written; None when there is no such line, or it is blank."""
    lines = source.split("\n")
    return lines[number - 1].rstrip() or None if number and number <= len(lines) else None


def _with_marks(env: jinja2.Environment, source: str) -> str:
    """`source` with its white space already trimmed, and a mark with the line number before everything that
    is put out."""
    made: list[str] = []
    for line, kind, text in env.lexer.tokeniter(source, None):
        if kind == "data":
            parts = text.split("\n")
            made.append("\n".join(f"\ue000{line + n}\ue001{part}" for n, part in enumerate(parts)))
        elif kind == "variable_begin":
            made.append(f"\ue000{line}\ue001{text}")
        else:
            # The end of a block holds the line break that was trimmed with it.
            made.append(text.rstrip() if kind in ("block_end", "comment_end") else text)
    return "".join(made)


def load_template(folder: Path, section: str, platform: str, env: jinja2.Environment) -> Template:
    """The template of `section` for `platform` below the estate's `folder`. Raises EstateError."""
    path = folder / "templates" / platform / f"{section}.j2"
    file = f"templates/{platform}/{section}.j2"
    if path.exists() and not stays_within(path, folder / "templates"):
        raise EstateError(
            "the template is outside the templates folder; templates can only include files from it",
            place=Place(file),
        )
    try:
        source = read_text_file(path, file)
    except FileNotFoundError:
        known = (p.stem for p in path.parent.glob("*.j2"))
        raise EstateError(
            f"the section '{section}' has no template for the platform '{platform}'",
            place=Place(file),
            hint=spelling_hint(section, known),
        ) from None
    header = _header(source, file)
    if header.get("section") != section:
        raise EstateError(
            f"the header names the section '{header.get('section')}', the file '{section}'",
            place=header.place("section"),
        )
    owns = header.get("owns")
    if not isinstance(owns, list) or not owns or not all(isinstance(own, str) for own in owns):
        raise EstateError(
            "'owns' is missing in the header",
            place=header.place("owns"),
            hint="add for example 'owns: [ntp]'",
        )
    try:
        compiled = env.get_template(path.name)
        tree = env.parse(source)
    except jinja2.TemplateSyntaxError as error:
        raise _syntax_error(error, file, source, env) from None
    except BEYOND:
        raise _told(beyond(source), file, source) from None
    unknown = unknown_words(tree, env.filters, env.tests)
    if unknown is not None:
        raise _told(unknown, file, source)
    written = header.get("variables")
    if written is not None and not isinstance(written, YamlMap):
        raise EstateError("'variables' must contain 'name: type' lines", place=header.place("variables"))
    declared = None if written is None else declarations(written)
    _check_names(tree, source, declared, file)
    return Template(
        section,
        tuple(pattern_of(own) for own in owns),
        header.place("owns"),
        declared,
        file,
        source,
        compiled,
    )


def template_of_text(name: str, text: str, env: jinja2.Environment) -> Template:
    """A text that is rendered once, from a file outside of the estate's templates. Raises EstateError."""
    try:
        tree = env.parse(text)
        # The name of a template ends so: by that its lines are found in a traceback.
        code = env.compile(text, name, f"{name}{TEMPLATE}")
    except jinja2.TemplateSyntaxError as error:
        raise _syntax_error(error, name, text, env) from None
    except BEYOND:
        raise _told(beyond(text), name, text) from None
    unknown = unknown_words(tree, env.filters, env.tests)
    if unknown is not None:
        raise _told(unknown, name, text)
    compiled = env.template_class.from_code(env, code, env.make_globals(None))
    return Template("", (), Place(name), None, name, text, compiled)


# Names that every template gets in addition to its variables.
GIVEN = ("device", "network")


def _check_names(
    tree: jinja2.nodes.Template, source: str, declared: Mapping[str, Variable] | None, file: str
) -> None:
    """A template that declares its variables uses no others."""
    if declared is None:
        return
    for name in sorted(jinja2.meta.find_undeclared_variables(tree) - set(declared) - set(GIVEN)):
        line = min(
            (node.lineno for node in tree.find_all(jinja2.nodes.Name) if node.name == name), default=None
        )
        message = f"the template uses '{name}', which its header does not declare"
        raise EstateError.of(
            [
                Problem(
                    message,
                    Place(file, line),
                    spelling_hint(name, declared),
                    _line(source, line),
                    kind="variable",
                )
            ]
        )


def _header(source: str, file: str) -> YamlMap:
    match = _HEADER.match(source)
    if match is None and re.match(r"\s*\{#", source):
        raise EstateError(
            "the comment at the beginning is not closed",
            place=Place(file, 1),
            hint="end the header with '#}'",
        )
    if match is None:
        hint = "begin it with {#, the lines 'section: NAME' and 'owns: [PART]', and #}"
        raise EstateError("the template has no header", place=Place(file, 1), hint=hint)
    # Blank lines in front keep the line numbers of the file.
    data = parse_yaml("\n" * source[: match.start("text")].count("\n") + match["text"], file)
    if not isinstance(data, YamlMap):
        raise EstateError("the header must contain 'name: value' lines", place=Place(file, 1))
    for key in data:
        if key not in HEADER:
            raise EstateError(
                f"unknown key '{key}' in a header", place=data.place(key), hint=spelling_hint(key, HEADER)
            )
    return data


def _syntax_error(
    error: jinja2.TemplateSyntaxError, file: str, source: str, env: jinja2.Environment
) -> EstateError:
    # Jinja2 names the template by its name, or by its path.
    name = Path(error.name or file).name
    other = name != Path(file).name
    file = f"{Path(file).parent}/{name}"
    written = (error.source or "") if other else source
    return _told(syntax(error, written, env), file, written)


def _told(told: JinjaErrorText, file: str, source: str) -> EstateError:
    line, message, hint = told
    problem = Problem(
        f"the template has an error: {message}", Place(file, line), hint, _line(source, line), kind="template"
    )
    return EstateError.of([problem])
