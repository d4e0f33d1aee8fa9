"""SQL in its box: what is asked is answered, and neither files, settings, memory nor time beyond what is given are taken."""

from __future__ import annotations

import signal
import time
from pathlib import Path

import pyarrow as pa
import pytest

import pannier
from pannier.errors import UsageError
from pannier.sources import sql
from pannier.sources.sql import Box, columns_named


@pytest.mark.parametrize(
    ("sql", "shape"),
    [
        ("SELECT label, count(*) FROM records GROUP BY label ORDER BY 1", (3, 2)),
        ("WITH few AS (SELECT key FROM records LIMIT 4) SELECT * FROM few", (4, 1)),
        ("SELECT key, row_number() OVER (PARTITION BY label ORDER BY key) FROM records", (60, 2)),
        (
            "SELECT lpad(label, 12, '.'), (SELECT max(width) FROM records) FROM records WHERE split = 'val'",
            (12, 2),
        ),
        ("FROM records SELECT key", (60, 1)),
        ("SELECT a.key FROM records a JOIN records b USING (key)", (60, 1)),
        ("SELECT unnest([1, 2, 3]), printf('%04d', 7)", (3, 2)),
    ],
)
def test_what_is_asked_of_records_is_answered(packed: pannier.Snapshot, sql: str, shape: tuple[int, int]) -> None:
    assert packed.query(sql).shape == shape


@pytest.mark.parametrize(
    ("sql", "says"),
    [
        ("COPY (SELECT 1) TO ':memory:'", "write a SELECT"),
        ("COPY records TO '.tmp/x.csv'", "write a SELECT"),
        ("ATTACH 'x.db'", "write a SELECT"),
        ("SET threads = 9", "write a SELECT"),
        ("INSTALL httpfs", "write a SELECT"),
        ("SELECT 1; SELECT 2", "one statement is wanted"),
        ("SELECT * FROM read_csv(':memory:')", "read_csv reads what is not given"),
        ("SELECT * FROM read_text('/etc/hostname')", "read_text reads what is not given"),
        ("SELECT * FROM glob('*')", "glob reads what is not given"),
        ("SELECT * FROM '/etc/passwd'", "there is no table '/etc/passwd'; there is records"),
        ("SELECT * FROM duckdb_settings()", "duckdb_settings reads what is not given"),
        ("SELECT * FROM information_schema.tables", "there is no table 'tables'"),
        ("SELECT current_setting('temp_directory')", "current_setting reads what is not given"),
        ("SELECT getenv('HOME')", "getenv reads what is not given"),
        ("WITH pg_settings AS (SELECT 1) SELECT * FROM (SELECT * FROM pg_settings)", "pg_settings is a name of the system"),
        ("SELECT 1 FROM (WITH duckdb_settings AS (SELECT 1) SELECT 1), duckdb_settings", "is a name of the system"),
        ("SELECT sleep_ms(100000)", "sleep_ms does nothing but wait"),
        ("SELECT length(repeat('x', 5000000000))", "repeat makes more than it may"),
        ("SELECT length(repeat(key, width * 100000)) FROM records", "repeat must be told by a number"),
        ("SELECT lpad(key, 999999999, 'x') FROM records", "lpad makes more than it may"),
        ("SELECT printf('%999999999d', 1)", "printf makes more than it may"),
        ("SELECT list_sum(range(2000000000))", "range makes more than it may"),
        ("SELECT count(*) FROM range(100000000000)", "range makes more than it may"),
        ("WITH RECURSIVE r AS (SELECT 1 n UNION ALL SELECT n + 1 FROM r) SELECT count(*) FROM r", "leave RECURSIVE out"),
        ("SELECT " + "(" * 900 + "1" + ")" * 900, ""),
        ("SELECT '" + "x" * 30_000 + "'", "letters are more than the 20,000"),
        ("SELECT '\ud800'", ""),
    ],
)
def test_what_is_no_question_of_records_is_refused(
    packed: pannier.Snapshot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, sql: str, says: str
) -> None:
    monkeypatch.chdir(tmp_path)
    try:
        packed.query(sql)
        assert not says
    except UsageError as error:
        assert says in str(error)
        assert "\n" not in str(error)
    assert not list(tmp_path.iterdir())


@pytest.mark.parametrize("asked", ["count(*)", "list(a.key || b.key || c.key || d.key)"])
def test_a_query_without_end_is_ended(packed: pannier.Snapshot, asked: str) -> None:
    with pytest.raises(UsageError, match="takes more (than 4 s, and was|memory than a query may)"):
        packed.query(f"SELECT {asked} FROM records a, records b, records c, records d, records e, records f")


def test_a_machine_that_stands_still_ends_no_query() -> None:
    # no time of the processor is spent: by the clock, it is six times as long as it may take
    assert sql._bounded(lambda: time.sleep(0.3), 0.05, lambda: None) is None
    with pytest.raises(TimeoutError):
        sql._bounded(lambda: time.sleep(0.8), 0.05, lambda: None)


def test_what_a_stranger_wrote_is_answered_by_a_limited_process_of_its_own(packed: pannier.Snapshot, tmp_path: Path) -> None:
    table = pa.table({"key": [f"{i:05}" for i in range(5000)], "width": range(5000)})
    answered = Box(is_apart=True, source=table).answer("SELECT width > 7 AS wide FROM source", "q", ["key", "width"])
    assert sorted(answered.column(0).to_pylist()) == [False] * 8 + [True] * 4992
    for query, says in (
        ("SELECT nope FROM source", "there is no column 'nope'"),
        ("SELECT list(a.key || b.key) FROM source a, source b, source c", "takes more memory"),
        ("SELECT count(*) FROM source a, source b, source c WHERE a.width + b.width > c.width", "takes more"),
    ):
        with pytest.raises(UsageError, match=says):
            Box(is_apart=True, source=table).answer(query, "q", ["key", "width"])
    # a docket's condition is told there: nothing of it runs here
    path = tmp_path / "x.docket"
    path.write_text(packed.docket("train", where="width > 60").text())
    run, here = Box._answer_apart, []
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Box, "_answer_apart", lambda *given: here.append(given[1]) or run(*given))
        with pannier.from_docket(path, batch_size=4, treatment="size=16") as feed:
            assert feed.records == len(packed.query("SELECT key FROM records WHERE split = 'train' AND width > 60"))
    assert here


def test_a_signal_in_a_query_is_heard_as_it_is(packed: pannier.Snapshot) -> None:
    class Heard(Exception):
        pass

    def hear(*_: object) -> None:
        raise Heard

    assert len(packed.query("SELECT key FROM records")) == 60  # all is imported: an import would be interrupted otherwise
    handler = signal.signal(signal.SIGALRM, hear)
    try:
        for seconds in (0.002, 0.02, 0.2, 0.5):
            with pytest.raises(Heard):  # noqa: PT012  # the alarm may ring before the query begins
                signal.setitimer(signal.ITIMER_REAL, seconds)
                packed.query("SELECT count(*) FROM records a, records b, records c, records d, records e, records f")
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, handler)
    assert len(packed.query("SELECT key FROM records")) == 60


@pytest.mark.parametrize(
    ("where", "says"),
    [
        ("label IN ('twill', 'satin') AND width >= 60", None),
        ("regexp_matches(key, '^twill/000[0-9]') OR split IS NULL", None),
        ("CASE WHEN width > height THEN TRY_CAST(left(key, 1) AS INTEGER) IS NULL ELSE true END", None),
        ("width > (SELECT avg(width) FROM records)", "subquery is more than a simple expression may have"),
        ("repeat(key, 9) LIKE 'x%'", "repeat is no function of simple expressions"),
        ("row_number() OVER () < 9", "window is more than a simple expression may have"),
        ("true), (key", "it is more than an expression"),
        ("true) FROM records; COPY records TO ':memory:'; SELECT (true", "write a SELECT"),
        ("count(*) > 3", "is no function of simple expressions"),
    ],
)
def test_a_docket_may_choose_records_by_a_simple_expression_alone(
    packed: pannier.Snapshot, tmp_path: Path, where: str, says: str | None
) -> None:
    if says is not None:
        with pytest.raises(UsageError, match="the docket: where = ") as caught:
            packed.docket("train", where=where)
        assert says in str(caught.value)
        return
    path = tmp_path / "x.docket"
    path.write_text(packed.docket("train", where=where).text())
    with pannier.from_docket(path, batch_size=4, treatment="size=16") as feed:
        assert feed.records == len(packed.query(f"SELECT key FROM records WHERE split = 'train' AND ({where})"))


@pytest.mark.parametrize(
    ("sql", "named"),
    [
        ("SELECT label, count(*) AS n FROM records GROUP BY label ORDER BY n", {"label"}),
        ("SELECT r.\"Key\" FROM records r WHERE r.split = 'train' ORDER BY 1", {"key", "split"}),
        ("SELECT count(*) FROM records", set()),
        ("SELECT a.label FROM records a JOIN records b USING (sha256)", {"label", "sha256"}),
        ("WITH t AS (SELECT label AS l FROM records) SELECT max(l) FROM t", {"label"}),
        ("SELECT max(number) OVER (PARTITION BY split) FROM records", {"number", "split"}),
        ("SELECT * FROM records", None),
        ("SELECT records FROM records", None),
        ("SELECT label AS r, r FROM records r", None),
        ("SELECT #1 FROM records", None),
        ("SELECT COLUMNS('l.*') FROM records", None),
        ("SELECT label FROM records a NATURAL JOIN records b", None),
        ("SELECT x FROM records AS t(x)", None),
        ("SELECT nothing FROM records", None),
    ],
)
def test_a_query_is_given_the_columns_that_it_names(sql: str, named: set[str] | None) -> None:
    known = ["key", "label", "number", "split", "sha256"]
    assert set(columns_named(sql, known)) == ({*known} if named is None else named)
