"""Leases: who is writing, reading or tidying a store right now, with a stated expiry told by the store's own clock.

A lease's age is the difference of two times that the storage's own clock told: clocks of machines play no part. It lives on
create-if-absent and listing alone: renewing it makes the next of its numbered files, and takes the one before away. Its
files are not flushed, so that no feed waits for a disk that others keep busy: after a power cut nobody holds any.
"""

from __future__ import annotations

import atexit
import contextlib
import os
import re
import secrets
import socket
import threading
import time
import weakref
from collections.abc import Callable, Iterator, Sequence
from contextvars import ContextVar
from dataclasses import dataclass
from functools import cache, wraps
from itertools import groupby
from typing import Any, TypeVar, cast

from pannier.errors import ConflictError, DamageError, NotFoundError, StoreError
from pannier.storage.layout import LEASES
from pannier.storage.protocol import Far, Storage
from pannier.store.documents import sealed, unsealed
from pannier.store.facts import author, now

WRITER, READER, VERIFIER, TIDIER, WAITER = "writer", "reader", "verifier", "tidier", "waiter"
# how long a lease holds after it was renewed last, in seconds
SECONDS = {WRITER: 600, READER: 6 * 3600, VERIFIER: 600, TIDIER: 600, WAITER: 60}
# other writers let one that waits go first for so long
LONGEST_TURN_SECONDS = 10.0
# a writer waits so long for a tidier to end
LONGEST_WAIT_SECONDS = 60.0
_PAUSE_SECONDS = 0.25

_FILE = re.compile(r"([a-z]+-[0-9a-f]{16})-[0-9]{6}\.json")

# the leases that this process holds: an exception, as of Ctrl-C, may drop one at any moment, which is nobody's then
_own: weakref.WeakValueDictionary[str, Held] = weakref.WeakValueDictionary()
# where leases of this process may still lie, by name: what an interruption has left behind goes when the process ends
_left: dict[str, tuple[Storage, int]] = {}
_held: ContextVar[Held | None] = ContextVar("held", default=None)

F = TypeVar("F", bound=Callable[..., Any])


@dataclass(frozen=True)
class Lease:
    """Somebody's lease as found: its files, the newest last; `age_seconds` since it was renewed, by the store's clock."""

    name: str
    files: Sequence[str]
    age_seconds: float
    kind: str
    author: str
    host: str
    process: int
    machine: str
    started: str
    seconds: float
    snapshots: Sequence[str]

    @property
    def is_live(self) -> bool:
        """Whether it holds: not expired, and its process not known to have ended."""
        if self.age_seconds > self.seconds:
            return False
        return self.machine != _machine() or _is_held(self.process, self.name)

    @property
    def text(self) -> str:
        return f"a {self.kind} on {self.host} (process {self.process}, {self.author}, since {self.started})"


def check_there(storage: Storage) -> None:
    """Raises NotFoundError where a store that was opened is gone since: nothing is made in its place."""
    if not storage.is_there():
        raise NotFoundError(f"there is no store {storage.address} any more")


def leases(storage: Storage) -> list[Lease]:
    """All leases that lie in a store, live or not; those that cannot be read are none of anybody."""
    files = [match for match in map(_FILE.fullmatch, storage.list(LEASES)) if match]
    held = []
    clock = storage.now() if files else 0.0
    for name, numbered in groupby(files, key=lambda match: match[1]):
        own = [f"{LEASES}/{match[0]}" for match in numbered]
        try:
            document = unsealed(storage.read(own[-1]), own[-1])
            held.append(Lease(name, own, max(0.0, clock - storage.changed(own[-1])), **document))
        except (NotFoundError, DamageError, TypeError):
            continue  # ended or renewed in this moment, or cut short by a kill
    return held


class Held:
    """A lease of one's own. `renew` from time to time, which cannot bring back one that expired; `end` may come twice."""

    def __init__(self, storage: Storage, kind: str, snapshots: Sequence[str] = ()) -> None:
        check_there(storage)
        self._storage = storage
        self.seconds = SECONDS[kind]
        self.name = f"{kind}-{secrets.token_hex(8)}"
        where = {"host": socket.gethostname(), "process": os.getpid(), "machine": _machine()}
        what = {"kind": kind, "author": author(), "started": now(), "seconds": self.seconds}
        self._content = sealed({**what, **where, "snapshots": list(snapshots)})
        self._number = 1
        self._changing = threading.RLock()  # a finalizer may end it while this very thread renews it
        _own[self.name] = self
        if not isinstance(storage, Far):  # a bucket is not asked while the interpreter ends: leases there expire
            _left[self.name] = (storage, os.getpid())
        try:
            self._storage.create(self._file(1), self._content, lasts=False)
        except BaseException:
            _own.pop(self.name, None)  # it may lie there all the same, and is nobody's then
            raise
        self._renewed = time.monotonic()
        self._has_ended = False

    def _file(self, number: int) -> str:
        return f"{LEASES}/{self.name}-{number:06}.json"

    def renew(self) -> None:
        """Renews it where a quarter of its time has gone; costs nothing before. For any thread."""
        if not self.seconds / 4 < time.monotonic() - self._renewed < self.seconds * 3 / 4:
            return
        with self._changing, contextlib.suppress(StoreError, NotFoundError):
            if not self._has_ended and self._storage.exists(self._file(self._number)):
                self._renewed = time.monotonic()
                self._storage.create(self._file(self._number + 1), self._content, lasts=False)
                self._number += 1
                self._storage.remove(self._file(self._number - 1))

    def check(self) -> None:
        """Raises ConflictError where it no longer holds, since it was not renewed in time."""
        with self._changing:
            is_there = self._storage.exists(self._file(self._number))
        if time.monotonic() - self._renewed > self.seconds * 3 / 4 or not is_there:
            raise ConflictError("this process stood still for so long that its lease on the store expired: try again")

    def end(self) -> None:
        with self._changing:
            if not self._has_ended:
                self._has_ended = True
                _own.pop(self.name, None)
                with contextlib.suppress(StoreError, NotFoundError):
                    self._storage.remove(self._file(self._number))
                    _left.pop(self.name, None)


@atexit.register
def _clear_up() -> None:
    """Takes away what this very process, not one that it came from, has left: Ctrl-C may hit while a lease is ended."""
    for name, (storage, process) in list(_left.items()):
        if process != os.getpid():
            continue
        with contextlib.suppress(Exception):
            for file in storage.list(LEASES):
                if file.startswith(f"{name}-"):
                    storage.remove(f"{LEASES}/{file}")


@contextlib.contextmanager
def holding(storage: Storage, kind: str) -> Iterator[Held]:
    """A lease for as long as the block runs, renewed meanwhile. Waits for a tidier to end. Raises ConflictError."""
    held = _taken_beside_no_tidier(storage, kind)
    before = _held.set(held)
    try:
        with kept_up(held):
            yield held
    finally:
        _held.reset(before)


@contextlib.contextmanager
def kept_up(held: Held) -> Iterator[None]:
    """Renews a lease from time to time while the block runs, and ends it then."""
    kept = KeptUp(held)
    try:
        kept.start()
        yield
    finally:
        kept.end()


class KeptUp:
    """A lease that a thread of its own renews from time to time, whatever else this process does, until `end`."""

    def __init__(self, held: Held) -> None:
        self.held = held
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._renew, name="pannier-lease", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def _renew(self) -> None:
        while not self._ended.wait(min(5.0, self.held.seconds / 20)):
            self.held.renew()

    def end(self, *, waits: bool = True) -> None:
        """May come twice. From a finalizer, which may run in any thread, it does not wait."""
        self._ended.set()
        self.held.end()
        if waits and self._thread.ident is not None:
            self._thread.join()


def check_lease() -> None:
    """Raises ConflictError where the lease that this call holds, if it holds one, has expired."""
    held = _held.get()
    if held is not None:
        held.check()


def reading(storage: Storage, snapshots: Sequence[str]) -> Held | None:
    """A reader's lease on some snapshots, to be renewed and ended; None where the store cannot be written to."""
    try:
        return Held(storage, READER, snapshots)
    except (StoreError, NotFoundError):
        return None


def writing(storage: Storage) -> Held:
    """A writer's lease, to be renewed and ended. Waits for a tidier to end. Raises ConflictError, StoreError."""
    return _taken_beside_no_tidier(storage, WRITER)


def writes(function: F) -> F:
    """A function whose first argument is a store holds a writer's lease on it while it runs."""

    @wraps(function)
    def with_lease(store: Any, *arguments: Any, **options: Any) -> Any:
        with holding(store.storage, WRITER):
            return function(store, *arguments, **options)

    return cast(F, with_lease)


class Turn:
    """Writers take turns: one whose snapshot others have overtaken says so, and they let it go first, for some seconds.

    It is no lock: nothing waits for a writer that stands still for longer than that.
    """

    def __init__(self, storage: Storage) -> None:
        self._storage = storage
        self._held: Held | None = None

    def overtaken(self) -> None:
        """Others were first: from now on this writer has its turn after those that have waited for longer."""
        with contextlib.suppress(StoreError, NotFoundError):
            self._held = self._held or Held(self._storage, WAITER)

    def wait(self) -> None:
        """Waits while a writer has waited for longer than this one."""
        until = time.monotonic() + LONGEST_TURN_SECONDS
        while self._is_behind() and time.monotonic() < until:
            time.sleep(_PAUSE_SECONDS / 5)

    def end(self) -> None:
        if self._held is not None:
            self._held.end()

    def _is_behind(self) -> bool:
        own = None if self._held is None else self._held.name
        names = {match[1] for match in map(_FILE.fullmatch, self._storage.list(LEASES)) if match}
        if not any(name.startswith(f"{WAITER}-") for name in names - {own}):
            return False
        waiting = [lease for lease in leases(self._storage) if lease.kind == WAITER and lease.is_live]
        first = max(waiting, key=lambda lease: (lease.age_seconds, lease.name), default=None)
        return first is not None and first.name != own


def others(storage: Storage, held: Held | None, kinds: Sequence[str]) -> list[Lease]:
    """Other live leases of some kinds."""
    return [
        lease
        for lease in leases(storage)
        if lease.is_live and lease.kind in kinds and (held is None or lease.name != held.name)
    ]


def _taken_beside_no_tidier(storage: Storage, kind: str) -> Held:
    """Each of the two makes its own lease before it looks for the other's: so at least one sees the other."""
    until = time.monotonic() + LONGEST_WAIT_SECONDS
    while True:
        held = Held(storage, kind)
        try:
            tidiers = others(storage, held, [TIDIER])
        except BaseException:
            held.end()
            raise
        if not tidiers:
            return held
        held.end()
        if time.monotonic() > until:
            raise ConflictError(f"the store is being tidied by {tidiers[0].text}: try again when that has ended")
        time.sleep(_PAUSE_SECONDS)


@cache
def _machine() -> str:
    """What tells whether a process number means a process here: this boot, and this process's view of processes."""
    parts = []
    with contextlib.suppress(OSError):
        with open("/proc/sys/kernel/random/boot_id", encoding="ascii") as file:
            parts.append(file.read().strip())
        parts.append(os.readlink("/proc/self/ns/pid"))
    return " ".join(parts) or socket.gethostname()


def _is_held(process: int, name: str) -> bool:
    """Whether a process of this machine still has a lease: one that could not be taken away is none of ours any more."""
    if process == os.getpid():
        return name in _own
    import psutil

    return bool(psutil.pid_exists(process))
