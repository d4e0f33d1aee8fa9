"""pannier gather"""

from __future__ import annotations

import shlex
import sys

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import live_bar, plural, print_json, print_table, print_wrapped
from pannier.units import show_bytes

_SHOWN_REASONS = 8


_HOW = {
    "link": opt.text("The links: a column, or SQL over columns.", "EXPR"),
    "where": opt.texts("Only rows for which this SQL holds.", "EXPR"),
    "name": opt.text("What names the files; / for folders.", "EXPR"),
    "pause": opt.Declared(str, "Between two requests to one host.", "TIME", default="700ms"),
    "connections": opt.Declared(int, "At once to one host.", default=2),
    "attempts": opt.Declared(int, "How often a picture is asked for.", default=4),
    "timeout": opt.Declared(str, "For one picture.", "TIME", default="60s"),
    "max_bytes": opt.Declared(str, "Larger files are refused while they arrive.", "BYTES", default="64MiB"),
    "max_pixels": opt.Declared(int, "So are pictures with more pixels.", default=100_000_000),
    "longest_side": opt.number("Shrink what is longer as it comes.", "PIXELS"),
    "encode": opt.text("Save all anew, as jpeg:90, png or webp:80.", "FORMAT"),
    "again": opt.switch("Ask again for what was refused for good."),
    "workers": opt.number("Threads that check what has come; by default all usable cores."),
    "encoding": opt.text("Of a text table, where it is not found.", "ENCODING"),
    "separator": opt.text("Of a text table, where it is not found.", "CHARACTER"),
    **opt.NULL,
}


@opt.takes("how", _HOW)
def gather(
    table: str = opt.argument(..., "A table with a column of links.", metavar="TABLE"),
    directory: str = opt.argument(..., "Where pictures go; new, empty, or gathered into before.", metavar="DIR"),
    how: opt.Said = opt.NOTHING,
    ignore_robots: bool = opt.flag("--ignore-robots", "Do not heed robots.txt: for hosts of your own."),
    preview: opt.Preview = False,
    json: opt.AsJson = False,
) -> int:
    """Fetch the pictures that a table links to: politely, each once, going on where it stopped.

    Beside them lies gathered.csv, with the table's columns and where each picture came from: pack reads it.
    Exit status 1 where pictures did not come.

    [dim]$[/dim] pannier gather register.csv daylight/ --link daylight --where "finish = 'raw'"
    [dim]$[/dim] pannier gather register.csv raking/ --link raking --name "weave || '/' || swatch" --longest-side 1600
    """
    from pannier.sources.gathering.gather import gather as fetch

    with live_bar("gather", "looking for links") as bar:

        def step(done: int, total: int, byte_count: int) -> None:
            bar.show(done, total, lambda: f"{done / bar.elapsed:,.1f} pictures/s, {show_bytes(byte_count)}")

        result = fetch(table, directory, progress=step, ignore_robots=ignore_robots, preview=preview, **how)
    print_json(result.to_dict()) if json else _print(result, is_preview=preview)
    return 1 if result.failed else 0


def _print(result: pannier.Gathered, *, is_preview: bool) -> None:
    from pannier.sources.gathering.links import without_credentials_in

    for where, count in result.funnel:
        print(f"{plural(count, 'row')} left by --where {where}")
    if result.without_link:
        print(f"{plural(result.without_link, 'row')} without a link")
    if is_preview:
        there = f"; {result.there_before:,} are there" if result.there_before else ""
        print(f"{plural(sum(result.wanted.values()), 'picture')} would be asked for{there}. Nothing is asked for yet.")
        print_table(["host", "pictures"], [[host, f"{count:,}"] for host, count in result.wanted.items()], left=1)
        return
    parts = [f"{plural(result.came, 'picture')} came, {show_bytes(result.byte_count)}"]
    parts += [f"{result.there_before:,} were there before"] if result.there_before else []
    parts += [f"{len(result.failed):,} did not come"] if result.failed else []
    print("; ".join(parts) + ".")
    reasons: dict[str, list[str]] = {}
    for each in result.failed:
        reasons.setdefault(each.reason, []).append(each.link)
    if reasons:
        print()
    for reason, links in sorted(reasons.items(), key=lambda item: -len(item[1]))[:_SHOWN_REASONS]:
        print_wrapped(f"  {len(links):,}  {reason}: {links[0]}{', ...' if len(links) > 1 else ''}", indent="      ")
    if len(reasons) > _SHOWN_REASONS:
        print(f"  and {len(reasons) - _SHOWN_REASONS:,} more reasons (--json lists all)")
    if result.failed:
        again = [] if result.can_try_again or "--again" in sys.argv else ["--again"]
        words = [without_credentials_in(word) for word in sys.argv[1:]]
        print(f"\nTo try the rest: {shlex.join(['pannier', *words, *again])}")
    if result.rows:
        print(f"\n{plural(result.rows, 'row')} with their pictures: pannier pack {result.table} STORE --label COLUMN")
