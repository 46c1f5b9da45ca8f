"""oast devices trust: the host keys that devices show, trusted on purpose."""

from __future__ import annotations

import argparse
import asyncio
import sys

from oast.cli.exits import DONE, FAILED, NO
from oast.cli.failures import show_device_errors
from oast.cli.workplace import confirmed, plural
from oast.connect.connector import Connector
from oast.connect.host_keys import HostKey
from oast.connect.transport import offered_host_key
from oast.errors import DeviceError
from oast.estate.estate import Estate
from oast.estate.inventory import Device
from oast.fleet.many import for_each


def trust(estate: Estate, devices: list[Device], options: argparse.Namespace) -> int:
    """Show every new key, ask, and keep them; a changed key needs --replace."""
    connector = Connector(estate, options.timeout)
    found: dict[str, HostKey] = {}
    failed: list[tuple[str, DeviceError]] = []

    async def offered(device: Device) -> HostKey:
        return await offered_host_key(connector.target(device), connector.connect_timeout_s)

    def done(device: Device, result: HostKey | DeviceError) -> None:
        if isinstance(result, DeviceError):
            failed.append((device.name, result))
        else:
            found[device.name] = result

    asyncio.run(for_each(devices, offered, options.at_once or estate.settings.connection.at_once, done))
    new: dict[str, HostKey] = {}
    changed: list[str] = []
    for device in devices:
        key = found.get(device.name)
        known = connector.known_hosts.of(device.name)
        if key is None or key in known:
            continue
        if known and not options.replace:
            changed.append(device.name)
            sys.stdout.write(f"{device.name}  CHANGED: it shows {key.fingerprint}, trusted is {known[0].fingerprint}\n")
        else:
            new[device.name] = key
            sys.stdout.write(f"{device.name}  {key.fingerprint}\n")
    sys.stdout.flush()
    show_device_errors(failed, sys.stderr)
    if new and not options.yes and not confirmed(f"Trust {plural(len(new), 'host key')}?"):
        return NO
    if new:
        connector.known_hosts.trust(new)
    sys.stdout.write(f"{plural(len(new), 'host key')} trusted from now on, {len(found) - len(new) - len(changed)} known already\n")
    if changed:
        sys.stderr.write("a changed key can be an attack; if the device was replaced, repeat with --replace\n")
    return FAILED if failed or changed else DONE
