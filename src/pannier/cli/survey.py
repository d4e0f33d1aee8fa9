"""pannier survey"""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import (
    as_options,
    count_table,
    draw_into,
    drawing,
    plural,
    print_facts,
    print_funnel,
    print_json,
    print_table,
    print_wrapped,
    progress_bar,
)
from pannier.units import show_bytes

if TYPE_CHECKING:
    from pannier.sources.findings import Problem


@opt.takes_rules
def survey(
    source: opt.Sources,
    rules: opt.Said = opt.NOTHING,
    quick: bool = opt.flag("--quick", "Read headers alone: nothing is said of what needs pixels."),
    near: int = opt.value(6, "Near doubles: how unlike they may be, 0 to 12.", "N"),
    max_pixels: int = opt.value(100_000_000, "Pictures with more pixels count as too large."),
    workers: int | None = opt.value(None, "Threads; by default all usable cores."),
    memory_limit: opt.MemoryLimit = "auto",
    cluster: opt.Cluster = None,
    figure: opt.Figure = None,
    sheet: str | None = opt.value(None, "Draw the suspicious pictures on a sheet.", "FILE"),
    json: opt.AsJson = False,
) -> int:
    """What is in a source, and what is wrong with it, in order of harm; each with the command that mends it.

    Exit status 1 where something would make training wrong: one picture under two labels or in two splits, class names
    that differ between splits, broken or empty pictures.

    [dim]$[/dim] pannier survey archive/ --figure counts.png --sheet suspects.png
    [dim]$[/dim] pannier survey raking/gathered.csv --label weave --where "finish = 'raw'" --quick
    """
    from pannier.executors import workers_at
    from pannier.sources.survey import survey as look

    with progress_bar("survey") as progress, workers_at(cluster) as executor:
        how: opt.Said = {"executor": executor, "quick": quick, "near": near, "max_pixels": max_pixels, "workers": workers}
        findings = look(source, memory_limit=memory_limit, progress=progress, **how, **rules)
    if json:
        print_json(findings.to_dict())
    else:
        _print(findings)
    if figure:
        draw_into(figure, findings)
    if sheet and not findings.suspects:
        print("nothing suspicious was found, so no sheet is drawn", file=sys.stderr)
    elif sheet:
        from pannier.figures.sheet import draw_suspects

        with drawing(sheet, "sheet"):
            draw_suspects(findings, sheet)
    return 1 if findings.is_harmful else 0


def _print(findings: pannier.Findings) -> None:
    if findings.columns:
        _print_table(findings)
    if findings.columns and not findings.checks:  # a table whose pictures are not told yet
        _print_problems(findings)
        return
    print(f"{findings.source}: {plural(findings.pictures, 'usable picture')}, {show_bytes(findings.byte_count)}\n")
    count_table(dict(findings.counts), findings.classes, findings.splits)
    sides = sorted((max(size), size, n) for size, n in findings.sizes.items())
    facts = [("formats", _shown(findings.formats)), ("colors", _shown(findings.modes))]
    if sides:
        (_, least, _), (_, most, _) = sides[0], sides[-1]
        facts.append(("sizes", f"{least[1]} x {least[0]} to {most[1]} x {most[0]} pixels, {len(sides)} different"))
    print()
    print_facts(*facts)
    print_wrapped(f"checked  {', '.join(findings.checks)}", indent=" " * 9)
    if findings.skipped_checks:
        print_wrapped(f"not checked, as --quick was said: {', '.join(findings.skipped_checks)}", indent=" " * 9)
    _print_problems(findings)
    if not findings.problems:
        print("\nNothing wrong was found.")


def _print_problems(findings: pannier.Findings) -> None:
    harmful = [problem for problem in findings.problems if problem.is_harmful]
    harmless = [problem for problem in findings.problems if not problem.is_harmful]
    width = max((len(problem.kind) for problem in findings.problems), default=0)
    for title, problems in (("Harms training", harmful), ("To know", harmless)):
        if problems:
            print(f"\n{title}")
        for problem in problems:
            _print_problem(problem, width)


def _print_problem(problem: Problem, width: int) -> None:
    """Kind and count, what it does, what mends it, some examples: each under the other."""
    blank = " " * (width + 12)
    print_wrapped(f"  {problem.kind.ljust(width)}  {problem.count:>6,}  {problem.effect}", indent=blank)
    if problem.mend:
        print_wrapped(f"{blank}to mend: {problem.mend}", indent=blank + "  ")
    for example in problem.examples[: 3 if problem.is_harmful else 1]:
        print_wrapped(f"{blank}{'e.g. ' if problem.count > 1 else ''}{example}", indent=blank + "  ")


def _print_table(findings: pannier.Findings) -> None:
    """A table's columns, how it was read, what conditions leave."""
    print(f"{findings.source}: a table of {plural(findings.rows, 'row')}\n")
    rows = []
    for column in findings.columns:
        odd = f"{column.misfits:,} not {column.mostly}: {', '.join(map(repr, column.examples))}" if column.misfits else ""
        rows.append([column.name, column.type, f"{column.empty:,}", f"{column.stray_blanks:,}", f"{column.distinct:,}", odd])
    header = ["column", "type", "empty", "stray blanks", "distinct"]
    if any(row[-1] for row in rows):
        header.append("odd cells")
    print_table(header, [row[: len(header)] for row in rows], left=2)
    for note in findings.notes:
        print(as_options(f"\n{note[0].upper()}{note[1:]}."))
    if findings.suggestions:
        print("\nColumns that could be")
    for suggestion in findings.suggestions:
        print_wrapped(f"  {suggestion}", indent="    ")
    if findings.funnel:
        print()
    print_funnel(findings.rows, findings.funnel)
    print()


def _shown(counts: dict[str, int]) -> str:
    return ", ".join(f"{name} {n:,}" for name, n in sorted(counts.items(), key=lambda item: -item[1]))
