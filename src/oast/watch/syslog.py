"""Telling by syslog: a message (RFC 5424) for each news, in a datagram (RFC 5426) or over TLS (RFC 5425).

Syslog has no answer: over TLS it is known that the receiver took the bytes and closed in order, by datagram
nothing at all.
"""

from __future__ import annotations

import asyncio
import ssl
from collections.abc import Mapping, Sequence
from typing import Any

from oast.estate import SYSLOG_PORTS, TargetSettings
from oast.watch.send_result import SendResult, of_system, show_answer

# RFC 5424, section 6.2.1, table 2.
SEVERITIES = {"error": 3, "warning": 4}
NOTICE = 5
# The number that RFC 5612 leaves to documentation stands for ours, as no number is registered for this
# program.
ELEMENT = "oast@32473"
# RFC 5424, section 6.1: every receiver should accept this many octets.
LONGEST = 2048
NIL = "-"


async def send_to_syslog(
    target: TargetSettings, document: Mapping[str, Any], host: str, process: int
) -> SendResult:
    """Send one message for each news in `document` (oast.notification/1)."""
    messages = messages_of(document, target.facility, host, process)
    address = (target.url.hostname or "", target.url.port or SYSLOG_PORTS[target.url.scheme])
    try:
        async with asyncio.timeout(target.timeout_s):
            if target.url.scheme == "udp":
                await _by_datagram(address, messages)
            else:
                await _over_tls(address, messages, ssl.create_default_context(cafile=target.authority))
    except TimeoutError:
        return SendResult(False, f"not accepted within {target.timeout_s:g} s")
    except ssl.SSLCertVerificationError as error:
        return SendResult(False, show_answer(f"its certificate is not valid: {error.verify_message}"))
    except OSError as error:
        return SendResult(False, show_answer(of_system(error)))
    return SendResult(True)


async def _by_datagram(address: tuple[str, int], messages: Sequence[bytes]) -> None:
    transport, _ = await asyncio.get_running_loop().create_datagram_endpoint(
        asyncio.DatagramProtocol, remote_addr=address
    )
    try:
        for message in messages:
            transport.sendto(message)
            # Receivers lose what comes all at once.
            await asyncio.sleep(0.001)
    finally:
        transport.close()


async def _over_tls(address: tuple[str, int], messages: Sequence[bytes], context: ssl.SSLContext) -> None:
    reader, writer = await asyncio.open_connection(*address, ssl=context, server_hostname=address[0])
    try:
        for message in messages:
            # RFC 5425, section 4.3: the length in octets, a space, the message.
            writer.write(b"%d %b" % (len(message), message))
            await writer.drain()
        if reader.at_eof():
            raise ConnectionResetError("the receiver closed the connection before the message was complete")
    finally:
        writer.close()
    await writer.wait_closed()


def messages_of(document: Mapping[str, Any], facility: int, host: str, process: int) -> list[bytes]:
    """A message for each news, RFC 5424, section 6."""
    return [_message(document, news, facility, host, process) for news in document["news"]]


def _message(
    document: Mapping[str, Any], news: Mapping[str, Any], facility: int, host: str, process: int
) -> bytes:
    right = news["became"] in ("right", "new")
    priority = facility * 8 + (NOTICE if right else SEVERITIES.get(news["severity"], 3))
    about = {
        "estate": document["estate"],
        "job": document["job"],
        "id": document["id"],
        **{name: news[name] for name in ("became", "device", "what", "place") if news[name]},
    }
    data = " ".join(f'{name}="{_escaped(str(value))}"' for name, value in about.items())
    subject = " ".join(filter(None, (news["device"], news["what"])))
    text = f"{subject}: {news['told']}" if subject else news["told"]
    words = shown_whole(f"recovered: {text}" if news["became"] == "right" else text)
    header = (
        f"<{priority}>1 {document['at']} {_ascii(host, 255)} oast {process} {_ascii(news['about'], 32)}"
        f" [{ELEMENT} {data}] \ufeff"
    )
    return (header + words).encode()[:LONGEST].decode(errors="ignore").encode()


def shown_whole(text: str) -> str:
    """One line without control characters."""
    return "".join(c if c.isprintable() else " " for c in text)


def _escaped(value: str) -> str:
    """RFC 5424, section 6.3.3."""
    return shown_whole(value).replace("\\", "\\\\").replace('"', '\\"').replace("]", "\\]")


def _ascii(text: str, longest: int) -> str:
    """PRINTUSASCII of RFC 5424, section 6; NIL for nothing."""
    return "".join(c for c in text if 33 <= ord(c) <= 126)[:longest] or NIL
