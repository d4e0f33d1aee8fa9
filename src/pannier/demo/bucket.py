"""A stand-in for a server of buckets: enough of the open S3 protocol for a store, with a latency and a bandwidth as stated.

For trying things out without a network, and for tests: it also fails as servers do, where it is told to. Buckets are folders
of a directory; credentials are taken and not looked at. It listens on the loopback address alone.
"""

from __future__ import annotations

import argparse
import asyncio
import hashlib
import json
import os
import random
import secrets
import signal
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from email.utils import formatdate
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, quote, unquote, urlsplit
from xml.etree import ElementTree
from xml.sax.saxutils import escape

from pannier.machine import environment_as
from pannier.units import read_bytes

_PIECE_BYTES = 64 << 10
_REASONS = {200: "OK", 204: "No Content", 206: "Partial Content", 304: "Not Modified"}
_REASONS |= {404: "Not Found", 412: "Precondition Failed", 416: "Range Not Satisfiable", 503: "Slow Down"}
# how an answer may fail: refused, the connection closed before or after the work is done, cut short, late, done twice
FAULTS = ("503", "reset", "lost", "cut", "stall", "twice")
_STALL_SECONDS = 2.0
# and what some servers do always: make a file although a condition forbids it
IGNORES = "ignores"

Answer = tuple[int, bytes, dict[str, str]]


class BucketServer:
    """Answers requests; `requests` counts them by method. `faults`: how often each of `FAULTS` happens, 0 to 1."""

    def __init__(
        self, folder: Path, latency: float, bandwidth: float | None, faults: Mapping[str, float], seed: int = 0
    ) -> None:
        self._folder, self._latency, self._bandwidth = folder, latency, bandwidth
        self._faults, self._chance = dict(faults), random.Random(seed)
        self._link_free_at = 0.0
        # what becomes of one request: its number from now on (`nth`), `how` it fails, whether all after it do (`for_good`);
        # how "kill" ends the process `pid`, at its `moment` "before" or "after" what it asks for is done
        self._nth: dict[str, Any] = {}
        self._uploads: dict[str, dict[int, bytes]] = {}
        self.requests: Counter[str] = Counter()

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One connection, kept as long as the client keeps it."""
        with suppress(ConnectionError, asyncio.IncompleteReadError, TimeoutError):
            while await self._answer_one(reader, writer):
                pass
        writer.close()

    async def _answer_one(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> bool:
        head = (await reader.readuntil(b"\r\n\r\n")).decode("latin-1").split("\r\n")
        method, target, _ = head[0].split(" ")
        headers = {name.lower(): value.strip() for name, _, value in (line.partition(":") for line in head[1:] if line)}
        body = await reader.readexactly(int(headers.get("content-length", 0)))
        if "aws-chunked" in headers.get("content-encoding", ""):
            body = _unchunked(body)
        split = urlsplit(target)
        if split.path.startswith("/-/"):
            await self._write(writer, "GET", self._controlled(split.path, body))
            return True
        self.requests[method] += 1
        fault, nth = self._fault(), self._nth
        if fault == "kill" and nth["moment"] == "before":
            os.kill(nth["pid"], signal.SIGKILL)
            return False
        await asyncio.sleep(self._latency + _STALL_SECONDS * (fault == "stall"))
        if fault == "reset":
            return False
        if fault == "503":
            await self._write(writer, method, (503, b"<Error><Code>SlowDown</Code></Error>", {}))
            return True
        query = {name: values[0] for name, values in parse_qs(split.query, keep_blank_values=True).items()}
        answer = self._answered(method, unquote(split.path).lstrip("/"), query, headers, body)
        if fault == "twice":
            answer = self._answered(method, unquote(split.path).lstrip("/"), query, headers, body)
        if fault == "kill":
            os.kill(nth["pid"], signal.SIGKILL)
        if fault in ("lost", "kill"):
            return False
        await self._write(writer, method, answer, is_cut=fault == "cut")
        return fault != "cut"

    def _fault(self) -> str | None:
        """What becomes of this request: what its number was told, or what chance says."""
        if self._nth:
            self._nth["nth"] -= 1
            if self._nth["nth"] == 0 or (self._nth["nth"] < 0 and self._nth.get("for_good")):
                return str(self._nth["how"])
        return next((each for each in FAULTS if self._chance.random() < self._faults.get(each, 0)), None)

    async def _write(self, writer: asyncio.StreamWriter, method: str, answer: Answer, *, is_cut: bool = False) -> None:
        status, body, headers = answer
        headers = {"content-length": str(len(body)), "date": formatdate(usegmt=True)} | headers
        lines = "".join(f"{name}: {value}\r\n" for name, value in headers.items())
        writer.write(f"HTTP/1.1 {status} {_REASONS.get(status, 'Error')}\r\n{lines}\r\n".encode("latin-1"))
        sent = memoryview(b"" if method == "HEAD" else body)
        for at in range(0, len(sent) // 2 if is_cut else len(sent), _PIECE_BYTES):
            await self._wait_for_link(len(sent[at : at + _PIECE_BYTES]))
            writer.write(sent[at : at + _PIECE_BYTES])
            await writer.drain()

    async def _wait_for_link(self, byte_count: int) -> None:
        """All answers share one link."""
        if self._bandwidth is None:
            return
        now = asyncio.get_running_loop().time()
        self._link_free_at = max(now, self._link_free_at) + byte_count / self._bandwidth
        if self._link_free_at - now > 0.001:
            await asyncio.sleep(self._link_free_at - now)

    def _controlled(self, path: str, body: bytes) -> Answer:
        """What is not asked of a bucket: counts, and which faults happen from now on."""
        if path == "/-/faults":
            self._faults, self._nth = json.loads(body), {}
        if path == "/-/nth":
            self._nth = json.loads(body)
        counts = dict(self.requests)
        if path == "/-/counts":
            self.requests.clear()
        return 200, json.dumps(counts).encode(), {}

    def _answered(self, method: str, name: str, query: dict[str, str], headers: dict[str, str], body: bytes) -> Answer:
        bucket, _, key = name.partition("/")
        path = self._folder / bucket / quote(key, safe="") if key else self._folder / bucket
        if method == "PUT" and not key:
            path.mkdir(parents=True, exist_ok=True)
            return 200, b"", {}
        if not (self._folder / bucket).is_dir():
            return _error(404, "NoSuchBucket")
        if not key:
            return self._listed(bucket, query) if method == "GET" else self._deleted(bucket, body)
        if "uploads" in query or "uploadId" in query:
            return self._uploaded(method, path, query, body)
        if method == "PUT":
            return _put(path, body, "if-none-match" in headers and not self._faults.get(IGNORES))
        if method == "DELETE":
            path.unlink(missing_ok=True)
            return 204, b"", {}
        return _got(path, headers.get("range"))

    def _listed(self, bucket: str, query: dict[str, str]) -> Answer:
        prefix, delimiter = query.get("prefix", ""), query.get("delimiter", "")
        keys = sorted(unquote(path.name) for path in (self._folder / bucket).iterdir() if not path.name.startswith("."))
        files, folders = [], dict[str, None]()
        for key in keys:
            if key.startswith(prefix):
                rest, mark, _ = key[len(prefix) :].partition(delimiter) if delimiter else (key, "", "")
                if mark:
                    folders[prefix + rest + mark] = None
                else:
                    files.append(key)
        shown = "".join(f"<CommonPrefixes><Prefix>{escape(each)}</Prefix></CommonPrefixes>" for each in folders)
        for key in files:
            about = (self._folder / bucket / quote(key, safe="")).stat()
            shown += f"<Contents><Key>{escape(key)}</Key><Size>{about.st_size}</Size><ETag>&quot;0&quot;</ETag>"
            shown += f"<LastModified>{_iso(about.st_mtime)}</LastModified></Contents>"
        whole = f"<ListBucketResult><Name>{bucket}</Name><Prefix>{escape(prefix)}</Prefix><IsTruncated>false</IsTruncated>"
        return 200, f"{whole}{shown}</ListBucketResult>".encode(), {"content-type": "application/xml"}

    def _deleted(self, bucket: str, body: bytes) -> Answer:
        keys = [each.text or "" for each in ElementTree.fromstring(body).iter() if each.tag.endswith("Key")]
        for key in keys:
            (self._folder / bucket / quote(key, safe="")).unlink(missing_ok=True)
        gone = "".join(f"<Deleted><Key>{escape(key)}</Key></Deleted>" for key in keys)
        return 200, f"<DeleteResult>{gone}</DeleteResult>".encode(), {"content-type": "application/xml"}

    def _uploaded(self, method: str, path: Path, query: dict[str, str], body: bytes) -> Answer:
        """A file that comes in parts."""
        if "uploads" in query:
            number = secrets.token_hex(8)
            self._uploads[number] = {}
            text = f"<InitiateMultipartUploadResult><UploadId>{number}</UploadId></InitiateMultipartUploadResult>"
            return 200, text.encode(), {}
        parts = self._uploads.get(query["uploadId"])
        if parts is None:
            return _error(404, "NoSuchUpload")
        if method == "PUT":
            parts[int(query["partNumber"])] = body
            return 200, b"", {"etag": f'"{hashlib.md5(body, usedforsecurity=False).hexdigest()}"'}
        del self._uploads[query["uploadId"]]
        if method == "DELETE":
            return 204, b"", {}
        _put(path, b"".join(parts[number] for number in sorted(parts)), False)
        return 200, b"<CompleteMultipartUploadResult><ETag>&quot;0&quot;</ETag></CompleteMultipartUploadResult>", {}


def _put(path: Path, body: bytes, only_if_free: bool) -> Answer:
    draft = path.with_name(f".{secrets.token_hex(8)}")
    draft.write_bytes(body)
    try:
        if only_if_free:
            os.link(draft, path)
        else:
            draft.replace(path)
    except FileExistsError:
        return _error(412, "PreconditionFailed")
    finally:
        draft.unlink(missing_ok=True)
    return 200, b"", {"etag": '"0"'}


def _got(path: Path, asked: str | None) -> Answer:
    try:
        about = path.stat()
        size, first, status = about.st_size, 0, 200
        headers = {"etag": '"0"', "last-modified": formatdate(about.st_mtime, usegmt=True), "accept-ranges": "bytes"}
        last = size - 1
        if asked:
            begin, _, end = asked.removeprefix("bytes=").partition("-")
            first, last, status = int(begin), min(int(end) if end else last, last), 206
            if first >= size:
                return _error(416, "InvalidRange")
            headers["content-range"] = f"bytes {first}-{last}/{size}"
        with open(path, "rb") as file:
            return status, os.pread(file.fileno(), last - first + 1, first), headers
    except FileNotFoundError:
        return _error(404, "NoSuchKey")


def _error(status: int, code: str) -> Answer:
    return status, f"<Error><Code>{code}</Code><Message>{code}</Message></Error>".encode(), {}


def _unchunked(body: bytes) -> bytes:
    """What a body that comes in signed chunks holds."""
    found, at = list[bytes](), 0
    while True:
        end = body.index(b"\r\n", at)
        size = int(body[at:end].partition(b";")[0], 16)
        if not size:
            return b"".join(found)
        found.append(body[end + 2 : end + 2 + size])
        at = end + 4 + size


def _iso(seconds: float) -> str:
    from datetime import UTC, datetime

    return datetime.fromtimestamp(seconds, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


@contextmanager
def bucket_server(
    folder: Path, *, latency: float = 0.0, bandwidth: str | None = None, faults: Mapping[str, float] | None = None
) -> Iterator[str]:
    """A server of its own process, as long as the context lasts; gives its endpoint, http://127.0.0.1:PORT.

    latency: seconds before each answer; bandwidth: of all answers together, bytes a second, as "100MB".
    """
    command = [sys.executable, "-m", "pannier.demo.bucket", str(folder), "--latency", str(latency)]
    command += ["--faults", json.dumps(dict(faults or {}))] + (["--bandwidth", bandwidth] if bandwidth else [])
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stdin=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None
        yield process.stdout.readline().strip()
    finally:
        process.kill()
        process.communicate()


def environment(endpoint: str) -> dict[str, str]:
    """The environment variables by which that server is reached."""
    return {
        "AWS_ENDPOINT_URL": endpoint,
        "AWS_ACCESS_KEY_ID": "mill",
        "AWS_SECRET_ACCESS_KEY": "loom",
        "AWS_REGION": "us-east-1",
    }


@contextmanager
def in_a_bucket(folder: Path, bucket: str, **how: Any) -> Iterator[str]:
    """Such a server with an empty bucket, which the environment names as long as the context lasts; gives its endpoint."""
    (folder / bucket).mkdir(parents=True, exist_ok=True)
    with bucket_server(folder, **how) as endpoint, environment_as(environment(endpoint)):
        yield endpoint


async def _serve(said: Any) -> None:
    bandwidth = None if said.bandwidth is None else read_bytes(said.bandwidth)
    server = BucketServer(said.folder, said.latency, bandwidth, json.loads(said.faults))
    said.folder.mkdir(parents=True, exist_ok=True)
    listening = await asyncio.start_server(server.serve, "127.0.0.1", said.port, limit=1 << 20)
    print(f"http://127.0.0.1:{listening.sockets[0].getsockname()[1]}", flush=True)
    await asyncio.get_running_loop().run_in_executor(None, sys.stdin.read)  # ends with whoever started it


if __name__ == "__main__":
    parser = argparse.ArgumentParser(prog="python -m pannier.demo.bucket", description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--port", type=int, default=0)
    parser.add_argument("--latency", type=float, default=0.0, metavar="SECONDS")
    parser.add_argument("--bandwidth", metavar="BYTES")
    parser.add_argument("--faults", default="{}", metavar="JSON")
    asyncio.run(_serve(parser.parse_args()))
