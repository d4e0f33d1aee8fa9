"""What a query may be, told by its syntax tree: over the tables that it was given; of strangers a simple expression alone.

The tree is DuckDB's own (`json_serialize_sql`), so what is checked is what would run.
"""

from __future__ import annotations

import json
import re
from collections.abc import Collection, Iterator
from typing import Any

Node = dict[str, Any]

LONGEST = 20_000
# how many nodes deep a tree may be, and what a function that makes much of little may be told to make
_DEEPEST, _MOST_DIGITS = 400, 5

_TABLES_OF_THEIR_OWN = {"range", "generate_series", "unnest"}
_REFERENCES = {"BASE_TABLE", "SUBQUERY", "JOIN", "EMPTY", "TABLE_FUNCTION", "EXPRESSION_LIST", "CTE", "SHOW_REF"}
# what makes much of little: each number that they are given must stand there, and be no larger than _MOST
_GROWING = {"repeat", "lpad", "rpad", "range", "generate_series", "list_resize", "array_resize", "bar", "printf", "format"}
# how tables and views of DuckDB's own are called: outside of its WITH such a name would mean those
_SYSTEM_NAMES = ("pg_", "duckdb_", "sqlite_", "information_schema", "pragma_")
_OF_THIS_MACHINE = {"getenv", "getvariable", "current_setting", "write_log"}

_WAITING = {"sleep", "sleep_ms", "pg_sleep"}

_SIMPLE = {"COLUMN_REF", "CONSTANT", "COMPARISON", "CONJUNCTION", "BETWEEN", "CASE", "CAST", "OPERATOR", "FUNCTION", "TYPE"}
_SIMPLE_FUNCTIONS = frozenset(
    """
    + - * / // % || & | << >> ~ !~ ~~ !~~ ~~* !~~* ~~~ like_escape not_like_escape ilike_escape not_ilike_escape
    abs ceil floor round trunc sign sqrt ln log log2 log10 exp pow power mod fmod xor greatest least isnan isinf isfinite
    lower upper lcase ucase trim ltrim rtrim length len strlen substr substring left right contains prefix suffix
    starts_with ends_with instr strpos position reverse ascii split_part concat concat_ws nfc_normalize
    regexp_matches regexp_full_match regexp_extract nullif ifnull coalesce if hash md5 sha256
    year month day hour minute second date_part date_trunc strftime
    """.split()  # noqa: SIM905
)


class NotAllowed(Exception):
    """Why a query is none that may run, in words."""


def checked_select(tree: str, tables: Collection[str]) -> None:
    """Raises NotAllowed where a tree is not one SELECT over some tables, or would make much of little."""
    nodes = list(_nodes(_statement(tree)))
    named_here = {str(entry["key"]).lower() for node in nodes for entry in _common_tables(node)}
    if of_the_system := sorted(name for name in named_here if name.startswith(_SYSTEM_NAMES)):
        raise NotAllowed(f"{of_the_system[0]} is a name of the system's own tables: call it otherwise")
    known = {name.lower() for name in tables} | named_here
    for node in nodes:
        _check_tables(node, known, tables)
        name = str(node.get("function_name", "")).lower()
        if name in _OF_THIS_MACHINE:
            raise NotAllowed(f"{name} reads what is not given: no file and no setting is at hand")
        if name in _WAITING:
            raise NotAllowed(f"{name} does nothing but wait")
        if name in _GROWING and node.get("class") == "FUNCTION":
            _check_growing(name, node)


def _check_tables(node: Node, known: Collection[str], tables: Collection[str]) -> None:
    """Raises NotAllowed where a node reads another table than those that are known."""
    kind = node.get("type")
    if kind == "RECURSIVE_CTE_NODE":
        raise NotAllowed("a query that calls itself may have no end: leave RECURSIVE out")
    if kind == "BASE_TABLE":
        is_elsewhere = node.get("schema_name") or node.get("catalog_name")
        if is_elsewhere or str(node.get("table_name")).lower() not in known:
            raise NotAllowed(f"there is no table {node.get('table_name')!r}; there is {', '.join(sorted(tables))}")
    if kind == "TABLE_FUNCTION":
        called = str((node.get("function") or {}).get("function_name", "")).lower()
        if called not in _TABLES_OF_THEIR_OWN:
            raise NotAllowed(f"{called} reads what is not given: no file and no setting is at hand")
    source = node.get("from_table")
    if isinstance(source, dict) and source.get("type") not in _REFERENCES:
        raise NotAllowed(f"{str(source.get('type')).lower()} is not at hand")


def columns_asked(tree: str, known: Collection[str]) -> set[str] | None:
    """The columns, of those known, that a SELECT names; None where it may ask for any: by *, by rows as a whole, and so on.

    Raises NotAllowed.
    """
    by_name, nodes = {name.lower(): name for name in known}, list(_nodes(_statement(tree)))
    if len(by_name) < len(known):
        return None
    named_here = {str(node.get("alias", "")).lower() for node in nodes if "class" in node}
    tables = {str(node.get(name, "")).lower() for node in nodes if "class" not in node for name in ("alias", "table_name")}
    asked = set[str]()
    for node in nodes:
        kind = str(node.get("class", node.get("type")))
        names = [str(name).lower() for name in [*(node.get("column_names") or ()), *(node.get("using_columns") or ())]]
        is_plain_join = kind == "JOIN" and node.get("ref_type") == "REGULAR"
        if kind in ("STAR", "POSITIONAL_REFERENCE", "LAMBDA") or node.get("column_name_alias"):
            return None
        if kind in _REFERENCES - {"BASE_TABLE", "SUBQUERY", "EMPTY"} and not is_plain_join:
            return None
        is_alias = len(names) == 1 and names[0] in named_here - tables
        if kind == "COLUMN_REF" and names[-1] not in by_name and not is_alias:
            return None
        asked |= {by_name[name] for name in (names if is_plain_join else names[-1:]) if name in by_name}
    return asked


def checked_expression(tree: str) -> None:
    """Raises NotAllowed where the tree of SELECT (expression) FROM records has more than values and simple functions."""
    node = _statement(tree)
    whole = [
        name for name in ("where_clause", "group_expressions", "having", "qualify", "sample", "modifiers") if node.get(name)
    ]
    cte = (node.get("cte_map") or {}).get("map")
    selected = node.get("select_list") or []
    if whole or cte or len(selected) != 1 or (node.get("from_table") or {}).get("type") != "BASE_TABLE":
        raise NotAllowed("it is more than an expression")
    for each in _nodes(selected[0]):
        if "class" not in each:
            continue
        name = str(each.get("function_name", "")).lower()
        if each["class"] not in _SIMPLE:
            raise NotAllowed(f"{str(each['class']).lower()} is more than a simple expression may have")
        if each["class"] == "FUNCTION" and (name not in _SIMPLE_FUNCTIONS or each.get("schema") or each.get("catalog")):
            raise NotAllowed(f"{name} is no function of simple expressions")


def _statement(tree: str) -> Node:
    """The one SELECT of a tree."""
    try:
        document = json.loads(tree)
    except RecursionError:
        raise NotAllowed("it is nested too deep") from None
    if document.get("error"):
        message = str(document.get("error_message"))
        raise NotAllowed("gives no table; write a SELECT" if message.startswith("Only SELECT") else message)
    statements = document["statements"]
    if len(statements) != 1:
        raise NotAllowed("one statement is wanted, without a semicolon")
    return dict(statements[0]["node"])


def _nodes(root: Any) -> Iterator[Node]:
    """All objects of a tree."""
    waiting = [(root, 0)]
    while waiting:
        at, depth = waiting.pop()
        if depth > _DEEPEST:
            raise NotAllowed("it is nested too deep")
        if isinstance(at, dict):
            yield at
        inner = at.values() if isinstance(at, dict) else at
        waiting += [(each, depth + 1) for each in inner if isinstance(each, (dict, list))]


def _common_tables(node: Node) -> list[Node]:
    tables = (node.get("cte_map") or {}).get("map") if isinstance(node.get("cte_map"), dict) else None
    return [entry for entry in tables or () if isinstance(entry, dict) and "key" in entry]


def _check_growing(name: str, call: Node) -> None:
    """Numbers after the first argument, and those in a pattern, must be small and stand there."""
    arguments = call.get("children") or call.get("arguments") or []
    for at, each in enumerate(arguments):
        argument = each.get("expression", each) if isinstance(each, dict) else {}
        argument = argument if isinstance(argument, dict) else {}
        if argument.get("class") != "CONSTANT":
            if (at == 0 and name not in ("printf", "format", "range", "generate_series")) or (
                name in ("printf", "format") and at
            ):
                continue
            raise NotAllowed(f"{name} must be told by a number that stands there how much it makes")
        written = json.dumps(argument.get("value", argument.get("literal")))
        if any(len(number) > _MOST_DIGITS for number in re.findall("[0-9]+", written)):
            raise NotAllowed(f"{name} makes more than it may: {_MOST_DIGITS} digits at most")
