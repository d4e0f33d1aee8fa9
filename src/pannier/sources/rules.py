"""Rules: SQL expressions over a source's columns say what comes in, under which key, label and split.

DuckDB runs them on the table in memory, with no access to files, network or settings.
"""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import repeat
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from pannier.columns import NameColumn, Rows
from pannier.dealing.shares import split_given
from pannier.errors import SourceError, UsageError
from pannier.sources.headers import header_columns_in, header_table
from pannier.sources.rows import Chosen, LeftOut, Row, Source
from pannier.sources.sql import ROW, Box
from pannier.sources.table_files import read_table
from pannier.units import at_commas

# the side column of what stays together in one split
GROUP = "group"

# what a field of a label pattern may be called, and the columns that a pattern looks at
_FIELD = re.compile(r"\{([A-Za-z_][A-Za-z0-9_]*)\}")


@dataclass(frozen=True)
class Rules:
    """SQL expressions over the source's columns.

    where: what must hold, one after another. label, split_by, key: what gives those, else what the source
    gives by itself; a label of NULL is none.
    label_pattern: e.g. "{label}_loom{loom}_{number}", matched against the whole name without its ending (with a "/" in it:
    the whole path); its fields become columns, and `label` among them the label. columns: side columns, e.g. "loom" or
    "warp_per_cm * 2.54 as warp_per_inch". rename: class names that are read as others. group_by: what must stay together in
    one split, kept as the side column `group`. class_names: names of labels that are numbers, before any renaming.
    """

    label: str | None = None
    where: Sequence[str] = ()
    label_pattern: str | None = None
    key: str | None = None
    split_by: str | None = None
    columns: Sequence[str] = ()
    rename: Mapping[str, str] = field(default_factory=dict)
    class_names: Mapping[str, str] = field(default_factory=dict)
    group_by: str | None = None

    @property
    def are_by_folder(self) -> bool:
        """Whether labels come from the folders in which pictures lie."""
        return self.label in (None, "parent", "top") and not self.label_pattern


@dataclass(frozen=True, kw_only=True)
class RuleOptions:
    """Rules as they are said: one condition or several, side columns parted by commas or as a list, "old=new"."""

    label: str | None = None
    where: str | Sequence[str] = ()
    label_pattern: str | None = None
    key: str | None = None
    split_by: str | None = None
    columns: str | Sequence[str] = ()
    rename: str | Mapping[str, str] | Sequence[str] | None = None
    class_names: str | Path | Mapping[str, str] | None = None

    def read_rules(self, group_by: str | None = None) -> Rules:
        """Raises UsageError."""
        kept = [self.columns] if isinstance(self.columns, str) else list(self.columns)
        keep = [piece.strip() for item in kept for piece in at_commas(item) if piece.strip()]
        where = [self.where] if isinstance(self.where, str) else list(self.where)
        own = (self.label, where, self.label_pattern, self.key, self.split_by, keep)
        return Rules(*own, read_rename(self.rename), read_class_names(self.class_names), group_by)


def read_rename(rename: str | Mapping[str, str] | Sequence[str] | None) -> dict[str, str]:
    """Renames from {"old": "new"}, "old=new" or several of those."""
    if rename is None:
        return {}
    said = [rename] if isinstance(rename, str) else rename
    pairs = list(said.items()) if isinstance(said, Mapping) else [piece.partition("=")[::2] for piece in said]
    for (old, new), piece in zip(pairs, said, strict=True):
        if not old.strip() or not new.strip():
            raise UsageError(f"{piece!r} cannot be read: write a class to rename as old=new")
    return {old.strip(): new.strip() for old, new in pairs}


def read_class_names(names: str | Path | Mapping[str, str] | None) -> dict[str, str]:
    """NameColumn of labels from a dict, or from the first two columns of a table: label, name. Raises UsageError."""
    if names is None:
        return {}
    if isinstance(names, Mapping):
        return {str(label): name for label, name in names.items()}
    table = read_table(Path(names)).table
    if table.num_columns < 2:
        raise UsageError(f"`class_names` {names}: a table of two columns is wanted, the label and its name")
    labels, texts = (column.cast(pa.string()).to_pylist() for column in table.columns[:2])
    pairs = [(label, name) for label, name in zip(labels, texts, strict=True) if label is not None and name is not None]
    if len(dict(pairs)) < len(set(pairs)):
        raise UsageError(f"`class_names` {names}: a label has two names there")
    return dict(pairs)


def _named(labels: NameColumn, class_names: Mapping[str, str], rename: Mapping[str, str]) -> NameColumn:
    if class_names:
        known = {labels.names[code] for code in np.unique(labels.codes).tolist() if code >= 0}
        nameless = sorted(known - set(class_names))
        if nameless:
            what = f"`class_names` has no name for label {nameless[0]!r}"
            raise UsageError(f"{what}: add it there, or leave it out by `where`")
    names = [class_names.get(name, name) for name in labels.names]
    return labels.mapped([_tidy(rename.get(name.strip(), name)) for name in names])


def _tidy(name: str) -> str | None:
    """A class without stray blanks; a name of nothing but blanks is none: it would be a class, the first of all."""
    return name.strip() or None


def choose_rows(source: Source, rules: Rules, table: Any | None = None) -> Chosen:
    """The rows of one source that `where` leaves, with what the other rules make of them.

    `table` is the source's, where columns were added to it. Raises UsageError for a rule that cannot be run, SourceError
    for keys that are there twice.
    """
    table, keys = source.table() if table is None else table, source.keys()
    if rules.label_pattern:
        table = _with_fields(table, keys, rules.label_pattern)
    left = _Columns(table, source, keys)
    funnel: list[tuple[str, int]] = []
    left_out: list[LeftOut] = []
    for where in rules.where:
        holds = _truth(left.evaluate(where, "`where`"), where)
        out = keys.take(pa.array(left.numbers[~holds])).to_pylist()
        reason = f"left out by the condition {where}"
        left_out += map(LeftOut._make, zip(out, repeat("rule"), repeat(reason)))
        left = left.only(holds)
        funnel.append((where, len(left.numbers)))
    numbers = left.numbers
    labels = NameColumn.of(left.evaluate(_label_rule(rules, source, left.table), "`label`"))
    splits = NameColumn(np.full(len(numbers), -1, np.int32), [])
    if rules.split_by:
        splits = NameColumn.of(left.evaluate(rules.split_by, "`split_by`"))
    elif source.fixed_splits:
        splits = NameColumn.of(left.table.column("split"))
    splits = splits.mapped([split_given(name) for name in splits.names])
    named = _named(labels, rules.class_names, rules.rename)
    chosen_keys = _keys(left, keys.take(pa.array(numbers)), rules.key)
    side = _side(left, rules.columns, rules.group_by)
    return Chosen(numbers, chosen_keys, named, splits, side, labels, funnel, left_out)


def evaluate(table: Any, expression: str, option: str) -> Any:
    """One value a row of a table: a column, or what DuckDB makes of an SQL expression. Raises UsageError."""
    return _Columns(table).evaluate(expression, option)


def holds(
    table: Any, condition: str, option: str = "`where`", *, is_apart: bool = False
) -> np.ndarray[Any, np.dtype[np.bool_]]:
    """Which rows of a table a condition holds for; NULL does not hold. is_apart: see `Box`. Raises UsageError."""
    return _truth(_Columns(table, is_apart=is_apart).evaluate(condition, option), condition)


def _label_rule(rules: Rules, source: Source, table: Any) -> str:
    by_itself = "label" if rules.label_pattern and "label" in table.column_names else source.default_label
    rule = rules.label or by_itself
    if rule is None:
        columns = ", ".join(map(repr, table.column_names[:12]))
        raise UsageError(f"say with `label` which column of {source.name} gives labels; there is {columns}")
    return rule


class _Columns:
    """A source's table, or what is left of it, and expressions over it. Header columns are read when one is named."""

    def __init__(
        self,
        table: Any,
        source: Source | None = None,
        keys: Any | None = None,
        numbers: Rows | None = None,
        *,
        is_apart: bool = False,
    ) -> None:
        self.table, self._source, self._all_keys, self._is_apart = table, source, keys, is_apart
        self.numbers = np.arange(len(table)) if numbers is None else numbers
        self._box: Box | None = None

    def only(self, holds: np.ndarray[Any, np.dtype[np.bool_]]) -> _Columns:
        table, numbers = self.table.filter(pa.array(holds)), self.numbers[holds]
        return _Columns(table, self._source, self._all_keys, numbers, is_apart=self._is_apart)

    def evaluate(self, expression: str, option: str) -> Any:
        """One value a row: a column, or what DuckDB makes of the expression. Raises UsageError."""
        self._read_headers(header_columns_in(expression, self.table.column_names))
        if expression in self.table.column_names:
            return self.table.column(expression)
        what = f"{option} {expression}"
        numbered = self.table.append_column(ROW, pa.array(np.arange(len(self.table))))
        self._box = self._box or Box(is_apart=self._is_apart, source=numbered)
        sql = f'SELECT ({expression}\n) AS value, "{ROW}" FROM source'
        try:
            column = _in_order_of_rows(self._box.answer(sql, what, self.table.column_names), len(self.table), what)
        except UsageError as error:
            raise UsageError(str(error), argument=option.strip("`")) from error
        return column.cast(pa.int64()) if pa.types.is_decimal(column.type) and column.type.scale == 0 else column

    def _read_headers(self, names: list[str]) -> None:
        if not names or self._source is None or self._all_keys is None:
            return
        keys = self._all_keys.take(pa.array(self.numbers)).to_pylist()
        sizes = self._source.byte_counts(self.numbers).tolist()
        rows = list(map(Row, self.numbers.tolist(), keys, sizes))
        headers = header_table(self._source, rows, names)
        for name in names:
            self.table = self.table.append_column(name, headers.column(name))
        self._box = None


def _in_order_of_rows(found: Any, count: int, what: str) -> Any:
    """The values of a query by their rows' numbers, since a query gives rows in no order. Raises UsageError."""
    is_plain = found.column_names == ["value", ROW] and pa.types.is_integer(found.column(1).type)
    order = np.argsort(found.column(1).to_numpy(), kind="stable") if is_plain and not found.column(1).null_count else None
    if order is None or not np.array_equal(found.column(1).to_numpy()[order], np.arange(count)):
        raise UsageError(f"{what}: a rule gives one value for each row, this one gives {len(found)} in all")
    return found.column(0).take(pa.array(order))


def _truth(values: Any, where: str) -> np.ndarray[Any, np.dtype[np.bool_]]:
    """A condition's values as flags; NULL does not hold."""
    if not pa.types.is_boolean(values.type):
        raise UsageError(f"`where` {where}: is not true or false but {_kind(values.type)}: write a condition, as loom = 7")
    truth: np.ndarray[Any, np.dtype[np.bool_]] = pc.fill_null(values, False).to_numpy(zero_copy_only=False)
    return truth.astype(bool)


def _kind(kind: Any) -> str:
    is_text = pa.types.is_string(kind) or pa.types.is_large_string(kind) or pa.types.is_dictionary(kind)
    return "text" if is_text else str(kind)


class RepeatedKeyError(SourceError):
    """Rows of a table have one key. `where` names it and the rows, counted from 1 without the header."""

    def __init__(self, key: str, rows: list[int]) -> None:
        shown = ", ".join(f"{row:,}" for row in rows[:4]) + (" ..." if len(rows) > 4 else "")
        self.where = f"{key} (rows {shown})"
        super().__init__(f"rows {shown} have one key {key!r}: tell them apart with `key`, or keep one")


def _keys(left: _Columns, given: Any, rule: str | None) -> Any:
    """The rows' keys: those given, or what a rule makes of them, in Unicode form NFC with `/`. None twice."""
    if rule is None:
        if pc.count_distinct(given).as_py() < len(given):
            keys = given.to_pylist()
            key = next(key for key, count in Counter(keys).items() if count > 1)
            raise RepeatedKeyError(key, [int(left.numbers[row]) + 1 for row, each in enumerate(keys) if each == key])
        return given
    values = left.evaluate(rule, "`key`").cast(pa.large_string()).to_pylist()
    keys = [None if value is None else unicodedata.normalize("NFC", value).strip("/") for value in values]
    seen: dict[str, int] = {}
    for row, key in enumerate(keys):
        if not key or ".." in key.split("/"):
            raise SourceError(f"`key` {rule}: gives {given[row].as_py()!r} the key {key!r}, which is none")
        first = seen.setdefault(key, row)
        if first != row:
            both = f"{given[first].as_py()!r} and {given[row].as_py()!r}"
            raise SourceError(f"`key` {rule}: {both} have one key {key!r}; let the rule tell them apart")
    return pa.array(keys, pa.large_string())


def _side(left: _Columns, said: Sequence[str], group_by: str | None) -> Any:
    """The side columns: names of columns, or `expression as name`; and the groups that stay together."""
    columns: dict[str, Any] = {}
    for item in said:
        expression, name = _parted(item)
        if name in columns:
            raise UsageError(f"`columns` names {name!r} twice")
        columns[name] = plain_column(left.evaluate(expression, "`columns`"), name, "`columns`")
    if group_by:
        if GROUP in columns:
            raise UsageError(f"`columns` names {GROUP!r}, which is what `group_by` gives; give it another name")
        columns[GROUP] = _groups(left.evaluate(group_by, "`group_by`"))
    return pa.table(columns) if columns else None


def groups_by(table: Any, expression: str) -> Any:
    """The side column `group` that the rule `group_by` gives for the rows of a table. Raises UsageError."""
    return _groups(evaluate(table, expression, "`group_by`"))


def _groups(values: Any) -> Any:
    groups = values.cast(pa.string())
    return pc.if_else(pc.equal(groups, ""), pa.scalar(None, pa.string()), groups)


def _parted(item: str) -> tuple[str, str]:
    parts = re.split(r"\s+as\s+(?=[A-Za-z_][A-Za-z0-9_]*\s*$)", item.strip(), flags=re.IGNORECASE)
    name = parts[-1].strip()
    if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_ .-]*", name):
        raise UsageError(f"`columns` {item}: give the expression a name, as in: {item} as name")
    return parts[0], name


def plain_column(values: Any, name: str, option: str) -> Any:
    """A side column of a type that every manifest can hold: whole numbers, fractions, text, flags, times."""
    kind = values.type
    if pa.types.is_dictionary(kind):
        values, kind = values.cast(kind.value_type), kind.value_type
    if pa.types.is_boolean(kind) or pa.types.is_null(kind):
        return values
    for is_kind, target in (
        (pa.types.is_integer, pa.int64()),
        (pa.types.is_floating, pa.float64()),
        (pa.types.is_decimal, pa.float64()),
        (pa.types.is_string, pa.string()),
        (pa.types.is_large_string, pa.string()),
        (pa.types.is_date, pa.timestamp("us")),
        (pa.types.is_timestamp, pa.timestamp("us")),
    ):
        if is_kind(kind):
            return values.cast(target)
    raise UsageError(f"{option} {name}: a side column holds numbers, text, flags or times, not {kind}")


def _with_fields(table: Any, keys: Any, pattern: str) -> Any:
    """The table with a column for each field of a pattern, NULL where a name does not match it."""
    names = _FIELD.findall(pattern)
    if not names or len(set(names)) < len(names):
        raise UsageError(
            f"`label_pattern` {pattern}: name its fields in braces, each once, as {{label}}_loom{{loom}}_{{number}}"
        )
    clash = [name for name in names if name in table.column_names]
    if clash:
        raise UsageError(
            f"`label_pattern` {pattern}: the source has a column {clash[0]!r} already; name the field otherwise"
        )
    pieces = _FIELD.split(pattern)
    anything = "[^/]*?"
    parts = [f"(?P<{piece}>{anything})" if i % 2 else re.escape(piece) for i, piece in enumerate(pieces)]
    names_alone = keys if "/" in pattern else pc.replace_substring_regex(keys, r"^.*/", "")
    column = pc.replace_substring_regex(names_alone, r"\.[^./]*$", "")
    fields = pc.extract_regex(column, "^" + "".join(parts) + "$")
    for i, name in enumerate(names):
        values = pc.struct_field(fields, [i])
        table = table.append_column(name, pc.if_else(pc.equal(values, ""), pa.scalar(None, values.type), values))
    return table


def rows_without_label(chosen: Chosen) -> Rows:
    return np.flatnonzero(chosen.labels.codes < 0)
