"""Trees for storage: with fingerprints in place of secrets, and with the secrets again when these are at
hand.

Lines that no grammar describes may hold unmarked secrets. A possible secret is masked in a private copy; in a
copy that is to be committed, the whole line is a fingerprint.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping

from oast.config.edits import Edit, secrets_below
from oast.config.tree import Node, canonical
from oast.errors import DeviceError
from oast.platforms import Rule
from oast.records import Secret, Value

_Become = Callable[[Rule, Value], Value]


def strip_secrets(tree: Node) -> Node:
    """The canonical tree with no more of its secrets than their fingerprints; lines that no grammar describes
    are masked."""
    return canonical(
        masked_lines(
            _with_values(tree, lambda rule, value: value.forgotten() if isinstance(value, Secret) else value)
        )
    )


def masked_lines(tree: Node) -> Node:
    """The tree with what may be a secret masked in lines that no grammar describes."""

    def masked(rule: Rule, value: Value) -> Value:
        return (
            rule.secret_words.mask(value)
            if rule.secret_words is not None and isinstance(value, str)
            else value
        )

    return _with_values(tree, masked)


def withhold_tree(tree: Node) -> Node:
    """Return what a device runs, with fingerprints in place of whole lines: of those that the grammar does
    not know and, without a grammar, of those that may hold a secret."""
    return _with_values(tree, _withheld)


def withhold_unknown(tree: Node) -> Node:
    """The tree with fingerprints in place of whole lines that the grammar does not know. Where there is no
    grammar, what is intended stands in the estate's templates as well."""
    return _with_values(tree, _withheld_unknown)


def withhold_edits(edits: Iterable[Edit]) -> Iterator[Edit]:
    """The edits, with fingerprints in place of whole lines that the grammar does not know."""

    def of(node: Node | None) -> Node | None:
        return None if node is None else withhold_unknown(node)

    for edit in edits:
        outer = tuple(_with_values(node, _withheld_unknown, deep=False) for node in edit.outer)
        yield Edit(edit.operation, outer, of(edit.old), of(edit.new), of(edit.before))


def _withheld_unknown(rule: Rule, value: Value) -> Value:
    return value if rule.known else _withheld(rule, value)


def _withheld(rule: Rule, value: Value) -> Value:
    words = rule.secret_words
    if words is None or isinstance(value, Secret) or (rule.known and words.mask(value) == value):
        return value
    return words.line(value).forgotten()


def restore_secrets(tree: Node, secrets: Mapping[str, Secret]) -> Node:
    """`tree`, which was kept, with those of its secrets that are among `secrets`, by their fingerprints (see
    `secrets_by_fingerprint`), and with the lines that were withheld or masked.

    The others stay what they are: different from every secret that is known, and refused by the wire.
    """

    def again(rule: Rule, value: Value) -> Value:
        if rule.secret_words is not None:
            line = secrets.get(value.digest if isinstance(value, Secret) else value)
            return value if line is None else line.reveal()
        return secrets.get(value.digest, value) if isinstance(value, Secret) else value

    return canonical(_with_values(tree, again))


def secrets_by_fingerprint(trees: Iterable[Node]) -> dict[str, Secret]:
    """The secrets in `trees` that are known, by the fingerprints that are kept of them; and lines that no
    grammar describes, by fingerprint and by how they are masked."""
    found: dict[str, Secret] = {}
    for tree in trees:
        found.update(
            (secret.forgotten().digest, secret) for secret in secrets_below(tree) if not secret.is_forgotten
        )
        for _, node in tree.walk():
            words = node.statement.rule.secret_words
            text = node.statement.value
            if words is not None and text:
                line, masked = words.line(text), words.mask(text)
                found[line.forgotten().digest] = line
                if masked != text:
                    found[masked] = line
    return found


def require_known_secrets(secrets: Iterable[Secret]) -> None:
    """Whether all of `secrets` can be sent. Raises DeviceError when of one no more than the fingerprint was
    kept."""
    forgotten = sorted({str(secret) for secret in secrets if secret.is_forgotten})
    if forgotten:
        message = (
            "the change contains a secret of which only the fingerprint is known"
            f" ({', '.join(forgotten[:3])}); nothing was sent"
        )
        raise DeviceError(
            message,
            hint="set it on the device manually; it is no longer in the estate or on the device",
        )


def _with_values(node: Node, become: _Become, *, deep: bool = True) -> Node:
    """The tree with other values of secret arguments, and of lines that no grammar describes; a shallow one
    keeps what is below."""
    statement, rule = node.statement, node.statement.rule
    if statement.has_secret or rule.secret_words is not None:
        arguments = tuple(None if value is None else become(rule, value) for value in statement.arguments)
        if arguments != statement.arguments:
            statement = statement.with_arguments(arguments)
    if not deep:
        return Node(statement, node.children, owned=node.owned, partial=node.partial)
    below = {
        child.identity: child for child in (_with_values(child, become) for child in node.children.values())
    }
    return Node(statement, below, owned=node.owned, partial=node.partial)
