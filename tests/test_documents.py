"""README and the guides: every command runs, every option exists, every Python block compiles."""

from __future__ import annotations

import contextlib
import re
import shlex
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
import typer

from pannier.cli.commands import app
from pannier.cli.entry import main
from tests.conftest import demo_folder

ROOT = Path(__file__).parent.parent
README = ROOT / "README.md"
GENERATED = ("commands.md", "python.md", "proofs.md", "benchmarks.md")
PAGES = [README, *(ROOT / name for name in ("CONTRIBUTING.md", "SECURITY.md"))]
PAGES += sorted(page for page in (ROOT / "docs").glob("*.md") if page.name not in GENERATED)
# these need a server, a cluster or a second computer; the options are checked all the same
ELSEWHERE = re.compile(r"s3://|gs://|tcp://|/mnt/|/mill/")
# documents that lie in a reader's folder before the commands of a page run
BEFORE = """\
gather register.csv raking/ --link raking --pause 1ms --attempts 1 --timeout 1s
pack archive/ swatches.store --shares train=75,val=15,test=10 --seed 7
change swatches.store --from predictions.csv
copy swatches.store plain.store
"""
QUICKLY = {"measure": ["--rounds", "1", "--slice-seconds", "0.1", "--workers", "1", "--source", "shards"]}
ADDED = {
    "attach swatches.store@spring --fact accuracy=0.93 --file run-3.npz --as results/run-3.npz": {"run-3.npz": "weights"},
    "change photos.store --from labels.csv --preview": {"labels.csv": "key,label\ntwill/0042.jpg,plain\n"},
    "change swatches.store --strand trial --from checked.csv": {"checked.csv": "key,label\ntwill/0042.jpg,plain\n"},
}


def commands(page: Path) -> Iterator[str]:
    """Each command that a page shows: in a block, in a table or in a sentence, without its comment."""
    text = page.read_text()
    for block in re.findall(r"^```\w*\n(.*?)^```", text, re.DOTALL | re.MULTILINE):
        for line in block.splitlines():
            if found := re.match(r"(?:\$ )?pannier (.+)", line):
                yield re.sub(r"\s+#.*", "", found[1])
    plain = re.sub(r"^```.*?^```", "", text, flags=re.DOTALL | re.MULTILINE)
    yield from (found.replace("\\|", "|") for found in re.findall(r"`pannier ([^`]+)`", plain))


def blocks(page: Path, language: str) -> list[str]:
    return re.findall(rf"^```{language}\n(.*?)^```", page.read_text(), re.DOTALL | re.MULTILINE)


def _in_blocks(page: Path) -> list[str]:
    lines = (line for block in blocks(page, "") for line in block.splitlines())
    shown = (re.match(r"(?:\$ )?pannier (.+)", line) for line in lines)
    return [re.sub(r"\s+#.*", "", line[1]) for line in shown if line]


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_every_command_and_option_that_is_named_exists(page: Path) -> None:
    known = typer.main.get_command(app).commands  # type: ignore[attr-defined]
    for line in commands(page):
        words = shlex.split(line.replace("...", ""))
        if words[0].startswith("-") or re.fullmatch(r"\w+ \d", line):  # an option of pannier itself; a form on disk
            continue
        assert words[0] in known, f"{page.name}: pannier {line}"
        options = {name for parameter in known[words[0]].params for name in (*parameter.opts, *parameter.secondary_opts)}
        for word in words[1:]:
            if word.startswith("--"):
                assert word.partition("=")[0] in options, f"{page.name}: pannier {line}"


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_every_option_named_in_a_sentence_exists_somewhere(page: Path) -> None:
    known = typer.main.get_command(app).commands.values()  # type: ignore[attr-defined]
    options = {name for command in known for each in command.params for name in (*each.opts, *each.secondary_opts)}
    options |= {"--help", "--install-completion", "--show-completion", "--version", "--user", "--anew"}
    for name in re.findall(r"`(--[a-z-]+)", page.read_text()):
        assert name in options, f"{page.name}: {name}"


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_every_block_of_python_compiles(page: Path) -> None:
    for block in blocks(page, "python"):
        compile(block, page.name, "exec")


@pytest.fixture(scope="module")
def drawn(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """The demo's folder, with its links served by a stand-in."""
    with demo_folder(tmp_path_factory.mktemp("documents")) as folder:
        yield folder


@pytest.fixture(scope="module")
def worked(drawn: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The same after what a reader of the guides has done before."""
    folder = shutil.copytree(drawn, tmp_path_factory.mktemp("worked") / "cloth")
    for line in BEFORE.splitlines():
        assert _run(line, folder) in (0, 1), line
    return folder


def _run(line: str, folder: Path) -> int | str | None:
    words = shlex.split(line)
    with contextlib.chdir(folder), pytest.raises(SystemExit) as ended:
        main([words[0], *QUICKLY.get(words[0], []), *words[1:]])
    return ended.value.code


def test_the_quick_start_of_the_readme_runs_line_by_line_and_so_does_its_python(
    drawn: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    shutil.copytree(drawn / "archive", tmp_path / "photos")
    (tmp_path / "new").mkdir()
    shutil.copy(next((tmp_path / "photos" / "twill").glob("*.jpg")), tmp_path / "new" / "picture.jpg")
    quick = _in_blocks(README)
    assert [line.split()[0] for line in quick] == ["survey", "pack", "sheet", "feed"]
    for line in quick:
        assert _run(line, tmp_path) == (1 if line.startswith("survey") else 0), line
    assert (tmp_path / "sheet.png").stat().st_size > 10_000
    monkeypatch.chdir(tmp_path)
    (program,) = blocks(README, "python")
    exec(compile(program.replace("epochs(12)", "epochs(1)"), "README.md", "exec"), {})


def test_every_task_of_the_readme_runs_in_the_order_of_its_table(
    drawn: Path, tmp_path: Path, capfd: pytest.CaptureFixture[str]
) -> None:
    shutil.copytree(drawn / "archive", tmp_path / "photos")
    with open(drawn / "register.csv") as table:
        (tmp_path / "links.csv").write_text(table.read().replace("raking", "url", 1))
    tasks = [line for line in commands(README) if line not in _in_blocks(README)]
    for line in tasks:
        if ELSEWHERE.search(line) or line.startswith("demo") or " " not in line:
            continue
        for name, text in ADDED.get(line, {}).items():
            (tmp_path / name).write_text(text)
        extra = " --pause 1ms --attempts 1 --timeout 1s" if line.startswith("gather") else ""
        allowed = (0, 1) if line.split()[0] in ("survey", "gather") else (0,)
        assert _run(line + extra, tmp_path) in allowed, f"{line}\n{capfd.readouterr().err}"


@pytest.mark.parametrize("name", ["treatments.md", "versions.md", "statistics.md"])
def test_the_commands_in_the_blocks_of_a_guide_run_in_its_order(
    worked: Path, tmp_path: Path, name: str, capfd: pytest.CaptureFixture[str]
) -> None:
    folder = shutil.copytree(worked, tmp_path / "cloth")
    if name != "treatments.md":
        assert _run("treatment cloth.toml --new", folder) == 0
    for line in _in_blocks(ROOT / "docs" / name):
        if not ELSEWHERE.search(line):
            for file, text in ADDED.get(line, {}).items():
                (folder / file).write_text(text)
            assert _run(line, folder) == 0, f"{line}\n{capfd.readouterr().err}"
