"""Runs operations in forked children of a warm process, and kills them at a chosen or a random moment.

Reads lines of JSON: {"operation", "world", "store", "kill_at": n, "moment": "before" | "after"}, or "kill_after": s;
answers each with {"signal": n, "steps": n}. `kill_at` counts the system calls by which something becomes visible or durable.
Of a store in a bucket "server" is the stand-in's endpoint, which ends the process at its request number `kill_at`.
"""

from __future__ import annotations

import json
import os
import signal
import sys
import time
from pathlib import Path
from typing import Any
from urllib.request import Request, urlopen

import numpy as np

from pannier.images.perceptual import PerceptualHasher
from tests.operations import operate

STEPS = ("link", "unlink", "fsync", "mkdir", "open")


def count_and_kill(kill_at: int, moment: str) -> list[int]:
    """Wraps the calls so that the process ends itself before or after number `kill_at`."""
    seen = [0]
    for name in STEPS:
        real = getattr(os, name)

        def wrapped(*arguments: Any, real: Any = real, **options: Any) -> Any:
            seen[0] += 1
            number = seen[0]
            if number == kill_at and moment == "before":
                os.kill(os.getpid(), signal.SIGKILL)
            try:
                return real(*arguments, **options)
            finally:
                if number == kill_at and moment == "after":
                    os.kill(os.getpid(), signal.SIGKILL)

        setattr(os, name, wrapped)
    return seen


def in_child(job: dict[str, Any], report: int) -> None:
    if "server" in job:
        seen, how = [0], {"nth": job["kill_at"], "how": "kill", "moment": job["moment"], "pid": os.getpid()}
        request = Request(f"{job['server']}/-/nth", json.dumps(how).encode())
        urlopen(request).close()
    else:
        seen = count_and_kill(job.get("kill_at", 0), job.get("moment", "before"))
    operate(job["operation"], Path(job["world"]), job["store"])
    os.write(report, str(seen[0]).encode())


def main() -> None:
    PerceptualHasher()(np.zeros((40, 40), np.uint8))  # kernels are loaded once, before the forks
    for line in sys.stdin:
        job = json.loads(line)
        read_end, write_end = os.pipe()
        pid = os.fork()
        if pid == 0:
            try:
                in_child(job, write_end)
                os._exit(0)
            except BaseException as error:
                print(repr(error), file=sys.stderr)
                os._exit(1)
        os.close(write_end)
        if "kill_after" in job:
            time.sleep(job["kill_after"])
            os.kill(pid, signal.SIGKILL)
        _, status = os.waitpid(pid, 0)
        steps = os.read(read_end, 100)
        os.close(read_end)
        answer = {
            "signal": os.WTERMSIG(status) if os.WIFSIGNALED(status) else 0,
            "exit": status >> 8,
            "steps": int(steps or 0),
        }
        print(json.dumps(answer), flush=True)


if __name__ == "__main__":
    main()
