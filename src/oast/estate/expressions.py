"""Expressions in templates and values: sandboxed Jinja2, strict about what is not defined; secrets stay
secrets."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import lru_cache, wraps
from pathlib import Path
from typing import Any, cast

import jinja2
from jinja2.loaders import split_template_path
from jinja2.sandbox import ImmutableSandboxedEnvironment

from oast.errors import EstateError
from oast.estate import output_size, template_limits as bounds
from oast.estate.filters import FILTERS, TESTS, printed_raw
from oast.estate.jinja_errors import EmptyValueError, Missing
from oast.estate.secret_text import MarkedText, captured, check_secret_method, guarded, plain_text
from oast.records import Secret
from oast.text_file import read_text_file


class _Environment(ImmutableSandboxedEnvironment):
    """The sandbox, with `a.b` looking in a mapping first: values are mappings, and a value may be called
    `items`.

    Of a secret nothing can be had: no attribute, no method, no part.
    """

    # Not `render_async` and its like: nothing here waits.
    intercepted_binops = frozenset(("*", "**", "+", "%"))
    concat = staticmethod(lambda pieces: captured(bounds.join_limited(pieces)))

    def _generate(
        self, source: jinja2.nodes.Template, name: str | None, filename: str | None, defer_init: bool = False
    ) -> str:
        return super()._generate(bounds.bounded(source), name, filename, defer_init)

    def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
        bounds.check_operation(operator, left, right)
        if operator == "%":
            output_size.check_method_size("format", left, (right,), {})
        return super().call_binop(context, operator, left, right)

    def call(self, context: Any, obj: Any, /, *args: Any, **kwargs: Any) -> Any:
        name = getattr(obj, "__name__", "")
        # The sandbox wraps the methods that format.
        owner = getattr(getattr(obj, "__wrapped__", obj), "__self__", None)
        check_secret_method(owner, (*args, *kwargs.values()))
        output_size.check_method_size(name, owner, args, kwargs)
        if name in bounds.WIDENING:
            bounds.check_call(name, owner, (*args, *kwargs.values()))
        return super().call(context, obj, *args, **kwargs)

    def is_safe_attribute(self, obj: Any, attr: str, value: Any) -> bool:
        return not isinstance(obj, Secret) and super().is_safe_attribute(obj, attr, value)

    def getattr(self, obj: Any, attribute: str) -> Any:
        if isinstance(obj, dict):
            try:
                return obj[attribute]
            except KeyError:
                pass
        return super().getattr(obj, attribute)


def stays_within(path: Path, folder: Path) -> bool:
    """Whether what is at `path`, behind all links, lies in `folder`."""
    return path.resolve().is_relative_to(folder.resolve())


class NotTaken(jinja2.TemplateNotFound):
    """A template that is there and cannot be taken in; the message says why."""


class _Within(jinja2.FileSystemLoader):
    """Templates of one platform's `folder`; nothing is read from outside the folder of all templates, by no
    link either."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self._folder = folder

    def get_source(
        self, environment: jinja2.Environment, template: str
    ) -> tuple[str, str, Callable[[], bool]]:
        path = self._folder / template
        if path.exists() and not stays_within(path, self._folder.parent):
            raise NotTaken(
                template,
                f"'{template}' is outside the templates folder; templates can only include files from it",
            )
        path = self._folder.joinpath(*split_template_path(template))
        try:
            source = read_text_file(path, f"templates/{self._folder.name}/{template}")
        except (FileNotFoundError, NotADirectoryError):
            raise jinja2.TemplateNotFound(template) from None
        except EstateError as error:
            raise NotTaken(template, f"cannot include '{template}': {error.message}") from None
        return source, str(path), lambda: True


def template_environment(folder: Path | None, marks: dict[str, Secret]) -> jinja2.Environment:
    """The environment of the templates in `folder`. A secret that is put out is a mark in the text, and noted
    in `marks`."""

    def marked(value: Any) -> Any:
        if isinstance(value, MarkedText):
            return plain_text(value)
        if isinstance(value, float):
            bounds.check_finite(value)
        if value is None:
            raise EmptyValueError
        if not isinstance(value, Secret):
            return value
        marks.setdefault(value.digest, value)
        return value.mark

    made = _Environment(
        loader=_Within(folder) if folder is not None else None,
        undefined=Missing,
        finalize=marked,
        trim_blocks=True,
        lstrip_blocks=True,
        keep_trailing_newline=True,
        autoescape=False,
    )
    _with_filters(made).filters["raw"] = printed_raw
    return made


def value_environment() -> jinja2.Environment:
    """The environment of expressions in values: what they give stays in Oast."""
    return _with_filters(
        _Environment(undefined=Missing, finalize=_not_empty, keep_trailing_newline=True, autoescape=False)
    )


def _not_empty(value: Any) -> Any:
    """An empty value never becomes the text "None"."""
    if value is None:
        raise EmptyValueError
    return value


def _within_bounds(name: str, filter_: Callable[..., Any]) -> Callable[..., Any]:
    @wraps(filter_)
    def checked(value: Any, *args: Any, **kwargs: Any) -> Any:
        bounds.check_call(name, value, (*args, *kwargs.values()))
        return filter_(value, *args, **kwargs)

    return checked


def _with_filters(made: jinja2.Environment) -> jinja2.Environment:
    made.filters.update(
        {name: _within_bounds(name, made.filters[name]) for name in bounds.WIDENING & set(made.filters)}
    )
    made.filters.update(FILTERS)
    made.filters.update(
        {name: guarded(name, output_size.sized(name, filter_)) for name, filter_ in made.filters.items()}
    )
    made.globals["lipsum"] = output_size.bounded_lipsum(cast("Callable[..., Any]", made.globals["lipsum"]))
    made.tests.update(TESTS)
    return made


@lru_cache(maxsize=256)
def _expression(text: str) -> jinja2.environment.TemplateExpression:
    return value_environment().compile_expression(text, undefined_to_none=False)


def evaluated(expression: str, names: Mapping[str, Any]) -> Any:
    """What `expression` gives with `names`. Raises whatever it raises; what is not defined raises
    UndefinedError."""
    with bounds.rendering():
        result = _expression(expression)(**names)
    if isinstance(result, jinja2.Undefined):
        str(result)  # raises UndefinedError
    if isinstance(result, float):
        bounds.check_finite(result)
    return result


@lru_cache(maxsize=256)
def _text(text: str) -> jinja2.Template:
    return value_environment().from_string(text)


def fill_placeholders(text: str, names: Mapping[str, Any]) -> str:
    """Return `text` with its `{{ expressions }}` evaluated. Raises what they raise; TemplateSyntaxError when
    one is invalid."""
    return _text(text).render(names) if "{" in text else text
