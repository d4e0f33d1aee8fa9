"""Fetching: bytes of a far storage are asked for before a thread needs them, many requests at once, within a bound.

The issuer's batches pass through `ahead`, which looks some of them further: what lies close together in a shard comes in
one request, so that records shuffled within windows come as runs. Requests begin in order, while the bytes of all that are
under way or not yet used stay within the bound. A thread that needs what nobody has begun to ask for reads it itself: so
nobody waits for room that only it could give.
"""

from __future__ import annotations

import threading
from bisect import bisect_right, insort
from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

from pannier.feeding.lookup import Issued, Item
from pannier.storage.layout import shard_file
from pannier.storage.protocol import Far
from pannier.store.places import Place

# a gap is read along where that takes less of the link than a request takes of those in flight: 64 KiB at 100 MB/s and 50 ms
LONGEST_GAP_BYTES = 64 << 10
# a request is no longer, so that those of one window share the link
LONGEST_REQUEST_BYTES = 1 << 20
# looked ahead at most, so that what is known of records stays small
MOST_RECORDS = 2048


class Request:
    """A range of a shard, and how many records still need it."""

    __slots__ = ("future", "left", "length", "name", "offset", "storage")

    def __init__(self, storage: Far, name: str, offset: int, length: int) -> None:
        self.storage, self.name, self.offset, self.length = storage, name, offset, length
        self.future: Future[memoryview] | None = None
        self.left = 0

    def fetch(self) -> memoryview:
        return self.storage.range_of(self.name, self.offset, self.length)


class Fetcher:
    """Asks ahead for what is in those storages: the store's, and its rendering's. `room_bytes` bound what is held.

    `ahead` is for the issuer's thread, the rest for any.
    """

    def __init__(self, pictures: Far, canvases: Far | None, room_bytes: int) -> None:
        self._pictures, self._canvases, self._room = pictures, canvases, room_bytes
        self._pool = ThreadPoolExecutor(pictures.in_flight, thread_name_prefix="pannier-fetch")
        self._lock = threading.RLock()  # a request may be over as soon as its end is waited for
        self._queued: deque[Request] = deque()
        # of each file what is asked for and still needed, in order of offsets
        self._live: dict[tuple[Far, str], list[Request]] = {}
        self._held = self._asked = 0

    def ahead(self, batches: Iterator[Issued]) -> Iterator[Issued]:
        """The same batches, their bytes asked for."""
        coming: deque[Issued] = deque()
        records = 0
        try:
            while True:
                # where all that was asked for is still being used the next one comes without room: its bytes wait for it
                if not coming or (self._asked <= self._room // 2 and records <= MOST_RECORDS // 2):
                    group = list[Issued]()
                    room = max(1, self._room - self._asked)
                    while room > 0 and records < MOST_RECORDS and (batch := next(batches, None)) is not None:
                        group.append(batch)
                        records += len(batch.items)
                        room -= sum(place.length for _, place in self._wanted(batch.items))
                    self._ask(group)
                    coming += group
                if not coming:
                    return
                batch = coming.popleft()
                records -= len(batch.items)
                yield batch
        finally:
            for batch in coming:
                self.release(batch, batch.items)

    def _wanted(self, items: Iterable[Item]) -> Iterator[tuple[int, Place]]:
        """Where in its batch a record stands, and where the bytes lie that it will be made of."""
        for item in items:
            place = item.canvas or item.place
            if place is not None:
                yield item.at, place

    def _ask(self, group: list[Issued]) -> None:
        """Queues the requests for some batches; what is asked for already is not asked for again."""
        wanted = list[tuple[bool, str, int, int, int, Issued, int]]()
        for batch in group:
            for item in batch.items:
                place, is_canvas = item.canvas or item.place, item.canvas is not None
                storage = self._canvases if is_canvas else self._pictures
                if place is None or storage is None or place.length > self._room // 2:
                    continue
                if not self._is_coming(storage, place, batch, item.at) and not storage.is_at_hand(
                    shard_file(place.shard), place.offset, place.length
                ):
                    wanted.append((is_canvas, place.shard, place.offset, place.length, len(wanted), batch, item.at))
        requests, last = list[tuple[int, Request]](), None
        for is_canvas, shard, offset, length, order, batch, at in sorted(wanted, key=lambda each: each[:5]):
            file, storage = shard_file(shard), self._canvases if is_canvas else self._pictures
            end = offset + length
            if (
                last is None
                or (last.storage, last.name) != (storage, file)
                or offset > last.offset + last.length + LONGEST_GAP_BYTES
                or end - last.offset > min(LONGEST_REQUEST_BYTES, self._room // 2)
            ):
                assert storage is not None
                last = Request(storage, file, offset, length)
                requests.append((order, last))
            last.length = max(last.length, end - last.offset)
            last.left += 1
            batch.fetched[at] = last
            if order < requests[-1][0]:
                requests[-1] = (order, last)
        with self._lock:
            self._queued += [request for _, request in sorted(requests, key=lambda each: each[0])]
            self._asked += sum(request.length for _, request in requests)
            for _, request in requests:
                insort(self._live.setdefault((request.storage, request.name), []), request, key=_offset_of)
            self._begin()

    def _is_coming(self, storage: Far, place: Place, batch: Issued, at: int) -> bool:
        """Whether a request that is still needed brings a record as well, which is then one of its own."""
        with self._lock:
            live = self._live.get((storage, shard_file(place.shard)), [])
            before = bisect_right(live, place.offset, key=_offset_of) - 1
            if before < 0 or live[before].offset + live[before].length < place.offset + place.length:
                return False
            live[before].left += 1
            batch.fetched[at] = live[before]
            return True

    def _begin(self) -> None:
        """Begins requests, in order, while there is room. Under the lock."""
        while self._queued and self._held + self._queued[0].length <= self._room:
            request = self._queued.popleft()
            if request.left:
                self._held += request.length
                request.future = self._pool.submit(request.fetch)

    def content(self, batch: Issued, at: int, place: Place) -> memoryview | None:
        """The bytes of a record; None where nobody asked for them yet, or they did not come: then it is read as usual."""
        request: Request | None = batch.fetched.get(at)
        if request is None or request.future is None:
            return None
        try:
            came = request.future.result()
        except Exception:  # said by whoever reads it as usual
            return None
        begin = place.offset - request.offset
        found = came[begin : begin + place.length]
        return found if len(found) == place.length else None

    def release(self, batch: Issued, items: Iterable[Item] | range) -> None:
        """Gives room back that those records had."""
        if not batch.fetched or isinstance(items, range):
            return
        with self._lock:
            for item in items:
                request = batch.fetched.pop(item.at, None)
                if request is None:
                    continue
                request.left -= 1
                if request.left:
                    continue
                self._asked -= request.length
                self._live[request.storage, request.name].remove(request)
                if request.future is not None:
                    self._give_back(request)
            self._begin()

    def _give_back(self, request: Request) -> None:
        """The room of a request, once it is over. Under the lock."""
        assert request.future is not None
        if request.future.cancel() or request.future.done():
            self._held -= request.length
        else:
            request.future.add_done_callback(lambda _: self._over(request.length))

    def _over(self, length: int) -> None:
        with self._lock:
            self._held -= length
            self._begin()

    def close(self) -> None:
        """Whatever was not begun is not asked for any more."""
        with self._lock:
            self._queued.clear()
        self._pool.shutdown(wait=False, cancel_futures=True)


def _offset_of(request: Request) -> int:
    return request.offset


def fetcher_of(works: Iterable[Any], room_bytes: int) -> Fetcher | None:
    """The one of an engine's works; None where their storage is near."""
    for work in works:
        storage = work.state.storage
        if isinstance(storage, Far) and room_bytes:
            rendering = None if work.rendering is None else work.rendering.storage
            return Fetcher(storage, rendering if isinstance(rendering, Far) else None, room_bytes)
    return None
