"""A folder in a bucket as a source: as one on a disk, its pictures asked for many at once."""

from __future__ import annotations

import numpy as np

from pannier.errors import NotFoundError, PictureError
from pannier.images.facts import looks_like_picture, refuse_other_kinds
from pannier.kinds import LeftOutKind
from pannier.sources import paths
from pannier.sources.files import read_file
from pannier.sources.folders import HEAD_BYTES
from pannier.sources.rows import FileStamp, LeftOut, Row
from pannier.storage.objects import Object, objects_of, parted
from pannier.storage.remote import IN_FLIGHT


class BucketFolder(paths.PathSource):
    """All pictures below an address in a bucket. What is named like a picture is looked into when it is read, not before.

    Raises NotFoundError where nothing lies there, StoreError where the server does not answer.
    """

    reads_at_once = IN_FLIGHT

    def __init__(self, address: str, *, keep_splits: bool = True, patterns: paths.Patterns | None = None) -> None:
        self._bucket, self._within = parted(address)
        self.name = (self._within or self._bucket).rpartition("/")[2]
        self.passed: list[LeftOut] = []
        self._patterns, self._hidden = patterns or paths.Patterns(), set[str]()
        self._paths: dict[str, str] = {}
        found, is_empty = dict[str, Object](), True
        for each in objects_of(self._bucket).below(self._within):
            is_empty = False
            key = self._key(each)
            if key is not None:
                found[key] = each
        if is_empty:
            raise NotFoundError(f"there is no folder or file {address}")
        self._take({key: each.byte_count for key, each in found.items()}, keep_splits=keep_splits)
        self._stamps = np.fromiter((found[key].stamp for key in self._keys), np.int64, len(self._keys))

    def read(self, row: Row, most: int | None = None) -> bytes:
        """The picture's bytes, or the first of them. Raises PictureError where it is not there any more; StoreError."""
        return read_file(self.file(row).path, row.byte_count, most)

    def file(self, row: Row) -> FileStamp:
        """The picture's object as it was when the folder was listed."""
        path = f"{self._bucket}/{self._paths[self._keys[row.number]]}".encode()
        return FileStamp(path, int(self._byte_counts[row.number]), int(self._stamps[row.number]))

    def _key(self, each: Object) -> str | None:
        """The key of an object that is a picture; of any other it is noted why it is passed over."""
        relative = each.path[len(self._within) :].lstrip("/")
        *folders, name = relative.split("/")
        if not each.byte_count and not looks_like_picture(name):
            return None  # what stands for an empty folder
        hidden = next((i for i, part in enumerate((*folders, name)) if self._patterns.passes_over(part.encode())), None)
        if hidden is not None:
            self._pass_hidden("/".join((*folders, name)[: hidden + 1]), is_folder=hidden < len(folders))
            return None
        key = paths.key_of(relative.encode())
        try:
            self._refuse(each, relative, name)
        except PictureError as error:
            self._pass(key, error.kind, error.reason)
            return None
        if key in self._paths:
            paths.refuse_one_key(key, self._paths[key].encode(), each.path.encode())
        self._paths[key] = each.path
        return key

    def _refuse(self, each: Object, relative: str, name: str) -> None:
        """Raises PictureError for what is no picture, by its name; by its first bytes where that does not tell."""
        refusal = self._patterns.refusal(relative) if self._patterns.are_any else None
        if refusal:
            raise PictureError(refusal, "excluded")
        if not looks_like_picture(name):
            refuse_other_kinds(objects_of(self._bucket).read(each.path, HEAD_BYTES), name)

    def _pass_hidden(self, path: str, *, is_folder: bool) -> None:
        if path not in self._hidden:
            self._hidden.add(path)
            self._pass(path, *paths.hidden(path.rpartition("/")[2].encode(), is_folder=is_folder))

    def _pass(self, key: str, kind: LeftOutKind, reason: str) -> None:
        self.passed.append(LeftOut(key, kind, reason))
