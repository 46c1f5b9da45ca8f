"""A stand-in for an inventory service: devices over HTTP, page after page, with a token, marks by which pages
are known again, and faults.

`python -m oastsim.inventory FILE FOLDER` serves the devices of FILE (JSON: `{"devices": [...]}`, each with a
`key`), writes what is patched back into it, and where it listens into FOLDER/inventory.json. Its description:
docs/inventory-service.yaml (OpenAPI).
"""

from __future__ import annotations

import asyncio
import hashlib
import json
import os
import secrets
import signal
import sys
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from aiohttp import web

PAGE = 100
LARGEST_PAGE = 1000
FAULTS = ("none", "error", "busy", "slow", "cut", "repeat", "expire", "broken", "empty")
Handler = Callable[[web.Request], Awaitable[web.StreamResponse]]


@dataclass
class Fault:
    """A fault, after this many good answers, and for this many requests (0: until it is cleared)."""

    kind: str = "none"
    after: int = 0
    times: int = 0
    seconds: float = 1.0

    def strikes(self) -> bool:
        """Whether this answer is one that goes wrong."""
        if self.kind == "none":
            return False
        if self.after > 0:
            self.after -= 1
            return False
        if self.times == 1:
            self.times = -1
        elif self.times > 1:
            self.times -= 1
        elif self.times < 0:
            return False
        return True


class Service:
    """The devices and their faults."""

    def __init__(self, file: Path, token: str, control: str) -> None:
        self._file = file
        self._token = token
        self._control = control
        self.fault = Fault()
        data = json.loads(file.read_text(encoding="utf-8"))
        self.devices: dict[str, dict[str, Any]] = {str(device["key"]): device for device in data["devices"]}

    def application(self) -> web.Application:
        made = web.Application(middlewares=[self._guarded])
        made.router.add_get("/devices", self._list)
        made.router.add_get("/devices/{key}", self._one)
        made.router.add_patch("/devices/{key}", self._patch)
        made.router.add_post("/faults", self._set_fault)
        return made

    # --- who may, and what goes wrong

    @web.middleware
    async def _guarded(self, request: web.Request, handler: Handler) -> web.StreamResponse:
        expected = self._control if request.path == "/faults" else self._token
        given = request.headers.get("Authorization", "").removeprefix("Bearer ")
        if not secrets.compare_digest(given.encode(), expected.encode()):
            return _problem(401, "the token is not one of ours")
        if request.path == "/faults" or not self.fault.strikes():
            return await handler(request)
        return await self._gone_wrong(request, handler)

    async def _gone_wrong(self, request: web.Request, handler: Handler) -> web.StreamResponse:
        kind = self.fault.kind
        if kind == "error":
            return _problem(500, "something is wrong in here")
        if kind == "busy":
            return web.json_response(
                {"detail": "too many requests"},
                status=429,
                headers={"Retry-After": f"{self.fault.seconds:.0f}"},
            )
        if kind == "expire":
            return _problem(401, "the token has expired")
        if kind == "broken":
            return web.Response(text='{"devices": [{"key":', content_type="application/json")
        if kind == "empty":
            return web.json_response({"total": 0, "devices": []})
        if kind == "slow":
            await asyncio.sleep(self.fault.seconds)
        answer = await handler(request)
        if kind == "repeat" and isinstance(answer, web.Response):
            answer.headers["Link"] = f'<{request.url}>; rel="next"'
            answer.headers.pop("ETag", None)
        if kind == "cut" and isinstance(answer, web.Response) and isinstance(answer.body, bytes):
            half = web.StreamResponse(
                headers={"Content-Type": "application/json", "Content-Length": str(len(answer.body))}
            )
            await half.prepare(request)
            await half.write(answer.body[: len(answer.body) // 2])
            if request.transport is not None:
                request.transport.abort()
            return half
        return answer

    async def _set_fault(self, request: web.Request) -> web.StreamResponse:
        asked = await request.json()
        kind = asked.get("kind")
        if kind not in FAULTS:
            return _problem(400, f"there is no fault '{kind}'")
        self.fault = Fault(
            kind, int(asked.get("after", 0)), int(asked.get("times", 0)), float(asked.get("seconds", 1.0))
        )
        return web.json_response({"kind": kind})

    # --- what it knows

    async def _list(self, request: web.Request) -> web.StreamResponse:
        """Filters are the names of fields at the top of a device; `from` is the key that the page begins
        behind."""
        query = dict(request.query)
        begin, limit = query.pop("from", ""), query.pop("limit", str(PAGE))
        if not limit.isdecimal() or not 0 < int(limit) <= LARGEST_PAGE:
            return _problem(400, f"'limit' is a number from 1 to {LARGEST_PAGE}")
        found = [
            d
            for d in self.devices.values()
            if all(str(d.get(name)) == value for name, value in query.items())
        ]
        start = (
            next((n + 1 for n, device in enumerate(found) if str(device["key"]) == begin), 0) if begin else 0
        )
        page = found[start : start + int(limit)]
        body = json.dumps({"total": len(found), "devices": page}, ensure_ascii=False).encode()
        headers = {"ETag": f'"{hashlib.sha256(body).hexdigest()[:20]}"'}
        if start + len(page) < len(found):
            next_ = request.url.update_query({"from": str(page[-1]["key"]), "limit": limit})
            headers["Link"] = f'<{next_}>; rel="next"'
        if request.headers.get("If-None-Match") == headers["ETag"]:
            return web.Response(status=304, headers=headers)
        return web.Response(body=body, content_type="application/json", headers=headers)

    async def _one(self, request: web.Request) -> web.StreamResponse:
        device = self.devices.get(request.match_info["key"])
        return (
            _problem(404, "there is no such device")
            if device is None
            else web.json_response(device, headers={"ETag": _etag(device)})
        )

    async def _patch(self, request: web.Request) -> web.StreamResponse:
        """JSON Merge Patch (RFC 7396); with If-Match only what was seen is changed."""
        device = self.devices.get(request.match_info["key"])
        if device is None:
            return _problem(404, "there is no such device")
        if request.headers.get("If-Match") not in (None, "*", _etag(device)):
            return _problem(412, "it was changed meanwhile")
        try:
            patch = await request.json()
        except ValueError:
            return _problem(400, "this is no JSON")
        if not isinstance(patch, dict) or "key" in patch:
            return _problem(422, "a patch is an object, and leaves the key alone")
        _merge(device, patch)
        temporary = self._file.with_suffix(".new")
        temporary.write_text(
            json.dumps({"devices": list(self.devices.values())}, indent=1, ensure_ascii=False) + "\n",
            encoding="utf-8",
        )
        temporary.replace(self._file)
        return web.json_response(device, headers={"ETag": _etag(device)})


def _problem(status: int, detail: str) -> web.Response:
    """RFC 9457."""
    return web.json_response(
        {"status": status, "detail": detail}, status=status, content_type="application/problem+json"
    )


def _etag(device: dict[str, Any]) -> str:
    return f'"{hashlib.sha256(json.dumps(device, sort_keys=True).encode()).hexdigest()[:20]}"'


def _merge(target: dict[str, Any], patch: dict[str, Any]) -> None:
    for name, value in patch.items():
        if value is None:
            target.pop(name, None)
        elif isinstance(value, dict) and isinstance(target.get(name), dict):
            _merge(target[name], value)
        else:
            target[name] = value


async def serve(file: Path, folder: Path, token: str) -> None:
    """Serve until told to end."""
    control = secrets.token_urlsafe(16)
    service = Service(file, token, control)
    runner = web.AppRunner(service.application(), access_log=None)
    await runner.setup()
    site = web.TCPSite(runner, "127.0.0.1", 0)
    await site.start()
    [(host, port)] = runner.addresses
    listening = folder / "inventory.json"
    told = {
        "process": os.getpid(),
        "url": f"http://{host}:{port}/devices",
        "control": control,
        "faults": f"http://{host}:{port}/faults",
    }
    temporary = listening.with_suffix(".new")
    temporary.write_text(json.dumps(told), encoding="utf-8")
    temporary.replace(listening)
    stop = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, stop.set)
    await stop.wait()
    listening.unlink(missing_ok=True)
    await runner.cleanup()


def main() -> int:
    if len(sys.argv) != 3:
        sys.stderr.write("usage: python -m oastsim.inventory FILE FOLDER\n")
        return 2
    os.umask(0o077)
    try:
        asyncio.run(serve(Path(sys.argv[1]), Path(sys.argv[2]), os.environ["OASTSIM_TOKEN"]))
    except (OSError, ValueError, KeyError, TypeError) as error:
        sys.stderr.write(f"{sys.argv[1]}: {error}\n")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
