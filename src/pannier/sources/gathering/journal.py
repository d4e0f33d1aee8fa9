"""The journal of a gathering: what came and what did not, a line each, so that a killed one goes on where it stopped."""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any

from pydantic import AfterValidator, Field, TypeAdapter, with_config
from typing_extensions import TypedDict

from pannier.errors import SourceError, UsageError
from pannier.results import Result
from pannier.strict import STRICT, Count, Digest, Text, read_strictly

JOURNAL = ".gathered.jsonl"
LOCK = ".gathering"
# in bytes: what file systems take, less room for a folder that it all lies in
_LONGEST_PATH, _LONGEST_PART = 2048, 255
ARRIVING = ".arriving-"


@dataclass(frozen=True)
class Came:
    """A picture that came: its link's identity, the link without credentials, its file in the folder, and its origin."""

    identity: str
    link: str
    file: str
    time: str
    byte_count: int
    sha256: str
    status: int


@dataclass(frozen=True, repr=False)
class Failed(Result):
    """A picture that did not come. `is_final`: trying again is of no use."""

    identity: str
    link: str
    reason: str
    status: int | None = None
    is_final: bool = False


def _inside(file: str) -> str:
    """A path that leads nowhere but into the folder."""
    parts = file.split("/")
    if not file or "\0" in file or "\\" in file or any(part in ("", ".", "..") for part in parts):
        raise ValueError("a path that leads out of the folder")
    if len(file.encode()) > _LONGEST_PATH or any(len(part.encode()) > _LONGEST_PART for part in parts):
        raise ValueError("a path that is longer than any that is written")
    return file


_Identity = Annotated[str, Field(pattern="^[0-9a-f]{32}$")]
_Status = Annotated[int, Field(ge=0, le=999)]


@with_config(STRICT)
class _CameTold(TypedDict):
    identity: _Identity
    link: Text
    file: Annotated[Text, AfterValidator(_inside)]
    time: Text
    byte_count: Count
    sha256: Digest
    status: _Status


@with_config(STRICT)
class _FailedTold(TypedDict):
    identity: _Identity
    link: Text
    reason: Text
    status: _Status | None
    is_final: bool


@with_config(STRICT)
class _Line(TypedDict, total=False):
    came: _CameTold
    failed: _FailedTold


_LINE = TypeAdapter(_Line)


class Journal:
    """The journal in a folder. One writer at a time; lines are whole or not there, whatever happens."""

    def __init__(self, folder: Path, *, writes: bool = True) -> None:
        self._folder = folder
        self._path = folder / JOURNAL
        self.came: dict[str, Came] = {}
        self.failed: dict[str, Failed] = {}
        content = self._path.read_bytes() if self._path.exists() else b""
        for number, line in enumerate(content.split(b"\n")[:-1], 1):  # what follows the last line's end was cut off
            try:
                self._take(read_strictly(_LINE, line))
            except ValueError as error:
                what = f"{self._path} is damaged: line {number}: {error}"
                raise SourceError(f"{what}; gather into a new folder") from None
        if not writes:
            self.came = {who: came for who, came in self.came.items() if (folder / came.file).exists()}
            return
        if content and not content.endswith(b"\n"):
            with open(self._path, "rb+") as file:
                file.truncate(content.rfind(b"\n") + 1)
        self._settle()
        self._file = open(self._path, "ab", buffering=0)  # noqa: SIM115

    def close(self) -> None:
        if not self._file.closed:
            os.fsync(self._file.fileno())
            self._file.close()

    def arriving(self, identity: str) -> Path:
        """Where a picture lies while it arrives."""
        return self._folder / f"{ARRIVING}{identity}"

    def add_came(self, came: Came) -> None:
        """Notes a picture that has arrived whole, and gives it its name: in this order, so that none is lost or doubled."""
        self._write({"came": vars(came)})
        self.came[came.identity] = came
        self.failed.pop(came.identity, None)
        self._name(came)

    def add_failed(self, failed: Failed) -> None:
        self._write({"failed": vars(failed)})
        self.failed[failed.identity] = failed

    def _write(self, line: dict[str, Any]) -> None:
        self._file.write(json.dumps(line, ensure_ascii=False).encode("utf-8", "replace") + b"\n")

    def _take(self, line: dict[str, Any]) -> None:
        if "came" in line:
            came = Came(**line["came"])
            self.came[came.identity] = came
            self.failed.pop(came.identity, None)
        elif "failed" in line:
            failed = Failed(**line["failed"])
            self.failed[failed.identity] = failed

    def _settle(self) -> None:
        """Finishes what was noted and not named when the process ended; forgets what is gone; clears away the rest."""
        for came in list(self.came.values()):
            if not (self._folder / came.file).exists():
                if _sha256(self.arriving(came.identity)) == came.sha256:
                    self._name(came)
                else:
                    del self.came[came.identity]
        for left in self._folder.glob(f"{ARRIVING}*"):
            left.unlink()

    def _name(self, came: Came) -> None:
        target = self._folder / came.file
        if "/" in came.file:
            target.parent.mkdir(parents=True, exist_ok=True)
        os.replace(self.arriving(came.identity), target)


def looked_into(folder: Path) -> Journal:
    """The journal of a folder, to be read alone, where there is one. Raises UsageError, SourceError."""
    _check(folder)
    return Journal(folder, writes=False)


def _check(folder: Path) -> None:
    if folder.exists() and not folder.is_dir():
        raise UsageError(f"{folder} is a file; name a folder to gather into")
    if folder.is_dir() and any(folder.iterdir()) and not (folder / JOURNAL).exists():
        raise UsageError(f"{folder} holds other files already: name a new or empty folder to gather into")


@contextmanager
def opened(folder: Path) -> Iterator[Journal]:
    """The journal of a folder, which is made; no other process has it open. Raises UsageError, SourceError."""
    _check(folder)
    folder.mkdir(parents=True, exist_ok=True)
    with open(folder / LOCK, "wb") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            what = f"somebody else is gathering into {folder} at this moment"
            raise SourceError(f"{what}: wait until that has ended") from None
        journal = Journal(folder)
        try:
            yield journal
        finally:
            journal.close()


def _sha256(path: Path) -> str | None:
    try:
        return hashlib.sha256(path.read_bytes()).hexdigest()
    except OSError:
        return None
