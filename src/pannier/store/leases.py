"""Leases: who is writing, reading or tidying a store right now, with a stated expiry told by the store's own clock.

A lease's age is the difference of two time stamps that the store's file system gave: clocks of machines play no part.
"""

from __future__ import annotations

import contextlib
import os
import secrets
import socket
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextvars import ContextVar
from dataclasses import dataclass
from functools import cache, wraps
from typing import Any, TypeVar, cast

from pannier.errors import ConflictError, DamageError, NotFoundError, StoreError
from pannier.store.documents import sealed, unsealed
from pannier.store.facts import author, now
from pannier.store.files import Directory

FOLDER = "leases"
WRITER, READER, VERIFIER, TIDIER = "writer", "reader", "verifier", "tidier"
# how long a lease holds after it was renewed last, in seconds
SECONDS = {WRITER: 600, READER: 6 * 3600, VERIFIER: 600, TIDIER: 600}
# a writer waits so long for a tidier to end
LONGEST_WAIT_SECONDS = 60.0
_PAUSE_SECONDS = 0.25

# the leases that this process holds
_own: set[str] = set()
_held: ContextVar[Held | None] = ContextVar("held", default=None)

F = TypeVar("F", bound=Callable[..., Any])


@dataclass(frozen=True)
class Lease:
    """Somebody's lease, as it was found. `age_seconds` since it was renewed, by the store's clock."""

    name: str
    kind: str
    author: str
    host: str
    process: int
    machine: str
    started: str
    seconds: float
    snapshots: Sequence[str]
    age_seconds: float

    @property
    def is_live(self) -> bool:
        """Whether it holds: not expired, and its process not known to have ended."""
        if self.age_seconds > self.seconds:
            return False
        return self.machine != _machine() or _is_held(self.process, self.name)

    @property
    def text(self) -> str:
        return f"a {self.kind} on {self.host} (process {self.process}, {self.author}, since {self.started})"


def leases(directory: Directory) -> list[Lease]:
    """All leases that lie in a store, live or not; those that cannot be read are none of anybody."""
    found = []
    files = [name for name in directory.list(FOLDER) if name.endswith(".json") and name[0] != "."]
    if not files:
        return []
    clock = _clock(directory)
    for name in files:
        file = f"{FOLDER}/{name}"
        try:
            document = unsealed(directory.read(file), file)
            age = max(0.0, clock - directory.changed(file))
            found.append(Lease(name=name, age_seconds=age, **document))
        except (NotFoundError, DamageError, TypeError):
            continue  # ended in this moment, or cut short by a kill
    return found


class Held:
    """A lease of one's own. `renew` from time to time, which cannot bring back one that expired; `end` may come twice."""

    def __init__(self, directory: Directory, kind: str, snapshots: Sequence[str] = ()) -> None:
        self._directory = directory
        self.seconds = SECONDS[kind]
        self.name = f"{kind}-{secrets.token_hex(8)}.json"
        document = {
            "kind": kind,
            "author": author(),
            "host": socket.gethostname(),
            "process": os.getpid(),
            "machine": _machine(),
            "started": now(),
            "seconds": self.seconds,
            "snapshots": list(snapshots),
        }
        _own.add(self.name)
        try:
            self._directory.create(f"{FOLDER}/{self.name}", sealed(document))
        except BaseException:
            _own.discard(self.name)  # it may lie there all the same, and is nobody's then
            raise
        self._renewed = time.monotonic()
        self._has_ended = False

    def renew(self) -> None:
        """Renews it where a quarter of its time has gone; costs nothing before."""
        waited = time.monotonic() - self._renewed
        if self.seconds / 4 < waited < self.seconds * 3 / 4 and not self._has_ended:
            self._renewed = time.monotonic()
            with contextlib.suppress(StoreError, NotFoundError):
                self._directory.touch(f"{FOLDER}/{self.name}")

    def check(self) -> None:
        """Raises ConflictError where it no longer holds, since it was not renewed in time."""
        if time.monotonic() - self._renewed > self.seconds * 3 / 4 or not self._directory.exists(f"{FOLDER}/{self.name}"):
            raise ConflictError("this process stood still for so long that its lease on the store expired: try again")

    def end(self) -> None:
        if not self._has_ended:
            self._has_ended = True
            _own.discard(self.name)
            with contextlib.suppress(StoreError, NotFoundError):
                self._directory.remove(f"{FOLDER}/{self.name}")


@contextlib.contextmanager
def holding(directory: Directory, kind: str) -> Iterator[Held]:
    """A lease for as long as the block runs, renewed meanwhile. Waits for a tidier to end. Raises ConflictError."""
    held = _taken_beside_no_tidier(directory, kind)
    before = _held.set(held)
    try:
        with kept_up(held):
            yield held
    finally:
        _held.reset(before)


@contextlib.contextmanager
def kept_up(held: Held) -> Iterator[None]:
    """Renews a lease from time to time while the block runs, and ends it then."""
    ended = threading.Event()

    def renew() -> None:
        while not ended.wait(min(5.0, held.seconds / 20)):
            held.renew()

    thread = threading.Thread(target=renew, name="pannier-lease", daemon=True)
    try:
        thread.start()
        yield
    finally:
        ended.set()
        held.end()
        if thread.ident is not None:
            thread.join()


def check_lease() -> None:
    """Raises ConflictError where the lease that this call holds, if it holds one, has expired."""
    held = _held.get()
    if held is not None:
        held.check()


def reading(directory: Directory, snapshots: Sequence[str]) -> Held | None:
    """A reader's lease on some snapshots, to be renewed and ended; None where the store cannot be written to."""
    try:
        return Held(directory, READER, snapshots)
    except (StoreError, NotFoundError):
        return None


def writes(function: F) -> F:
    """A function whose first argument is a store holds a writer's lease on it while it runs."""

    @wraps(function)
    def with_lease(store: Any, *arguments: Any, **options: Any) -> Any:
        with holding(store.directory, WRITER):
            return function(store, *arguments, **options)

    return cast(F, with_lease)


def others(directory: Directory, held: Held | None, kinds: Sequence[str]) -> list[Lease]:
    """Other live leases of some kinds."""
    return [
        lease
        for lease in leases(directory)
        if lease.is_live and lease.kind in kinds and (held is None or lease.name != held.name)
    ]


def _taken_beside_no_tidier(directory: Directory, kind: str) -> Held:
    """Each of the two makes its own lease before it looks for the other's: so at least one sees the other."""
    until = time.monotonic() + LONGEST_WAIT_SECONDS
    while True:
        held = Held(directory, kind)
        tidiers = others(directory, held, [TIDIER])
        if not tidiers:
            return held
        held.end()
        if time.monotonic() > until:
            raise ConflictError(f"the store is being tidied by {tidiers[0].text}: try again when that has ended")
        time.sleep(_PAUSE_SECONDS)


def _clock(directory: Directory) -> float:
    """Now, as the store's file system tells it."""
    with directory.draft(FOLDER) as draft:
        return draft.path.stat().st_mtime


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
