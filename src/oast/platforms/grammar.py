"""The grammar of a platform: which statements exist where, and reading one line into statements."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterator, Mapping, Sequence

from oast.answer_parsing import is_one_off
from oast.platforms.matching import ArgumentSlot, Branch, Form, Matcher, Options, Taken, Token, argument_slots
from oast.platforms.secret_words import SECRET_WORDS, SecretWords
from oast.platforms.statements import Argument, Arguments, Rule, Statement, UnknownStatement
from oast.platforms.types import quoted
from oast.records import MARK, Fingerprints, Secret, Value
from oast.spelling import closest_match, spelling_hint

# Lines are remembered per context, as many as a fleet has in common: what a thousand devices have each for
# itself is not worth its memory.
REMEMBERED_LINES = 20_000

NO_SECRETS: Mapping[str, Secret] = {}

_WORD = re.compile(r'"((?:[^"\\]|\\.)*)"(?=[ \t]|$)|([^ \t]+)')
# Other characters that a screen shows as a space part no words: devices take them as they are.
_BARE = re.compile(r"[^ \t]+")


class Grammar:
    """All statements of a platform, below `root`. `quotes`: values with spaces are written in double quotes.

    `fingerprints` make secrets of listed values that the grammar marks as secret. In lines that the grammar
    does not describe, the text after one of `secret_words` may be a secret.
    """

    def __init__(
        self,
        platform: str,
        root: Rule,
        fingerprints: Fingerprints,
        *,
        abbreviations: bool = True,
        quotes: bool = True,
        secret_words: Sequence[str] = SECRET_WORDS,
    ) -> None:
        self.platform = platform
        self.root = root
        self.fingerprints = fingerprints
        self.quotes = quotes
        self.root_statement = Statement(root, ())
        self._abbreviations = abbreviations
        self._matcher = Matcher(abbreviations)
        self._unknown = Rule(
            name="",
            path="?",
            kind="container",
            order=1_000_000,
            arguments=(Argument("words", None, key=True),),
            known=False,
        )
        self._contexts: dict[str, list[Rule]] = {}
        _mark_concerning(root)
        ordered = {rule.outer.path for rule in self.rules() if rule.user_ordered and rule.outer is not None}
        for rule in self.rules():
            rule.filters = any(leafref.target in ordered for leafref in rule.leafrefs)
            self._contexts.setdefault(rule.name, []).append(rule)
        suspects = SecretWords(secret_words, fingerprints)
        for rule in (root, *root.children.values(), *self.rules(), self._unknown):
            rule.hide = fingerprints.hide
            if rule.structural or not rule.known:
                rule.secret_words = suspects
        for context in (root, *self.rules()):
            if context.holds_others:
                context.branch = Branch()
                for child in context.children.values():
                    _add_forms(context.branch, child, (), ())

    def rules(self) -> Iterator[Rule]:
        """Every rule, outer before inner, in the grammar's own order."""
        waiting = [rule for rule in self.root.children.values() if not rule.structural][::-1]
        while waiting:
            rule = waiting.pop()
            yield rule
            waiting.extend(list(rule.children.values())[::-1])

    def check_pattern(self, levels: Sequence[str]) -> None:
        """Whether a pattern such as `("interface *", "mtu *")` can match anything. Raises UnknownStatement
        with the nearest word."""
        contexts = [self.root]
        for level in levels:
            if any(
                context.structural or any(c.structural for c in context.children.values())
                for context in contexts
            ):
                return
            word = level.split(" ", 1)[0]
            children = {name: child for context in contexts for name, child in context.children.items()}
            matching = [
                child
                for context in contexts
                for name, child in context.children.items()
                if _names(level, name)
            ]
            if not matching:
                raise UnknownStatement(
                    f"'{word}' is not a statement {argument_slots(contexts[0])}",
                    word=word,
                    hint=spelling_hint(word, children),
                )
            contexts = matching

    def quote(self, value: str) -> str:
        """A value as the platform writes it on a line."""
        return quoted(value) if self.quotes else value

    def statements(
        self, context: Rule, line: str, marks: Mapping[str, Secret] = NO_SECRETS
    ) -> tuple[Statement, ...]:
        """The statements that `line` (stripped) makes below `context`: one, and those around it that stand on
        the same line.

        `marks` are the secrets that rendered text may hold, by digest. Raises UnknownStatement.
        """
        known = context.cache.get(line)
        if known is not None:
            return known
        made = self._statements(context, line, marks)
        if not any(statement.has_secret for statement in made) and not is_one_off():
            if len(context.cache) >= REMEMBERED_LINES:
                context.cache.clear()
            context.cache[line] = made
        return made

    def inline_entry(
        self, context: Rule, line: str, marks: Mapping[str, Secret] = NO_SECRETS
    ) -> Statement | None:
        """The entry whose own words an unknown line begins with, where what belongs to an entry is written on
        its line: `neighbor 192.0.2.1 password …` belongs to the neighbor 192.0.2.1, whatever else the line
        says."""
        try:
            words = words_of(line, marks, quotes=self.quotes)
        except UnknownStatement:
            return None
        for rule in context.children.values():
            if rule.inline and rule.kind == "list" and not rule.structural:
                values = _values_of_entry(rule, words)
                if values is not None:
                    return self.made(rule, values)
        return None

    def opaque(self, line: str, copy: int = 0) -> Statement:
        """A statement the grammar does not know, kept by its words: it can be carried and printed, not
        delivered.

        `copy` counts the same line's earlier appearances among its siblings.
        """
        return Statement(self._unknown, (" ".join(line.split()),), copy=copy)

    def withheld(self, line: Secret, copy: int = 0) -> Statement:
        """A statement that the grammar does not know, of which no more than the fingerprint was kept."""
        return Statement(self._unknown, (line,), copy=copy)

    def made(self, rule: Rule, arguments: Arguments) -> Statement:
        """The statement of `rule` with `arguments` in canonical form; equal ones are one."""
        known = rule.instances.get(arguments) if not rule.secret else None
        if known is not None:
            return known
        statement = Statement(rule, arguments)
        if not statement.has_secret and not is_one_off():
            if len(rule.instances) >= REMEMBERED_LINES:
                rule.instances.clear()
            rule.instances[arguments] = statement
        return statement

    def _statements(self, context: Rule, line: str, marks: Mapping[str, Secret]) -> tuple[Statement, ...]:
        words = words_of(line, marks, quotes=self.quotes)
        anything = context.children.get("")
        if anything is not None and anything.structural:
            for word in words:
                if isinstance(word, Secret):
                    message = (
                        f"the secret '{word.name}' is in a line that the platform's grammar does not describe"
                    )
                    raise UnknownStatement(
                        message,
                        word=str(word),
                        hint="describe the statement with secret = true; otherwise the secret could be shown",
                    )
            return (self.made(anything, (" ".join(map(str, words)),)),)
        branch = context.branch
        if branch is None:
            raise UnknownStatement(f"'{context.name}' cannot contain other lines", word=str(words[0]))
        first = words[0]
        if not branch.places and not (isinstance(first, str) and self._begins(branch, first)):
            word = str(first)
            raise UnknownStatement(
                f"'{word}' is not a statement {argument_slots(context)}",
                word=word,
                hint=self._placement(context, word),
            )
        form, taken = self._matcher.match(branch, words, 0, context)
        return tuple(self._made_of(rule, form, taken) for rule in form.rules)

    def _begins(self, branch: Branch, word: str) -> bool:
        return word in branch.words or (
            self._abbreviations and any(name.startswith(word) for name in branch.words)
        )

    def _made_of(self, rule: Rule, form: Form, taken: Taken) -> Statement:
        values = [taken.get((rule.path, number)) for number in range(len(rule.arguments))]
        if form.fixed is not None and rule is form.rule:
            values[0] = form.fixed
        for number, argument in enumerate(rule.arguments):
            value = values[number]
            if argument.secret and isinstance(value, str):
                values[number] = self.fingerprints.secret("", value)
        return self.made(rule, tuple(values))

    def _placement(self, context: Rule, word: str) -> str | None:
        elsewhere = self._contexts.get(word, []) or [
            r for w, rules in self._contexts.items() if w.startswith(word) for r in rules
        ]
        # A short word can be the beginning of many; only what cannot be meant otherwise is worth a hint.
        elsewhere = elsewhere if len(elsewhere) == 1 or word in self._contexts else []
        if elsewhere:
            outer = elsewhere[0].path.rpartition("/")[0]
            place = f"below '{outer.replace('/', ' / ')}'" if outer else "at the top level"
            return f"check the indentation: '{word}' belongs {place}"
        near = closest_match(word, context.children)
        if near:
            return f"did you mean '{near}'?"
        if not context.children:
            return f"'{context.name}' cannot contain other lines"
        return f"known here: {', '.join(sorted(context.children))}"


def _values_of_entry(rule: Rule, words: Sequence[Value]) -> Arguments | None:
    """The arguments of an entry that a line of more words begins with; None when it does not."""
    try:
        tokens, is_whole = own_tokens(rule, ())
    except ValueError:
        return None
    if is_whole or len(words) <= len(tokens):
        return None
    values: list[Value | None] = [None] * len(rule.arguments)
    for token, word in zip(tokens, words, strict=False):
        if isinstance(token, ArgumentSlot):
            if token.argument.secret or not isinstance(word, str):
                return None
            try:
                values[token.number] = (
                    token.argument.type.convert([word]) if token.argument.type is not None else word
                )
            except ValueError:
                return None
        elif token != word:
            return None
    return tuple(values)


def words_of(line: str, marks: Mapping[str, Secret] = NO_SECRETS, *, quotes: bool = True) -> list[Value]:
    """The words of a line; with `quotes`, double quotes hold one word together, and a backslash in them
    escapes.

    A word in which a secret stands is a secret. Raises UnknownStatement.
    """
    if not quotes or '"' not in line:
        found = _BARE.findall(line)
    else:
        found = []
        for match in _WORD.finditer(line):
            if match[2] is not None and match[2].startswith('"'):
                raise UnknownStatement(
                    "a quoted text is not closed", word=match[2], hint="add the closing quote"
                )
            found.append(match[2] if match[2] is not None else re.sub(r"\\(.)", r"\1", match[1]))
    if not found:
        raise UnknownStatement("the line is empty", word="")
    return list(found) if not marks else [with_secrets(word, marks) for word in found]


def with_secrets(text: str, marks: Mapping[str, Secret]) -> Value:
    """`text` with the secrets in it: a secret when there is any."""
    made: Value = ""
    end = 0
    for match in MARK.finditer(text):
        secret = marks.get(match[1])
        if secret is not None:
            made = made + text[end : match.start()] + secret
            end = match.end()
    return text if end == 0 else made + text[end:]


def _mark_concerning(rule: Rule) -> bool:
    below = [_mark_concerning(child) for child in rule.children.values() if child is not rule]
    rule.least = tuple(child for child in rule.children.values() if child.min_elements)
    rule.concerns_others = any(below) or bool(rule.unique or rule.leafrefs or rule.least or rule.max_elements)
    return rule.concerns_others


def _names(level: str, name: str) -> bool:
    """Whether one level of a pattern can mean statements called `name`, which may be several words."""
    return fnmatch.fnmatchcase(name, " ".join(level.split()[: max(1, len(name.split()))]))


def _add_forms(branch: Branch, rule: Rule, outer: tuple[Rule, ...], before: tuple[Token, ...]) -> None:
    """Add every form in which `rule`, or a statement inside of it on the same line, may be written.
    `before` are the preceding tokens."""
    if rule.structural:
        return
    rules = (*outer, rule)
    if rule.lines:
        for value, line in rule.lines.items():
            form = Form(rules, (*before, *line.split()), len(before), value)
            if value not in rule.value_forms or len(rules) > len(rule.value_forms[value].rules):
                rule.value_forms = {**rule.value_forms, value: form}
            branch.add(form)
        rule.form = next(iter(rule.value_forms.values()))
        return
    if rule.written is not None and not outer and re.search(r"\{[^}]*\.", rule.written):
        # Its line holds the keys of the statement around it, so it is written beside that, never below it.
        return
    own, whole = own_tokens(rule, outer)
    tokens = own if whole else (*before, *own)
    form = Form(rules, tokens, 0 if whole else len(before))
    if rule.form is None or len(rules) > len(rule.form.rules):
        rule.form = form
    if not rule.inline or rule.presence:
        branch.add(form)
    for child in rule.children.values() if rule.inline else ():
        _add_forms(branch, child, rules, tokens)


def own_tokens(rule: Rule, outer: Sequence[Rule]) -> tuple[tuple[Token, ...], bool]:
    """The tokens of a statement itself, and whether they hold the places of those around it, too.

    Raises ValueError when its line is wrong.
    """
    if rule.written is None:
        places = [ArgumentSlot(rule, number) for number in rule.positional]
        return (*rule.name.split(), *places, *((Options(rule),) if rule.options else ())), False
    tokens: list[Token] = []
    whole = False
    for word in rule.written.split():
        if word == "{options}":
            tokens.append(Options(rule))
        elif word.startswith("{") and word.endswith("}") and not word.startswith("{{"):
            place = _place_called(word[1:-1], rule, outer)
            whole = whole or place.rule is not rule
            tokens.append(place)
        else:
            # A brace of the line itself is written twice, as in every other command of a platform.
            tokens.append(word.replace("{{", "{").replace("}}", "}"))
    if rule.options and not any(isinstance(token, Options) for token in tokens):
        tokens.append(Options(rule))
    placed = [token.number for token in tokens if isinstance(token, ArgumentSlot) and token.rule is rule]
    for number in rule.positional:
        if placed.count(number) != 1:
            raise ValueError(f"'{rule.path}': 'line' must contain {{{rule.arguments[number].name}}} once")
    return tuple(tokens), whole


def _place_called(name: str, rule: Rule, outer: Sequence[Rule]) -> ArgumentSlot:
    around, _, argument = name.rpartition(".")
    candidates = [rule] if not around else [other for other in outer if other.name == around]
    for candidate in candidates:
        number = candidate.argument(argument)
        if number is not None:
            return ArgumentSlot(candidate, number)
    known = [a.name for a in rule.arguments] + [
        f"{other.name}.{a.name}" for other in outer for a in other.arguments
    ]
    raise ValueError(f"'{rule.path}': unknown placeholder {{{name}}} in 'line'; {spelling_hint(name, known)}")
