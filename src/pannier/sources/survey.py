"""The survey: what is in a source and what is wrong with it, before anything is packed."""

from __future__ import annotations

from array import array
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator
from concurrent.futures import Executor
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from tempfile import TemporaryFile
from typing import IO, Any

import numpy as np
import pyarrow as pa

from pannier.choices import Progress
from pannier.columns import Digests, NameColumn, Rows, connected, numbered, to_digests
from pannier.errors import PannierError, SourceError, UsageError
from pannier.executors import done_by, worker_name
from pannier.images.facts import MAX_PIXELS, Facts
from pannier.images.miniature import SIDE
from pannier.images.near import USUAL_DISTANCE, checked_distance, near_links
from pannier.machine import usable_cores
from pannier.sources.checking import Checked, Checker, Checking
from pannier.sources.elsewhere import RowsElsewhere, check_again, parted, sample_files
from pannier.sources.findings import Collected, Findings, Suspect
from pannier.sources.headers import HeaderReader
from pannier.sources.naming import compare_names
from pannier.sources.opening import ReadingOptions, as_source
from pannier.sources.paths import is_hidden
from pannier.sources.rows import Chosen, LeftOut, Row, Source
from pannier.sources.rules import RepeatedKeyError, RuleOptions, Rules, rows_without_label
from pannier.sources.selection import refuse_nothing
from pannier.sources.several import choose
from pannier.sources.suggesting import suggestions
from pannier.sources.table_facts import column_facts
from pannier.sources.table_files import ENDINGS as TABLE_ENDINGS
from pannier.sources.table_files import read_table
from pannier.sources.tables import table_from
from pannier.spelling import spelled

HEADER_CHECKS = ["exact doubles", "class names", "formats and color modes", "sizes and shapes", "names", "class sizes"]
PIXEL_CHECKS = ["broken or cut short", "near doubles", "constant pictures"]

# a class with fewer pictures is called small; one so many times larger than another, out of balance
FEW = 10
IMBALANCE = 10
# a picture whose area is so many times the median's is far larger, or far smaller the other way round
FAR_AREA = 16
# a picture is of another shape where its width : height is so many times the median's, or the other way round
FAR_SHAPE = 3
SMALLEST_SIDE = 16

_TEXT_ENDINGS = (".txt", ".md", ".csv", ".tsv", ".json", ".jsonl", ".xml", ".yaml", ".yml", ".toml", ".html", ".ini", ".log")
_ENDINGS = {
    "jpeg": ("jpg", "jpeg", "jpe", "jfif"),
    "png": ("png", "apng"),
    "webp": ("webp",),
    "bmp": ("bmp", "dib"),
    "gif": ("gif",),
    "tiff": ("tif", "tiff"),
    "ppm": ("ppm", "pgm", "pbm", "pnm"),
}
_ALL_ENDINGS = {ending for endings in _ENDINGS.values() for ending in endings}


@dataclass(frozen=True, kw_only=True)
class SurveyOptions(RuleOptions, ReadingOptions):
    """What may be said of a source that is surveyed."""

    source: Any = field(kw_only=False)
    quick: bool = False
    near: int = USUAL_DISTANCE
    max_pixels: int = MAX_PIXELS
    workers: int | None = None
    progress: Progress | None = field(default=None, compare=False)
    executor: Executor | None = field(default=None, compare=False)


@spelled(SurveyOptions)
def survey(said: SurveyOptions) -> Findings:
    """Looks at a source: of a table its columns, of every picture its header and pixels; what is wrong, in order of harm.

    Every picture is decoded to its end, in parallel, a few at a time in memory; some 700 bytes a picture are kept, and 4 KiB
    in a file that goes in the end. quick: headers alone are read, and nothing is said of what needs pixels. near: how unlike
    near doubles may be, 0 to 12; they may be resized, turned, mirrored, brightened, cropped. label, where, label_pattern,
    key, split_by, rename and class_names: see `pannier.sources.rules.Rules`; how the source is read, and memory_limit, as in
    `Store.pack`.
    executor: whose workers read and decode, with `workers` threads each, by default one; headers alone are read here.
    Of a table whose pictures are not there yet, or not told, the columns alone are looked at.
    Raises NotFoundError, UsageError, SourceError where there is no picture at all.
    """
    checked_distance(said.near)
    rule_set, quick = said.read_rules(), said.quick
    try:
        source = as_source(said.source, most_bytes=said.most_bytes, **said.reading())
        chosen = choose(source, rule_set)
        refuse_nothing(source, chosen)
    except (UsageError, SourceError) as error:
        asks = error.argument if isinstance(error, UsageError) else "key" if "`key`" in str(error) else None
        if asks is None or getattr(said, asks, None):
            raise
        return _table_alone(said, error)
    with TemporaryFile() as miniatures:
        surveying = _Surveying(source, chosen, miniatures)
        threads = said.workers or (usable_cores() if said.executor is None else 1)
        how = Checking(threads, said.max_pixels, said.most_bytes, miniatures=True)
        if quick:
            reader = HeaderReader(source, how)
            surveying.look(reader.check_all(chosen.rows(source)), said.progress)
            surveying.hash_candidates(reader)
        elif said.executor is not None:
            surveying.look(_checked_by(said.executor, source, chosen, how), said.progress)
        else:
            with Checker(source, how) as checker:
                surveying.look(([outcome] for outcome in checker.check_all(chosen.rows(source))), said.progress)
        surveying.compare(None if quick else said.near)
    compare_names(chosen, surveying.problems)
    surveying.tell_passed(rule_set)
    findings = surveying.findings()
    findings.checks = HEADER_CHECKS if quick else HEADER_CHECKS + PIXEL_CHECKS
    findings.skipped_checks = PIXEL_CHECKS if quick else []
    return findings


def _checked_by(executor: Executor, source: Source, chosen: Chosen, how: Checking) -> Iterator[list[Checked | LeftOut]]:
    """What became of every row, in order, by the workers of an executor."""
    wanted = np.arange(len(chosen))
    pieces = (((rows, how), own) for rows, own in parted(source, chosen, wanted))
    paths = sample_files(source, chosen, wanted)
    for _, own, (outcomes, worker) in done_by(executor, _check_elsewhere, pieces, paths=paths, in_order=True):
        unusable = [row for row, outcome in zip(own, outcomes, strict=True) if isinstance(outcome, LeftOut)]
        looked = iter(check_again(source, unusable, how, worker))
        yield [
            replace(outcome, row=own[outcome.row.number]) if isinstance(outcome, Checked) else next(looked)
            for outcome in outcomes
        ]


def _check_elsewhere(given: tuple[RowsElsewhere, Checking]) -> tuple[list[Checked | LeftOut], str]:
    rows, how = given
    with Checker(rows, how) as checker:  # what a picture is made of stays there
        outcomes = [
            replace(outcome, data=None) if isinstance(outcome, Checked) else outcome
            for outcome in checker.check_all(rows.rows())
        ]
    return outcomes, worker_name()


def _table_alone(said: SurveyOptions, error: PannierError) -> Findings:
    """What can be said of a table whose pictures cannot be told, or are not there. Raises the error for other sources."""
    source = said.source[0] if isinstance(said.source, list) and len(said.source) == 1 else said.source
    if isinstance(source, (str, Path)) and Path(source).suffix.lower() in TABLE_ENDINGS and Path(source).is_file():
        name = Path(source).name
        told: dict[str, Any] = {"encoding": said.encoding, "separator": said.separator, "null": said.null}
        read = read_table(Path(source), most_bytes=said.most_bytes, **told)
    elif hasattr(source, "column_names") or hasattr(source, "iloc"):
        name, read = "table", table_from(source, said.null)
    else:
        raise error
    findings = Findings(name, len(read.table), notes=[*read.notes, str(error)], suggestions=suggestions(read.table))
    findings.columns, findings.table = column_facts(read.table, read.stray_blanks), read.table
    if isinstance(error, RepeatedKeyError):
        repeated = Collected()
        repeated.add("repeated key", error.where)
        findings.problems, findings.notes = repeated.problems(), [*read.notes]
    findings.skipped_checks = HEADER_CHECKS + PIXEL_CHECKS
    return findings


class _Surveying:
    """One survey under way: facts of usable pictures by column, problems as they are found."""

    def __init__(self, source: Source, chosen: Chosen, miniatures: IO[bytes]) -> None:
        self._source, self._chosen = source, chosen
        self.problems = Collected()
        self.suspects: list[tuple[str, int]] = []
        self._rows, self._sizes, self._bytes, self._crcs = array("q"), array("q"), array("q"), array("L")
        self._digests, self._miniatures = bytearray(), miniatures
        self._formats: list[str] = []
        self._modes: list[str] = []

    def look(self, outcomes: Iterator[Iterable[Checked | LeftOut]], progress: Progress | None) -> None:
        """Takes in what became of every row."""
        row = 0
        for run in outcomes:
            for outcome in run:
                if isinstance(outcome, LeftOut):
                    self.problems.add(outcome.kind, f"{outcome.key} ({outcome.reason})")
                    self.suspects.append((outcome.kind, row))
                else:
                    self._take(row, outcome)
                row += 1
            if progress:
                progress(row, len(self._chosen))

    def _take(self, row: int, checked: Checked) -> None:
        facts = checked.facts
        self._rows.append(row)
        self._sizes.extend((facts.height, facts.width))
        self._bytes.append(checked.byte_count)
        self._crcs.append(checked.crc32)
        self._digests += checked.sha256
        if checked.miniature is not None:
            self._miniatures.write(checked.miniature)
        self._formats.append(facts.format)
        self._modes.append(facts.mode)
        self._note_oddities(row, checked.row.key, facts, checked)

    def _note_oddities(self, row: int, key: str, facts: Facts, checked: Checked) -> None:
        """What a picture tells of itself, without comparing it to others."""
        if facts.turn != 1:
            self.problems.add("turned", f"{key} (by its EXIF data)")
        if facts.mode.endswith("+alpha"):
            self.problems.add("transparent", key)
        if checked.is_animated:
            self.problems.add("animated", key)
        if checked.is_constant:
            self._suspect("constant", row, key)
        ending = key.rpartition(".")[2].lower()
        if ending in _ALL_ENDINGS and ending not in _ENDINGS[facts.format]:
            self.problems.add("wrong extension", f"{key} (it is {facts.format})")

    def _suspect(self, kind: str, row: int, example: str) -> None:
        self.problems.add(kind, example)
        self.suspects.append((kind, row))

    def hash_candidates(self, reader: HeaderReader) -> None:
        """Hashes what may be a double, after headers alone were read: as long as another, and beginning as it does."""
        marks = np.stack([np.array(self._bytes, np.int64), np.array(self._crcs, np.int64)], axis=1)
        _, groups, counts = np.unique(marks, axis=0, return_inverse=True, return_counts=True)
        candidates = np.flatnonzero(counts[groups.ravel()] > 1)
        rows = self._whole.take(candidates).rows(self._source)
        for i, digest in zip(candidates.tolist(), reader.digests(list(rows)), strict=True):
            if digest is not None:
                self._digests[32 * i : 32 * i + 32] = digest

    def compare(self, near: int | None) -> None:
        """Doubles, near doubles within `near` bits, modes, sizes and shapes: every picture against the others."""
        whole = self._whole
        digests = to_digests([bytes(self._digests)])
        numbers, firsts = numbered(digests)
        is_double = np.bincount(numbers, minlength=len(firsts))[numbers] > 1
        if whole and len(whole):
            is_told = ~(digests == 0).all(axis=1)  # where headers alone were read, what cannot be a double was not hashed
            told = np.flatnonzero(is_double & is_told)
            pairs = np.stack([firsts[numbers[told]], told], axis=1)
            self._compare_groups(whole, numbers, told, pairs, ("two labels", "two splits", "doubled"))
            if near is not None:
                self._compare_near(whole, digests, numbers, near)
            self._compare_modes(whole)
            self._compare_sizes(whole)

    @property
    def _whole(self) -> Chosen:
        return self._chosen.take(np.array(self._rows, np.int64))

    def _compare_groups(self, whole: Chosen, groups: Rows, rows: Rows, pairs: Rows, kinds: tuple[str, str, str]) -> None:
        """Pictures that are the same, or nearly: under two labels, in two splits, or neither.

        pairs: (n, 2), rows that are the same or alike. No label, or no split, differs from none.
        """
        members: dict[int, list[int]] = defaultdict(list)
        for row in rows.tolist():
            members[int(groups[row])].append(row)
        sign = " ~ " if kinds[2].startswith("near") else " = "
        for kind, names in zip(kinds, (whole.labels, whole.splits, None), strict=True):
            first = _differing_pairs(pairs, groups, names) if names else {}
            for group, alike in members.items():
                if names is not None and len({names[row] for row in alike} - {None}) < 2:
                    continue
                shown = [*first.get(group, ()), *(row for row in alike if row not in first.get(group, ()))][:4]
                texts = whole.keys.take(shown).to_pylist()
                if names is not None:
                    texts = [f"{key} ({names[row] or 'none'})" for key, row in zip(texts, shown, strict=True)]
                text = sign.join(texts) + (" ..." if len(alike) > len(shown) else "")
                self.problems.add_group(kind, text, whole.keys.take(alike).to_pylist())
                if kind != "doubled":
                    self.suspects += [(kind, self._rows[row]) for row in shown]

    def _compare_near(self, whole: Chosen, digests: Digests, numbers: Rows, near: int) -> None:
        """Near doubles among different pictures."""
        self._miniatures.flush()
        kept = np.memmap(self._miniatures, np.uint8, "r", shape=(len(whole), SIDE, SIDE))
        _, firsts = np.unique(numbers, return_index=True)
        links = firsts[near_links(lambda rows: kept[firsts[rows]], digests[firsts], near).pairs]
        groups, _ = connected(len(numbers), links)
        linked = np.unique(links)
        kinds = ("near labels", "near splits", "near doubles")
        self._compare_groups(whole, groups, linked, links, kinds)

    def _compare_modes(self, whole: Chosen) -> None:
        plain = [mode.removesuffix("+alpha") for mode in self._modes]
        kinds = ["color" if mode in ("ycbcr", "rgb", "palette") else mode for mode in plain]
        usual = Counter(kinds).most_common(1)[0][0]
        for row in (row for row, kind in enumerate(kinds) if kind != usual):
            self.problems.add("color modes", f"{whole.keys[row].as_py()} ({plain[row]})")

    def _compare_sizes(self, whole: Chosen) -> None:
        sizes = np.array(self._sizes, np.float64).reshape(-1, 2)
        area, shape = sizes.prod(axis=1), sizes[:, 1] / sizes[:, 0]
        middle_area, middle_shape = np.median(area), np.median(shape)
        apart = np.maximum(shape / middle_shape, middle_shape / shape)
        for kind, is_so in (
            ("far smaller", (area * FAR_AREA < middle_area) | (sizes.min(axis=1) < SMALLEST_SIDE)),
            ("far larger", area > middle_area * FAR_AREA),
            ("other shape", apart > FAR_SHAPE),
        ):
            for row in np.flatnonzero(is_so).tolist():
                height, width = sizes[row].astype(int)
                self._suspect(kind, self._rows[row], f"{whole.keys[row].as_py()} ({width} x {height})")

    def tell_passed(self, rules: Rules) -> None:
        """What the source passed over, and what no rule gave a label."""
        for item in self._source.passed:
            self.problems.add(_kind_of(item), f"{item.key} ({item.reason})")
        if not (rules.are_by_folder and getattr(self._source, "is_flat", False)):
            self.problems.add_all("no label", self._chosen.keys.take(rows_without_label(self._chosen)).to_pylist())

    def findings(self) -> Findings:
        whole, source = self._whole, self._source
        findings = Findings(source.name, len(source.table()), len(self._rows), sum(self._bytes), funnel=self._chosen.funnel)
        pairs = np.stack([whole.labels.codes, whole.splits.codes])
        codes, counts = np.unique(pairs, axis=1, return_counts=True)
        for (label, split), count in zip(codes.T.tolist(), counts.tolist(), strict=True):
            names = (_name(whole.labels, label), _name(whole.splits, split))
            findings.counts[names] = count
        sizes = np.array(self._sizes, np.int64).reshape(-1, 2)
        findings.sizes = Counter((height, width) for height, width in sizes.tolist())
        findings.formats, findings.modes = Counter(self._formats), Counter(self._modes)
        self._compare_class_sizes(findings)
        findings.problems = self.problems.problems()
        findings.suspects = [self._suspected(*suspect) for suspect in self.suspects]
        if hasattr(source, "stray_blanks"):
            findings.columns = column_facts(source.table(), source.stray_blanks)
            findings.notes = list(getattr(source, "notes", []))
            findings.suggestions = suggestions(source.table())
        records = {"key": whole.keys, "label": whole.labels.to_arrow(), "split": whole.splits.to_arrow()}
        pixels = {"height": sizes[:, 0], "width": sizes[:, 1], "format": self._formats, "mode": self._modes}
        findings.table = pa.table({**records, **pixels, "byte_count": np.array(self._bytes, np.int64)})
        return findings

    def _suspected(self, kind: str, row: int) -> Suspect:
        chosen = self._chosen
        numbers = chosen.numbers[row : row + 1]
        picture = Row(int(numbers[0]), chosen.keys[row].as_py(), int(self._source.byte_counts(numbers)[0]))
        return Suspect(kind, picture.key, chosen.labels[row], chosen.splits[row], partial(self._source.read, picture))

    def _compare_class_sizes(self, findings: Findings) -> None:
        totals: Counter[str] = Counter()
        for (label, _), count in findings.counts.items():
            if label is not None:
                totals[label] += count
        if len(totals) < 2:
            return
        self.problems.add_all("few", (f"{name} ({n:,})" for name, n in sorted(totals.items()) if n < FEW))
        (largest, most), (smallest, least) = totals.most_common()[0], totals.most_common()[-1]
        if most >= IMBALANCE * least:
            self.problems.add("imbalance", f"{largest} has {most:,} pictures, {smallest} {least:,}")


def _differing_pairs(pairs: Rows, groups: Rows, names: NameColumn) -> dict[int, tuple[int, int]]:
    """By group: the first pair of rows in it that have two different names."""
    one, other = names.codes[pairs[:, 0]], names.codes[pairs[:, 1]]
    found: dict[int, tuple[int, int]] = {}
    for first, second in pairs[(one != other) & (one >= 0) & (other >= 0)].tolist():
        found.setdefault(int(groups[first]), (first, second))
    return found


def _kind_of(item: LeftOut) -> str:
    """What is no picture is told apart: hidden and system files, text beside the pictures, the rest."""
    if item.kind != "skipped":
        return item.kind
    name = item.key.rpartition("/")[2].lower()
    if any(is_hidden(part.encode()) for part in item.key.split("/")):
        return "hidden"
    return "side text" if name.endswith(_TEXT_ENDINGS) else "skipped"


def _name(names: NameColumn, code: int) -> str | None:
    return names.names[code] if code >= 0 else None
