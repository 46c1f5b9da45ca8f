"""Telling by an HTTP request: a JSON body, signed if there is a key, over verified TLS.

Signed are method, address, type and digest of the body (RFC 9530), by HMAC-SHA-256 as an HTTP message
signature (RFC 9421).
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import ssl
from collections.abc import Mapping
from datetime import datetime

import aiohttp

from oast import __version__
from oast.estate import TargetSettings
from oast.http_retry import retry_after_s
from oast.records import Secret
from oast.watch.send_result import SendResult, of_system, show_answer

TYPE = "application/json"
LABEL = "oast"
# Status codes that ask for another attempt, in addition to the receiver's own errors (500 and above).
LATER = (408, 425, 429)
LONGEST_LATER_S = 86400.0
READ_AT_MOST = 2000


async def send_to_webhook(
    target: TargetSettings, body: bytes, key: Secret | None, now: datetime
) -> SendResult:
    """Send `body` (JSON) to the target's address. Redirects are not followed: what is signed is for one
    address."""
    url = target.url.geturl()
    headers = {"Content-Type": TYPE, "User-Agent": f"oast/{__version__}", **sign_body(url, body, key, now)}
    try:
        context = ssl.create_default_context(cafile=target.authority)
    except (ssl.SSLError, OSError) as error:
        return SendResult(
            False,
            show_answer(
                f"cannot use the certificate authority {target.authority}: {error.strerror or error}"
            ),
        )
    timeout = aiohttp.ClientTimeout(total=target.timeout_s)
    try:
        async with (
            aiohttp.ClientSession(
                timeout=timeout,
                connector=aiohttp.TCPConnector(ssl=context),
                cookie_jar=aiohttp.DummyCookieJar(),
            ) as session,
            session.post(url, data=body, headers=headers, allow_redirects=False) as response,
        ):
            return await _answer(response, now)
    except TimeoutError:
        return SendResult(False, f"no answer within {target.timeout_s:g} s")
    except aiohttp.ClientConnectorCertificateError as error:
        return SendResult(False, show_answer(f"its certificate is not valid: {error.certificate_error}"))
    except aiohttp.ClientConnectorError as error:
        return SendResult(False, show_answer(f"no connection: {of_system(error.os_error)}"))
    except (aiohttp.ClientError, OSError, ValueError) as error:
        return SendResult(False, show_answer(str(error) or type(error).__name__))


async def _answer(response: aiohttp.ClientResponse, now: datetime) -> SendResult:
    status = response.status
    if 200 <= status < 300:
        return SendResult(True)
    if 300 <= status < 400:
        return SendResult(
            False,
            show_answer(f"HTTP {status}: the receiver has moved ({response.headers.get('Location', '?')})"),
            refused=True,
        )
    text = (await response.content.read(READ_AT_MOST)).decode(errors="replace")
    said = show_answer(f"HTTP {status} {response.reason or ''} {text}")
    if status in LATER or status >= 500:
        after = retry_after_s(response.headers.get("Retry-After"), now)
        return SendResult(False, said, after_s=None if after is None else min(after, LONGEST_LATER_S))
    return SendResult(False, said, refused=True)


def sign_body(url: str, body: bytes, key: Secret | None, now: datetime) -> Mapping[str, str]:
    """The header fields that say what was sent and by whom: Content-Digest, and with a `key` Signature-Input
    and Signature.

    The signature base is that of RFC 9421, section 2.5, and the algorithm hmac-sha256 of section 3.3.3.
    """
    digest = f"sha-256=:{base64.b64encode(hashlib.sha256(body).digest()).decode()}:"
    if key is None:
        return {"Content-Digest": digest}
    covered = {"@method": "POST", "@target-uri": url, "content-type": TYPE, "content-digest": digest}
    names = " ".join(f'"{name}"' for name in covered)
    parameters = f'({names});created={int(now.timestamp())};keyid="{key.name}";alg="hmac-sha256"'
    base = "\n".join(
        [*(f'"{name}": {value}' for name, value in covered.items()), f'"@signature-params": {parameters}']
    )
    signature = base64.b64encode(
        hmac.new(key.reveal().encode(), base.encode(), hashlib.sha256).digest()
    ).decode()
    return {
        "Content-Digest": digest,
        "Signature-Input": f"{LABEL}={parameters}",
        "Signature": f"{LABEL}=:{signature}:",
    }
