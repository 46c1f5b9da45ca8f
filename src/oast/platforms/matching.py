"""The forms in which statements are written on a line, and the search for the form of a line.

A form is a row of tokens: words, places for arguments, and options. All forms of one context share a tree of
branches, so that a line is read once from left to right however many forms there are.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from oast.platforms.statements import Argument, Option, Rule, Statement, UnknownStatement
from oast.platforms.types import WrongValue, check_secret, quoted
from oast.records import Secret, Value, revealed
from oast.spelling import closest_match

Taken = dict[tuple[str, int], Value]
"""The value of each argument, by the path of its rule and its number."""


@dataclass(frozen=True, slots=True)
class ArgumentSlot:
    """Where the argument `number` of `rule` is written."""

    rule: Rule
    number: int

    @property
    def argument(self) -> Argument:
        return self.rule.arguments[self.number]


@dataclass(frozen=True, slots=True)
class Options:
    """Where the options of `rule` are written, in any order."""

    rule: Rule


Token = str | ArgumentSlot | Options


@dataclass(eq=False, slots=True)
class Form:
    """How one statement is written on a line, with its ancestors on the same line: `rules`, outermost first.

    `fixed` is the value that the line means where it has no place for one; `own` is the number of tokens
    before its own.
    """

    rules: tuple[Rule, ...]
    tokens: tuple[Token, ...]
    own: int = 0
    fixed: str | None = None

    @property
    def rule(self) -> Rule:
        return self.rules[-1]

    def own_text(self, statement: Statement) -> str:
        """What the line says of the statement itself, for looking at."""
        form = self.rule.value_forms.get(statement.value, self)
        mine = [
            token
            for token in form.tokens[form.own :]
            if not isinstance(token, ArgumentSlot) or token.rule is self.rule
        ]
        return " ".join(
            quoted(v) if isinstance(v, str) and not word else str(v)
            for v, word in _words(mine, {self.rule.path: statement})
        )

    def words(self, statements: Mapping[str, Statement], quote: Callable[[str], str]) -> list[Value]:
        """The words of the line. `statements` by the paths of their rules."""
        return _written(self.tokens, statements, quote)

    def identity(self, statements: Mapping[str, Statement], quote: Callable[[str], str]) -> list[Value]:
        """The line without the values that the statement is not known by, as for taking it away."""
        if self.rule.kind == "leaf-list" or self.fixed is not None:
            return self.words(statements, quote)
        known_by = [
            isinstance(t, ArgumentSlot) and (t.rule is not self.rule or t.argument.key) for t in self.tokens
        ]
        values = [n for n, t in enumerate(self.tokens) if not isinstance(t, str) and not known_by[n]]
        # Words behind the first value, or behind the last key, belong to a value.
        end = len(self.tokens)
        if self.rule.keys and values:
            end = max(n for n, known in enumerate(known_by) if known) + 1
        elif values and not any(known_by[values[0] :]):
            end = values[0]
        kept = [t for n, t in enumerate(self.tokens[:end]) if isinstance(t, str) or known_by[n]]
        return _written(kept, statements, quote)


def _written(
    tokens: Sequence[Token], statements: Mapping[str, Statement], quote: Callable[[str], str]
) -> list[Value]:
    written: list[Value] = []
    for value, is_word in _words(tokens, statements):
        if isinstance(value, Secret):
            written.append(value.spelt(quote))
        else:
            written.append(value if is_word else quote(value))
    return written


def _words(tokens: Sequence[Token], statements: Mapping[str, Statement]) -> Iterator[tuple[Value, bool]]:
    """The words for `tokens`, and of each whether it is a word of the language and no value."""
    for token in tokens:
        if isinstance(token, str):
            yield token, True
        elif isinstance(token, ArgumentSlot):
            value = statements[token.rule.path].arguments[token.number]
            if value is not None:
                yield value, False
        else:
            arguments = statements[token.rule.path].arguments
            for option in token.rule.options.values():
                given = [value for number in option.numbers if (value := arguments[number]) is not None]
                if given:
                    yield option.keyword, True
                    if token.rule.arguments[option.numbers[0]].type is not None:
                        yield from ((value, False) for value in given)


@dataclass(eq=False, slots=True)
class Branch:
    """What may come next on a line: words, arguments, options; and the form that ends here."""

    words: dict[str, Branch] = field(default_factory=dict)
    places: list[tuple[ArgumentSlot, Branch]] = field(default_factory=list)
    options: list[tuple[Rule, Branch]] = field(default_factory=list)
    form: Form | None = None

    def add(self, form: Form) -> None:
        """Make `form` one of those that may be written from here on."""
        branch = self
        for token in form.tokens:
            branch = branch._next(token)
        if branch.form is not None:
            raise ValueError(f"'{form.rule.path}' and '{branch.form.rule.path}' have the same text")
        branch.form = form

    def _next(self, token: Token) -> Branch:
        if isinstance(token, str):
            return self.words.setdefault(token, Branch())
        edges: Sequence[tuple[object, Branch]] = (
            self.places if isinstance(token, ArgumentSlot) else self.options
        )
        expected: object = token if isinstance(token, ArgumentSlot) else token.rule
        for edge, branch in edges:
            if edge is expected or (
                isinstance(edge, ArgumentSlot)
                and edge.rule is token.rule
                and edge.number == getattr(token, "number", None)
            ):
                return branch
        branch = Branch()
        if isinstance(token, ArgumentSlot):
            self.places.append((token, branch))
        else:
            self.options.append((token.rule, branch))
        return branch


class Matcher:
    """Finds the form of a line. `abbreviations`: beginnings of words may stand for them."""

    def __init__(self, abbreviations: bool) -> None:
        self._abbreviations = abbreviations

    def match(self, branch: Branch, words: Sequence[Value], at: int, context: Rule) -> tuple[Form, Taken]:
        """The form of `words` from number `at` on, and its arguments. Raises UnknownStatement."""
        worst: UnknownStatement | None = None
        if at < len(words):
            following = self._word(branch, words[at], at, context)
            if following is not None:
                try:
                    return self.match(following, words, at + 1, context)
                except UnknownStatement as wrong:
                    worst = wrong
            for place, after in branch.places:
                try:
                    return self._place(place, after, words, at, context)
                except UnknownStatement as wrong:
                    worst = _deeper(worst, wrong)
            for rule, after in branch.options:
                try:
                    return self._options(rule, after, words, at, context)
                except UnknownStatement as wrong:
                    worst = _deeper(worst, wrong)
        elif branch.form is not None:
            return branch.form, {}
        else:
            for _, after in branch.options:
                return self.match(after, words, at, context)
        raise worst or self._nothing(branch, words, at, context)

    def _word(self, branch: Branch, word: Value, at: int, context: Rule) -> Branch | None:
        if not isinstance(word, str):
            return None
        exact = branch.words.get(word)
        if exact is not None or not self._abbreviations:
            return exact
        starting = [name for name in branch.words if name.startswith(word)]
        if len(starting) == 1:
            return branch.words[starting[0]]
        if starting and not branch.places:
            raise UnknownStatement(
                f"'{word}' {argument_slots(context)} can mean {', '.join(starting)}",
                word=word,
                hint="write more letters",
                depth=at,
            )
        return None

    def _place(
        self, place: ArgumentSlot, after: Branch, words: Sequence[Value], at: int, context: Rule
    ) -> tuple[Form, Taken]:
        """Try the most words that the type may take first."""
        kind = place.argument.type
        most = len(words) - at if kind is None or kind.most is None else min(kind.most, len(words) - at)
        worst: UnknownStatement | None = None
        for count in range(most, 0, -1):
            try:
                value = converted(place, words[at : at + count], at)
                form, taken = self.match(after, words, at + count, context)
            except UnknownStatement as wrong:
                worst = _deeper(worst, wrong)
                continue
            taken[place.rule.path, place.number] = value
            return form, taken
        raise worst or AssertionError("at least one word was tried")

    def _options(
        self, rule: Rule, after: Branch, words: Sequence[Value], at: int, context: Rule
    ) -> tuple[Form, Taken]:
        given: dict[int, Value] = {}
        start = at
        while at < len(words):
            option = self._option(rule, words[at], at, strict=not after.words and not after.places)
            if option is None:
                break
            if option.numbers[0] in given:
                raise UnknownStatement(
                    f"duplicate '{option.keyword}' in '{rule.name}'", word=option.keyword, depth=at
                )
            at = self._behind(rule, option, words, at, given)
        if at == start and (after.words or after.places):
            return self.match(after, words, at, context)
        form, taken = self.match(after, words, at, context)
        for option in rule.options.values():
            # What says no more than leaving the option out is left out.
            if (
                option.default is not None
                and tuple(given.get(number) for number in option.numbers) == option.default
            ):
                for number in option.numbers:
                    del given[number]
        taken.update({(rule.path, number): value for number, value in given.items()})
        return form, taken

    def _behind(
        self, rule: Rule, option: Option, words: Sequence[Value], at: int, given: dict[int, Value]
    ) -> int:
        """Read what follows the option's word at `at` into `given`. Returns the number of the next word."""
        keyword = option.keyword
        at += 1
        for number in option.numbers:
            kind = rule.arguments[number].type
            if kind is None:
                given[number] = keyword
                continue
            if at >= len(words):
                raise UnknownStatement(f"'{keyword}' needs {kind.help}", word=keyword, depth=at)
            most = len(words) - at if kind.most is None else min(kind.most, len(words) - at)
            given[number] = converted(ArgumentSlot(rule, number), words[at : at + most], at)
            at += most
        return at

    def _option(self, rule: Rule, word: Value, at: int, *, strict: bool) -> Option | None:
        """The option that `word` begins; None when it begins none and something else may follow."""
        if isinstance(word, str):
            if word in rule.options:
                return rule.options[word]
            starting = [name for name in rule.options if name.startswith(word)] if self._abbreviations else []
            if len(starting) == 1:
                return rule.options[starting[0]]
        if not strict:
            return None
        near = closest_match(str(word), rule.options)
        hint = f"did you mean '{near}'?" if near else f"known here: {', '.join(rule.options)}"
        raise UnknownStatement(
            f"'{word}' is not a part of '{rule.name}'", word=str(word), hint=hint, depth=at
        )

    def _nothing(self, branch: Branch, words: Sequence[Value], at: int, context: Rule) -> UnknownStatement:
        """Why a line cannot go on, or end, here."""
        if at == len(words):
            before = str(words[at - 1]) if words else ""
            name = next((place.rule.name for place, _ in branch.places), before)
            kind = next((place.argument.type for place, _ in branch.places), None)
            needed = kind.help if kind is not None else " or ".join(f"'{word}'" for word in branch.words)
            return UnknownStatement(f"'{name}' needs {needed}", word=before, depth=at)
        word = str(words[at])
        if branch.words:
            near = closest_match(word, branch.words)
            hint = f"did you mean '{near}'?" if near else f"known here: {', '.join(sorted(branch.words))}"
            before = " ".join(str(w) for w in words[:at])
            return UnknownStatement(f"'{word}' cannot follow '{before}'", word=word, hint=hint, depth=at)
        name = branch.form.rule.name if branch.form is not None else context.name
        return UnknownStatement(
            f"unexpected '{word}' after '{name}'",
            word=word,
            hint="put text with spaces in quotes",
            depth=at,
        )


def argument_slots(context: Rule) -> str:
    """Describe where the statements of `context` belong."""
    return f"below '{context.name}'" if context.name else "at the top level"


def _deeper(one: UnknownStatement | None, other: UnknownStatement) -> UnknownStatement:
    return other if one is None or other.depth > one.depth else one


def converted(place: ArgumentSlot, words: Sequence[Value], depth: int) -> Value:
    """The value that `words` are for an argument; a secret stays one. Raises UnknownStatement."""
    argument = place.argument
    if argument.type is None:
        raise AssertionError("a flag has no value")
    secrets = [word for word in words if isinstance(word, Secret)]
    written = " ".join(str(word) for word in words)
    if secrets and not argument.secret:
        message = (
            f"the secret '{secrets[0].name}' is in '{place.rule.name}', which the platform does not mark"
            " as secret"
        )
        raise UnknownStatement(
            message,
            word=written,
            hint=("use it only in statements marked as secret; otherwise it could be shown"),
            depth=depth + 1,
        )
    if len(words) == 1 and secrets and (secrets[0].is_forgotten or secrets[0].is_withheld):
        return secrets[0]  # Its canonical form is what was kept of it.
    for secret in secrets:
        try:
            check_secret(secret.name, secret.reveal())
        except WrongValue as wrong:
            raise UnknownStatement(str(wrong), word=written, hint=wrong.hint, depth=depth + 1) from None
    try:
        value = argument.type.convert([revealed(word) for word in words])
    except WrongValue as wrong:
        hint = "check the secret's value" if secrets else wrong.hint
        raise UnknownStatement(
            f"'{written}' is not {wrong}", word=str(words[0]), hint=hint, depth=depth
        ) from None
    except ValueError:
        raise UnknownStatement(
            f"'{words[0]}' is not {argument.type.help}", word=str(words[0]), depth=depth
        ) from None
    # What a type makes of a secret is the same secret in canonical form.
    return secrets[0].become(value) if secrets else value
