"""The public face: small, complete, light to import; docs and help that are true."""

from __future__ import annotations

import ast
import copy
import inspect
import json
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import pannier
from tests.conftest import fill

ROOT = Path(__file__).parent.parent
COMMANDS = ("survey", "gather", "pack", "change", "show", "sheet", "feed", "measure", "verify", "demo")


def test_exported_names_are_complete_sorted_and_few() -> None:
    assert pannier.__all__ == sorted(pannier.__all__)
    assert len(pannier.__all__) < 80
    assert "open" not in pannier.__all__
    assert pannier.open.__doc__
    for name in pannier.__all__:
        assert getattr(pannier, name).__doc__, name
    with pytest.raises(AttributeError):
        _ = pannier.nothing


def test_whatever_is_returned_is_exported_and_spells_its_options() -> None:
    """No public call takes options without names, and none gives back a type that a user cannot name."""
    plain = "Any None Self str int bool float bytes list dict tuple set Iterator Sequence Mapping Callable Function Path"
    inner = "Array Rows Pixels Storage State Box FactsByKey Manifest PictureIndex MovingNames ManifestFile Document Side"
    own = {*plain.split(), *inner.split(), "Difference", "collections", "abc"}
    calls = [getattr(pannier, name) for name in pannier.__all__ if name[0].islower()]
    for kind in (
        pannier.Store,
        pannier.Snapshot,
        pannier.Feed,
        pannier.Mix,
        pannier.Batch,
        pannier.Record,
        pannier.Comparison,
    ):
        members = [(name, member) for name, member in inspect.getmembers(kind) if not name.startswith("_")]
        calls += [member.fget if isinstance(member, property) else member for _, member in members]
    for call in filter(inspect.isfunction, calls):
        signature = inspect.signature(call)
        free = [name for name, parameter in signature.parameters.items() if parameter.kind == inspect.Parameter.VAR_KEYWORD]
        assert not free or call.__name__ in ("restore",), (call, free)
        named = set(re.findall(r"[A-Za-z_]+", str(signature.return_annotation)))
        assert not named - own - {*pannier.__all__}, (call, signature.return_annotation)


@pytest.fixture
def given(own: pannier.Snapshot, archive: Path, tmp_path: Path) -> list[Any]:
    """Something of everything that calls give back."""
    store, treatment = own.store, pannier.Treatment(16, turn=8, mean=(0.1, 0.2, 0.3), std=(1, 1, 1), values="standard")
    own.attach(facts={"run": 3}, files={"labels.csv": __file__})
    changed = store.change(where="label = 'twill'", set={"label": "satin"}, note="put right")
    compared, table = pannier.compare(own, changed.snapshot), tmp_path / "t.csv"
    table.write_text("photo,file,label\nhttp://127.0.0.1:9/none.jpg,0000.jpg,twill\n")
    with own.feed("train", treatment, batch_size=4) as feed:
        found: list[Any] = [own.feeds(treatment), pannier.mix([(feed, 2), (own.feed("val", treatment, batch_size=4), 1)])]
        found += [feed, next(iter(feed)), feed.describe(), feed.plan, feed.meter]
    heap = fill(tmp_path / "heap", 2)
    shutil.copy(heap / "plain" / "0000.jpg", heap / "twill" / "again.jpg")
    survey, gathered = pannier.survey(heap), pannier.gather(table, tmp_path / "g", link="photo", attempts=1)
    found += [survey, *survey.problems, *survey.suspects, *pannier.survey(table, picture="file", label="label").columns]
    found += [
        own.render(None, treatment),
        own.arrays("val", treatment),
        own.view("val", treatment),
        own.stats("val", treatment),
        *store.renderings(),
    ]
    measured = own.measure(
        "val", treatment, workers=(1,), rounds=1, slice_seconds=0.05, batch_size=2, source="shards", memory_limit=None
    )
    found += [measured, measured.answer, *measured.trials, measured.ceiling[0].pictures_per_second]
    found += [store, own, own[0], *own[0].stages(treatment)[:1], treatment, own.docket("val", treatment), own.dealing]
    doubles = pannier.create(tmp_path / "heap.store").pack(heap).snapshot.doubles()
    found += [own.why(own[0].key), doubles, *doubles.pairs]
    found += [gathered, *gathered.failed, compared, *compared.records(2), *own.attachments, *own.additions, changed]
    found += [store.pack(archive), store.copy("main", pannier.create(tmp_path / "o.store")), own.export(tmp_path / "out")]
    doubtful = pannier.create(tmp_path / "d.store")
    found += doubtful.pack(heap, rename="satin=plain").doubts[:1]
    doubtful.change(where="label = 'twill'", set={"label": "plain"})
    found += doubtful.pack(heap, rename="twill=rib").conflicts[:1]
    doubtful.start_strand("trial")
    for strand, label in (("main", "satin"), ("trial", "rib")):
        doubtful.change(where="true", set={"label": label}, strand=strand, new_classes=True)
    merged = doubtful.merge("trial")
    found += [merged, *merged.conflicts[:1]]
    (store.path / "manifests" / "stray").write_bytes(b"x")
    found += [*store.history(), *store.history(key=own[0].key), *store.verify()]
    os.utime(store.path / "manifests" / "stray", (0, 0))
    tidied = store.tidy(older_than=0)
    return [*found, tidied, *tidied.going]


def test_what_is_given_back_is_a_short_line_and_plain_data(given: list[Any]) -> None:
    for each in given:
        line = repr(each)
        assert type(each).__name__ in line
        assert len(line) < 320, line
        assert "\n" not in line
        assert " object at 0x" not in line
        assert json.loads(json.dumps(each.to_dict())), line
        assert isinstance(each == copy.copy(each), bool), line
        assert type(each).__doc__
    classes = {kind for name in pannier.__all__ if isinstance(kind := getattr(pannier, name), type)}
    results = {kind for kind in classes if not issubclass(kind, Exception)} - {pannier.LeftOut}
    assert results == {type(each) for each in given}


def test_treatments_and_dockets_read_as_one_would_write_them(packed: pannier.Snapshot) -> None:
    treatment = pannier.Treatment([24, 32], turn=8, zoom=1.25, shift=[0, 0.1], flip="both", brightness=0.2, values="signed")
    assert repr(treatment) == str(treatment)
    assert eval(repr(treatment), {"Treatment": pannier.Treatment}) == treatment
    assert "turn=8, shift=[0, 0.1], brightness=0.2, values='signed')" in repr(treatment)
    for each in (treatment, packed.docket("val", treatment)):
        assert not [name for name in dir(each) if name.startswith(("model_", "_", "parse_", "schema"))]
        assert {"to_dict", "treatment" if isinstance(each, pannier.Docket) else "turn"} <= {*dir(each)}


def test_every_figure_is_drawn_by_one_call(packed: pannier.Snapshot, archive: Path, tmp_path: Path) -> None:
    treatment, path = pannier.Treatment(16), tmp_path / "f.png"
    stages = packed[0].stages(treatment)
    shutil.copytree(archive, tmp_path / "a")
    shutil.copy(archive / "twill" / "0000.jpg", tmp_path / "a" / "twill" / "again.jpg")
    doubled = pannier.create(tmp_path / "doubled.store").pack(tmp_path / "a").snapshot
    for what in (
        packed,
        pannier.survey(archive),
        packed.stats("val", treatment),
        packed.store.history(),
        stages,
        packed[:5],
        doubled.doubles(),
    ):
        pannier.draw(what, path, title="cloth")
        assert path.stat().st_size > 5000
        path.unlink()
    with pytest.raises(pannier.UsageError, match="str: there is no figure of it"):
        pannier.draw("cloth.toml", path)


def test_examples_import_what_is_public() -> None:
    for path in (ROOT / "examples").glob("*.py"):
        imported = {line for line in path.read_text().splitlines() if re.match(r"\s*(from|import) pannier", line)}
        assert imported <= {"import pannier"}, path


def test_a_wrong_option_is_answered_with_the_nearest(packed: pannier.Snapshot, tmp_path: Path) -> None:
    with pytest.raises(pannier.UsageError, match="feed has no option 'batchsize'; did you mean 'batch_size'"):
        packed.feed("val", batchsize=4)
    with pytest.raises(pannier.UsageError, match="pack has no option 'share'; did you mean 'shares'"):
        packed.store.pack(tmp_path, share="train=100")
    with pytest.raises(pannier.UsageError, match="int is no treatment"):
        packed.feed("val", 96)
    with pytest.raises(pannier.UsageError, match="say through which treatment"):
        packed.arrays("val")
    (tmp_path / "cloth.toml").write_text("size = 16\ncolor = 'gray'\n")
    for treatment, size, shape in (
        (tmp_path / "cloth.toml", None, (1, 16, 16)),
        ("size=24,color=gray", None, (1, 24, 24)),
        ("color=gray", 8, (1, 8, 8)),
        (None, "8x12", (3, 8, 12)),
    ):
        assert packed.arrays("val", treatment, size=size).images.shape[1:] == shape


# what one side has alone: figures are methods of their own, what a command line needs is not Python's, and of
# a table's rare ways a file of sources tells the command line
ALONE = {
    **{
        "feed": "described digest docket epochs expect store_hint values position columns disk_limit log_every",
        "compare": "fail_on_change rows",
        "doubles": "rows table",
    },
    **{
        "survey": "sheet columns encoding separator class_names",
        "pack": "doubts encoding separator class_names",
        "change": "doubts",
        "merge": "conflicts",
    },
    **{"export": "arrays encode size split table treatment", "docket": "file store_as values", "render": "listed remove"},
    **{"sheet": "arrange batch batch_size epoch predicted probability size treated treatment path", "stats": "save"},
    **{
        "gather": "",
        "measure": "save save_to against tolerance figure",
        "report": "labeling near page path predicted split suspects where size title what classes treatment",
        "copy": "everything name",
        "tag": "remove rename yes name at store",
        "attach": "as_ save to file files",
    },
}
OF_OPENING = ("cache", "cache_size")  # in Python they are said to `open`
SAME = {"fact": "facts", "directory": "folder", "cluster": "executor"}


def test_options_have_one_name_in_python_and_on_the_command_line() -> None:
    import typer

    from pannier.cli.commands import CALLS, app

    commands = typer.main.get_command(app).commands  # type: ignore[attr-defined]
    for name, call in CALLS.items():
        if name in ("history", "query", "strand", "tag"):
            continue
        kind, _, verb = call.rpartition(".")
        function = getattr(getattr(pannier, kind) if kind else pannier, verb)
        here = {SAME.get(each.name, each.name) for each in commands[name].params} - {"json", "figure", "store", *OF_OPENING}
        there = {*inspect.signature(function).parameters} - {"self", "progress", "store"}
        assert here ^ there == (here ^ there) & {*ALONE.get(name, "").split()}, (name, here ^ there)


def test_records_by_place_key_and_slice(packed: pannier.Snapshot) -> None:
    keys = [record.key for record in packed]
    assert [record.key for record in packed[3:9:2]] == keys[3:9:2]
    assert packed[-1].key == keys[-1]
    assert packed[keys[5]].key == keys[5]


def test_importing_it_or_its_commands_loads_nothing_heavy() -> None:
    heavy = ("numpy", "numba", "pyarrow", "cv2", "PIL")
    program = f"import sys, pannier.cli.commands; print([each for each in {heavy} if each in sys.modules])"
    assert subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True).stdout.strip() == "[]"


def test_every_command_has_help_with_an_example(run: Callable[..., Any]) -> None:
    listed = run("--help").out
    for command in COMMANDS:
        assert command in listed
        assert f"$ pannier {command} " in run(command, "--help").out


FLOORS = (
    *("kinds", "array_types", "errors", "strict", "hashing", "choices", "units", "columns"),
    *("containers", "machine", "memory", "budget"),
    *("unasked", "files", "spelling", "results", "executors"),
    *(
        "images",
        "storage",
        "dealing",
        "sources",
        "store",
        "versions",
        "packing",
        "folders",
        "upkeep",
        "feeding",
        "measuring",
    ),
    *("figures", "pages", "api", "demo", "cli"),
)


def imports() -> dict[str, set[str]]:
    """By module of the package those that it imports, late and for types alone too."""
    source = ROOT / "src"
    paths = {".".join(path.relative_to(source).with_suffix("").parts): path for path in source.rglob("*.py")}
    modules = {name.removesuffix(".__init__"): path for name, path in paths.items() if name != "pannier.__init__"}
    found: dict[str, set[str]] = {}
    for name, path in modules.items():
        targets = set()
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Import):
                targets |= {alias.name for alias in node.names}
            elif isinstance(node, ast.ImportFrom) and node.module:
                targets |= {f"{node.module}.{alias.name}" for alias in node.names} | {node.module}
        found[name] = {target for target in targets if target in modules and target != name}
    return found


def test_modules_import_downward_alone_and_no_circle_is_among_them() -> None:
    """Every import counts, wherever in a module it stands: a module may import its own floor, or those before it."""
    found = imports()
    for name, targets in found.items():
        own = name.split(".")[1:2]
        if own == ["__main__"]:
            continue
        allowed = FLOORS[: FLOORS.index(own[0]) + 1]
        upward = [target for target in targets if target.split(".")[1:2] and target.split(".")[1] not in allowed]
        assert not upward, (name, upward)
    while found:
        ground = {name for name, targets in found.items() if not targets & found.keys()}
        assert ground, f"a circle among {sorted(found)}"
        for name in ground:
            del found[name]


def test_the_floors_stand_in_the_architecture_as_they_are() -> None:
    page = (ROOT / "docs" / "the-datas-way.md").read_text()
    told = re.search(r"\*\*Floors\.\*\* `(.*?)`", page, re.DOTALL)
    assert told is not None
    assert tuple(re.findall("[a-z_]+", told[1])) == FLOORS


def test_arguments_go_by_their_names_and_only_the_command_line_knows_options(
    tmp_path: Path, run: Callable[..., Any]
) -> None:
    folder = fill(tmp_path / "a", 1)
    with pytest.raises(pannier.UsageError, match=r"^`label_pattern` x: name its fields") as caught:
        pannier.create(tmp_path / "s.store").pack(folder, label_pattern="x")
    assert caught.value.argument == "label_pattern"
    with pytest.raises(pannier.UsageError) as caught:
        pannier.Treatment(8, fit="round")
    assert caught.value.argument == "fit"
    ended = run("pack", folder, tmp_path / "t.store", "--label-pattern", "x")
    assert ended.err.startswith("pannier: --label-pattern x: name its fields")
    (tmp_path / "links.csv").write_text("link\nhttp://h/1\n")
    (tmp_path / "sources.toml").write_text('[[source]]\npath = "links.csv"\nencoding = "martian"\n')
    said = "'martian': there is no such encoding"  # an option of this one, a field of sources for that one
    gathered = run("gather", tmp_path / "links.csv", tmp_path / "p", "--encoding", "martian")
    assert gathered.err.startswith(f"pannier: --encoding {said}")
    assert f"`encoding` {said}" in run("survey", tmp_path / "sources.toml").err
    for path in (ROOT / "src" / "pannier").rglob("*.py"):
        if path.parent.name not in ("cli", "demo") and path.name != "treatment_file.py":
            texts = [node.value for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.Constant)]
            assert not [text for text in texts if isinstance(text, str) and re.search(r"(?<![\w-])--[a-z]", text)], path


def test_the_reader_in_the_format_page_reads_every_picture(packed: pannier.Snapshot) -> None:
    page = (ROOT / "docs" / "format.md").read_text()
    program = re.search(r"```python\n(.*?)```", page, re.DOTALL)
    assert program is not None
    assert len(program[1].strip().splitlines()) <= 20
    names: dict[str, Any] = {}
    exec(program[1], names)
    rows = {row["key"]: (row["label"], row["split"], picture) for row, picture in names["records"](str(packed.store.path))}
    assert rows == {record.key: (record.label, record.split, record.bytes()) for record in packed}


def test_the_command_reference_is_what_the_help_says() -> None:
    done = subprocess.run(
        [sys.executable, ROOT / "docs" / "reference.py", "--check"], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stdout + done.stderr


def test_every_picture_in_docs_is_linked_and_every_link_leads_somewhere() -> None:
    readme = (ROOT / "README.md").read_text()
    shots = sorted(path.name for path in (ROOT / "docs" / "screenshots").glob("*.png"))
    assert len(shots) < 20
    assert all(name in readme for name in shots)
    for page in (ROOT / "README.md", ROOT / "CONTRIBUTING.md", *(ROOT / "docs").glob("*.md")):
        for link in re.findall(r"\]\(([^)#:]+)\)", page.read_text()):
            assert (page.parent / link).exists(), (page.name, link)


def test_benchmarks_can_be_imported() -> None:
    done = subprocess.run(
        [
            sys.executable,
            "-c",
            "import bench.__main__, bench.feed, bench.resize, bench.pack, bench.million, bench.start",
        ],
        capture_output=True,
        text=True,
        check=False,
        cwd=ROOT,
    )
    assert done.returncode == 0, done.stderr


def test_kernels_are_compiled_once_and_it_is_said(tmp_path: Path) -> None:
    code = "import numpy, pannier; pannier.Treatment(16)(numpy.zeros((16, 16, 3), numpy.uint8))"
    how = {"env": {**os.environ, "NUMBA_CACHE_DIR": str(tmp_path)}, "capture_output": True, "text": True}
    first, second = (subprocess.run([sys.executable, "-c", code], check=True, **how).stderr for _ in range(2))
    assert first.count("compiling kernels, once for this machine") == 1
    assert str(tmp_path) in first
    assert second == ""
