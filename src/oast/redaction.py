"""The one point that everything logged or told of a session passes: no secret that is known there stands in
what comes out."""

from __future__ import annotations

import json
import re

from oast.records import Secret

# Shorter than that, a secret is hidden only where it stands as a word of its own: "a" is in every sentence.
SHORT = 4


class Masking:
    """Knows every secret that a session has revealed, in each spelling in which a device may return it."""

    def __init__(self) -> None:
        self._masks: dict[str, str] = {}
        self._pattern: re.Pattern[str] | None = None

    def add(self, secret: Secret) -> None:
        """From now on `secret` is hidden."""
        text = secret.reveal()
        escaped = text.replace("\\", "\\\\").replace('"', '\\"')
        spellings = {
            text,
            text.strip(),
            escaped,
            json.dumps(text)[1:-1],
            json.dumps(text, ensure_ascii=False)[1:-1],
        }
        spellings |= {line.strip() for line in text.splitlines()}
        for spelling in spellings:
            if spelling and spelling not in self._masks:
                self._masks[spelling] = str(secret)
                self._pattern = None

    def hide(self, text: str) -> str:
        """`text` with fingerprints in place of secrets; of one inside another, the longer counts."""
        if not self._masks:
            return text
        if self._pattern is None:
            ordered = sorted(self._masks, key=len, reverse=True)
            self._pattern = re.compile("|".join(map(_whole, ordered)))
        return self._pattern.sub(lambda match: self._masks[match[0]], text)


def _whole(spelling: str) -> str:
    return re.escape(spelling) if len(spelling) >= SHORT else rf"(?<!\w){re.escape(spelling)}(?!\w)"
