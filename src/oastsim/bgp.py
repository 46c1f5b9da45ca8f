"""BGP (RFC 4271): which sessions come about over the network as it is, and which paths each speaker has by
them."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from oastsim.bridging import Bridging
from oastsim.facts import BgpNeighbor
from oastsim.forwarding import Forwarding, Packet
from oastsim.known import Known
from oastsim.tables import PREFERENCE, Candidate, Route, Tables

PORT = 179
# A port that is not reserved, as the end that opens a connection has it.
UNPRIVILEGED = 50000
# More rounds than this only policies need that contradict each other, and there are none here.
MOST_ROUNDS = 64
Key = tuple[str, str]


@dataclass(frozen=True)
class Session:
    """What a speaker has with a neighbour: `state` as in RFC 4271, section 8.2.2; `peer` is the device at the
    other end, where it answers; `error` says why it does not."""

    address: str
    neighbor: BgpNeighbor
    state: str
    local: str
    peer: str | None
    error: str | None
    received: int = 0


@dataclass(frozen=True)
class Path:
    """A path to a prefix as a speaker has it; `learned` is the neighbour it came from, None for what it
    announces itself; `metric` is how far the next hop is inside of the AS."""

    prefix: str
    as_path: tuple[int, ...]
    next_hop: str
    learned: str | None = None
    internal: bool = False
    metric: int = 0
    identifier: str = ""

    @property
    def rank(self) -> tuple[int, int, bool, int, int, int]:
        """Lower is better: one's own, the shorter way through other AS, external before internal, the nearer
        next hop, the lower identifier, the lower address (RFC 4271, section 9.1.2.2)."""
        address = int(ipaddress.ip_address(self.learned)) if self.learned else 0
        identifier = int(ipaddress.ip_address(self.identifier)) if self.identifier not in ("", "-") else 0
        return self.learned is not None, len(self.as_path), self.internal, self.metric, identifier, address


@dataclass(frozen=True)
class _Attempt:
    """How far a session gets now. `silent`: the other end is no longer heard, and has not said why."""

    local: str
    state: str
    error: str | None
    peer: str | None = None
    silent: bool = False


class Speakers:
    """All speakers of the network. Computed again after a change that affects packets."""

    def __init__(self, known: Known, bridging: Bridging, tables: Tables, forwarding: Forwarding) -> None:
        self._known = known
        self._bridging = bridging
        self._tables = tables
        self._forwarding = forwarding
        self._since: dict[Key, float] = {}
        # Sessions whose other end is silent, and until when that is borne (the hold time; RFC 4271, section
        # 6.5).
        self._held: dict[Key, tuple[float, str]] = {}
        self._generation = -1
        self._sessions: dict[str, list[Session]] = {}
        self._best: dict[str, dict[str, Path]] = {}
        # Counts what has changed of the paths.
        self.version = 0

    def sessions(self, device: str) -> list[Session]:
        """A device's sessions, in the order of its neighbours."""
        self._work_out()
        return self._sessions.get(device, [])

    def candidates(self, device: str) -> Iterator[Candidate]:
        """What a device's paths are as routes."""
        self._work_out()
        table = self._tables.of(device)
        for path in self._best.get(device, {}).values():
            via = table.best(ipaddress.ip_address(path.next_hop)) if path.learned is not None else None
            if via is not None:
                hop = path.next_hop if via.next_hop == "-" else via.next_hop
                yield (
                    PREFERENCE["bgp-internal" if path.internal else "bgp"],
                    Route(path.prefix, "bgp", hop, via.interface, path.metric),
                )

    def current(self) -> int:
        """The version as of now."""
        self._work_out()
        return self.version

    def _work_out(self) -> None:
        if self._generation == self._known.generation:
            return
        self._generation = self._known.generation
        sessions = {name: list(self._of(name)) for name in sorted(self._known.speakers)}
        live = {
            (name, one.address) for name, all_ in sessions.items() for one in all_ if one.peer is not None
        }
        self._since = {key: since for key, since in self._since.items() if key in live}
        best, received = self._exchanged(sessions)
        self._sessions = {
            name: [Session(*_parts(one), received.get((name, one.address), 0)) for one in all_]
            for name, all_ in sessions.items()
        }
        if best != self._best:
            self._best = best
            self.version += 1

    # --- sessions
    # -----------------------------------------------------------------------------------------------------

    def _of(self, device: str) -> Iterator[Session]:
        bgp = self._known.facts[device].bgp
        for address, neighbor in bgp.neighbors.items() if bgp is not None else ():
            key = device, address
            attempt = self._attempt(device, address, neighbor)
            now = self._known.clock()
            if attempt.peer is not None:
                self._held.pop(key, None)
                if key not in self._since:
                    self._since[key] = self._known.changed_at_s
                    self._known.later(self._known.changed_at_s + self._known.convergence_s, device)
                yield Session(
                    address, neighbor, self._stage(self._since[key]), attempt.local, attempt.peer, None
                )
                continue
            held = self._held.get(key)
            if (
                held is None
                and attempt.silent
                and key in self._since
                and self._known.progress(self._since[key]) >= 1
            ):
                held = self._held[key] = (
                    self._known.changed_at_s + neighbor.hold_time_s,
                    self._peer_of(device, address) or "",
                )
                self._known.later(held[0], device)
            if held is not None and attempt.silent and now < held[0]:
                yield Session(address, neighbor, "established", attempt.local, held[1] or None, None)
                continue
            self._held.pop(key, None)
            yield Session(address, neighbor, attempt.state, attempt.local, None, attempt.error)

    def _peer_of(self, device: str, address: str) -> str | None:
        return next((one.peer for one in self._sessions.get(device, ()) if one.address == address), None)

    def _stage(self, since_s: float) -> str:
        share = self._known.progress(since_s)
        return (
            "established"
            if share >= 1
            else "openconfirm"
            if share > 0.7
            else "opensent"
            if share > 0.4
            else "connect"
        )

    def _attempt(self, device: str, address: str, neighbor: BgpNeighbor) -> _Attempt:
        bgp = self._known.facts[device].bgp
        target = ipaddress.ip_address(address)
        source = self._forwarding.source(device, target)
        local = neighbor.local_address or (str(source) if source is not None else "-")
        if not neighbor.enabled:
            return _Attempt(local, "idle", "disabled")
        if source is None or bgp is None:
            return _Attempt(
                local, "idle", "no route to it", silent=neighbor.peer_as == getattr(bgp, "as_number", None)
            )
        own = self._forwarding.own(device)
        if local not in own:
            return _Attempt(local, "idle", f"{local} is on no interface that is up")
        # Either may be the one that opens it (RFC 4271, section 6.8).
        opened = self._forwarding.exchange(device, Packet(own[local], target, "tcp", UNPRIVILEGED, PORT))
        other = (
            self._forwarding.exchange(device, Packet(own[local], target, "tcp", PORT, UNPRIVILEGED))
            if opened.filtered
            else opened
        )
        if not opened.arrived and not other.arrived:
            return _Attempt(local, "active", opened.reason, silent=True)
        journey = opened.there if opened.arrived else other.there
        if neighbor.peer_as != bgp.as_number and len(journey.hops) != 1:
            return _Attempt(local, "active", "another AS has to be on a connected network")
        return self._answered(device, neighbor, local, journey.hops[-1].device if journey.hops else device)

    def _answered(self, device: str, neighbor: BgpNeighbor, local: str, peer: str) -> _Attempt:
        """What the device that has the address says (RFC 4271, section 6.2)."""
        own, theirs = self._known.facts[device].bgp, self._known.facts[peer].bgp
        entry = theirs.neighbors.get(local) if theirs is not None else None
        if own is None or theirs is None or entry is None or not entry.enabled or peer == device:
            return _Attempt(
                local, "active", f"refused: {self._known.facts[peer].hostname} wants no session with {local}"
            )
        if theirs.as_number != neighbor.peer_as:
            return _Attempt(local, "idle", f"bad peer AS: it is of {theirs.as_number}")
        if entry.peer_as != own.as_number:
            return _Attempt(local, "idle", f"bad peer AS: it takes this AS for {entry.peer_as}")
        if theirs.identifier == own.identifier:
            return _Attempt(local, "idle", f"bad BGP identifier: both have {own.identifier}")
        return _Attempt(local, "openconfirm", None, peer)

    # --- paths
    # --------------------------------------------------------------------------------------------------------

    def _exchanged(
        self, sessions: Mapping[str, list[Session]]
    ) -> tuple[dict[str, dict[str, Path]], dict[Key, int]]:
        """Compute every speaker's best paths, and how many each neighbor has sent: in rounds, until no
        speaker learns anything new."""
        established = {
            name: [one for one in all_ if one.state == "established" and one.peer]
            for name, all_ in sessions.items()
        }
        own = {name: {path.prefix: path for path in self._announced(name)} for name in sessions}
        best: dict[str, dict[str, Path]] = own
        received: dict[Key, int] = {}
        for _ in range(MOST_ROUNDS):
            made: dict[str, dict[str, Path]] = {}
            for name in sessions:
                found = dict(own[name])
                for session in established[name]:
                    given = list(self._given(name, session, best))
                    received[name, session.address] = len(given)
                    for path in given:
                        present = found.get(path.prefix)
                        if present is None or path.rank < present.rank:
                            found[path.prefix] = path
                made[name] = found
            if made == best:
                break
            best = made
        return best, received

    def _announced(self, name: str) -> Iterator[Path]:
        bgp = self._known.facts[name].bgp
        for prefix in bgp.networks if bgp is not None else ():
            if bgp is not None and (bgp.always or self._tables.of(name).exact(prefix) is not None):
                yield Path(prefix, (), "-")

    def _given(self, name: str, session: Session, best: Mapping[str, dict[str, Path]]) -> Iterator[Path]:
        """What the other end of a session tells, as it is taken (RFC 4271, sections 5.1.2, 5.1.3, 9.1.2 and
        9.2)."""
        own, theirs = self._known.facts[name].bgp, self._known.facts[session.peer or name].bgp
        if own is None or theirs is None:
            return
        internal = own.as_number == theirs.as_number
        table = self._tables.of(name)
        for path in best.get(session.peer or "", {}).values():
            if (
                path.learned == session.local
                or (path.internal and internal)
                or (":" in path.prefix) != (":" in session.address)
            ):
                continue
            as_path = path.as_path if internal else (theirs.as_number, *path.as_path)
            if own.as_number in as_path:
                continue
            next_hop = path.next_hop if internal and path.learned is not None else session.address
            via = table.best(ipaddress.ip_address(next_hop))
            if via is not None and via.discards is None:
                yield Path(
                    path.prefix, as_path, next_hop, session.address, internal, via.metric, theirs.identifier
                )


def _parts(session: Session) -> tuple[str, BgpNeighbor, str, str, str | None, str | None]:
    return session.address, session.neighbor, session.state, session.local, session.peer, session.error
