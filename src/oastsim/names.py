"""A stand-in for the names of a network: what a zone in a master file says (RFC 1035), answered over UDP on
loopback.

`python -m oastsim.names FILE ORIGIN` serves it, and says where.
"""

from __future__ import annotations

import asyncio
import signal
import sys
from pathlib import Path
from typing import Any

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.zone

LOOPBACK = "127.0.0.1"


class Names(asyncio.DatagramProtocol):
    """Answers from one zone; of anything else it says that it does not know."""

    def __init__(self, zone: dns.zone.Zone) -> None:
        self._zone = zone
        self._transport: asyncio.DatagramTransport | None = None

    def connection_made(self, transport: Any) -> None:
        self._transport = transport

    def datagram_received(self, data: bytes, addr: Any) -> None:
        try:
            query = dns.message.from_wire(data)
            answer = self._answer(query)
        except (dns.exception.DNSException, ValueError, IndexError):
            return
        if self._transport is not None:
            self._transport.sendto(answer.to_wire(), addr)

    def _answer(self, query: dns.message.Message) -> dns.message.Message:
        answer = dns.message.make_response(query)
        answer.flags |= dns.flags.AA
        [question] = query.question
        if self._zone.origin is None or not question.name.is_subdomain(self._zone.origin):
            answer.set_rcode(dns.rcode.REFUSED)
            return answer
        node = self._zone.get_node(question.name)
        if node is None:
            answer.set_rcode(dns.rcode.NXDOMAIN)
            return answer
        found = node.get_rdataset(question.rdclass, question.rdtype)
        if found is not None:
            rrset = answer.find_rrset(
                answer.answer, question.name, question.rdclass, question.rdtype, create=True
            )
            rrset.update(found)  # type: ignore[no-untyped-call]
        return answer


async def serve(text: str, origin: str) -> tuple[asyncio.DatagramTransport, int]:
    """Listen on loopback; returns the transport and the port. Raises ValueError for an invalid zone."""
    try:
        zone = dns.zone.from_text(text, origin=origin, relativize=False, check_origin=False)
    except dns.exception.DNSException as wrong:
        raise ValueError(f"it is no zone: {wrong}") from None
    transport, _ = await asyncio.get_running_loop().create_datagram_endpoint(
        lambda: Names(zone), local_addr=(LOOPBACK, 0)
    )
    return transport, int(transport.get_extra_info("sockname")[1])


async def _until_stopped(text: str, origin: str) -> None:
    transport, port = await serve(text, origin)
    sys.stdout.write(f"names are answered at {LOOPBACK}:{port}\n")
    sys.stdout.flush()
    stop = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, stop.set)
    await stop.wait()
    transport.close()


def main() -> int:
    if len(sys.argv) != 3:
        sys.stderr.write("usage: python -m oastsim.names FILE ORIGIN\n")
        return 2
    try:
        asyncio.run(_until_stopped(Path(sys.argv[1]).read_text(encoding="utf-8"), sys.argv[2]))
    except (OSError, ValueError) as error:
        sys.stderr.write(f"{sys.argv[1]}: {error}\n")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
