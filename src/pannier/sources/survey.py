"""The survey: what is in a source and what is wrong with it, before anything is packed."""

from __future__ import annotations

from array import array
from collections import Counter, defaultdict
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from pannier.columns import Digests, numbered, to_digests
from pannier.errors import SourceError
from pannier.images.facts import MAX_PIXELS
from pannier.machine import usable_cores
from pannier.sources.checking import Checked, Checker, Progress
from pannier.sources.opening import READING_OPTIONS, as_source
from pannier.sources.rows import Chosen, LeftOut, check_same_classes, classes_by_split
from pannier.sources.rules import read_rules, rows_without_label
from pannier.sources.several import choose

# kinds of problems that would make training wrong, in order of harm; each with what to do about it
HARMFUL = {
    "two labels": "one picture under two labels teaches both: remove the wrong one",
    "two splits": "one picture in two splits leaks: remove one, or deal anew with pack --resplit --shares",
    "class names": "say what is meant with pack --rename old=new",
    "broken": "pack leaves them out and lists them; restore them or remove them",
    "empty": "pack leaves them out and lists them; restore them or remove them",
    "oversized": "pack leaves them out; raise --max-pixels to take them",
}
HARMLESS = {
    "missing": "pack leaves them out; put the files where the table says, or say --root",
    "malformed": "pack leaves them out; mend those lines",
    "no picture": "pack leaves them out: the table names none there",
    "unreadable": "pack leaves them out; give access to them",
    "unsupported": "pack leaves them out; save them in another format",
    "no label": "pack leaves them out, unless --unlabeled keep is said",
    "doubled": "packed once, dealt together; no harm",
    "case": "keys that differ in case alone cannot lie side by side on every disk",
    "name": "the key has those bytes percent-encoded",
    "link": "not followed",
    "skipped": "not pictures by their content",
}
EXAMPLES = 5


@dataclass(frozen=True)
class Problem:
    """One kind of problem: how many pictures it concerns, some of them, and what to do. `is_harmful`: training suffers."""

    kind: str
    count: int
    examples: list[str]
    advice: str
    is_harmful: bool


@dataclass
class Findings:
    """What a survey found. `counts` by (class, split), `sizes` by (height, width), `formats` and `modes` by name.

    `quick`: headers alone were read, so nothing is said of pictures that are cut short.
    """

    source: str
    quick: bool
    pictures: int = 0
    byte_count: int = 0
    counts: Counter[tuple[str | None, str | None]] = field(default_factory=Counter)
    sizes: Counter[tuple[int, int]] = field(default_factory=Counter)
    formats: Counter[str] = field(default_factory=Counter)
    modes: Counter[str] = field(default_factory=Counter)
    problems: list[Problem] = field(default_factory=list)

    @property
    def classes(self) -> list[str]:
        return sorted({label for label, _ in self.counts if label is not None})

    @property
    def splits(self) -> list[str]:
        return sorted({split for _, split in self.counts if split is not None})

    @property
    def is_harmful(self) -> bool:
        """Whether something was found that would make training wrong."""
        return any(problem.is_harmful for problem in self.problems)

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        return {
            "source": self.source,
            "quick": self.quick,
            "pictures": self.pictures,
            "byte_count": self.byte_count,
            "counts": [{"label": label, "split": split, "pictures": n} for (label, split), n in self.counts.items()],
            "sizes": [{"height": h, "width": w, "pictures": n} for (h, w), n in sorted(self.sizes.items())],
            "formats": dict(self.formats),
            "modes": dict(self.modes),
            "problems": [vars(problem) for problem in self.problems],
            "is_harmful": self.is_harmful,
        }


def survey(
    source: Any,
    *,
    quick: bool = False,
    max_pixels: int = MAX_PIXELS,
    workers: int | None = None,
    progress: Progress | None = None,
    **rules: Any,
) -> Findings:
    """Looks at every picture of a source: counts, sizes, formats, color modes, and what is wrong, in order of harm.

    Every picture is decoded to its end, in parallel, a few at a time in memory; `quick` reads headers alone. `rules` are
    label, where, label_pattern, key, split_by and rename, see `pannier.sources.rules.Rules`; for a table also picture,
    root, encoding and separator, see `pannier.sources.tables`.
    Raises NotFoundError, SourceError where there is no picture at all.
    """
    source = as_source(source, **{name: rules.pop(name, None) for name in READING_OPTIONS})
    said = read_rules(**rules)
    chosen = choose(source, said)
    if not len(chosen):
        raise SourceError(f"no picture found in {source.name}: it holds nothing that is a picture by its content")
    findings = Findings(source.name, quick)
    whole, digests = array("q"), bytearray()
    problems: dict[str, list[str]] = defaultdict(list)
    with Checker(source, workers or usable_cores(), max_pixels) as checker:
        for row, outcome in enumerate(checker.check_all(chosen)):
            if isinstance(outcome, LeftOut):
                problems[outcome.kind].append(f"{outcome.key} ({outcome.reason})")
            else:
                _count(findings, chosen, row, outcome)
                whole.append(row)
                digests += outcome.sha256
            if progress:
                progress(row + 1, len(chosen))
    for item in source.passed:
        problems[item.kind].append(f"{item.key} ({item.reason})")
    if not (said.are_by_folder and getattr(source, "is_flat", False)):
        problems["no label"] += chosen.keys.take(rows_without_label(chosen)).to_pylist()
    _compare_doubles(chosen.take(np.array(whole, np.int64)), to_digests([bytes(digests)]), problems)
    _compare_names(chosen, problems)
    findings.problems = [
        Problem(kind, len(found), found[:EXAMPLES], advice, kind in HARMFUL)
        for kind, advice in (HARMFUL | HARMLESS).items()
        if (found := problems.get(kind))
    ]
    return findings


def _count(findings: Findings, chosen: Chosen, row: int, checked: Checked) -> None:
    findings.pictures += 1
    findings.byte_count += checked.byte_count
    findings.counts[chosen.labels[row], chosen.splits[row]] += 1
    findings.sizes[checked.facts.height, checked.facts.width] += 1
    findings.formats[checked.facts.format] += 1
    findings.modes[checked.facts.mode] += 1


def _compare_doubles(whole: Chosen, digests: Digests, problems: dict[str, list[str]]) -> None:
    """Pictures that are there more than once; `digests` are those of the rows of `whole`."""
    numbers, firsts = numbered(digests)
    members: dict[int, list[int]] = defaultdict(list)
    for row in np.flatnonzero(np.bincount(numbers, minlength=len(firsts))[numbers] > 1).tolist():
        members[int(numbers[row])].append(row)
    for rows in members.values():
        text = " = ".join(whole.keys.take(rows).to_pylist())
        if len({whole.labels[row] for row in rows}) > 1:
            problems["two labels"].append(text)
        if len({whole.splits[row] for row in rows}) > 1:
            problems["two splits"].append(text)
        problems["doubled"].append(text)


def _compare_names(chosen: Chosen, problems: dict[str, list[str]]) -> None:
    classes = classes_by_split(chosen)
    if len(classes) > 1:
        try:
            check_same_classes(classes)
        except SourceError as error:
            text = str(error).partition(": ")[2].partition(". Say")[0]
            problems["class names"] += text.split("; ")
    folded: dict[str, list[str]] = defaultdict(list)
    for row in chosen:
        folded[row.key.casefold()].append(row.key)
    problems["case"] += [" ~ ".join(keys) for keys in folded.values() if len(keys) > 1]
