"""What a new device is conveyed (RFC 8572, section 6): its first configuration, or where else to ask."""

from __future__ import annotations

import base64
import json

MERGE, REPLACE = "merge", "replace"


def onboarding_information(configuration: str, handling: str = REPLACE) -> bytes:
    """Onboarding information in JSON: the device takes `configuration` as its first one."""
    inner = {
        "configuration-handling": handling,
        "configuration": base64.b64encode(configuration.encode()).decode(),
    }
    return json.dumps({"ietf-sztp-conveyed-info:onboarding-information": inner}).encode()


def redirect_information(address: str, port: int, anchor: bytes) -> bytes:
    """Redirect information in JSON: the device asks the bootstrap server at `address`, whose certificate
    leads to `anchor` (certificates as CMS without a signature, in DER)."""
    server = {"address": address, "port": port, "trust-anchor": base64.b64encode(anchor).decode()}
    return json.dumps(
        {"ietf-sztp-conveyed-info:redirect-information": {"bootstrap-server": [server]}}
    ).encode()
