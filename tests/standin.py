"""A web server with every bad habit that a gathering must bear, on the loopback address."""

from __future__ import annotations

import gzip
import threading
import time
from collections import Counter

from pannier.demo.archive import enormous_png
from pannier.demo.mill import MillHandler
from tests.conftest import draw, encoded


def picture(number: int) -> bytes:
    return encoded(draw(number, 40, 50))


class StandIn(MillHandler):
    """Paths are /HABIT/NUMBER; `log` keeps (time, path) of every request."""

    log: list[tuple[float, str]]
    tries: Counter[str]

    def do_GET(self) -> None:  # noqa: N802
        with self.lock:
            self.log.append((time.monotonic(), self.path))
            self.tries[self.path] += 1
            tried = self.tries[self.path]
        habit, _, number = self.path.split("?")[0].strip("/").partition("/")
        body = picture(int("".join(c for c in number if c.isdigit())[:6] or 0))
        if habit == "robots.txt":
            self.answer(200, b"User-agent: *\nDisallow: /private/\n", "text/plain")
        elif habit in ("ok", "private"):
            self.answer(200, body, "image/jpeg")
        elif habit == "busy" and tried < 3:
            self.answer(429, b"", "text/plain", {"Retry-After": "0"} if tried == 1 else {})
        elif habit == "flaky" and tried < 2:
            self.answer(503, b"", "text/plain")
        elif habit in ("busy", "flaky"):
            self.answer(200, body, "image/jpeg")
        elif habit == "later":
            self.answer(503, b"", "text/plain", {"Retry-After": "86400"})
        elif habit == "status":
            self.answer(int(number.split(".")[0]), b"no", "text/plain")
        elif habit == "to":
            self.answer(302, b"", "text/plain", {"Location": f"/ok/{number}"})
        elif habit == "elsewhere":  # the same server under another name is another host
            port = self.server.server_address[1]  # type: ignore[attr-defined]
            self.answer(302, b"", "text/plain", {"Location": f"http://localhost:{port}/{number}"})
        elif habit == "toport":
            self.answer(302, b"", "text/plain", {"Location": f"http://127.0.0.1:{number}/x.jpg"})
        elif habit == "naive" and tried < 2:
            self.answer(503, b"", "text/plain", {"Retry-After": "Wed, 21 Oct 2015 07:28:00 -0000"})
        elif habit == "naive":
            self.answer(200, body, "image/jpeg")
        elif habit == "loop":
            self.answer(302, b"", "text/plain", {"Location": self.path})
        elif habit == "tofile":
            self.answer(302, b"", "text/plain", {"Location": "file:///etc/hostname"})
        elif habit == "page":
            self.answer(200, b"<html>no picture here" + bytes(200_000), "text/html")
        elif habit == "empty":
            self.answer(200, b"", "image/jpeg")
        elif habit == "huge":
            self.answer(200, enormous_png(), "image/png")
        elif habit == "large":
            self.answer(200, body + bytes(3 << 20), "image/jpeg")
        elif habit == "gzip":
            self.answer(200, gzip.compress(body), "image/jpeg", {"Content-Encoding": "gzip"})
        elif habit == "bomb":
            self.answer(200, gzip.compress(body + bytes(64 << 20)), "image/jpeg", {"Content-Encoding": "gzip"})
        else:
            self.close_connection = True
            self._pour(habit, body)

    def _pour(self, habit: str, body: bytes) -> None:
        """Bodies that end too soon, too late or never."""
        self.send_response(200)
        self.send_header("Content-Type", "image/jpeg")
        if habit == "cut":
            self.send_header("Content-Length", str(len(body) * 2))
        self.send_header("Connection", "close")
        self.end_headers()
        try:
            if habit == "cut":
                self.wfile.write(body)
            elif habit == "quietcut":
                self.wfile.write(body[: len(body) // 2])
            elif habit == "endless":
                self.wfile.write(body)
                for _ in range(4096):
                    self.wfile.write(bytes(1 << 16))
            elif habit == "drip":
                for byte in body:
                    self.wfile.write(bytes([byte]))
                    time.sleep(0.02)
        except OSError:
            pass  # the other side has had enough


def stand_in() -> type[StandIn]:
    return type("Server", (StandIn,), {"log": [], "tries": Counter(), "lock": threading.Lock()})
