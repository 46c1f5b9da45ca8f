"""oast devices trust: the host keys that devices show, trusted on purpose."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence

from oast.cli.async_runner import run_async as run_to_end
from oast.cli.devices import DevicesOptions
from oast.cli.error_output import show_device_errors
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import ask_to_confirm, plural
from oast.connect import Connector, HostKey, Target
from oast.errors import DeviceError
from oast.estate import Device, Estate
from oast.fleet import for_each


def trust(estate: Estate, devices: list[Device], options: DevicesOptions) -> int:
    """Show every new key, ask, and keep them; a changed key needs --replace. Jump hosts come first: the way
    to the devices behind one leads through a login there."""
    for jump in Connector(estate, devices, options.timeout).jump_targets(devices):
        # One after the other: a key that was trusted for one device may be needed on the path to the next.
        connector = Connector(estate, devices, options.timeout)
        targets = {target.name: target for target in connector.jump_targets(devices)}
        if (code := _trust(estate, connector, [jump.name], targets.__getitem__, options)) != DONE:
            return code
    connector = Connector(estate, devices, options.timeout)
    names = [device.name for device in devices]
    return _trust(
        estate, connector, names, lambda name: connector.target(estate.devices[name], untrusted=True), options
    )


def _trust(
    estate: Estate,
    connector: Connector,
    names: Sequence[str],
    target_of: Callable[[str], Target],
    options: DevicesOptions,
) -> int:
    found: dict[str, HostKey] = {}
    failed: list[tuple[str, DeviceError]] = []

    async def offered(name: str) -> HostKey:
        return await connector.offered_host_key(target_of(name))

    def done(name: str, result: HostKey | DeviceError) -> None:
        if isinstance(result, DeviceError):
            failed.append((name, result))
        else:
            found[name] = result

    run_to_end(for_each(names, offered, options.parallel or estate.settings.connection.parallel, done))
    new: dict[str, HostKey] = {}
    changed: list[str] = []
    for name in names:
        key = found.get(name)
        known = connector.known_hosts.usable(name)
        if key is None or key in known:
            continue
        if known and not options.replace:
            changed.append(name)
            sys.stdout.write(
                f"{name}  CHANGED: the device shows {key.fingerprint}, trusted is {known[0].fingerprint}\n"
            )
        else:
            new[name] = key
            sys.stdout.write(f"{name}  {key.fingerprint}\n")
    sys.stdout.flush()
    show_device_errors(failed, sys.stderr)
    if new and not options.yes and not ask_to_confirm(f"Trust {plural(len(new), 'host key')}?"):
        return NO
    if new:
        connector.known_hosts.trust(new)
    sys.stdout.write(
        f"{plural(len(new), 'host key')} accepted, {len(found) - len(new) - len(changed)} already known\n"
    )
    if changed:
        sys.stderr.write(
            "warning: a changed host key can be an attack; if the device was replaced, repeat with"
            " --replace\n"
        )
    return FAILED if failed or changed else DONE
