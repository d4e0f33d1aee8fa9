"""pannier survey"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from pannier.cli.options import NO_RULES, AsJson, RuleOptions, Sources, takes_rules
from pannier.cli.terminal import count_table, plural, print_facts, print_json, progress_bar

if TYPE_CHECKING:
    from pannier.sources.survey import Findings


@takes_rules
def survey(
    source: Sources,
    rules: RuleOptions = NO_RULES,
    quick: Annotated[
        bool, typer.Option("--quick", metavar="", help="Read headers alone; pictures cut short are not found.")
    ] = False,
    workers: Annotated[int | None, typer.Option(help="Threads; by default all usable cores.")] = None,
    json: AsJson = False,
) -> int:
    """What is in a source, and what is wrong with it, in order of harm.

    Exit status 1 where something would make training wrong: broken, empty, doubled across classes.

    [dim]$[/dim] pannier survey archive/
    """
    from pannier.sources.survey import survey as look

    with progress_bar("survey") as progress:
        findings = look(source, quick=quick, workers=workers, progress=progress, **rules)
    if json:
        print_json(findings.to_dict())
    else:
        _print(findings)
    return 1 if findings.is_harmful else 0


def _print(findings: Findings) -> None:
    from pannier.sizes import show_bytes

    print(f"{findings.source}: {plural(findings.pictures, 'usable picture')}, {show_bytes(findings.byte_count)}\n")
    count_table(dict(findings.counts), findings.classes, findings.splits)
    sides = sorted((max(size), size, n) for size, n in findings.sizes.items())
    facts = [("formats", _shown(findings.formats)), ("colors", _shown(findings.modes))]
    if sides:
        (_, least, _), (_, most, _) = sides[0], sides[-1]
        facts.append(("sizes", f"{least[1]} x {least[0]} to {most[1]} x {most[0]} pixels, {len(sides)} different"))
    print()
    print_facts(facts)
    harmful = [problem for problem in findings.problems if problem.is_harmful]
    harmless = [problem for problem in findings.problems if not problem.is_harmful]
    for title, problems in (("Harms training", harmful), ("To know", harmless)):
        if problems:
            print(f"\n{title}")
        for problem in problems:
            print(f"  {problem.kind}: {problem.count:,}. {problem.advice[0].upper()}{problem.advice[1:]}.")
            for example in problem.examples[: 3 if problem.is_harmful else 1]:
                print(f"      {example}")
    if not findings.problems:
        print("\nNothing wrong was found.")
    if findings.quick:
        print("\nHeaders alone were read: what is cut short was not looked for.")


def _shown(counts: dict[str, int]) -> str:
    return ", ".join(f"{name} {n:,}" for name, n in sorted(counts.items(), key=lambda item: -item[1]))
