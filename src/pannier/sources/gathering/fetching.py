"""Fetching politely: a pause between a host's requests, few connections each, many hosts at once, refusals final."""

from __future__ import annotations

import asyncio
import contextlib
import datetime
import email.utils
import time
import zlib
from collections import deque
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urljoin, urlsplit
from urllib.robotparser import RobotFileParser

from pannier.errors import UsageError
from pannier.sources.gathering.addresses import refuse_answer_from_inside, refuse_inside
from pannier.sources.gathering.arriving import Arriving, Bounds, RefusedError
from pannier.sources.gathering.journal import Came, Failed
from pannier.sources.gathering.links import host_of, without_credentials_in

MOST_REDIRECTS = 5
# answers that may be others the next time, and those that ask for patience
_PASSING = frozenset((408, 425, 500, 502, 503, 504, 520, 521, 522, 524))
_BUSY = frozenset((429, 503))
LONGEST_BACK_OFF_SECONDS = 60.0
# a host that asks for more patience than this is left for another day
LONGEST_WAIT_SECONDS = 600.0
# so many links in a row that a host does not answer at all, and the rest of it is left for another day
SILENT_LINKS = 3
_ROBOTS_BYTES = 512 << 10


@dataclass(frozen=True)
class Manners:
    """How hosts are treated: seconds between two requests, connections at once; attempts, seconds a picture."""

    pause_seconds: float = 0.7
    connections: int = 2
    attempts: int = 4
    timeout_seconds: float = 60.0
    agent: str = "pannier-gather"
    heeds_robots: bool = True

    def __post_init__(self) -> None:
        if self.connections < 1 or self.attempts < 1:
            raise UsageError("connections and attempts must be 1 or more")


@dataclass(frozen=True)
class Wanted:
    """A picture to fetch: its link, its identity and the link as it may be shown; its path to be, without ending."""

    link: str
    identity: str
    shown: str
    name: str

    def failed(self, reason: str, status: int | None = None, *, is_final: bool = False) -> Failed:
        return Failed(self.identity, self.shown, reason, status, is_final)


class _PassingError(Exception):
    """It did not come this time. `wait_seconds`: what the server asks for, or None; `is_silent`: there was no answer;
    `host`: the one that said so, where a link led to another.
    """

    host: Host | None = None

    def __init__(
        self, reason: str, *, status: int | None = None, wait_seconds: float | None = None, is_silent: bool = False
    ) -> None:
        super().__init__(reason)
        self.reason, self.status, self.wait_seconds, self.is_silent = reason, status, wait_seconds, is_silent


class Host:
    """One host: when it may be asked again, what its robots.txt says, whether it answers."""

    def __init__(self, manners: Manners, client: Any) -> None:
        self._manners, self.client = manners, client
        self._next = self._not_before = 0.0
        self._pause = manners.pause_seconds
        self.waiting: deque[Wanted] = deque()
        self.silent_links = 0
        self.given_up = ""
        self.robots: RobotFileParser | None = None
        self.robots_lock = asyncio.Lock()

    async def turn(self) -> None:
        """Returns when the host may be asked: never sooner than the pause after the last time, nor while it is let alone."""
        while True:
            now = time.monotonic()
            start = max(now, self._next, self._not_before)
            self._next = start + self._pause
            if start > now:
                await asyncio.sleep(start - now)
            if time.monotonic() >= self._not_before:
                return

    def wait(self, seconds: float) -> None:
        """Leaves the host alone for so long."""
        self._not_before = max(self._not_before, time.monotonic() + seconds)

    def heed(self, robots: RobotFileParser) -> None:
        self.robots = robots
        delay = robots.crawl_delay(self._manners.agent)
        if delay is not None:
            self._pause = max(self._pause, min(float(delay), LONGEST_BACK_OFF_SECONDS))


class Fetcher:
    """Fetches pictures from many hosts at once, in one thread; what has arrived is checked in others."""

    def __init__(
        self, arriving: Callable[[str], Path], manners: Manners, bounds: Bounds, report: Callable[[Came | Failed], None]
    ) -> None:
        self._arriving, self._manners, self._bounds, self._report = arriving, manners, bounds, report
        self._hosts: dict[str, Host] = {}
        self._pool: ThreadPoolExecutor

    async def fetch_all(self, wanted: list[Wanted], workers: int) -> None:
        """Fetches everything; `report` hears of each as it comes, or does not."""
        import httpx

        self._tls = httpx.create_ssl_context()
        for each in wanted:
            self._host(host_of(each.link)).waiting.append(each)
        with ThreadPoolExecutor(workers, thread_name_prefix="pannier-gather") as self._pool:
            tasks = [
                asyncio.create_task(self._serve(host))
                for host in list(self._hosts.values())
                for _ in range(min(self._manners.connections, len(host.waiting)))
            ]
            try:
                await asyncio.gather(*tasks)
            finally:
                for task in tasks:
                    task.cancel()
                await asyncio.gather(*tasks, return_exceptions=True)
                for host in self._hosts.values():
                    await host.client.aclose()

    def _host(self, name: str) -> Host:
        if name not in self._hosts:
            self._hosts[name] = Host(self._manners, self._client())
        return self._hosts[name]

    def _client(self) -> Any:
        """A host's connections. Each host has its own: the cost of a request grows with the connections beside it."""
        import httpx

        manners = self._manners
        return httpx.AsyncClient(
            verify=self._tls,
            limits=httpx.Limits(max_connections=manners.connections, max_keepalive_connections=manners.connections),
            timeout=httpx.Timeout(manners.timeout_seconds, connect=min(20.0, manners.timeout_seconds)),
            headers={"User-Agent": manners.agent, "Accept": "image/*,*/*;q=0.5", "Accept-Encoding": "identity"},
        )

    async def _serve(self, host: Host) -> None:
        """One connection to a host: takes its links one after another."""
        while host.waiting:
            wanted = host.waiting.popleft()
            if host.given_up:
                self._report(wanted.failed(host.given_up))
            else:
                self._report(await self._one(host, wanted))

    async def _one(self, host: Host, wanted: Wanted) -> Came | Failed:
        """One picture, tried as often as it makes sense."""
        last = _PassingError("it was not tried")
        for attempt in range(self._manners.attempts):
            try:
                came = await self._try(host, wanted)
                host.silent_links = 0
                return came
            except RefusedError as refused:
                if refused.is_final:
                    return wanted.failed(refused.reason, refused.status, is_final=True)
                last = _PassingError(refused.reason)
            except _PassingError as passing:
                last = passing
            except Exception as error:  # what a server provokes in the libraries between: its own picture's fault alone
                return wanted.failed(f"it cannot be fetched ({type(error).__name__}: {_short(error)})")
            busy = last.host or host
            if busy.given_up:
                return wanted.failed(busy.given_up)
            back_off = min(max(self._manners.pause_seconds, 0.25) * 2**attempt, LONGEST_BACK_OFF_SECONDS)
            asked = last.wait_seconds
            if asked is not None and asked > LONGEST_WAIT_SECONDS:
                busy.given_up = f"the host asks to be left alone for {asked:,.0f} s"
                return wanted.failed(busy.given_up, last.status)
            if attempt + 1 < self._manners.attempts:
                busy.wait(back_off if asked is None else asked)
        if last.is_silent:
            host.silent_links += 1
            if host.silent_links >= SILENT_LINKS:
                host.given_up = f"the host does not answer ({last.reason})"
        return wanted.failed(f"{last.reason}, {self._manners.attempts} times", last.status)

    async def _try(self, host: Host, wanted: Wanted) -> Came:
        import httpx

        try:
            async with asyncio.timeout(self._manners.timeout_seconds * 2):
                return await self._follow(host, wanted)
        except TimeoutError:
            raise _PassingError(f"it took longer than {self._manners.timeout_seconds:g} s", is_silent=True) from None
        except (httpx.InvalidURL, httpx.UnsupportedProtocol, UnicodeError, ValueError) as error:
            raise RefusedError(f"not a link that can be asked for ({_short(error)})") from None
        except httpx.ConnectError as error:
            if "CERTIFICATE" in str(error).upper() or "SSL" in str(error).upper():
                raise RefusedError(f"its TLS certificate or connection is not to be trusted ({_short(error)})") from None
            raise _PassingError(f"no connection ({_short(error)})", is_silent=True) from None
        except httpx.TimeoutException:
            raise _PassingError("no answer in time", is_silent=True) from None
        except httpx.HTTPError as error:
            raise _PassingError(f"the connection broke ({_short(error)})") from None

    async def _follow(self, host: Host, wanted: Wanted) -> Came:
        """Asks for a link and where it leads; every host on the way is treated alike."""
        link = wanted.link
        for redirects in range(MOST_REDIRECTS + 1):
            parts = urlsplit(link)
            if parts.scheme.lower() not in ("http", "https"):
                raise RefusedError(f"only http and https are fetched, not {parts.scheme or 'that'}")
            _ = parts.port  # a ValueError where it is none
            try:
                if host.given_up:
                    raise _PassingError(host.given_up)
                await self._ask_leave(host, link)
                await host.turn()
                async with asyncio.timeout(self._manners.timeout_seconds), host.client.stream("GET", link) as answer:
                    if redirects:
                        await refuse_answer_from_inside(wanted.link, answer)
                    if _is_redirect(answer):
                        link = urljoin(link, answer.headers["location"])
                        await refuse_inside(wanted.link, link)
                        host = self._host(host_of(link))
                        continue
                    self._check_status(answer)
                    return await self._receive(answer, wanted)
            except _PassingError as passing:
                passing.host = host
                raise
        raise RefusedError(f"it leads on and on, over {MOST_REDIRECTS} times")

    def _check_status(self, answer: Any) -> None:
        status = answer.status_code
        if status == 200:
            length = answer.headers.get("content-length", "")
            if length.isdigit() and int(length) > self._bounds.max_bytes:
                raise RefusedError(f"{int(length):,} bytes: raise `max_bytes` to take it")
            return
        if status in _BUSY or status in _PASSING:
            wait = _retry_after(answer.headers.get("retry-after"))
            raise _PassingError(f"HTTP {status}", status=status, wait_seconds=wait)
        raise RefusedError(f"HTTP {status}", status=status)

    async def _receive(self, answer: Any, wanted: Wanted) -> Came:
        path = self._arriving(wanted.identity)
        kind = answer.headers.get("content-type", "").partition(";")[0].strip()[:60]
        try:
            arriving = Arriving(path, self._bounds, kind, answer.headers.get("content-encoding", "").strip().lower())
            try:
                async for chunk in answer.aiter_raw():
                    arriving.take(chunk)
                arriving.finish()
            finally:
                arriving.close()
            loop = asyncio.get_running_loop()
            ending, size, sha256 = await loop.run_in_executor(self._pool, arriving.accept)
        except BaseException:
            with contextlib.suppress(OSError):
                path.unlink()
            raise
        now = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds").replace("+00:00", "Z")
        return Came(wanted.identity, wanted.shown, f"{wanted.name}.{ending}", now, size, sha256, answer.status_code)

    async def _ask_leave(self, host: Host, link: str) -> None:
        """Raises RefusedError where the host's robots.txt (RFC 9309) does not want the link asked for."""
        if not self._manners.heeds_robots:
            return
        async with host.robots_lock:
            if host.robots is None:
                host.heed(await self._robots(host, link))
        if host.robots is not None and not host.robots.can_fetch(self._manners.agent, link):
            raise RefusedError("the host's robots.txt asks not to fetch it")

    async def _robots(self, host: Host, link: str) -> RobotFileParser:
        """The rules of a host; none where it has no such file. Raises _PassingError where that cannot be told."""
        parts = urlsplit(link)
        robots, rules = RobotFileParser(), f"{parts.scheme}://{parts.netloc}/robots.txt"
        await host.turn()
        async with asyncio.timeout(self._manners.timeout_seconds):
            for _ in range(MOST_REDIRECTS + 1):
                async with host.client.stream("GET", rules) as answer:
                    if not _is_redirect(answer):
                        robots.parse((await _rules_in(answer)).decode("utf-8", "replace").splitlines())
                        break
                    rules = urljoin(rules, answer.headers["location"])
                try:
                    await refuse_inside(link, rules)
                except RefusedError:
                    break  # as if there were none
        return robots


def _is_redirect(answer: Any) -> bool:
    return answer.status_code in (301, 302, 303, 307, 308) and bool(answer.headers.get("location"))


async def _rules_in(answer: Any) -> bytes:
    """The beginning of a robots.txt; nothing where there is none. Raises _PassingError where that cannot be told."""
    if answer.status_code >= 500 or answer.status_code == 429:
        wait = _retry_after(answer.headers.get("retry-after"))
        raise _PassingError(f"HTTP {answer.status_code} for robots.txt", wait_seconds=wait)
    if answer.status_code != 200:
        return b""
    is_packed = answer.headers.get("content-encoding", "").strip().lower() in ("gzip", "deflate")
    inflate, content = zlib.decompressobj(47) if is_packed else None, b""
    async for chunk in answer.aiter_raw():
        try:
            content += chunk if inflate is None else inflate.decompress(chunk, _ROBOTS_BYTES)
        except zlib.error:
            break
        if len(content) > _ROBOTS_BYTES:
            break
    return content[:_ROBOTS_BYTES]


def _retry_after(text: str | None) -> float | None:
    """Seconds from a Retry-After header, a number or a date (RFC 9110, 10.2.3); None where there is none."""
    if not text:
        return None
    if text.strip().isdecimal():
        return float(text)
    try:
        then = email.utils.parsedate_to_datetime(text)
    except ValueError:
        return None
    then = then if then.tzinfo else then.replace(tzinfo=datetime.UTC)  # "-0000" is UTC too (RFC 5322, 3.3)
    return max(0.0, (then - datetime.datetime.now(datetime.UTC)).total_seconds())


def _short(error: BaseException) -> str:
    text = " ".join(str(error).split()) or type(error).__name__
    return without_credentials_in(text)[:100]
