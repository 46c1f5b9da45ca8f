"""Rotating a secret that devices hold: the new value goes to all of them in one delivery, and the one before is kept until then."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from oast.change.outcome import Outcome, State
from oast.config.difference import secrets_below
from oast.errors import EstateError
from oast.estate.estate import Estate
from oast.operations.preparation import Preparation, prepare

NAMED = 6


@dataclass(frozen=True)
class Rotation:
    """`holders` are the devices whose intended configuration holds the secret, `preparation` the sections that put it there."""

    name: str
    holders: tuple[str, ...]
    preparation: Preparation

    def without_it(self, as_intended: Sequence[str], outcomes: Sequence[Outcome]) -> list[str]:
        """The devices that may not have the new value yet: not proved means not."""
        have = {*as_intended, *(outcome.device for outcome in outcomes if outcome.state is State.DELIVERED)}
        return [name for name in self.holders if name not in have]


def rotation(estate: Estate, name: str) -> Rotation:
    """What it takes to give the devices what the secret `name` is in `estate`.

    Raises EstateError when no section does so, or when some device would be locked for Oast because none does it there.
    """
    whole = prepare(estate)
    sections: set[str] = set()
    holders: list[str] = []
    for intent in whole.intents:
        own = {section.template.section for section in intent.sections if name in secrets_below(section.tree)}
        sections |= own
        holders += [intent.device.name] if own else []
    if not holders:
        hint = "its devices would not learn of it: write it into a template, or rotate it without --push"
        raise EstateError(f"no section puts the secret '{name}' on a device", hint=hint)
    locked = [device for device in estate.devices if device not in holders] if name in estate.settings.connection.login_secrets else []
    if locked:
        more = f" and {len(locked) - NAMED} more" if len(locked) > NAMED else ""
        message = f"no section tells {', '.join(locked[:NAMED])}{more} the new '{name}', with which Oast logs in there"
        raise EstateError(message, hint="render it for every device, for example {{ login | password_hash(device.name) }}")
    return Rotation(name, tuple(holders), prepare(estate, sections=sorted(sections)))
