"""What other programs are started with: the environment without Oast's secrets and the keys to them."""

from __future__ import annotations

from collections.abc import Mapping

# OAST_SECRET_NAME, OAST_SECRETS_KEY, and the key of the fingerprints.
HIDDEN = ("OAST_SECRET", "OAST_FINGERPRINT_KEY")


def without_secrets(environment: Mapping[str, str]) -> dict[str, str]:
    """`environment` for a program that has no business with the secrets that are given to Oast alone."""
    return {name: value for name, value in environment.items() if not name.startswith(HIDDEN)}
