"""Zero-touch provisioning of new devices: the bootstrap server, keys, vouchers and signed artifacts (RFC
8572, RFC 8366)."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.onboard.cms import (
        CONVEYED as CONVEYED,
        SignatureError as SignatureError,
        certificates_only as certificates_only,
        sign_data as sign_data,
    )
    from oast.onboard.conveyed_information import onboarding_information as onboarding_information
    from oast.onboard.keys import Keys as Keys, make_keys as make_keys, read_keys as read_keys
    from oast.onboard.server import BootstrapServer as BootstrapServer, OnBox as OnBox
    from oast.onboard.store import (
        Artifacts as Artifacts,
        NewDevice as NewDevice,
        NewDeviceState as NewDeviceState,
        NewDeviceStore as NewDeviceStore,
        OnboardingRefusal as OnboardingRefusal,
    )
    from oast.onboard.trust import authorities as authorities
    from oast.onboard.vouchers import matches_owner as matches_owner, read_voucher as read_voucher

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "cms": ("CONVEYED", "SignatureError", "certificates_only", "sign_data"),
        "conveyed_information": ("onboarding_information",),
        "keys": ("Keys", "make_keys", "read_keys"),
        "server": ("BootstrapServer", "OnBox"),
        "store": ("Artifacts", "NewDevice", "NewDeviceState", "NewDeviceStore", "OnboardingRefusal"),
        "trust": ("authorities",),
        "vouchers": ("matches_owner", "read_voucher"),
    },
)
