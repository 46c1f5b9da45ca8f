"""A made-up network of any size: a ring of cores, and edges with two links each; what its routers run comes from one template."""

from __future__ import annotations

from pathlib import Path

ENVIRONMENT = {"OAST_SECRET_LOGIN": "reed", "OAST_SECRET_PRIVILEGE": "sedge"}
ROUTING = """{#
section: all
owns: [interface *, ospf, system/hostname, ntp]
#}
system
  hostname {{ device.name }}
ntp
  server 198.19.0.1
interface manage0
  ipv4
    address {{ device.address }}/16
interface loop0
  ipv4
    address {{ device.loopback }}/32
{% for link in links %}
interface {{ link.port }}
  description "to {{ link.far }}"
  mtu 9000
  ipv4
    address {{ link.address }}/31
{% endfor %}
ospf
  area 0
    interface loop0
      passive true
{% for link in links %}
    interface {{ link.port }}
      interface-type point-to-point
      hello-interval 1
      dead-interval 2
{% endfor %}
"""


def lay_out(folder: Path, cores: int, edges: int) -> Path:
    """A ring of cores, and edges with two links each."""
    names = [f"core-{n}" for n in range(cores)] + [f"edge-{n}" for n in range(edges)]
    links = [(f"core-{n}", f"core-{(n + 1) % cores}") for n in range(cores)]
    links += [(f"edge-{n}", f"core-{(n + k) % cores}") for n in range(edges) for k in (0, 1)]
    ports: dict[str, list[dict[str, str]]] = {name: [] for name in names}
    cables = []
    for number, (one, other) in enumerate(links):
        ends = []
        for end, name, far in ((0, one, other), (1, other, one)):
            port = f"port{len(ports[name]) + 1}"
            address = f"198.{18 + number // 32768}.{number * 2 // 256 % 256}.{number * 2 % 256 + end}"
            ports[name].append({"port": port, "far": far, "address": address})
            ends.append(f"{name} {port}")
        cables.append(f"  - [{ends[0]}, {ends[1]}]\n")
    estate = folder / "estate"
    most = max(len(p) for p in ports.values())
    files = {
        "oast.toml": 'format = 1\n[connection]\nusername = "oast"\npassword = { secret = "login" }\n'
        'privilege_password = { secret = "privilege" }\nsimulated = true\nparallel = 40\ncommand_timeout_s = 120\nconnect_timeout_s = 120\n'
        '[delivery]\nwaves = ["role=core"]\nrevert_timer_s = 300\nverify_timeout_s = 90\n',
        "intent.yaml": "sections:\n  - section: all\n",
        "templates/bine/all.j2": ROUTING,
        "startup.txt": "interface manage0\n  ipv4\n    address ${management}/16\n",
        "network.yaml": "format: 1\nconvergence: 0.5\naccounts: [{name: oast, password: login}]\nprivilege-password: privilege\n"
        f"defaults: {{system: bine, startup: startup.txt, ports: [manage0, {', '.join(f'port{n}' for n in range(1, most + 1))}]}}\n"
        "devices:\n" + "".join(f"  {name}: {{management: 198.19.{n // 250 + 100}.{n % 250 + 1}}}\n" for n, name in enumerate(names))
        + "outside: {clock: {addresses: [198.19.0.1/16], stratum: 1}}\n" + "links:\n" + "".join(cables),
        "inventory/devices.yaml": "devices:\n" + "".join(
            f"  {name}: {{address: 198.19.{n // 250 + 100}.{n % 250 + 1}, platform: bine, role: {name[:4]}, loopback: 198.18.{n // 250 + 200}.{n % 250 + 1}}}\n"
            for n, name in enumerate(names)
        ),
    }  # fmt: skip
    for name in names:
        files[f"values/devices/{name}.yaml"] = "links:\n" + "".join(
            f"  - {{port: {p['port']}, far: {p['far']}, address: {p['address']}}}\n" for p in ports[name]
        )
    for name, text in files.items():
        (estate / name).parent.mkdir(parents=True, exist_ok=True)
        (estate / name).write_text(text)
    return estate
