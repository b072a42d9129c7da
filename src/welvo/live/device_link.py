"""Settings over HTTP: asking a device, giving it values, and making them stay (docs/device-settings.md).

A push can break off anywhere: the device refuses one value, restarts, loses power, or its answers are lost on the way.
So nothing is taken for granted. Each setting gets its own answer when it is given; afterwards the device is read, and
what it says then decides. Where it could not be read, that is said: `unknown` is a result too.
"""

from __future__ import annotations

import base64
from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING, Any, Protocol

import msgspec
from msgspec import UNSET, UnsetType

from welvo.live.links import LinkError, read_page, reason_of_error
from welvo.observed.values import DeviceAnswer, Result
from welvo.patience import patient, rest, steady
from welvo.rig.entered import SettingValue
from welvo.rig.wiring import Need

if TYPE_CHECKING:
    from aiohttp import ClientSession

WHOLE_ANSWER = 2.0
"""Seconds that one request may take, from the connection to its last octet."""
MOST = 1 << 20
AT_ONCE = 16
"""Settings in one request: few enough that a push can be stopped and shows how far it is."""
USUAL_PORT = 8421
"""Where devices that nobody planned are asked when they announce a page (docs/device-settings.md)."""
PAST = "/settings/1"

Values = dict[str, SettingValue]


class PasswordError(LinkError):
    """The device asks for a password, or for another one."""


class _About(msgspec.Struct):
    protocol: int = 0
    name: str = ""
    maker: str = ""
    model: str = ""
    mac: str = ""
    serial: str = ""
    firmware: str = ""
    uptime: float = 0.0
    test: str = ""
    identify: bool = False
    waits: dict[str, tuple[Need, ...]] = {}


class _Tables(msgspec.Struct):
    active: Values = {}
    saved: Values = {}
    entered: Values = {}


class SettingAnswer(msgspec.Struct):
    """What a device says to one setting that it was given."""

    taken: bool
    why: str = ""
    needs: tuple[Need, ...] = ()


class _Staged(msgspec.Struct):
    results: dict[str, SettingAnswer]


class _Frames(msgspec.Struct):
    answers: list[int | None]


class _Failed(msgspec.Struct):
    error: str | UnsetType = UNSET


class DeviceLink(Protocol):
    """How settings get into a device and out of it. Every call raises LinkError, in words, when it cannot."""

    ip: str

    async def read(self) -> DeviceAnswer: ...
    async def stage(self, values: Values) -> dict[str, SettingAnswer]: ...
    async def act(self, act: Need) -> None: ...
    def at(self, ip: str) -> DeviceLink:
        """The same link to the same device at another address."""


class HttpLink:
    """One device's pages. The password is sent with each request and stands in no message."""

    def __init__(
        self,
        session: ClientSession,
        ip: str,
        port: int,
        password: str = "",
        stopped: Callable[[], bool] = lambda: False,
    ) -> None:
        self.ip, self._port, self._password, self._stopped = ip, port, password, stopped
        self._session = session

    def at(self, ip: str) -> HttpLink:
        return HttpLink(self._session, ip, self._port, self._password, self._stopped)

    async def _ask_page(self, method: str, path: str, body: object = None) -> bytes:
        from aiohttp import ClientError

        url = f"http://{self.ip}:{self._port}{path}"
        open_with = base64.b64encode(f":{self._password}".encode()).decode()  # RFC 7617, with no user's name
        headers = {"Authorization": f"Basic {open_with}"} if self._password else {}
        try:
            request = self._session.request(
                method, url, json=body if method == "POST" else None, headers=headers, allow_redirects=False
            )
            async with patient(WHOLE_ANSWER, self._stopped), request as answer:
                raw = await answer.content.read(MOST + 1)
                while len(raw) <= MOST and (more := await answer.content.read(MOST + 1 - len(raw))):
                    raw += more
                status = answer.status
        except (OSError, ClientError, TimeoutError, ValueError) as e:
            raise LinkError(f"{self.ip} does not answer on port {self._port} ({_reason_of_error(e)}).") from e
        if status == 401:
            raise PasswordError(f"{self.ip} asks for a password{', and this is not it' if self._password else ''}.")
        if status == 404:
            raise LinkError(f"{self.ip} has no settings to be asked for on port {self._port}.")
        if status != 200:
            words = _decode_answer(raw, _Failed, self.ip).error if raw else UNSET
            raise LinkError(f"{self.ip} answers with error {status}{f': {words}' if words else ''}.")
        if len(raw) > MOST:
            raise LinkError(f"{self.ip} answers with more than {MOST} octets.")
        return raw

    async def read(self) -> DeviceAnswer:
        about = _decode_answer(await self._ask_page("GET", PAST), _About, self.ip)
        if about.protocol != 1:
            raise LinkError(f"{self.ip} speaks version {about.protocol} of the settings protocol; Welvo speaks 1.")
        tables = _decode_answer(await self._ask_page("GET", f"{PAST}/values"), _Tables, self.ip)
        return DeviceAnswer(
            steady(),
            active=tables.active,
            saved=tables.saved,
            entered=tables.entered,
            waits=about.waits,
            name=about.name,
            maker=about.maker,
            model=about.model,
            mac=about.mac,
            serial=about.serial,
            firmware=about.firmware,
            uptime=about.uptime,
            test=about.test,
            identify=about.identify,
        )

    async def stage(self, values: Values) -> dict[str, SettingAnswer]:
        staged: _Staged = _decode_answer(
            await self._ask_page("POST", f"{PAST}/stage", {"values": values}), _Staged, self.ip
        )
        return staged.results

    async def act(self, act: Need) -> None:
        await self._ask_page("POST", f"{PAST}/{act}", {})

    async def identify(self, on: bool) -> None:
        await self._ask_page("POST", f"{PAST}/identify", {"on": on})

    async def show_test(self, pattern: str) -> None:
        await self._ask_page("POST", f"{PAST}/test", {"pattern": pattern})

    async def put_frames(self, bus: str, frames: list[str]) -> list[int | None]:
        """Put forward frames on a lamp bus; the answer to each: None for silence, −1 for several over each other."""
        body = {"bus": bus, "frames": frames}
        came: _Frames = _decode_answer(await self._ask_page("POST", f"{PAST}/bus", body), _Frames, self.ip)
        return came.answers

    async def reset_to_factory(self) -> None:
        await self._ask_page("POST", f"{PAST}/factory", {})


def _reason_of_error(error: Exception) -> str:
    return reason_of_error(error) if str(error) or isinstance(error, TimeoutError) else type(error).__name__


def _decode_answer(raw: bytes, kind: type[Any], ip: str) -> Any:
    try:
        return msgspec.convert(read_page(raw), kind)
    except (msgspec.DecodeError, msgspec.ValidationError, ValueError, RecursionError) as e:
        raise LinkError(f"{ip} answers with something that is no settings ({reason_of_error(e)}).") from e


def open_session(interface: str = "") -> ClientSession:
    """A client whose requests leave through the interface of an address."""
    from aiohttp import ClientSession, ClientTimeout, TCPConnector  # heavy, and not needed before a device is asked

    # a connection for each request: one that a restarting device has forgotten would cost the next request
    connector = TCPConnector(limit=0, force_close=True, local_addr=(interface, 0) if interface else None)
    return ClientSession(connector=connector, timeout=ClientTimeout(total=None))  # each request has its limit


async def read_settings(ip: str, port: int, password: str = "", interface: str = "") -> DeviceAnswer:
    """One device's settings, now. Raises LinkError."""
    async with open_session(interface) as opened:
        return await HttpLink(opened, ip, port, password).read()


class Push:
    """One push in progress: what became of each setting so far, and a way to stop it between two requests."""

    def __init__(self, values: Values, acts: tuple[Need, ...] = (), restart_takes: float = 5.0) -> None:
        self.values = values
        self.acts = acts
        self.restart_takes = restart_takes
        self.results: dict[str, Result] = {}
        self.done = 0
        self.doing = "beginning"
        self.giving = ""
        """The key of the setting that it gives at present, while it gives some."""
        self.stopped = False
        self.failed = ""
        """What ended it early, in words."""
        self.said: DeviceAnswer | None = None
        """What the device said after it; None: it could not be read."""
        self.ip = ""
        """Where the device is now: another address than before, where the push gave it one."""

    def stop_push(self) -> None:
        self.stopped = True

    async def run_push(self, link: DeviceLink, wait: Callable[[float], Awaitable[None]] = rest) -> None:
        """Give all values, do the acts, then read what the device has."""
        self.ip = link.ip
        given: dict[str, SettingAnswer] = {}
        unsure: set[str] = set()
        keys = list(self.values)
        try:
            for n in range(0, len(keys), AT_ONCE):
                if self.stopped:
                    self.failed = "it was stopped"
                    break
                some = keys[n : n + AT_ONCE]
                self.doing, self.giving = "giving", some[0]
                unsure |= set(some)
                answers = await link.stage({k: self.values[k] for k in some})
                given |= {k: a for k, a in answers.items() if k in some}
                unsure -= answers.keys()
                self.done = n + len(some)
            for act in self.acts:
                if self.stopped or self.failed:
                    break
                self.doing = {"save": "saving", "apply": "applying", "restart": "restarting"}[act]
                await link.act(act)
                if act == "restart":
                    link = await self._follow_restart(link, given, wait)
        except LinkError as e:
            self.failed = "it was stopped" if self.stopped else str(e).rstrip(".")
        self.doing = "reading back"
        silent = self.stopped and self.done < len(keys) and bool(unsure)  # in the middle of a question: not asked again
        self.said = None if silent else await self._read_back(link, wait)
        for key in keys:
            self.results[key] = self._result_of_setting(key, given.get(key), key in unsure)
        self.doing = ""

    async def _follow_restart(
        self, link: DeviceLink, given: dict[str, SettingAnswer], wait: Callable[[float], Awaitable[None]]
    ) -> DeviceLink:
        """Follow a device through its restart: silence first, then an answer, where its new address says."""
        new = self.values.get("ip") if "ip" in given and given["ip"].taken else None
        if isinstance(new, str) and new and new != link.ip:
            link = link.at(new)
        for _ in range(int((self.restart_takes * 3 + 5) / 0.25)):
            if self.stopped:
                raise LinkError("It was stopped while the device restarted.")
            await wait(0.25)
            try:
                await link.read()
            except PasswordError:
                break
            except LinkError:
                continue
            break
        else:
            raise LinkError(f"It did not come back at {link.ip} after its restart.")
        self.ip = link.ip
        return link

    async def _read_back(self, link: DeviceLink, wait: Callable[[float], Awaitable[None]]) -> DeviceAnswer | None:
        """What the device has; asked again for as long as a restart takes, since it may have lost power."""
        for _ in range(max(4, int((self.restart_takes + 2) / 0.5))):
            try:
                return await link.read()
            except PasswordError:
                return None
            except LinkError:
                if self.stopped:
                    return None
                await wait(0.5)
        return None

    def _result_of_setting(self, key: str, answer: SettingAnswer | None, unsure: bool) -> Result:
        """What became of one setting. What the device says at the end counts for more than what it said before."""
        value, now = self.values[key], steady()
        why = self.failed
        if answer is not None and not answer.taken:
            return Result("refused", value, answer.why or "without a reason", at=now)
        if answer is None and not unsure:
            return Result("not sent", value, why or "the device passed over it", at=now)
        if self.said is None:
            return Result("unknown", value, why or "it could not be read back", at=now)
        waits = self.said.waits.get(key, ())
        if value == self.said.active.get(key):
            return Result("waits" if waits else "taken", value, "", waits, now)
        if value in (self.said.entered.get(key), self.said.saved.get(key)) and waits:
            return Result("waits", value, "", waits, now)
        has = self.said.active.get(key)
        words = "it is not told" if has is None else f"it reads back {has}"
        if has is None and answer is not None:
            return Result("unknown", value, words, at=now)  # a secret, or a setting that only goes in
        return Result("otherwise", value, f"{words}{f', and {why}' if why else ''}", at=now)
