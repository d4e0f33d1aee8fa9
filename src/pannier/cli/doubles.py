"""pannier doubles"""

from __future__ import annotations

import csv
import io
from dataclasses import fields

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import draw_into, plural, print_json, print_table, progress_bar
from pannier.files import write_whole

_SHOWN, _SHOWN_SETS = 12, 3


def doubles(
    store: opt.Store,
    near: int | None = opt.value(None, "How unlike they may be, 0 to 12; by default as the snapshot was dealt, or 6.", "N"),
    rows: int = opt.value(_SHOWN, "So many pairs are shown."),
    table: str | None = opt.value(None, "Write all pairs as a table, for change --unlike.", "FILE"),
    cluster: opt.Cluster = None,
    figure: opt.Figure = None,
    json: opt.AsJson = False,
) -> int:
    """Pictures that are there twice, or nearly: resized, saved anew, turned, mirrored, brightened, cropped by a tenth.

    Pairs in two splits come first, then those under two labels.

    [dim]$[/dim] pannier doubles swatches.store --figure pairs.png
    [dim]$[/dim] pannier doubles swatches.store --near 4 --table pairs.csv
    """
    from pannier.executors import workers_at

    with progress_bar("doubles") as progress, workers_at(cluster) as executor:
        found = pannier.open(store).doubles(near, progress=progress, executor=executor)
    if table:
        write_whole(table, _as_csv(found), flushed=False)
    print_json(found.to_dict()) if json else _print(found, rows, table)
    if figure and found.pairs:
        draw_into(figure, found, "sheet")
    return 0


def _as_csv(found: pannier.Doubles) -> str:
    """All pairs, a row each, with the column `unlike` to be filled in."""
    from pannier.columns import as_cell
    from pannier.versions.doubles import Double

    text = io.StringIO()
    writer = csv.DictWriter(text, [field.name for field in fields(Double)], lineterminator="\n")
    writer.writeheader()
    for each in found.pairs:
        row = each.to_dict()
        writer.writerow({name: as_cell(value) if isinstance(value, str) else value for name, value in row.items()})
    return text.getvalue()


def _print(found: pannier.Doubles, rows: int, table: str | None) -> None:
    if not found.pairs:
        print(f"No picture is there twice, or nearly (near {found.near}).")
        return
    members = sum(map(len, found.sets))
    straddling, two_labels = (sum(getattr(each, kind) for each in found.pairs) for kind in ("straddles", "is_two_labels"))
    print(
        f"{plural(members, 'record')} in {plural(len(found.sets), 'set')} of doubles (near {found.near}); "
        f"{plural(straddling, 'pair')} in two splits, {two_labels:,} under two labels.\n"
    )
    shown = [
        [
            f"{each.likeness:.2f}",
            each.key,
            each.other,
            _both(each.label, each.other_label),
            _both(each.split, each.other_split),
        ]
        for each in found.pairs[:rows]
    ]
    print_table(["alike", "key", "other", "label", "split"], shown, left=5)
    if len(found.pairs) > rows:
        print(
            f"and {plural(len(found.pairs) - rows, 'more pair')} ({f'in {table}' if table else '--table FILE writes all'})"
        )
    for each in [each for each in found.sets if len(each) > 2][:_SHOWN_SETS]:
        more = ", ..." if len(each) > _SHOWN_SETS else ""
        print(f"\nA set of {len(each):,}: {', '.join(each[:_SHOWN_SETS])}{more}")


def _both(one: str | None, other: str | None) -> str:
    return one or "-" if one == other else f"{one or '-'} | {other or '-'}"
