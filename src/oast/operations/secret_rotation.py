"""Rotating a secret that devices hold: the new value goes to all of them in one delivery, and the one before
is kept until then."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from oast.change import Cause, Outcome, State
from oast.change.plan import Comparison
from oast.config import secrets_below, secrets_in
from oast.errors import EstateError
from oast.estate import Estate
from oast.operations.intent_context import IntentContext, prepare_intents

NAMED = 6


@dataclass(frozen=True)
class Rotation:
    """`holders` are the devices whose intended configuration holds the secret, each with the digests of what
    it is made into there; `preparation` has the sections that put it there."""

    name: str
    holders: Mapping[str, frozenset[str]]
    preparation: IntentContext

    def without_it(self, as_intended: Sequence[Comparison], outcomes: Sequence[Outcome]) -> list[str]:
        """The devices that may not have the new value yet, or would start with the one before: not proved
        means not."""
        have = {
            outcome.device
            for outcome in outcomes
            if outcome.state is State.DELIVERED and outcome.cause is Cause.NONE
        }
        have |= {
            c.name
            for c in as_intended
            if not self.holders.get(c.name, frozenset()) & {one.digest for one in secrets_in(c.unsaved)}
        }
        return [name for name in self.holders if name not in have]


def rotation(estate: Estate, name: str) -> Rotation:
    """What it takes to give the devices what the secret `name` is in `estate`.

    Raises EstateError when no section does so, or when some device would be locked for Oast because none does
    it there.
    """
    whole = prepare_intents(estate)
    sections: set[str] = set()
    holders: dict[str, frozenset[str]] = {}
    for intent in whole.intents:
        found = {
            s.template.section: frozenset(one.digest for one in secrets_below(s.tree) if one.name == name)
            for s in intent.sections
        }
        own = {section for section, digests in found.items() if digests}
        sections |= own
        if own:
            holders[intent.device.name] = frozenset[str]().union(*found.values())
    if not holders:
        hint = "use it in a template, or rotate it without --push"
        raise EstateError(f"no section delivers the secret '{name}' to a device", hint=hint)
    of = estate.settings.connections.of
    locked = [
        device.name
        for device in estate.devices.values()
        if device.name not in holders and name in of(device).login_secrets
    ]
    if locked:
        more = f" and {len(locked) - NAMED} more" if len(locked) > NAMED else ""
        message = (
            f"no section delivers the new '{name}' to {', '.join(locked[:NAMED])}{more}, where Oast logs"
            " in with it"
        )
        raise EstateError(
            message, hint="render it for every device, for example {{ login | password_hash(device.name) }}"
        )
    return Rotation(name, holders, prepare_intents(estate, sections=sorted(sections)))
