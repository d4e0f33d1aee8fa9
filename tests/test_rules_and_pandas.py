"""Random SQL rules against pandas: windows, aggregates by subquery, NULL, ties; every value on its own row."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pandas
import pyarrow as pa
import pytest

import pannier
from pannier.sources.rules import evaluate, holds
from tests.conftest import draw, encoded

Rule = tuple[str, Callable[[pandas.DataFrame], Any]]


def table_of(rng: np.random.Generator) -> pandas.DataFrame:
    """Looms with gaps, warps with ties and gaps, names in no order."""
    count = int(rng.integers(1, 60))
    loom = pandas.Series(rng.integers(0, 5, count), dtype="Int64").mask(rng.random(count) < 0.2)
    warp = pandas.Series(rng.integers(0, 9, count) / 2, dtype="Float64").mask(rng.random(count) < 0.2)
    weave = pandas.Series(rng.choice(["plain", "twill", "satin"], count)).mask(rng.random(count) < 0.1, None)
    return pandas.DataFrame({"loom": loom, "warp": warp, "weave": weave, "path": rng.permutation(count).astype(str)})


def by(frame: pandas.DataFrame, name: str) -> Any:
    return frame.sort_values("path").groupby(name, dropna=False, sort=False)


def numbered(frame: pandas.DataFrame, name: str) -> Any:
    return (by(frame, name).cumcount() + 1).reindex(frame.index)


def counted(frame: pandas.DataFrame, name: str) -> Any:
    return by(frame, name)["path"].transform("size").reindex(frame.index)


def rules(rng: np.random.Generator) -> list[Rule]:
    """Rules with chances of their own, each beside what pandas makes of it."""
    one, other = rng.permutation(["loom", "weave"]).tolist()
    number, bound = int(rng.integers(1, 6)), float(rng.integers(0, 9)) / 2
    return [
        (f"row_number() OVER (PARTITION BY {one} ORDER BY path)", lambda f: numbered(f, one)),
        (f"row_number() OVER (PARTITION BY {one} ORDER BY path) <= {number}", lambda f: numbered(f, one) <= number),
        (f"count(*) OVER (PARTITION BY {one})", lambda f: counted(f, one)),
        (f"count(*) OVER (PARTITION BY {one}) >= {number}", lambda f: counted(f, one) >= number),
        (f"count(warp) OVER (PARTITION BY {other})", lambda f: by(f, other)["warp"].transform("count").reindex(f.index)),
        (f"max(warp) OVER (PARTITION BY {other})", lambda f: by(f, other)["warp"].transform("max").reindex(f.index)),
        ("CASE WHEN warp IS NOT NULL THEN rank() OVER (ORDER BY warp) END", lambda f: f["warp"].rank(method="min")),
        ("CASE WHEN warp IS NOT NULL THEN dense_rank() OVER (ORDER BY warp) END", lambda f: f["warp"].rank(method="dense")),
        (f"lag(path) OVER (PARTITION BY {one} ORDER BY path)", lambda f: by(f, one)["path"].shift(1).reindex(f.index)),
        (f"lead(warp, 2) OVER (PARTITION BY {one} ORDER BY path)", lambda f: by(f, one)["warp"].shift(-2).reindex(f.index)),
        ("warp > (SELECT avg(warp) FROM source)", lambda f: f["warp"] > f["warp"].mean()),
        (f"coalesce({one} IN (SELECT {one} FROM source GROUP BY {one} HAVING count(*) >= {number}), FALSE)",
         lambda f: (counted(f, one) >= number) & f[one].notna()),
        (f"warp >= {bound}", lambda f: f["warp"] >= bound),
        (f"coalesce(warp, {bound}) * 2", lambda f: f["warp"].fillna(bound) * 2),
        (f"CASE WHEN warp > {bound} THEN weave WHEN loom = {number} THEN 'loom' END",
         lambda f: f["weave"].where((f["warp"] > bound).fillna(False), pandas.Series(
             np.where((f["loom"] == number).fillna(False), "loom", None), f.index))),
        ("weave || path", lambda f: f["weave"] + f["path"]),
    ]  # fmt: skip


def plain(values: Any) -> list[Any]:
    """NULL, NA and NaN as None, numbers as floats."""
    listed = values.to_pylist() if hasattr(values, "to_pylist") else list(values)
    nothing = [value is None or value is pandas.NA or (isinstance(value, float) and np.isnan(value)) for value in listed]
    return [
        None if none else round(float(value), 9) if isinstance(value, (int, float, np.number)) else value
        for value, none in zip(listed, nothing, strict=True)
    ]


def test_rules_give_what_pandas_gives(scale: int, capsys: pytest.CaptureFixture[str]) -> None:
    seen = 0
    for seed in range(3 * scale):
        rng = np.random.default_rng(seed)
        frame = table_of(rng)
        table = pa.Table.from_pandas(frame, preserve_index=False)
        for sql, by_pandas in rules(rng):
            assert plain(evaluate(table, sql, "`where`")) == plain(by_pandas(frame)), (seed, sql)
            seen += 1
        where = f"warp >= {float(rng.integers(0, 9)) / 2} OR loom IS NULL"
        wanted = (frame["warp"] >= float(where.split()[2])).fillna(False) | frame["loom"].isna()
        assert holds(table, where).tolist() == wanted.tolist(), (seed, where)
    with capsys.disabled():
        print(f"\n{seen} rules over {3 * scale} tables with gaps and ties, as pandas has them")


def test_first_three_of_each_and_classes_with_at_least_four(tmp_path: Path) -> None:
    frame = pandas.DataFrame({"photo": [f"{i}.jpg" for i in range(12)], "weave": [*"aaaaabbbbccd"]})
    for i, name in enumerate(frame["photo"]):
        (tmp_path / name).write_bytes(encoded(draw(i, 24, 32)))
    store = pannier.create(tmp_path / "s.store")
    where = [
        "count(*) OVER (PARTITION BY weave) >= 4",
        "row_number() OVER (PARTITION BY weave ORDER BY photo) <= 3",
    ]
    shuffled = frame.sample(frac=1, random_state=3)
    found = store.pack(shuffled, picture="photo", root=tmp_path, label="weave", where=where).snapshot
    wanted = frame[frame.groupby("weave")["weave"].transform("size") >= 4].sort_values("photo").groupby("weave").head(3)
    assert {record.key: record.label for record in found} == dict(zip(wanted["photo"], wanted["weave"], strict=True))
