"""Pages: one file each that needs nothing else, and a labeling page whose table comes back, in a real browser."""

from __future__ import annotations

import json
import re
import shutil
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

import pannier
from pannier.errors import UsageError
from pannier.pages.labeling import ToLabel, labeling_page, to_label
from tests.conftest import draw, encoded

CHROMIUM, DRIVER = shutil.which("chromium"), shutil.which("chromedriver")
FLAGS = "headless no-sandbox disable-gpu no-first-run disable-background-networking disable-component-update disable-sync"


@pytest.fixture(scope="module")
def browser(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Any]:
    if not (CHROMIUM and DRIVER):
        pytest.skip("needs chromium and chromedriver (Debian: chromium, chromium-driver)")
    from selenium.webdriver import Chrome, ChromeOptions
    from selenium.webdriver.chrome.service import Service

    options = ChromeOptions()
    options.binary_location = CHROMIUM
    for flag in FLAGS.split():
        options.add_argument(f"--{flag}")
    folder = tmp_path_factory.mktemp("downloads")
    options.add_experimental_option("prefs", {"download.default_directory": str(folder)})
    driver = Chrome(options=options, service=Service(DRIVER))
    driver.downloads = folder  # type: ignore[attr-defined]
    yield driver
    driver.quit()


def opened(browser: Any, page: Path, width: int = 1280, height: int = 800) -> None:
    browser.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride",
        {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False},
    )
    browser.get(page.as_uri())
    assert [line for line in browser.get_log("browser") if line["level"] == "SEVERE"] == []


@pytest.fixture
def pages(own: pannier.Snapshot, tmp_path: Path, run: Callable[..., Any]) -> dict[str, Path]:
    """One of each kind."""
    store = own.store.path
    own.store.change(where="label = 'twill' AND key LIKE '%3%'", set="label=satin", note="a <b>bold</b> change & more")
    options = ("--size", 24, "--workers", 1, "--rounds", 1, "--slice-seconds", "0.05", "--batch-size", 4)
    assert run("measure", store, *options, "--save", tmp_path / "spring.json").status == 0
    made = {name: tmp_path / f"{name}.html" for name in ("snapshot", "runs", "comparison", "labeling")}
    assert run("report", store, "--page", made["snapshot"], "--size", 16).status == 0
    assert run("report", tmp_path / "spring.json", "--page", made["runs"]).status == 0
    assert run("report", f"{store}@{own.id}", store, "--page", made["comparison"]).status == 0
    assert run("report", store, "--labeling", "--where", "label <> 'rib'", "--page", made["labeling"]).status == 0
    return made


def test_a_page_needs_nothing_else_and_says_what_it_must(pages: dict[str, Path], own: pannier.Snapshot) -> None:
    texts = {name: path.read_text() for name, path in pages.items()}
    for name, text in texts.items():
        links = re.findall(r"""(?:src|href)=["']([^"']*)""", text)
        assert all(link.startswith(("data:", "#")) for link in links), name
        assert "http://" not in re.sub(r"data:[^\"')]*|http://www.w3.org/\S*", "", text)
        assert "<b>bold" not in text
        assert '<html lang="en">' in text
    assert own.store.snapshot().content_id[:12] in texts["snapshot"]
    assert "a &lt;b&gt;bold&lt;/b&gt; change &amp; more" in texts["snapshot"]
    assert "pannier pack" in texts["snapshot"]
    assert "relabelled" in texts["comparison"].lower()
    assert "pictures/s" in texts["runs"]
    assert "peak memory" in texts["runs"]


def test_pages_open_without_a_complaint_on_a_screen_and_on_a_phone(pages: dict[str, Path], browser: Any) -> None:
    for path in pages.values():
        for width, height in ((1280, 800), (390, 844)):
            opened(browser, path, width, height)
            assert browser.execute_script("return document.documentElement.scrollWidth <= window.innerWidth"), path
            unnamed = browser.execute_script(
                "return [...document.images].filter((image) => !image.complete || !image.naturalWidth).length"
            )
            assert unnamed == 0


def test_what_is_labelled_by_eye_comes_back(own: pannier.Snapshot, tmp_path: Path, browser: Any) -> None:
    from selenium.webdriver import ActionChains, Keys

    page = tmp_path / "labeling.html"
    pictures = to_label(own)
    labeling_page(pictures, own.classes, page, title="all")
    opened(browser, page)

    def press(*keys: str, held: str = "") -> None:
        chain = ActionChains(browser)
        if held:
            chain = chain.key_down(held)
        chain = chain.send_keys(*keys)
        (chain.key_up(held) if held else chain).perform()

    def state() -> str:
        return str(browser.find_element("css selector", ".state span").text)

    last = len(own.classes)
    press(str(last))  # the first picture is of the last class; then the next two, at once, by name; then one looked at
    press(Keys.ARROW_RIGHT, held=Keys.SHIFT)
    press(own.classes[-1][0])
    browser.find_element("css selector", "#chooser").send_keys(own.classes[-1][1:], Keys.ENTER)
    time.sleep(0.2)
    press(Keys.ENTER)
    assert "4 looked at, 3 changed" in state()
    press("z", held=Keys.CONTROL)
    assert "1 changed" in state()
    press("y", held=Keys.CONTROL)
    assert "3 changed" in state()
    browser.refresh()
    assert "4 looked at, 3 changed" in state(), "kept in the browser"
    browser.find_element("css selector", "button.main").click()
    saved = browser.downloads / "labels.csv"
    until = time.monotonic() + 10
    while not saved.exists() and time.monotonic() < until:
        time.sleep(0.1)
    changed = own.store.change(from_=saved).snapshot
    assert [changed[each.key].label for each in pictures[:4]] == [own.classes[-1]] * 3 + [pictures[3].label]
    assert sum(before.label != changed[before.key].label for before in own) == 3


def test_thousands_of_pictures_are_drawn_as_they_are_seen(tmp_path: Path, browser: Any) -> None:
    data = encoded(draw(1, 20, 30))
    pictures = [ToLabel(f"a/{number:05}.jpg", f"class {number % 12}", lambda: data) for number in range(5000)]
    labeling_page(pictures, [f"class {number}" for number in range(12)], tmp_path / "many.html", title="many")
    opened(browser, tmp_path / "many.html")
    for part in (0.0, 0.5, 1.0):
        browser.execute_script(f"const g = document.getElementById('grid'); g.scrollTop = g.scrollHeight * {part}")
        time.sleep(0.3)
        seen = browser.execute_script(
            "const g = document.getElementById('grid').getBoundingClientRect();"
            "const cell = document.elementFromPoint(g.left + 60, g.top + 60).closest('.cell');"
            "return [document.querySelectorAll('.cell').length, cell.title]"
        )
        assert seen[0] < 200
        assert abs(int(seen[1][2:7]) - 5000 * part) < 100


def test_what_no_page_can_be_made_of_is_refused(own: pannier.Snapshot, tmp_path: Path, run: Callable[..., Any]) -> None:
    for what, path, says in (
        (own, "a.pdf", "ends in .html"),
        (3, "a.html", "no page of it"),
        (own, "none/a.html", "no folder"),
    ):
        with pytest.raises(UsageError, match=says):
            pannier.report(what, tmp_path / path)
    nothing = run("report", own.store.path, "--labeling", "--where", "label = 'none'", "--page", tmp_path / "a.html")
    assert (nothing.status, "no picture is chosen" in nothing.err) == (2, True)
    assert pannier.report(list(own)[:3], tmp_path / "b.html") > 5000
    assert pannier.report(own.doubles(6), tmp_path / "c.html") > 5000 if own.doubles(6).pairs else True
    assert json.loads(re.findall(r'application/json">(.*?)</script>', (tmp_path / "b.html").read_text())[0])["items"][0][
        "key"
    ]
