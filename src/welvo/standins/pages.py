"""The pages of a simulated device over HTTP: its status, and the settings protocol of docs/device-settings.md."""

from __future__ import annotations

import asyncio
import base64
import binascii
import hmac
import re
from collections.abc import Awaitable, Callable
from typing import Any

from aiohttp import web

from welvo.protocols.status_page import encode_status_page
from welvo.standins.gateway import Gateway
from welvo.standins.node import Node
from welvo.standins.pixel import PixelDevice, PowerLost

MOST_FRAMES = 40
"""Frames of one request: more would last longer than it may."""
Handler = Callable[[web.Request], Awaitable[web.StreamResponse]]


def settings_application(node: Node | PixelDevice) -> web.Application:
    app = web.Application(client_max_size=1 << 20)

    async def status(_: web.Request) -> web.Response:
        return web.Response(body=encode_status_page(node.status_page()), content_type="application/json")

    app.middlewares.append(_as_it_is(node))
    if isinstance(node, PixelDevice):
        _settings_answer(app, node)
    app.router.add_get("/status", status)
    return app


def _as_it_is(device: Node | PixelDevice) -> Any:
    """Lets the faults of a device act on every request: silence, loss, slowness; and asks for its password."""

    @web.middleware
    async def act(request: web.Request, handler: Handler) -> web.StreamResponse:
        device.requests += 1
        if device.faults.slow:
            await asyncio.sleep(min(10.0, device.faults.slow))
        lost = device.faults.lossy and device.requests % device.faults.lossy == 0
        if device.is_silent or lost:
            return _hang_up(request)
        password = device.password if isinstance(device, PixelDevice) else ""
        if password and request.path != "/status" and not _knows_password(request, password):
            return web.json_response({"error": "password"}, status=401)
        try:
            return await handler(request)
        except PowerLost:
            return _hang_up(request)

    return act


def _hang_up(request: web.Request) -> web.Response:
    if request.transport:
        request.transport.abort()
    return web.Response(status=503)


def _knows_password(request: web.Request, password: str) -> bool:
    scheme, _, coded = request.headers.get("Authorization", "").partition(" ")
    try:
        given = base64.b64decode(coded, validate=True).decode().partition(":")[2]
    except (binascii.Error, UnicodeDecodeError):
        return False
    return scheme.lower() == "basic" and hmac.compare_digest(given.encode(), password.encode())


def _settings_answer(app: web.Application, device: PixelDevice) -> None:
    async def about(_: web.Request) -> web.Response:
        return web.json_response(device.about_device())

    async def values(_: web.Request) -> web.Response:
        return web.json_response(device.all_values())

    async def stage(request: web.Request) -> web.Response:
        body = await _read_body(request)
        given = body.get("values")
        plain = isinstance(given, dict) and all(isinstance(v, str | int | float | bool) for v in given.values())
        if not plain:
            return web.json_response({"error": "“values” must be settings by key"}, status=400)
        return web.json_response({"results": device.stage_values(body["values"])})

    def act(do: Callable[[], object]) -> Handler:
        async def handler(_: web.Request) -> web.StreamResponse:
            do()
            return web.json_response({"waits": {k: list(v) for k, v in device.store.waiting_settings().items()}})

        return handler

    async def identify(request: web.Request) -> web.Response:
        device.identify = bool((await _read_body(request)).get("on"))
        return web.json_response({"identify": device.identify})

    async def test(request: web.Request) -> web.Response:
        why = device.start_test(str((await _read_body(request)).get("pattern", "")))
        return web.json_response({"error": why}, status=400) if why else web.json_response({"test": device.test})

    async def bus(request: web.Request) -> web.Response:
        body = await _read_body(request)
        given = body.get("frames")
        frames = given if isinstance(given, list) else []
        if not isinstance(device, Gateway) or body.get("bus") not in device.wires:
            return web.json_response({"error": "there is no such bus"}, status=400)
        if not 1 <= len(frames) <= MOST_FRAMES or not all(
            isinstance(f, str) and re.fullmatch("[0-9a-fA-F]{4}", f) for f in frames
        ):
            return web.json_response({"error": "“frames” are 1 to 40 of four hexadecimal digits"}, status=400)
        answers, seconds = device.put_frames(body["bus"], [bytes.fromhex(f) for f in frames])
        await asyncio.sleep(seconds / device.bus_speed)
        return web.json_response({"answers": answers, "seconds": round(seconds, 3)})

    async def factory(_: web.Request) -> web.Response:
        lost = device.store.reset_to_factory()
        device.restart_device()
        return web.json_response({"lost": lost})

    app.router.add_get("/settings/1", about)
    app.router.add_get("/settings/1/values", values)
    app.router.add_post("/settings/1/stage", stage)
    app.router.add_post("/settings/1/save", act(device.save_settings))
    app.router.add_post("/settings/1/apply", act(device.apply_settings))
    app.router.add_post("/settings/1/restart", act(device.restart_device))
    app.router.add_post("/settings/1/identify", identify)
    app.router.add_post("/settings/1/test", test)
    app.router.add_post("/settings/1/factory", factory)
    app.router.add_post("/settings/1/bus", bus)


async def _read_body(request: web.Request) -> dict[str, Any]:
    try:
        body = await request.json()
    except (ValueError, UnicodeDecodeError):
        body = None
    if not isinstance(body, dict):
        raise web.HTTPBadRequest(text='{"error": "a JSON object is wanted"}', content_type="application/json")
    return body
