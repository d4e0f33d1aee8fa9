"""Renews docs/screenshots from the demo data: `make shots`. Terminal pictures need a virtual screen, see termshot.sh."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from pannier.demo.archive import draw_archive
from pannier.demo.mill import mill_of, serving

HERE = Path(__file__).parent
SHOTS = HERE / "screenshots"
STORE = "swatches.store"
MEASURE = "--size 96 --batch-size 32 --workers 1,2 --memory-limit 16MiB,64MiB,128MiB,none"

# the mill's server, which a stand-in plays, has its address in the environment
LINK = "replace(raking, 'https://mill.example', '$MILL')"
FINE = "CASE WHEN warp_per_cm < 24 THEN 'coarse' ELSE 'fine' END"

# name of the picture, what is typed, seconds after which it is taken (None: when the command has ended)
TERMINAL = (
    ("help", "pannier --help", None),
    ("survey", "pannier survey archive/ --figure survey-figure.png --sheet suspects.png", None),
    ("pack", f"pannier pack archive/ {STORE} --shares train=75,val=15,test=10 --seed 7 --note 'first six weaves'", None),
    ("gather", f'pannier gather register.csv raking/ --link "{LINK}" --where "finish = \'washed\'" --pause 20ms', None),
    ("rules", f'pannier pack raking/gathered.csv cloth.store --label "{FINE}" --group-by loom --preview', None),
    ("change", f"pannier change {STORE} --where \"key LIKE '%/005_.jpg'\" --set label=satin --preview", None),
    ("compare", f"pannier compare {STORE}@spring {STORE} --count 8 --figure differences.png", None),
    ("history", f"pannier history {STORE} --figure history.png", None),
    ("show", f"pannier show {STORE} --batch-size 32 --figure counts.png", None),
    ("sheet-command", f"pannier sheet {STORE} --split train --figure sheet.png", None),
    ("feed-live", f"pannier feed {STORE} --split train --size 96 --memory-limit 128MiB --epochs 30", 9),
    ("feed", f"pannier feed {STORE} --split train --size 96 --batch-size 32 --memory-limit 128MiB --flip horizontal", None),
    ("measure", f"pannier measure {STORE} {MEASURE} --figure measure.png", None),
    ("verify", f"pannier verify {STORE}", None),
)
# what is done before a picture, out of it
BEFORE = {
    "compare": (
        f"pannier tag {STORE} spring",
        f"pannier pack season/ {STORE} --rename herringbon=herringbone --note 'second season'",
        f"pannier change {STORE} --where \"key LIKE 'rib/0003.%' OR key LIKE 'rib/0007.%'\" --set label=basket "
        "--note 'two labels put right'",
    ),
}
FIGURES = {
    "counts.png": "counts.png",
    "suspects.png": "suspects.png",
    "sheet.png": "sheet.png",
    "history.png": "history-figure.png",
    "measure.png": "measure-figure.png",
}
NOT_KEPT = ("sheet-command",)


def shoot(name: str, command: str, after: float | None, folder: Path) -> None:
    environment = os.environ | {"TERMSHOT_SHOW": command, "TERMSHOT_S": "240"}
    environment["PATH"] = f"{Path(sys.executable).parent}:{environment['PATH']}"
    if after is not None:
        environment["TERMSHOT_AT"] = str(after)
    words = ["bash", "-c", command]
    subprocess.run([HERE / "termshot.sh", SHOTS / f"{name}.png", *words], cwd=folder, env=environment, check=True)


def main() -> None:
    SHOTS.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        draw_archive(folder, 600, 7)
        with serving(mill_of(folder / "archive")) as mill:
            os.environ["MILL"] = mill
            for shot, command, after in TERMINAL:
                for quiet in BEFORE.get(shot, ()):
                    subprocess.run(["bash", "-c", quiet], cwd=folder, check=True, stdout=subprocess.DEVNULL)
                shoot(shot, command, after, folder)
        for figure, kept in FIGURES.items():
            shutil.copy(folder / figure, SHOTS / kept)
        shoot("demo", "pannier demo tour --swatches 240", 50, folder)
    for shot in NOT_KEPT:
        (SHOTS / f"{shot}.png").unlink()


if __name__ == "__main__":
    main()
