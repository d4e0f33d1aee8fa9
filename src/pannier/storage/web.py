"""A store that a web server gives out as plain files: read-only, by a listing that was published with it."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any, NoReturn

from pannier.errors import DamageError, NotFoundError, StoreError
from pannier.storage.cache import Cache, CacheOptions, cache_of
from pannier.storage.layout import FOLDERS, FORMAT_FILE, LEASES, LISTING_FILE
from pannier.storage.local import check_name
from pannier.storage.protocol import Draft, Storage
from pannier.storage.remote import RemoteStorage, opened_by

WEB = ("https", "http")
_KIND = "listing 1"
# a listing of more bytes is none that was ever written: some 100 a file
_MOST_BYTES = 256 << 20


def publish_listing(storage: Storage) -> int:
    """Writes the listing of a store as it is now, in place of one from before; how many files it names.

    Leases and what a repair set aside are not in it. Whoever reads the store by it sees this moment.
    """
    files = {FORMAT_FILE: storage.size(FORMAT_FILE)}
    for folder in FOLDERS:
        if folder != LEASES:
            _list_into(files, storage, folder)
    content = json.dumps({"pannier": _KIND, "files": files}, indent=0, sort_keys=True).encode() + b"\n"
    if storage.exists(LISTING_FILE):
        storage.remove(LISTING_FILE)
    if not storage.create(LISTING_FILE, content):
        raise StoreError(f"{storage.address}: somebody else publishes it at this moment")
    return len(files)


def _list_into(files: dict[str, int], storage: Storage, folder: str) -> None:
    for name in storage.list(folder):
        path = f"{folder}/{name}"
        if storage.exists(path):
            files[path] = storage.size(path)
        else:  # a folder
            _list_into(files, storage, path)


def open_web(address: str, cache: CacheOptions | None = None) -> WebStorage:
    """The storage at an address https://HOST/PATH. Raises UsageError without obstore, NotFoundError without a listing."""
    address = address.rstrip("/")
    return WebStorage(address, opened_by(address, address), "", cache_of(cache), address)


class WebStorage(RemoteStorage):
    """See `Storage`. What would write raises StoreError."""

    def __init__(
        self,
        address: str,
        bucket: Any,
        prefix: str,
        cache: Cache | None,
        endpoint: str,
        listing: dict[str, int] | None = None,
    ) -> None:
        super().__init__(address, bucket, prefix, cache, endpoint)
        self._listing: dict[str, int] = self._read_listing() if listing is None else listing

    def _read_listing(self) -> dict[str, int]:
        try:
            content = self.read(LISTING_FILE)
        except NotFoundError:
            what = f"pannier publish writes {LISTING_FILE} into a store"
            raise NotFoundError(f"there is no store {self.address} that was published for the web: {what}") from None
        try:
            document = json.loads(content[:_MOST_BYTES])
            files = document["files"]
            if document["pannier"] != _KIND or not all(type(size) is int and size >= 0 for size in files.values()):
                raise ValueError(document["pannier"])
            for name in files:
                check_name(name)
        except (ValueError, TypeError, KeyError, AttributeError, RecursionError):
            raise DamageError(f"{self.address}/{LISTING_FILE} is no listing of a store", file=LISTING_FILE) from None
        return dict(files)

    def _with(self, address: str, prefix: str, cache: Cache | None) -> WebStorage:
        return WebStorage(address, self._bucket, prefix, cache, self._endpoint, self._listing)

    def size(self, name: str) -> int:
        found = self._listing.get(self._at(name))
        if found is None:
            raise NotFoundError(f"{self.address}/{name} is not in the store")
        return found

    def list(self, folder: str) -> Sequence[str]:
        start = f"{self._at(folder)}/" if folder else f"{self._prefix}/" if self._prefix else ""
        return sorted({name[len(start) :].partition("/")[0] for name in self._listing if name.startswith(start)})

    def create(self, name: str, content: bytes, *, lasts: bool = True) -> bool:
        self._refuse()

    def draft(self, folder: str, *, lasts: bool = True) -> Draft:
        self._refuse()

    def remove(self, name: str) -> None:
        self._refuse()

    def _refuse(self) -> NoReturn:
        raise StoreError(f"{self.address}: a web server's files can be read only; copy the store to write to it")
