"""pannier measure"""

from __future__ import annotations

import shlex
import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import draw_into, live_bar, print_json, print_table, print_wrapped
from pannier.errors import UsageError
from pannier.units import show_bytes

if TYPE_CHECKING:
    from pannier.measuring.answer import Answer
    from pannier.measuring.rows import Trial
    from pannier.measuring.runs import Against

_HOW = {
    "batch_size": opt.text("Pictures a batch to try, as 16,32,64; 32 unless said.", "N,..."),
    "workers": opt.text("Numbers of workers to try; 1,2 unless said.", "N,..."),
    "processes": opt.text("Processes of their own to try, 0 for threads; 0 unless said.", "N,..."),
    "ahead": opt.text("Batches kept ready to try; by default as limits allow.", "N,..."),
    "memory_limit": opt.text(
        "Limits to try, for example 64MiB,none; by default none, then the smallest that is as fast.", "BYTES,..."
    ),
    "source": opt.text(
        "Where pictures come from: shards, rendered, folder:PATH; shards and rendered by default.", "SOURCE,..."
    ),
    "step": opt.text("A consumer that takes so long a batch: 20ms, or python:20ms holding the interpreter lock.", "TIME"),
    "cold": opt.switch("Drop the files from the system's cache before each turn."),
    "search": opt.switch("Try a third of the settings at most, for the fastest under each limit."),
    "seed": opt.number("Seed of order and chance; 0 unless said."),
    "subset": opt.text("A part, as 10%, fair in every class, fixed by the seed.", "PART"),
    "rounds": opt.number("How many times all take turns; 12 by default, fewer where that takes over a minute."),
    "slice_seconds": opt.Declared(float | None, "How long each turn is; 0.4 unless said."),
}
INTERRUPTED = 130
_COUNTS = ("batch_size", "workers", "processes", "ahead")
_LISTS = ("memory_limit", "source")


@opt.reads_afar
@opt.takes_treatment
@opt.takes("how", _HOW)
def measure(
    store: opt.Store,
    split: opt.Split = None,
    treatment: opt.TreatmentOptions = opt.NO_TREATMENT,
    how: opt.Said = opt.NOTHING,
    save_to: str | None = opt.value(None, "Write treatment and setting as a TOML file for feed and docket.", "FILE"),
    save: str | None = opt.value(None, "Keep what was measured, every round of it, as JSON.", "FILE"),
    against: str | None = opt.value(None, "Hold it against one that was kept; exit status 1 where it is slower.", "FILE"),
    tolerance: str = opt.value("10%", "With --against: how much slower, beyond the noise, is let pass.", "SHARE"),
    figure: opt.Figure = None,
    json: opt.AsJson = False,
) -> int:
    """Measure throughput under memory limits that the system enforces, against the machine's own ceiling.

    What is given several values is tried with each. It ends in the setting to take, and why. Exit status 1 where every
    trial failed. The default split is train, or all records where there is none.

    [dim]$[/dim] pannier measure swatches.store --size 96 --workers 2 --memory-limit 64MiB,none
    [dim]$[/dim] pannier measure swatches.store --size 96 --source shards,rendered --processes 0,1 --step 5ms
    [dim]$[/dim] pannier measure swatches.store --size 96 --save spring.json
    [dim]$[/dim] pannier measure swatches.store --size 96 --against spring.json --tolerance 5%
    """
    from pannier.images.treatment_file import save_feeding
    from pannier.measuring.runs import against as held_against
    from pannier.measuring.runs import read_run, save_run
    from pannier.measuring.settings import ENOUGH, MeasureOptions
    from pannier.measuring.sweep import MeasuringInterrupted
    from pannier.measuring.sweep import measure as sweep

    before, allowed = read_run(against) if against else None, _share(tolerance)
    snapshot = pannier.open(store)
    sizes = str(treatment.fields.get("size", "")).split(",")
    one = replace(treatment, fields=treatment.fields | {"size": sizes[0]}) if len(sizes) > 1 else treatment
    tried: dict[str, Any] = {"size": sizes} if len(sizes) > 1 else {}
    tried |= {name: value for name, value in how.items() if name not in (*_COUNTS, *_LISTS)}
    tried |= {name: _counts(name, how[name]) for name in _COUNTS if name in how}
    tried |= {name: [each.strip() for each in how[name].split(",")] for name in _LISTS if name in how}
    if tried.get("memory_limit") == [ENOUGH]:
        tried["memory_limit"] = ENOUGH
    through, of = one.treatment(snapshot), split or opt.measured_split(snapshot)
    with live_bar("measure") as bar:
        tried["progress"] = lambda done, total: bar.show(done, total, lambda: "rounds")
        try:
            found, is_whole = sweep(snapshot, through, of, MeasureOptions(**tried)), True
        except MeasuringInterrupted as interrupted:
            found, is_whole = interrupted.found, False
    if not is_whole and not found.trials:
        raise KeyboardInterrupt
    is_measured = any(trial.rate for trial in found.trials)
    if save:
        save_run(found, save)
    if save_to and is_measured:
        size = found.answer.best.size
        kept = through if through.size == size else through.with_fields(size=size)
        save_feeding(kept, found.answer.said_options, save_to)
    compared = held_against(found, before) if before else None
    told = found.answer if is_measured else None
    if json:
        more = {"answer": told.to_dict() if told else None, "against": compared.to_dict() if compared else None}
        print_json(found.to_dict() | more)
    else:
        _print(found, told)
        if told:
            _print_answer(told, store, of, treatment, through, found.settings.get("rendering_missing", {}))
        if compared:
            _print_against(compared, allowed)
    if figure:
        draw_into(figure, found)
    if not is_whole:
        print("interrupted: that is what had been measured", file=sys.stderr)
        return INTERRUPTED
    return 0 if is_measured and not (compared and compared.slower(allowed)) else 1


def _counts(name: str, text: str) -> list[int]:
    words = [word.strip() for word in text.split(",")]
    if not all(map(str.isdigit, words)):
        raise UsageError(f"--{name.replace('_', '-')} {text}: write numbers, as 1,2,4")
    return [int(word) for word in words]


def _share(text: str) -> float:
    try:
        share = float(text.removesuffix("%")) / (100 if text.endswith("%") else 1)
    except ValueError:
        share = -1.0
    if not 0 <= share < 1:
        raise UsageError(f"--tolerance {text}: write a share, as 10% or 0.1")
    return share


def _columns(trial: Trial) -> dict[str, str]:
    """What tells a row from others, by the column's name."""
    from pannier.measuring.settings import source_in_short

    return {
        "size": "x".join(map(str, trial.size)),
        "source": source_in_short(trial.source),
        "batch": str(trial.batch_size),
        "processes": str(trial.processes),
        "ahead": "-" if trial.ahead is None else str(trial.ahead),
    }


def _print(found: pannier.Measurement, told: Answer | None) -> None:
    cells = {name: {_columns(trial)[name] for trial in found.trials} for name in _columns(found.trials[0])}
    varying = [name for name, values in cells.items() if len(values) > 1 and name != "ahead"]
    if len({row.source for row in found.trials}) > 1 and "source" not in varying:
        varying.append("source")
    has_step = found.settings.get("step") is not None
    header = [*varying, "workers", "limit", "pictures/s", "10-90 %", "of ceiling", "peak memory"]
    header += ["starved"] * has_step + ["bound by", ""]
    rows = []
    for trial in [*found.ceiling, *found.trials]:
        is_ceiling, own = trial in found.ceiling, _columns(trial)
        limit = "none" if trial.memory_limit_bytes is None else show_bytes(trial.memory_limit_bytes)
        shown = [own[name] if not is_ceiling or name in ("size", "source") else "" for name in varying]
        row = [*shown, str(trial.workers), "ceiling" if is_ceiling else limit, "-", "-", "-", "-"]
        at = len(varying) + 2
        if trial.pictures_per_second is not None:
            rate = trial.pictures_per_second
            spread, share = f"{rate.low:,.0f}-{rate.high:,.0f}", f"{trial.share_of_ceiling or 0:.2f}"
            row[at : at + 3] = [f"{rate.median:,.0f}", spread, share]
        if trial.status != "ok":
            row[at] = trial.status.replace("_", " ")
        if trial.peak_bytes is not None:
            row[at + 3] = show_bytes(trial.peak_bytes)
        starved = "-" if is_ceiling or trial.starved_share is None else f"{trial.starved_share:.0%}"
        row += [starved] * has_step + [trial.binds, "best" if told and trial is told.best else ""]
        rows.append(row)
    print_table(header, rows, left=len(varying))
    _print_notes(found)


def _print_notes(found: pannier.Measurement) -> None:
    notes = []
    if any((trial.share_of_ceiling or 0) > 1 for trial in found.trials):
        notes.append(
            "Over 1.00: threads share caches that the bare processes of the ceiling do not, or the machine drifted."
        )
    if any(not trial.is_enforced for trial in found.trials):
        notes.append("Limits of processes are enforced by the system for each, and watched for all of them together.")
    dropped = [trial.dropped_share for trial in found.trials if trial.dropped_share is not None]
    if found.settings.get("cold"):
        share = f"{min(dropped):.0%} of the files' pages or more were" if dropped else "nobody can say whether they were"
        notes.append(f"Cold: {share} dropped before each turn.")
    if found.settings.get("is_far"):
        rate = max((row.rate for row in found.reading), default=0.0)
        notes.append(f"From afar: reading alone, many requests at once, has {rate:,.0f} pictures/s.")
    notes += [f"{_cell(trial)}: {trial.reason}" for trial in found.trials if trial.status != "ok"]
    if notes:
        print()
    for note in notes:
        print_wrapped(note)


def _print_answer(
    told: Answer,
    store: str,
    split: str | None,
    treatment: opt.TreatmentOptions,
    through: pannier.Treatment,
    missing: dict[str, int],
) -> None:
    """The answer in words; the command and the call that feed as it was measured, and what must be rendered first."""
    from pannier.images.treatment_file import as_text
    from pannier.measuring.settings import FOLDER

    print()
    print_wrapped(" ".join(told.sentences), indent="")
    fields = {name: value for name, value in treatment.fields.items() if name != "size"}
    said = ["--treatment", treatment.file] if treatment.file else []
    said += ["--treatment", as_text(fields)] if fields else []
    size = "x".join(map(str, dict.fromkeys(told.best.size)))
    said += ["--size", size] if "size" in treatment.fields or not treatment.file else []
    opened = f"pannier.open({store!r})"
    if told.best.source.startswith(FOLDER):
        store = told.best.source.removeprefix(FOLDER)
        opened = f"pannier.unpacked({store!r}, unlabeled='keep')"
        split = split if split and Path(store, split).is_dir() else None
    print()
    if told.best.source == "rendered" and missing.get("x".join(map(str, told.best.size))):
        print(f"  {shlex.join(['pannier', 'render', store, '--split', split or 'all', *said])}")
    print(f"  {_command(told, store, split, said)}")
    written = through if through.size == told.best.size else through.with_fields(size=told.best.size)
    print(f"  {told.call(split, snapshot=opened, treatment=f'pannier.{written!r}')}")


def _command(told: Answer, store: str, split: str | None, treatment: list[str]) -> str:
    """The line that feeds so."""
    words = ["pannier", "feed", store, "--split", split or "all", *treatment]
    for name, value in told.said_options.items():
        word = [] if value is True else ["none" if value is None else str(value)]
        words += [f"--{name.replace('_', '-')}", *word]
    return shlex.join(words)


def _print_against(compared: Against, allowed: float) -> None:
    print()
    slower = compared.slower(allowed)
    if compared.ratios:
        rows = [
            [
                _cell(ratio.now),
                f"{ratio.of_rates.median:.2f}",
                f"{ratio.of_rates.low:.2f}-{ratio.of_rates.high:.2f}",
                f"{ratio.of_shares.median:.2f}",
                "slower" if ratio in slower else "",
            ]
            for ratio in compared.ratios
        ]
        print_table(["now to then", "pictures/s", "95 %", "of ceiling", ""], rows)
    for reason in compared.reasons:
        print_wrapped(f"Not compared: {reason}.")


def _cell(trial: Trial) -> str:
    from pannier.measuring.runs import named

    return named(trial)
