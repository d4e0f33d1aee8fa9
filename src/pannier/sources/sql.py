"""SQL over tables in memory: DuckDB, with no access to files, network or settings."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from pannier.errors import UsageError, did_you_mean

# the column of row numbers that rules carry through a query
ROW = "number of the row"


def connected_to(**tables: Any) -> Any:
    """A connection that knows those Arrow tables, and nothing else of this machine."""
    import duckdb

    settings = {"enable_external_access": "false", "python_enable_replacements": "false"}
    connection = duckdb.connect(":memory:", config=settings)
    connection.execute("SET lock_configuration = true")
    for name, table in tables.items():
        connection.register(name, table)
    return connection


def answer(connection: Any, sql: str, what: str, columns: Sequence[str]) -> Any:
    """What a query gives, as an Arrow table. Raises UsageError, which begins with `what` and says the nearest column."""
    import duckdb

    try:
        if len(connection.extract_statements(sql)) != 1:
            raise UsageError(f"{what}: one statement is wanted, without a semicolon")
        relation = connection.sql(sql)
        if relation is None:
            raise UsageError(f"{what}: gives no table; write a SELECT")
        return relation.to_arrow_table()
    except duckdb.Error as error:
        raise UsageError(f"{what}: {_explained(str(error), columns)}") from error


def _explained(message: str, columns: Sequence[str]) -> str:
    """What DuckDB says, in one line; a column that is not there with those that are."""
    missing = re.search(r'Referenced column "([^"]+)" not found', message)
    if missing:
        return f"there is no column {missing[1]!r}{did_you_mean(missing[1], columns)}"
    if ROW in message and "GROUP BY" in message:
        return "a rule gives one value for each row; one for all rows is written (SELECT max(bytes) FROM source)"
    first = re.split(r"\n\n|\nLINE|Candidate functions|\n\s*Candidate", message)[0]
    return re.sub(r"^[A-Z][a-z]+(?: Input)? Error: ", "", " ".join(first.split()))
