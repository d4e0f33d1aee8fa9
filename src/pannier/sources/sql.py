"""SQL over tables in memory: DuckDB in a box, with no file, network or setting at hand, in bounded memory and time."""

from __future__ import annotations

import contextlib
import re
import threading
from collections.abc import Sequence
from typing import Any

import pyarrow as pa

from pannier.errors import UsageError, did_you_mean
from pannier.sources.sql_checks import LONGEST, NotAllowed, checked_expression, checked_select

# the column of row numbers that rules carry through a query
ROW = "number of the row"
# what a query may take, and what a row and a byte of its tables add to that
_SECONDS, _SECONDS_A_ROW = 4.0, 50e-6
_BYTES, _BYTES_A_BYTE = 192 << 20, 4


class Box:
    """Some Arrow tables by name, and SQL over them and nothing else of this machine. Not for several threads at once."""

    def __init__(self, **tables: Any) -> None:
        self._tables = tables
        self._rows = sum(len(table) for table in tables.values())
        self._most_bytes = _BYTES + _BYTES_A_BYTE * sum(table.nbytes for table in tables.values())
        self._connection: Any = None

    def answer(self, sql: str, what: str, columns: Sequence[str]) -> Any:
        """What a query gives, as an Arrow table. Raises UsageError, which begins with `what` and says the nearest column.

        A query is one SELECT. It may take 4 s, and 50 µs a row; 192 MiB of memory, and four times what its tables have.
        """
        import duckdb

        seconds, answered = _SECONDS + _SECONDS_A_ROW * self._rows, None
        try:
            connection = self._connected()
            checked_select(_tree(connection, sql), self._tables)
            with _Alarm(connection, seconds):
                relation = connection.sql(sql)
                answered = pa.table({}) if relation is None else relation.to_arrow_table()
                return answered
        except NotAllowed as error:
            raise UsageError(f"{what}: {error}") from None
        except duckdb.InterruptException:
            raise UsageError(f"{what}: it takes more than {seconds:.0f} s, and was ended") from None
        except duckdb.OutOfMemoryException:
            raise UsageError(f"{what}: it takes more memory than a query may have") from None
        except (duckdb.Error, UnicodeEncodeError) as error:
            raise UsageError(f"{what}: {_explained(str(error), columns)}") from error
        finally:
            if answered is None:
                self._close()  # its threads and memory go at once, however long somebody keeps the error

    def _connected(self) -> Any:
        if self._connection is None:
            self._connection = _connection(self._most_bytes)
            for name, table in self._tables.items():
                self._connection.register(name, table)
        return self._connection

    def _close(self) -> None:
        connection, self._connection = self._connection, None
        if connection is not None:
            connection.close()


def check_simple(expression: str, what: str) -> None:
    """Raises UsageError where an expression from a stranger has more than columns, values and simple functions."""
    import duckdb

    try:
        with contextlib.closing(_connection(_BYTES)) as connection:
            checked_expression(_tree(connection, f"SELECT ({expression}\n) FROM records"))
    except NotAllowed as error:
        raise UsageError(f"{what}: {error}") from None
    except (duckdb.Error, UnicodeEncodeError) as error:
        raise UsageError(f"{what}: {_explained(str(error), ())}") from None


def _connection(most_bytes: int) -> Any:
    import duckdb

    settings = {
        "enable_external_access": "false",
        "python_enable_replacements": "false",
        "memory_limit": f"{most_bytes}B",
        "temp_directory": "",
        "max_temp_directory_size": "0B",
        "autoinstall_known_extensions": "false",
        "autoload_known_extensions": "false",
    }
    connection = duckdb.connect(":memory:", config=settings)
    connection.execute("SET lock_configuration = true")
    return connection


def _tree(connection: Any, sql: str) -> str:
    """The syntax tree of a query, as JSON."""
    if len(sql) > LONGEST:
        raise NotAllowed(f"{len(sql):,} letters are more than the {LONGEST:,} that a query may have")
    return str(connection.execute("SELECT json_serialize_sql(?)", [sql]).fetchall()[0][0])


class _Alarm:
    """Interrupts what a connection does after some seconds."""

    def __init__(self, connection: Any, seconds: float) -> None:
        self._timer = threading.Timer(seconds, connection.interrupt)
        self._timer.daemon = True

    def __enter__(self) -> None:
        self._timer.start()

    def __exit__(self, *_: object) -> None:
        self._timer.cancel()
        self._timer.join()


def _explained(message: str, columns: Sequence[str]) -> str:
    """What DuckDB says, in one line; a column that is not there with those that are."""
    missing = re.search(r'Referenced column "([^"]+)" not found', message)
    if missing:
        return f"there is no column {missing[1]!r}{did_you_mean(missing[1], columns)}"
    if ROW in message and "GROUP BY" in message:
        return "a rule gives one value for each row; one for all rows is written (SELECT max(bytes) FROM source)"
    first = re.split(r"\n\n|\nLINE|Candidate functions|\n\s*Candidate", message)[0]
    return re.sub(r"^[A-Z][a-z]+(?: Input)? Error: ", "", " ".join(first.split()))
