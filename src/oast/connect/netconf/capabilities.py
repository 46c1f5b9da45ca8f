"""What a server's hello offers (RFC 6241, section 8; RFC 7950, section 5.6.4)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from urllib.parse import parse_qs

BASE_10 = "urn:ietf:params:netconf:base:1.0"
BASE_11 = "urn:ietf:params:netconf:base:1.1"
_CAPABILITY = "urn:ietf:params:netconf:capability:"


@dataclass(frozen=True, slots=True)
class OfferedModule:
    """A YANG module as a hello names it (RFC 6020, section 5.6.4)."""

    name: str
    revision: str | None
    namespace: str
    features: tuple[str, ...] = ()
    deviations: tuple[str, ...] = ()


@dataclass(frozen=True)
class ServerCapabilities:
    """The capabilities of a server. What is not in its hello is not there, whatever a platform's file says of
    such devices."""

    capabilities: tuple[str, ...]

    def _has(self, name: str, *versions: str) -> bool:
        names = {f"{_CAPABILITY}{name}:{version}" for version in versions}
        return any(capability.partition("?")[0] in names for capability in self.capabilities)

    @property
    def base_11(self) -> bool:
        """Chunked framing (RFC 6242, section 4.1)."""
        return BASE_11 in self.capabilities

    @property
    def is_netconf(self) -> bool:
        """Whether there is a version of the protocol that Oast knows."""
        return self.base_11 or BASE_10 in self.capabilities

    @property
    def candidate(self) -> bool:
        """RFC 6241, section 8.3."""
        return self._has("candidate", "1.0")

    @property
    def confirmed_commit(self) -> bool:
        """RFC 6241, section 8.4; and as RFC 4741 had it."""
        return self._has("confirmed-commit", "1.0", "1.1")

    @property
    def persist(self) -> bool:
        """Whether a commit that waits to be confirmed outlives its session: since confirmed-commit:1.1, in
        sessions of base:1.1."""
        return self.base_11 and self._has("confirmed-commit", "1.1")

    @property
    def writable_running(self) -> bool:
        """RFC 6241, section 8.2."""
        return self._has("writable-running", "1.0")

    @property
    def rollback_on_error(self) -> bool:
        """RFC 6241, section 8.5."""
        return self._has("rollback-on-error", "1.0")

    @property
    def validate(self) -> bool:
        """RFC 6241, section 8.6."""
        return self._has("validate", "1.0", "1.1")

    @property
    def startup(self) -> bool:
        """RFC 6241, section 8.7. Without it, what runs is what the device starts with."""
        return self._has("startup", "1.0")

    def lacks(self, needed: Iterable[str]) -> list[str]:
        """Those of `needed` that are not offered, whatever parameters they come with."""
        there = {capability.partition("?")[0] for capability in self.capabilities}
        return [capability for capability in needed if capability not in there]

    @property
    def modules(self) -> list[OfferedModule]:
        """The YANG modules that the hello names; a newer server names them in its library alone
        (RFC 8525)."""
        found = []
        for capability in self.capabilities:
            namespace, _, query = capability.partition("?")
            given = parse_qs(query)
            if "module" in given:
                listed = {
                    key: tuple(word for text in given.get(key, ()) for word in text.split(","))
                    for key in ("features", "deviations")
                }
                revision = given.get("revision", [None])[0]
                found.append(
                    OfferedModule(
                        given["module"][0], revision, namespace, listed["features"], listed["deviations"]
                    )
                )
        return found
