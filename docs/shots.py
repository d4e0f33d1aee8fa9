"""Renews docs/screenshots from the demo data: `make shots`. Terminal pictures need a virtual screen, see termshot.sh."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from pannier.demo.archive import draw_archive
from pannier.demo.mill import mill_of, serving

HERE = Path(__file__).parent
SHOTS = HERE / "screenshots"
STORE = "swatches.store"
FEED = f"pannier feed {STORE} --split train --treatment cloth.toml --memory-limit 128MiB"
MEASURE = "--size 96 --source shards,rendered --memory-limit 16MiB,64MiB,none"

# the mill's server, which a stand-in plays, has its address in the environment
LINK = "replace(raking, 'https://mill.example', '$MILL')"

# name of the picture, what is typed, seconds after which it is taken (None: when the command has ended)
TERMINAL = (
    ("survey", "pannier survey archive/ --figure survey-figure.png", None),
    ("pack", f"pannier pack archive/ {STORE} --shares train=75,val=15,test=10 --seed 7 --note 'first six weaves'", None),
    ("gather", f'pannier gather register.csv raking/ --link "{LINK}" --where "finish = \'washed\'" --pause 20ms', None),
    ("compare", f"pannier compare {STORE}@spring {STORE} --rows 8 --figure differences.png", None),
    ("render", f"pannier render {STORE} --treatment cloth.toml && pannier render {STORE} --list", None),
    ("feed", f"pannier feed {STORE} --split train --treatment cloth.toml --describe && {FEED}", None),
    ("verify", f"pannier verify {STORE}", None),
    ("measure", f"pannier measure {STORE} {MEASURE} --save measured.json --figure measure.png", None),
)
# what is done before a picture, out of it
BEFORE = {
    "render": (
        "pannier treatment cloth.toml --new",
        f"pannier stats {STORE} --split train --treatment cloth.toml --save --figure values.png",
        f"pannier look {STORE} twill/0042.jpg --treatment cloth.toml --figure look.png",
        f"pannier history {STORE} --figure history.png",
        f"pannier show {STORE} --figure counts.png",
        f"pannier sheet {STORE} --split train --figure sheet.png",
        f"pannier doubles {STORE} --figure pairs.png",
    ),
    "compare": (
        f"pannier tag {STORE} spring",
        f"pannier pack season/ {STORE} --rename herringbon=herringbone --note 'second season'",
        f"pannier change {STORE} --where \"key LIKE 'rib/0003.%' OR key LIKE 'rib/0007.%'\" --set label=basket "
        "--note 'two labels put right'",
    ),
}
# pages, as a browser shows them: what is reported, keys that are pressed in it
PAGES: dict[str, tuple[str, str]] = {
    "page": (STORE, ""),
    "labeling": (f"{STORE} --labeling --where \"label IN ('twill', 'herringbone')\"", "66"),
}
BROWSER = "headless no-sandbox disable-gpu no-first-run disable-background-networking hide-scrollbars"
FIGURES = {
    "counts.png": "counts.png",
    "sheet.png": "sheet.png",
    "pairs.png": "pairs.png",
    "history.png": "history-figure.png",
    "measure.png": "measure-figure.png",
    "look.png": "look.png",
    "values.png": "values.png",
    "steps.png": "steps.png",
}
# every step by itself, at one end of a range
STEPS: tuple[tuple[str, dict[str, Any]], ...] = (
    ("cover", {}),
    ("contain", {"fit": "contain", "pad": "#c4dbea"}),
    ("gray", {"color": "gray"}),
    ("equalize", {"tone": "equalize"}),
    ("clahe", {"tone": "clahe", "clahe_limit": 4.0, "clahe_tiles": 3}),
    ("autocontrast", {"tone": "autocontrast", "autocontrast_cut": 0.02}),
    ("flip horizontal", {"flip": "horizontal", "flip_chance": 1.0}),
    ("crop, 0.3 of the area", {"crop": {"area": [0.3, 0.3]}}),
    ("shear 12", {"shear": [12, 12]}),
    ("stretch 1.4", {"stretch": [1.4, 1.4]}),
    ("zoom 1.5", {"zoom": [1.5, 1.5]}),
    ("turn 15", {"turn": [15, 15]}),
    ("shift 0.15", {"shift": [0.15, 0.15]}),
    ("perspective to 0.15", {"perspective": 0.15}),
    ("brightness 0.6", {"brightness": [0.6, 0.6]}),
    ("contrast 1.8", {"contrast": [1.8, 1.8]}),
    ("saturation 2", {"saturation": [2, 2]}),
    ("hue +40", {"hue": [40, 40]}),
    ("gamma 1.8", {"gamma": [1.8, 1.8]}),
    ("blur 0.02", {"blur": [0.02, 0.02]}),
    ("noise 0.08", {"noise": [0.08, 0.08]}),
    ("jpeg 8", {"jpeg": 8}),
    ("erase, a color", {"erase": {"area": 0.1}}),
    ("erase, noise", {"erase": {"area": 0.1, "count": 2, "fill": "noise"}}),
)


def shoot(name: str, command: str, after: float | None, folder: Path) -> None:
    environment = os.environ | {"TERMSHOT_SHOW": command, "TERMSHOT_S": "240"}
    if after is not None:
        environment["TERMSHOT_AT"] = str(after)
    words = ["bash", "-c", command]
    subprocess.run([HERE / "termshot.sh", SHOTS / f"{name}.png", *words], cwd=folder, env=environment, check=True)


def draw_steps(folder: Path) -> None:
    """Every step by itself on one swatch."""
    import pannier
    from pannier.figures.look import draw_variations
    from pannier.images.seen import varied

    data = pannier.open(folder / STORE)["twill/0042.jpg"].bytes()
    pictures, words = [], []
    for name, fields in STEPS:
        treatment = pannier.Treatment((96, 120), **fields)
        pictures.append(varied(treatment, data, name, 3, 0, 1)[0] if treatment.varies else treatment.undo(treatment(data)))
        words.append([(name, "")])
    draw_variations(pictures, words, str(folder / "steps.png"), title="Every step by itself: fixed first, then random")


def shoot_pages(folder: Path) -> None:
    """Needs Debian's chromium and chromium-driver."""
    from selenium.webdriver import ActionChains, Chrome, ChromeOptions
    from selenium.webdriver.chrome.service import Service

    options = ChromeOptions()
    options.binary_location = shutil.which("chromium") or ""
    for flag in BROWSER.split():
        options.add_argument(f"--{flag}")
    browser = Chrome(options=options, service=Service(shutil.which("chromedriver")))
    try:
        size = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
        browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
        for name, (what, keys) in PAGES.items():
            report = f"pannier report {what} --page {name}.html"
            subprocess.run(["bash", "-c", report], cwd=folder, check=True, stdout=subprocess.DEVNULL)
            browser.get((folder / f"{name}.html").as_uri())
            if keys:
                ActionChains(browser).send_keys(keys).perform()
            browser.save_screenshot(SHOTS / f"{name}.png")
    finally:
        browser.quit()


def main() -> None:
    SHOTS.mkdir(exist_ok=True)
    os.environ["PATH"] = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        draw_archive(folder, 600, 7)
        with serving(mill_of(folder / "archive")) as mill:
            os.environ["MILL"] = mill
            for shot, command, after in TERMINAL:
                for quiet in BEFORE.get(shot, ()):
                    subprocess.run(["bash", "-c", quiet], cwd=folder, check=True, stdout=subprocess.DEVNULL)
                shoot(shot, command, after, folder)
        draw_steps(folder)
        shoot_pages(folder)
        for figure, kept in FIGURES.items():
            shutil.copy(folder / figure, SHOTS / kept)
        shoot("demo", "pannier demo tour --swatches 240 2>&1 | tail -n 56", None, folder)


if __name__ == "__main__":
    main()
