"""The one narrow interface to a store's bytes. Whatever is above works on each kind of storage alike."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any, Protocol, runtime_checkable

from pannier.array_types import Array, Numbers

# documents are read whole, and none is larger
MOST_DOCUMENT_BYTES = 64 << 20


class Reader(Protocol):
    """Reads ranges of a few files, many times. Not for several threads at once; `close` may be called twice."""

    def read_into(self, name: str, offset: int, buffer: memoryview) -> int:
        """Fills the buffer from there on: how many bytes came, fewer where the file ends."""

    def read_each_into(self, names: Sequence[str], offsets: Numbers, parts: Array) -> bool:
        """Fills each row of an array, uint8 (n, length), from a file and offset of its own; False where that cannot be."""

    def close(self) -> None: ...


class Draft(Protocol):
    """A file in the making; a context manager that removes it unless it was published.

    `sink` takes bytes and is closed by `content`, `publish` or `discard`. After any exception, Ctrl-C included, nothing is
    left; after a kill a draft may be, which no listing shows.
    """

    sink: Any

    def content(self) -> Any:
        """All that was written, as an Arrow buffer."""

    def flush_early(self) -> None:
        """What was written so far goes to the disk, so that `publish` has less to wait for. For any thread."""

    def publish(self, name: str) -> bool:
        """Gives the file its final name, whole and flushed, if that name is free; False where it is taken."""

    def discard(self) -> None: ...

    def __enter__(self) -> Draft: ...

    def __exit__(self, *_: object) -> None: ...


@runtime_checkable
class Storage(Protocol):
    """Files by name: relative, with `/`; one that leads elsewhere is refused with DamageError.

    Nothing is ever rewritten: a name is free or taken. Safe between threads and processes; holds nothing open.
    `address` is what `open_storage` opens it by; `copies` says whether reading takes as much memory again, from an
    allocator. Whatever is not there raises NotFoundError, whatever the disk refuses
    StoreError.
    """

    address: str
    copies: bool

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        """The bytes of a range, or of all from `offset`."""

    def view(self, name: str) -> Any:
        """A whole file as an Arrow buffer, mapped where that can be."""

    def reader(self, open_files: int = 32) -> Reader: ...

    def exists(self, name: str) -> bool: ...

    def size(self, name: str) -> int:
        """Bytes of a file."""

    def list(self, folder: str) -> Sequence[str]:
        """The sorted names, without the folder, of what lies directly in a folder; no drafts; none where it is not there."""

    def create(self, name: str, content: bytes, *, lasts: bool = True) -> bool:
        """Publishes a small file whole; False where that name is taken already (nothing is changed then).

        lasts: False for what need not outlive the machine's running, so that nobody waits for the disk.
        """

    def draft(self, folder: str, *, lasts: bool = True) -> Draft:
        """A new file in the making that will be published into `folder`; `lasts` as of `create`."""

    def drafts(self) -> Sequence[str]:
        """Drafts that lie there, of writers at work or ended; `remove` takes them."""

    def remove(self, name: str) -> None: ...

    def prune(self, folder: str) -> None:
        """Takes folders below that one away that hold nothing any more."""

    def changed(self, name: str) -> float:
        """When a file was made, in seconds, as the storage's own clock tells it."""

    def now(self) -> float:
        """The time by that clock: clocks of machines play no part."""

    def drop_cached(self, name: str) -> float | None:
        """Lets the system forget what it holds of a file's content: the part that it holds no more, None where unknown."""

    def free_bytes(self) -> int | None:
        """How much can still be written; None where that is not known."""

    def is_there(self) -> bool:
        """Whether the storage itself is there, be it empty."""

    def discard(self) -> None:
        """Takes the storage itself away, if it holds nothing."""

    def below(self, folder: str) -> Storage:
        """The files of a folder as a storage of their own."""

    def link(self, name: str, path: Path) -> None:
        """Makes `path`, outside, a link to a file. Raises StoreError where the storage cannot."""

    def is_linked(self, name: str) -> bool:
        """Whether something outside is a link to a file."""


@runtime_checkable
class Far(Storage, Protocol):
    """A storage whose answers take their time: whoever will read much asks ahead, so many requests at once (`in_flight`)."""

    in_flight: int

    def range_of(self, name: str, offset: int, length: int) -> memoryview:
        """The bytes of a range, fewer where the file ends. For any thread."""

    def check_conditions(self) -> None:
        """Raises StoreError where a name that is taken can be taken again."""

    def directly(self) -> Far:
        """The same, past what is kept near by."""

    def brought(self, name: str) -> AbstractContextManager[Storage]:
        """A storage on this machine's disk that holds that one file, as long as the context lasts."""

    def is_at_hand(self, name: str, offset: int, length: int) -> bool:
        """Whether that range is kept near by, so that reading it asks nobody."""
