"""`python -m bench [NAME ...]`: runs the benchmarks and prints ratios; all of them where none is named."""

from __future__ import annotations

import importlib
import platform
import sys

from bench.slices import Report

NAMES = ("start", "resize", "feed", "pack", "million")


def main(names: list[str]) -> None:
    report = Report()
    report.title(f"Python {platform.python_version()}, {platform.machine()}, median [10th to 90th percentile]")
    for name in names or NAMES:
        importlib.import_module(f"bench.{name}").run(report)


if __name__ == "__main__":
    main(sys.argv[1:])
