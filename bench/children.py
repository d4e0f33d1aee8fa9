"""Baselines in processes of their own: what people write by hand, with the library calls named."""

from __future__ import annotations

import io
import os
import threading
import time
from typing import Any

import cv2
import numpy as np
from PIL import Image

from pannier.measuring.child import FeedRunner, Job, make_runner, serve, wait_until_idle


class HandWritten:
    """Reads a file, decodes, resizes and standardizes it; one process, one picture after another."""

    def __init__(self, job: Job) -> None:
        cv2.setNumThreads(1)
        folder = job["folder"]
        paths = [os.path.join(top, name) for top, _, names in os.walk(folder) for name in names]
        self._paths = sorted(paths)
        np.random.default_rng(job.get("part", 0)).shuffle(self._paths)
        self._how = job["how"]
        self._side = job["side"]
        scale, offset = np.array(job["scale"], np.float32), np.array(job["offset"], np.float32)
        self._scale, self._offset = scale, offset
        self._table = np.arange(256, dtype=np.float32) * scale[:, None] + offset[:, None]
        self._out = np.empty((32, 3, self._side, self._side), np.float32)
        self._small = np.empty((self._side, self._side, 3), np.uint8)
        self._at = 0

    def run(self, seconds: float) -> Job:
        work = self._pillow if self._how == "pillow" else self._opencv
        pictures, started = 0, time.perf_counter()
        while (passed := time.perf_counter() - started) < seconds:
            for _ in range(8):
                work(self._paths[self._at % len(self._paths)], self._out[self._at % 32])
                self._at += 1
            pictures += 8
        return {"pictures": pictures, "seconds": passed}

    def _opencv(self, path: str, out: Any) -> None:
        with open(path, "rb") as file:
            picture = cv2.imdecode(np.frombuffer(file.read(), np.uint8), cv2.IMREAD_COLOR_RGB)
        height, width = picture.shape[:2]
        side = min(height, width)
        top, left = (height - side) // 2, (width - side) // 2
        how = cv2.INTER_AREA if self._how == "area" else cv2.INTER_LINEAR
        square = picture[top : top + side, left : left + side]
        cv2.resize(square, (self._side, self._side), dst=self._small, interpolation=how)
        for channel, plane in enumerate(cv2.split(self._small)):
            cv2.LUT(plane, self._table[channel].reshape(1, 256), dst=out[channel])

    def _pillow(self, path: str, out: Any) -> None:
        with open(path, "rb") as file:
            picture = Image.open(io.BytesIO(file.read())).convert("RGB")
        side = min(picture.size)
        left, top = (picture.width - side) // 2, (picture.height - side) // 2
        box = (left, top, left + side, top + side)
        small = np.asarray(picture.resize((self._side, self._side), Image.BILINEAR, box=box), np.float32)
        out[:] = (small * self._scale + self._offset).transpose(2, 0, 1)


class BusyConsumer:
    """A feed whose consumer computes in pure Python all the time, as a training loop written without care does."""

    def __init__(self, job: Job) -> None:
        self._runner = FeedRunner(job)
        self.level = self._runner.level

    def run(self, seconds: float) -> Job:
        busy = threading.Event()
        thread = threading.Thread(target=self._compute, args=(busy,))
        thread.start()
        try:
            return self._runner.run(seconds, settle=False)
        finally:
            busy.set()
            thread.join()
            wait_until_idle(self._runner.engines)

    def _compute(self, busy: threading.Event) -> None:
        while not busy.is_set():
            spin()


class Spinner:
    """Computes in pure Python for as long as asked, and makes no pictures."""

    def __init__(self, job: Job) -> None:
        pass

    def run(self, seconds: float) -> Job:
        started = time.perf_counter()
        while (passed := time.perf_counter() - started) < seconds:
            spin()
        return {"pictures": 0, "seconds": passed}


def spin() -> None:
    total = 0
    for i in range(1000):
        total += i * i


def runner_of(job: Job) -> Any:
    if job["kind"] == "by hand":
        return HandWritten(job)
    own = {"busy": BusyConsumer, "spin": Spinner}
    return own[job["kind"]](job) if job["kind"] in own else make_runner(job)


if __name__ == "__main__":
    serve(runner_of)
