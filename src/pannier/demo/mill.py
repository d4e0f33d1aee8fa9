"""A stand-in for the mill's web server, on this machine alone: serves the archive's swatches, and asks for patience."""

from __future__ import annotations

import io
import re
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import numpy as np

# requests in a second that it answers; the others are told to come back later
PATIENCE = 40
_SWATCH = re.compile(r"/swatches/([a-z]+)-([0-9]+)-(day|raking)\.jpg")


class MillHandler(BaseHTTPRequestHandler):
    """Answers for one swatch by daylight or raking light; 404 for what was never photographed, 429 for the hasty."""

    protocol_version = "HTTP/1.1"
    archive: Path
    asked: list[float]
    lock: threading.Lock

    def do_GET(self) -> None:
        if self.path == "/robots.txt":
            self.answer(200, b"User-agent: *\nDisallow: /ledgers/\n", "text/plain")
            return
        with self.lock:
            now = time.monotonic()
            is_hasty = sum(now - then < 1 for then in self.asked[-PATIENCE:]) >= PATIENCE
            self.asked.append(now)
        if is_hasty:
            self.answer(429, b"one after another, please", "text/plain", {"Retry-After": "1"})
            return
        match = _SWATCH.fullmatch(self.path)
        picture = self._picture(*match.groups()) if match else None
        if picture is None:
            self.answer(404, b"never photographed", "text/plain")
        else:
            self.answer(200, picture, "image/jpeg")

    def answer(self, status: int, body: bytes, kind: str, more: dict[str, str] | None = None) -> None:
        self.send_response(status)
        headers = {"Content-Type": kind, "Content-Length": str(len(body)), **(more or {})}
        for name, value in headers.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: Any) -> None:
        """Says nothing."""

    def _picture(self, weave: str, number: str, light: str) -> bytes | None:
        file = next(iter((self.archive / weave).glob(f"{number}.*")), None)
        if file is None:
            return None
        return file.read_bytes() if light == "day" else _raking(file)


class _Server(ThreadingHTTPServer):
    daemon_threads = True

    def handle_error(self, request: Any, client_address: Any) -> None:
        """Says nothing when the other side hangs up."""


@contextmanager
def serving(handler: type[BaseHTTPRequestHandler]) -> Iterator[str]:
    """A server on a free port of this machine's own address; its link, as http://127.0.0.1:40123."""
    server = _Server(("127.0.0.1", 0), handler)
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, name="mill", daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


def mill_of(archive: Path) -> type[MillHandler]:
    """The mill's server for an archive."""
    return type("Mill", (MillHandler,), {"archive": archive, "asked": [], "lock": threading.Lock()})


def _raking(file: Path) -> bytes:
    """The same swatch lit from the side: relief from the slope of its brightness."""
    from PIL import Image

    gray = np.asarray(Image.open(file).convert("L"), np.float32)
    relief = 128 + 1.6 * (gray - np.roll(gray, 3, axis=1)) + np.linspace(40, -40, gray.shape[1])[None, :]
    sink = io.BytesIO()
    Image.fromarray(np.clip(relief, 0, 255).astype(np.uint8)).save(sink, "jpeg", quality=88)
    return sink.getvalue()
