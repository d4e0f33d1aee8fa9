"""`python -m bench [NAME ...]`: runs the benchmarks and prints ratios; all, into docs/benchmarks.md, where none is named."""

from __future__ import annotations

import compileall
import importlib
import platform
import sys
from pathlib import Path

from bench.slices import Report

PACKAGE = Path(__file__).parent.parent / "src" / "pannier"
PAGE = Path(__file__).parent.parent / "docs" / "benchmarks.md"
NAMES = (
    *("start", "resize", "feed", "limits", "formats", "processes", "beside", "prepare"),
    *("pack", "collect", "million", "checks"),
    *("measuring", "versions", "afar", "clusters", "ten_million"),
)


def main(names: list[str]) -> None:
    compileall.compile_dir(str(PACKAGE), quiet=2)  # as pip does when it installs a package
    report = Report()
    report.title(f"Python {platform.python_version()}, {platform.machine()}, median [10th to 90th percentile]")
    for name in names or NAMES:
        importlib.import_module(f"bench.{name}").run(report)
    if not names:
        text = "\n".join(report.lines).strip()
        PAGE.write_text(f"# What was measured\n\nWritten by `make bench`; two cores.\n\n```\n{text}\n```\n")


if __name__ == "__main__":
    main(sys.argv[1:])
