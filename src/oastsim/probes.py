"""ping and trace, as devices offer them: a packet follows the tables of the network, and so does the answer;
access lists included."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator

from oastsim.forwarding import Exchange, Journey, Packet
from oastsim.state import NetworkState


def ping(
    state: NetworkState, device: str, destination: str, source: str | None = None, instance: str = ""
) -> Exchange:
    """Ask for an answer from `destination`, out of a network instance. Raises ValueError for what is no
    address, or not one of the device's own in that instance."""
    target = ipaddress.ip_address(destination)
    if instance and instance not in state.facts(device).instances:
        raise ValueError(f"there is no network-instance {instance}")
    forwarding = state.forwarding()
    own = forwarding.own(device, instance)
    if source is not None and source not in own:
        raise ValueError(f"{source} is no address of an interface that is up")
    from_ = own[source] if source is not None else forwarding.source(device, target, instance)
    if from_ is None:
        return Exchange(Journey((), "no route"), f"{device} has no route to {target}")
    return forwarding.exchange(device, Packet(from_, target), instance)


def ping_lines(state: NetworkState, device: str, words: str) -> Iterator[str]:
    """What a device says of `ADDRESS [from ADDRESS] [in INSTANCE]`. Raises ValueError."""
    answer = ping(state, device, *asked(words))
    yield "answered" if answer.arrived else f"no answer: {answer.reason}"


def trace_lines(state: NetworkState, device: str, words: str) -> Iterator[str]:
    """What a device says of the way to `ADDRESS [from ADDRESS] [in INSTANCE]`, a hop a line. Raises
    ValueError."""
    answer = ping(state, device, *asked(words))
    for number, hop in enumerate(answer.there.hops, 1):
        yield f"{number}  {hop.address}  {state.facts(hop.device).hostname}"
    yield "arrived" if answer.arrived else f"no answer: {answer.reason}"


def asked(words: str) -> tuple[str, str | None, str]:
    """The address, the source and the network instance. Raises ValueError."""
    given = words.split()
    options = dict(zip(given[1::2], given[2::2], strict=False))
    if (
        not given
        or len(given) % 2 == 0
        or set(options) - {"from", "in"}
        or 2 * len(options) + 1 != len(given)
    ):
        raise ValueError("say ADDRESS, ADDRESS from ADDRESS, or ADDRESS in INSTANCE")
    for address in (given[0], *([options["from"]] if "from" in options else [])):
        ipaddress.ip_address(address)
    return given[0], options.get("from"), options.get("in", "")
