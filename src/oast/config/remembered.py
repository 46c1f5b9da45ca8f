"""Trees as they are kept: with no more of their secrets than fingerprints, and with the secrets again when these are at hand."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from oast.config.difference import secrets_below
from oast.config.tree import Node, canonical
from oast.errors import DeviceError
from oast.platforms.statements import Statement
from oast.records import Secret


def forgetting(tree: Node) -> Node:
    """The canonical tree with no more of its secrets than their fingerprints."""
    return canonical(_with_secrets(tree, lambda secret: secret.forgotten()))


def known_again(tree: Node, secrets: Mapping[str, Secret]) -> Node:
    """`tree`, which was kept, with those of its secrets that are among `secrets`, by their fingerprints (see `by_fingerprint`).

    The others stay what they are: different from every secret that is known, and refused by the wire.
    """
    return canonical(_with_secrets(tree, lambda secret: secrets.get(secret.digest, secret)))


def by_fingerprint(trees: Iterable[Node]) -> dict[str, Secret]:
    """The secrets in `trees` that are known, by the fingerprints that are kept of them."""
    return {secret.forgotten().digest: secret for tree in trees for secret in secrets_below(tree) if not secret.is_forgotten}


def need_known(secrets: Iterable[Secret]) -> None:
    """Whether all of `secrets` can be sent. Raises DeviceError when of one no more than the fingerprint was kept."""
    forgotten = sorted({str(secret) for secret in secrets if secret.is_forgotten})
    if forgotten:
        message = f"it would be sent a secret of which only the fingerprint was kept ({', '.join(forgotten[:3])}): it was not touched"
        raise DeviceError(message, hint="it is neither in the estate nor on the device any more: set it on the device by hand")


def _with_secrets(node: Node, become: Callable[[Secret], Secret]) -> Node:
    statement = node.statement
    if statement.has_secret:
        arguments = tuple(become(value) if isinstance(value, Secret) else value for value in statement.arguments)
        statement = Statement(statement.rule, arguments)
    below = {child.identity: child for child in (_with_secrets(child, become) for child in node.children.values())}
    return Node(statement, below)
