"""SQL over tables in memory: DuckDB in a box, with no file, network or setting at hand, in bounded memory and time."""

from __future__ import annotations

import contextlib
import json
import os
import re
import resource
import subprocess
import sys
import time
from collections.abc import Callable, Collection, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from typing import Any, TypeVar

import pyarrow as pa

from pannier.errors import UsageError, did_you_mean
from pannier.memory import can_enforce_limits, enforce_limit, writable_bytes
from pannier.sources.sql_checks import LONGEST, NotAllowed, checked_expression, checked_select, columns_asked

# the column of row numbers that rules carry through a query
ROW = "number of the row"
# what a query may take, and what a row and a byte of its tables add to that: time by the clock and of the processor, since
# a machine that stands still is not the query's fault; and never more of the clock than so many times as long
_SECONDS, _SECONDS_A_ROW = 4.0, 50e-6
_PATIENCE = 10
_BYTES, _BYTES_A_BYTE = 192 << 20, 4
_INTERRUPTED_EACH = 0.05
# what a process of its own takes of the processor before it begins
_STARTING_SECONDS = 4
# the program of the process of its own, and how its answer begins
_APART = "from pannier.sources.sql import answer_apart; answer_apart()"
_ANSWERED, _REFUSED = b"+", b"-"

T = TypeVar("T")


class Box:
    """Some Arrow tables by name, and SQL over them and nothing else of this machine. Not for several threads at once.

    is_apart: a process of its own answers, whose memory and time the system limits: for what a stranger has written.
    """

    def __init__(self, *, is_apart: bool = False, **tables: Any) -> None:
        self._tables, self._is_apart = tables, is_apart
        self._rows = sum(len(table) for table in tables.values())
        self._most_bytes = _BYTES + _BYTES_A_BYTE * sum(table.nbytes for table in tables.values())
        self._connection: Any = None

    def answer(self, sql: str, what: str, columns: Sequence[str]) -> Any:
        """What a query gives, as an Arrow table. Raises UsageError, which begins with `what` and says the nearest column.

        A query is one SELECT. It may take 4 s of the processor, and 50 µs a row; 192 MiB of memory, and four times what its
        tables have.
        """
        import duckdb

        seconds, answered = _SECONDS + _SECONDS_A_ROW * self._rows, None
        if self._is_apart:
            return self._answer_apart(sql, what, columns, seconds)

        def run() -> Any:
            connection = self._connected()
            checked_select(_tree(connection, sql), self._tables)
            relation = connection.sql(sql)
            return pa.table({}) if relation is None else relation.to_arrow_table()

        try:
            answered = _bounded(run, seconds, self._interrupt)
            return answered
        except NotAllowed as error:
            raise UsageError(f"{what}: {error}") from None
        except TimeoutError:
            raise UsageError(f"{what}: it takes more than {seconds:.0f} s, and was ended") from None
        except duckdb.OutOfMemoryException:
            raise UsageError(f"{what}: it takes more memory than a query may have") from None
        except (duckdb.Error, UnicodeEncodeError) as error:
            raise UsageError(f"{what}: {_explained(str(error), columns)}") from error
        finally:
            if answered is None:
                self._close()  # its threads and memory go at once, however long somebody keeps the error

    def _answer_apart(self, sql: str, what: str, columns: Sequence[str], seconds: float) -> Any:
        """The same by a process of its own. Raises UsageError."""
        told: dict[str, Any] = {"sql": sql, "what": what, "columns": list(columns), "names": list(self._tables)}
        told |= {"most_bytes": self._most_bytes, "seconds": int(seconds) + _STARTING_SECONDS}
        sink = pa.BufferOutputStream()
        for table in self._tables.values():
            with pa.ipc.new_stream(sink, table.schema) as writer:
                writer.write_table(table)
        process = subprocess.Popen(
            [sys.executable, "-P", "-c", _APART],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            env=os.environ | {"PYTHONPATH": os.pathsep.join(path or os.getcwd() for path in sys.path)},
            start_new_session=True,  # Ctrl-C is this process's, which ends the other
        )
        try:
            content = json.dumps(told).encode() + b"\n" + sink.getvalue().to_pybytes()
            answer, _ = process.communicate(content, timeout=_PATIENCE * seconds)
        except subprocess.TimeoutExpired:
            answer = b""
        finally:
            process.kill()
            process.wait()
        if answer[:1] == _ANSWERED:
            return pa.ipc.open_stream(pa.py_buffer(answer)[1:]).read_all()
        reason = answer[1:].decode() if answer[:1] == _REFUSED else ""
        raise UsageError(reason or f"{what}: it takes more memory or time than a query may have")

    def _connected(self) -> Any:
        if self._connection is None:
            self._connection = _connection(self._most_bytes)
            for name, table in self._tables.items():
                self._connection.register(name, table)
        return self._connection

    def _interrupt(self) -> None:
        connection = self._connection
        if connection is not None:
            connection.interrupt()

    def _close(self) -> None:
        connection, self._connection = self._connection, None
        if connection is not None:
            connection.close()


def answer_apart() -> None:
    """What the process of its own does: tables and a query from standard input, the answer to standard output."""
    told = json.loads(sys.stdin.buffer.readline())
    rest = pa.py_buffer(sys.stdin.buffer.read())
    stream = pa.BufferReader(rest)
    tables = {name: pa.ipc.open_stream(stream).read_all() for name in told["names"]}
    import duckdb

    duckdb.connect(":memory:").close()  # what it takes by itself is not the query's
    if can_enforce_limits():
        enforce_limit(told["most_bytes"], writable_bytes())
        resource.setrlimit(resource.RLIMIT_CPU, (told["seconds"], told["seconds"] + 1))
    sink = pa.BufferOutputStream()
    try:
        answered = Box(**tables).answer(told["sql"], told["what"], told["columns"])
        with pa.ipc.new_stream(sink, answered.schema) as writer:
            writer.write_table(answered)
        answer = _ANSWERED + sink.getvalue().to_pybytes()
    except UsageError as error:
        answer = _REFUSED + str(error).encode()
    sys.stdout.buffer.write(answer)
    sys.stdout.buffer.flush()
    os._exit(0)  # threads that the limit has left without memory are waited for by nobody


def columns_named(sql: str, known: Collection[str]) -> Collection[str]:
    """The columns among those known that a query names; all where it is not to be told, or is none that may run."""
    import duckdb

    def look() -> set[str] | None:
        with contextlib.closing(_connection(_BYTES)) as connection:
            return columns_asked(_tree(connection, sql), known)

    try:
        asked = _bounded(look, _SECONDS, lambda: None)
    except (NotAllowed, TimeoutError, duckdb.Error, UnicodeEncodeError):  # it is said where it runs
        return known
    return known if asked is None else asked


def check_simple(expression: str, what: str) -> None:
    """Raises UsageError where an expression from a stranger has more than columns, values and simple functions."""
    import duckdb

    def check() -> None:
        with contextlib.closing(_connection(_BYTES)) as connection:
            checked_expression(_tree(connection, f"SELECT ({expression}\n) FROM records"))

    try:
        _bounded(check, _SECONDS, lambda: None)
    except NotAllowed as error:
        raise UsageError(f"{what}: {error}") from None
    except TimeoutError:
        raise UsageError(f"{what}: it takes more than {_SECONDS:.0f} s to read") from None
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


def _bounded(work: Callable[[], T], seconds: float, interrupt: Callable[[], None]) -> T:
    """What some work of DuckDB's gives, done in a thread of its own: where it runs, signals are not heard, or swallowed.

    Whatever happens the thread has ended then, interrupted where it had not. Raises TimeoutError, what the work raises, and
    what a signal's handler does.
    """
    began, spent = time.monotonic(), time.process_time()
    with ThreadPoolExecutor(1, "sql") as pool:
        future = pool.submit(work)
        try:
            done, _ = wait([future], seconds)
            while not done and time.process_time() - spent < seconds and time.monotonic() - began < _PATIENCE * seconds:
                done, _ = wait([future], _INTERRUPTED_EACH)
        finally:
            while not future.done():  # what had not begun yet was not interrupted
                interrupt()
                wait([future], _INTERRUPTED_EACH)
        if not done:
            raise TimeoutError
        return future.result()


def _explained(message: str, columns: Sequence[str]) -> str:
    """What DuckDB says, in one line; a column that is not there with those that are."""
    missing = re.search(r'Referenced column "([^"]+)" not found', message)
    if missing:
        return f"there is no column {missing[1]!r}{did_you_mean(missing[1], columns)}"
    if ROW in message and "GROUP BY" in message:
        return "a rule gives one value for each row; one for all rows is written (SELECT max(bytes) FROM source)"
    first = re.split(r"\n\n|\nLINE|Candidate functions|\n\s*Candidate", message)[0]
    return re.sub(r"^[A-Z][a-z]+(?: Input)? Error: ", "", " ".join(first.split()))
