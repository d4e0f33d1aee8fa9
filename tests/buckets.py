"""A bucket of the stand-in server, and what tests do with it."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any
from urllib.parse import quote

import httpx


class Bucket:
    """The bucket `cloth` of a server in a process of its own."""

    def __init__(self, endpoint: str, folder: Path) -> None:
        self.endpoint, self.folder = endpoint, folder / "cloth"

    def put(self, store: Path, name: str = "s.store") -> str:
        """A store on disk as one in the bucket: its address."""
        shutil.rmtree(self.folder, ignore_errors=True)
        self.folder.mkdir(parents=True)
        for path in store.rglob("*"):
            if path.is_file():
                shutil.copy(path, self.folder / quote(f"{name}/{path.relative_to(store).as_posix()}", safe=""))
        return f"s3://cloth/{name}"

    def fail(self, **shares: float) -> None:
        """How often what happens from now on; nothing, where nothing is said."""
        httpx.post(f"{self.endpoint}/-/faults", content=json.dumps(shares))

    def fail_at(self, number: int, how: str, **more: Any) -> None:
        httpx.post(f"{self.endpoint}/-/nth", content=json.dumps({"nth": number, "how": how, **more}))

    def counts(self) -> dict[str, int]:
        """Requests by method since this was asked last."""
        found: dict[str, int] = httpx.get(f"{self.endpoint}/-/counts").json()
        return found
