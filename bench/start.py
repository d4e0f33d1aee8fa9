"""Starting: importing the library and asking the command line for help, against importing NumPy."""

from __future__ import annotations

import subprocess
import sys

from bench.slices import Report, alternate, ratio


def run(report: Report) -> None:
    report.title("Starting, whole processes, against `import numpy`")

    def process(*arguments: str) -> None:
        subprocess.run([sys.executable, *arguments], stdout=subprocess.DEVNULL, check=True)

    times = alternate(
        {
            "numpy": lambda: process("-c", "import numpy"),
            "pannier": lambda: process("-c", "import pannier"),
            "help": lambda: process("-m", "pannier", "--help"),
        },
        20,
    )
    for name, what, bar in (("pannier", "import pannier", 1.5), ("help", "pannier --help", 3.0)):
        found = ratio(times[name], times["numpy"])
        report.line(what, found, f"<= {bar:g}", found.median <= bar)
