"""A bucket as a storage: Amazon's, Google's or Azure's, or whatever speaks like them, through obstore.

A file is made by one conditional request that holds it whole, or in parts where it is large and named by its content. What
is asked of the bucket is asked in threads of a pool, while the caller waits: so that Ctrl-C is heard.
"""

from __future__ import annotations

import contextlib
import os
import re
import secrets
import tempfile
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import timedelta
from pathlib import Path
from typing import Any, TypeVar, cast

from pannier.array_types import Array, Numbers
from pannier.errors import NotFoundError, StoreError, UsageError
from pannier.storage.cache import Cache, CacheOptions, KeptFile, cache_of
from pannier.storage.layout import INDEX, MANIFESTS, folder_of
from pannier.storage.local import LocalStorage, check_name, disk_errors_translated, mapped_at
from pannier.storage.protocol import Draft

# requests that are in flight at once, of one process
IN_FLIGHT = 32
# files that are listed by one request
LISTED_AT_ONCE = 1000
# an answer's text is cut here: libraries append pages of their own insides
LONGEST_REASON = 200
# as conditional requests are one each, a file that is larger goes in parts, without a condition: it is named by its content
LARGEST_AT_ONCE = 64 << 20
CLOCK_PREFIX = ".clock-"
# a whole file comes in pieces of so much, side by side; one of more than a piece is mapped from the disk
PIECE_BYTES = 8 << 20
# what is kept whole near by: its content names it, and it is read as one
_KEPT_WHOLE = (MANIFESTS, INDEX)

# how addresses of buckets begin
REMOTE = ("s3", "gs", "az")
# what says of a kind where its server is, unless it is the usual one
_ENDPOINTS = {"s3": ("AWS_ENDPOINT_URL", "AWS_ENDPOINT"), "az": ("AZURE_STORAGE_ENDPOINT", "AZURE_ENDPOINT")}
# a server that stalls is asked again, for so long in all
_CLIENT = {"timeout": "30s", "connect_timeout": "5s"}
RETRIES, RETRY_SECONDS = 6, 60

# what is asked where no credentials are given: the machine's own, of a cloud's
_ASKED_METADATA = re.compile(r"token request|169\.254\.169\.254")
_GIVE_CREDENTIALS = "give account and credentials by the usual environment variables"
# what the library says of a connection that broke off, and of one that never was, for which it has tried long enough itself
_BROKEN_OFF, _UNREACHABLE = re.compile("error sending request|error decoding response"), re.compile("tcp connect|dns error")

T = TypeVar("T")


def open_remote(address: str, cache: CacheOptions | None = None) -> RemoteStorage:
    """The storage in a bucket; endpoint, region and credentials come from the environment, as everywhere.

    cache: where what is read is kept near by.

    Raises UsageError where obstore is missing, or where that is no address.
    """
    scheme, _, rest = address.partition("://")
    bucket, _, prefix = rest.strip("/").partition("/")
    if not bucket:
        raise UsageError(f"{address}: give the bucket, and where in it the store lies, as {scheme}://BUCKET/NAME")
    endpoint = next((os.environ[name] for name in _ENDPOINTS.get(scheme, ()) if os.environ.get(name)), "")
    opened = opened_by(f"{scheme}://{bucket}", endpoint)
    return RemoteStorage(f"{scheme}://{bucket}/{prefix}".rstrip("/"), opened, prefix, cache_of(cache), endpoint)


def opened_by(url: str, endpoint: str) -> Any:
    """What obstore opens a bucket's or a web server's files with. Raises UsageError where it is missing, or cannot."""
    try:
        from obstore import exceptions, store
    except ImportError:
        raise UsageError(f"{url}: stores in buckets need the package obstore: pip install obstore") from None
    retries = {"max_retries": RETRIES, "retry_timeout": timedelta(seconds=RETRY_SECONDS)}
    client: Any = _CLIENT | ({"allow_http": True} if endpoint.startswith("http://") else {})
    try:
        return store.from_url(url, client_options=client, retry_config=cast(Any, retries))
    except (exceptions.BaseError, ValueError) as error:
        raise UsageError(f"{url}: {_cut(str(error))}; {_GIVE_CREDENTIALS}") from error


class RemoteStorage:
    """See `Storage`. What is asked in a process that was forked from one that had asked raises UsageError."""

    copies = False
    in_flight = IN_FLIGHT

    def __init__(self, address: str, bucket: Any, prefix: str = "", cache: Cache | None = None, endpoint: str = "") -> None:
        """bucket: an obstore store, of that endpoint; prefix: of all names in it."""
        self.address, self._bucket, self._prefix = address, bucket, prefix
        self._cache, self._endpoint = cache, endpoint

    def _at(self, name: str) -> str:
        check_name(name)
        return f"{self._prefix}/{name}".strip("/")

    def ask(self, name: str, question: Callable[[], T]) -> T:
        """Asks the bucket in a thread of the pool, and waits. Raises NotFoundError, StoreError."""
        _check_own(self.address)
        where = f"{self.address}/{name}".rstrip("/")
        if threading.current_thread() is not threading.main_thread():
            return _translated(where, question)
        try:
            answer = _pool().submit(_translated, where, question)
        except RuntimeError:  # the interpreter ends, and what was left open is closed: no thread is to be had
            return _translated(where, question)
        return answer.result()

    def read(self, name: str, offset: int = 0, length: int | None = None) -> bytes:
        import obstore

        path = self._at(name)
        if length is None and not offset:
            return self.ask(name, lambda: bytes(obstore.get(self._bucket, path).bytes()))
        end = self.size(name)
        last = end if length is None else min(end, offset + length)
        if offset >= last:
            return b""
        return self.ask(name, lambda: bytes(obstore.get_range(self._bucket, path, start=offset, end=last)))

    @property
    def cache(self) -> CacheOptions | None:
        """Where what is read is kept near by."""
        return None if self._cache is None else self._cache.options

    def directly(self) -> RemoteStorage:
        """The same, past what is kept near by."""
        return self._with(self.address, self._prefix, None)

    def _with(self, address: str, prefix: str, cache: Cache | None) -> RemoteStorage:
        return RemoteStorage(address, self._bucket, prefix, cache, self._endpoint)

    def view(self, name: str) -> Any:
        kept = self.kept(name) if folder_of(name) in _KEPT_WHOLE else None
        return self._viewed(name) if kept is None else kept.whole(lambda: self._viewed(name))

    def _begun(self, name: str, most: int) -> tuple[int, Any]:
        """How many bytes a file has, and the first of them, by one request."""
        import obstore

        path = self._at(name)

        def begin() -> tuple[int, Any]:
            try:
                found = obstore.get(self._bucket, path, options={"range": (0, most)})
            except obstore.exceptions.GenericError:  # an empty file has no first byte
                found = obstore.get(self._bucket, path)
            return int(found.meta["size"]), found.bytes()

        return self.ask(name, begin)

    def beginning(self, name: str, most: int) -> bytes:
        """At most so many of a file's first bytes, by one request."""
        return bytes(self._begun(name, most)[1])[:most]

    def everything(self, folder: str) -> Iterator[Any]:
        """What the server tells of all files below a folder, folders within it too, as `about` does."""
        import obstore

        prefix = self._at(folder) if folder else self._prefix
        pages = self.ask(folder, lambda: iter(obstore.list(self._bucket, prefix or None, chunk_size=LISTED_AT_ONCE)))
        while page := self.ask(folder, lambda: next(pages, None)):
            yield from page

    def _viewed(self, name: str) -> Any:
        """A file of one piece in memory, a larger one mapped from a temporary file that is gone with it."""
        import pyarrow as pa

        size, first = self._begun(name, PIECE_BYTES)
        if size <= len(first):
            return pa.py_buffer(bytes(first))
        with tempfile.NamedTemporaryFile(prefix="pannier-") as file:
            os.pwrite(file.fileno(), first, 0)
            self._spool(file.fileno(), name, len(first), size)
            return mapped_at(Path(file.name))

    @contextmanager
    def brought(self, name: str) -> Iterator[LocalStorage]:
        size = self.size(name)
        with tempfile.TemporaryDirectory(prefix="pannier-") as folder:
            path = Path(folder, name)
            path.parent.mkdir(parents=True)
            with disk_errors_translated(name), open(path, "wb") as file:
                self._spool(file.fileno(), name, 0, size)
            yield LocalStorage(folder)

    def _spool(self, handle: int, name: str, begin: int, size: int) -> None:
        """Brings a file from somewhere on to a local one, in pieces side by side."""

        def bring(start: int) -> None:
            content = self._range(name, start, min(PIECE_BYTES, size - start))
            if len(content) != min(PIECE_BYTES, size - start):
                raise StoreError(f"{self.address}/{name} was cut short on its way: try again")
            os.pwrite(handle, content, start)

        for _ in _pool().map(bring, range(begin, size, PIECE_BYTES)):
            pass

    def reader(self, open_files: int = 32) -> RemoteReader:
        return RemoteReader(self)

    def kept(self, name: str) -> KeptFile | None:
        """What is kept of a file near by; None where nothing can be. Raises NotFoundError, StoreError."""
        if self._cache is None:
            return None
        return self._cache.file(f"{self._endpoint} {self.address}/{name}", lambda: self.size(name))

    def is_at_hand(self, name: str, offset: int, length: int) -> bool:
        kept = self.kept(name)
        return kept is not None and kept.has(offset, length)

    def range_of(self, name: str, offset: int, length: int) -> memoryview:
        kept = self.kept(name)
        if kept is None:
            return self._range(name, offset, length)[:length]
        first, last = kept.pages(offset, length)
        content = self._range(name, first, last - first)
        if len(content) == last - first:
            kept.keep(first, content)
        return content[offset - first : offset - first + length]

    def _range(self, name: str, offset: int, length: int) -> memoryview:
        import obstore

        path = self._at(name)
        return memoryview(self.ask(name, lambda: obstore.get_range(self._bucket, path, start=offset, end=offset + length)))

    def exists(self, name: str) -> bool:
        try:
            self.size(name)
        except NotFoundError:
            return False
        return True

    def size(self, name: str) -> int:
        return int(self.about(name)["size"])

    def about(self, name: str) -> Any:
        """What the server tells of a file: its path, size, e_tag, last_modified. Raises NotFoundError, StoreError."""
        import obstore

        path = self._at(name)
        return self.ask(name, lambda: obstore.head(self._bucket, path))

    def list(self, folder: str) -> Sequence[str]:
        import obstore

        path = self._at(folder) if folder else self._prefix
        found = self.ask(folder, lambda: obstore.list_with_delimiter(self._bucket, path))
        names = [each["path"].rpartition("/")[2] for each in found["objects"]]
        folders = [each.rstrip("/").rpartition("/")[2] for each in found["common_prefixes"]]
        return sorted(name for name in {*names, *folders} if not name.startswith(CLOCK_PREFIX))

    def create(self, name: str, content: bytes, *, lasts: bool = True) -> bool:
        import obstore
        from obstore.exceptions import AlreadyExistsError

        path = self._at(name)

        def put() -> bool:
            try:
                obstore.put(self._bucket, path, content, mode="create", use_multipart=False)
            except AlreadyExistsError:
                # also where it is ours, and only the answer to it was lost: then it holds what we said
                return bytes(obstore.get(self._bucket, path).bytes()) == content and _is_unique(content)
            return True

        return self.ask(name, put)

    def check_conditions(self) -> None:
        """Raises StoreError where the server makes a file that is there already: two writers would lose snapshots."""
        name = f"{CLOCK_PREFIX}{secrets.token_hex(8)}"
        self.create(name, b"first")
        is_ignored = self.create(name, b"second")
        self.remove(name)
        if is_ignored:
            raise StoreError(
                f"{self.address}: the server ignores conditions (If-None-Match), so that of two writers at once one would "
                "lose its snapshot; where there is never more than one, say so: pannier.create(ADDRESS, one_writer=True)"
            )

    def draft(self, folder: str, *, lasts: bool = True) -> Draft:
        return RemoteDraft(self)

    def put_file(self, name: str, path: Path) -> bool:
        """Publishes a local file; a large one, which its content names, in parts."""
        import obstore

        if path.stat().st_size <= LARGEST_AT_ONCE:
            return self.create(name, path.read_bytes())
        if self.exists(name):
            return False
        where = self._at(name)
        self.ask(name, lambda: obstore.put(self._bucket, where, path))
        return True

    def drafts(self) -> Sequence[str]:
        return []

    def remove(self, name: str) -> None:
        import obstore

        self.size(name)  # what is not there is said: a bucket does not mind
        path = self._at(name)
        self.ask(name, lambda: obstore.delete(self._bucket, path))

    def prune(self, folder: str) -> None:
        """A bucket has no folders."""

    def changed(self, name: str) -> float:
        return float(self.about(name)["last_modified"].timestamp())

    def now(self) -> float:
        name = f"{CLOCK_PREFIX}{secrets.token_hex(8)}"
        self.create(name, b"")
        try:
            return self.changed(name)
        finally:
            self.remove(name)

    def free_bytes(self) -> int | None:
        return None

    def drop_cached(self, name: str) -> float | None:
        return None

    def is_there(self) -> bool:
        return bool(self.list(""))

    def discard(self) -> None:
        """It is there as long as something is in it."""

    def below(self, folder: str) -> RemoteStorage:
        return self._with(f"{self.address}/{folder}", self._at(folder), self._cache)

    def link(self, name: str, path: Path) -> None:
        raise StoreError(f"{self.address} is no directory, so nothing can be linked to it: leave `hard_links` out")

    def is_linked(self, name: str) -> bool:
        return False


class RemoteReader:
    """See `Reader`."""

    def __init__(self, storage: RemoteStorage) -> None:
        self._storage = storage

    def read_into(self, name: str, offset: int, buffer: memoryview) -> int:
        if not len(buffer):
            return 0
        kept = self._storage.kept(name)
        if kept is not None and kept.read_into(offset, buffer):
            return len(buffer)
        try:
            piece = self._storage.range_of(name, offset, len(buffer))
        except StoreError:
            if offset < self._storage.size(name):
                raise
            return 0  # it begins where the file has ended
        buffer[: len(piece)] = piece
        return len(piece)

    def read_each_into(self, names: Sequence[str], offsets: Numbers, parts: Array) -> bool:
        return False

    def close(self) -> None:
        """Nothing is open."""


class RemoteDraft:
    """See `Draft`: a temporary file here, which is sent when it is published."""

    def __init__(self, storage: RemoteStorage) -> None:
        import pyarrow as pa

        self._storage = storage
        handle, path = tempfile.mkstemp(prefix="pannier-")
        os.close(handle)
        self.path = Path(path)
        self.sink: Any = pa.OSFile(path, "ab")  # see `LocalDraft`

    def content(self) -> Any:
        self.sink.close()
        return mapped_at(self.path)

    def flush_early(self) -> None:
        """It is sent when it is whole."""

    def publish(self, name: str) -> bool:
        check_name(name)
        self.sink.close()
        try:
            return self._storage.put_file(name, self.path)
        finally:
            self.discard()

    def discard(self) -> None:
        for step in (self.sink.close, self.path.unlink):
            with contextlib.suppress(OSError):
                step()

    def __enter__(self) -> RemoteDraft:
        return self

    def __exit__(self, *_: object) -> None:
        self.discard()


_asked_in: int | None = None


def _check_own(address: str) -> None:
    """obstore has one runtime for all buckets; where that ran before a fork, what the child asks waits for ever."""
    global _asked_in
    if _asked_in not in (None, os.getpid()):
        raise UsageError(
            f"{address}: this process was forked from one that had asked a bucket, and cannot ask one itself: start it by "
            "multiprocessing's 'spawn' or 'forkserver', of an executor with mp_context=get_context('spawn')"
        )
    _asked_in = os.getpid()


_pools: dict[int, ThreadPoolExecutor] = {}


def _pool() -> ThreadPoolExecutor:
    """This process's own: threads do not come along into a forked child."""
    return _pools.setdefault(os.getpid(), ThreadPoolExecutor(IN_FLIGHT, thread_name_prefix="bucket"))


def _is_unique(content: bytes) -> bool:
    """Whether a file that holds the same is ours: entries and leases say who made them, and when."""
    return bool(content)


def _translated(name: str, question: Callable[[], T]) -> T:
    """Asks, and asks again where a connection broke off: whatever is asked may be asked twice."""
    from obstore import exceptions

    with _errors_translated(name):
        for attempt in range(RETRIES):
            try:
                return question()
            except exceptions.GenericError as error:
                if not _BROKEN_OFF.search(str(error)) or _UNREACHABLE.search(str(error)):
                    raise
                time.sleep(0.05 * 2**attempt)
        return question()


@contextmanager
def _errors_translated(name: str) -> Iterator[None]:
    from obstore import exceptions

    try:
        yield
    except (exceptions.NotFoundError, FileNotFoundError) as error:
        raise NotFoundError(f"{name} is not in the store") from error
    except (exceptions.PermissionDeniedError, exceptions.UnauthenticatedError) as error:
        raise StoreError(f"{name}: access is denied; {_GIVE_CREDENTIALS}") from error
    except exceptions.BaseError as error:
        text = str(error)
        if "NoSuchBucket" in text or "bucket does not exist" in text:
            raise NotFoundError(f"{name}: there is no such bucket; make it first") from error
        if _BROKEN_OFF.search(text) or _UNREACHABLE.search(text):
            raise StoreError(f"{name}: the server does not answer; is its address right, and is it running?") from error
        if _ASKED_METADATA.search(text):
            raise StoreError(f"{name}: no credentials are there; {_GIVE_CREDENTIALS}") from error
        if "Range request not supported" in text:
            raise StoreError(f"{name}: the server gives out whole files alone; take one that answers ranges") from error
        raise StoreError(f"{name}: {_cut(text)}") from error


def _cut(text: str) -> str:
    """What a library says in a line, without the addresses that it asked, and no longer than it is worth."""
    first = re.sub(
        r"(?:Error performing )?(?:\w+ request: )?[A-Z]+ https?://\S+", "a request", text.strip().partition("\n")[0]
    )
    return first if len(first) <= LONGEST_REASON else f"{first[: LONGEST_REASON - 1]}..."
