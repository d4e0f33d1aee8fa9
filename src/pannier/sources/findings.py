"""What a survey finds: kinds of problems in order of harm, what each does to training, and the command that mends it."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass, field
from typing import Any

import pyarrow as pa

from pannier.columns import to_frame
from pannier.dealing.shares import split_rank
from pannier.results import Result, plain
from pannier.sources.table_facts import ColumnFacts


@dataclass(frozen=True)
class Concern:
    """A kind of problem: its name, what it does to training, what mends it, if anything must."""

    name: str
    effect: str
    mend: str = ""


# kinds that would make training wrong, in order of harm
HARMFUL = (
    Concern("two labels", "one picture under two labels teaches both", "remove one, or pack `where` leaves both out"),
    Concern("two splits", "what is trained on is also tested on", "remove one, or deal anew: pack `resplit` `shares`"),
    Concern("near splits", "nearly what is trained on is also tested on", "deal anew: pack `resplit` `shares` ... `near` 6"),
    Concern(
        "repeated key", "pack refuses a table that gives two rows one key", "tell them apart: pack `key`, or keep one row"
    ),
    Concern("class names", "a class is learned under two names, or tested and never learned", "pack `rename` old=new"),
    Concern("broken", "pack leaves them out, so they teach nothing", "restore them"),
    Concern("empty", "pack leaves them out, so they teach nothing", "restore them"),
    Concern("missing", "rows without their file: pack leaves them out", "put the files where the table says, or say `root`"),
    Concern("empty folder", "a class without a picture", "fill it, or remove it"),
    Concern(
        "oversized",
        "pack leaves them out, so they teach nothing",
        "pack takes them with `max_pixels`, or more `memory_limit`",
    ),
)
# kinds that are good to know, in order of harm
HARMLESS = (
    Concern("alike classes", "perhaps one class under two names", "pack `rename` old=new"),
    Concern("near labels", "pictures that look alike have different labels", "look at them: survey `sheet` suspects.png"),
    Concern("malformed", "pack leaves those rows out", "mend those lines"),
    Concern("no picture", "pack leaves those rows out: they name none"),
    Concern("unreadable", "pack leaves them out", "give access to them"),
    Concern("unsupported", "pack leaves them out", "save them in another format"),
    Concern("unsafe", "pack leaves them out: their paths lead outside", "make the archive anew"),
    Concern("no label", "pack leaves them out", "pack `unlabeled` keep takes them"),
    Concern("constant", "one color says nothing of a class", "look at them: survey `sheet` suspects.png"),
    Concern("few", "a class with few pictures is hardly learned", "gather more, or pack `only_classes`"),
    Concern("imbalance", "the largest classes outweigh the others", "pack `per_class`, or weigh classes in training"),
    Concern("far smaller", "blurred once they are enlarged", "leave them out: pack `where` 'width >= ...'"),
    Concern("far larger", "slow to decode", "pack `longest_side` 1600"),
    Concern("other shape", "cropped hard, or padded much", "look at them: survey `sheet` suspects.png"),
    Concern("near doubles", "they may be dealt to two splits", "keep them together: pack `near` 6"),
    Concern("doubled", "stored once, and dealt together"),
    Concern("turned", "turned upright as their EXIF data say"),
    Concern("color modes", "other than most; turned to the color that the treatment asks for"),
    Concern("transparent", "laid over white"),
    Concern("animated", "only the first picture is used"),
    Concern("wrong extension", "told by content, so no harm here", "rename them for other tools"),
    Concern("case", "keys that differ in case alone cannot lie side by side on every disk", "rename one of them"),
    Concern("name", "not UTF-8: the key has those bytes percent-encoded", "rename the file"),
    Concern("link", "links that are not followed", "copy what is meant into the folder"),
    Concern("excluded", "not looked at, as was said"),
    Concern("hidden", "hidden or of the system: not looked at"),
    Concern("side text", "no pictures, but perhaps about them", "read them: labels may be in there"),
    Concern("skipped", "no pictures by their content"),
)


@dataclass(frozen=True, repr=False)
class Problem(Result):
    """One kind of problem: its number, all examples, its effect on training, and its remedy.

    `groups`: for kinds that concern several pictures together, the keys of each set.
    """

    kind: str
    count: int
    examples: list[str]
    effect: str
    mend: str
    is_harmful: bool
    groups: list[list[str]] = field(default_factory=list)


@dataclass(frozen=True, repr=False)
class Suspect(Result):
    """A picture to look at: what is suspicious about it (`kind`), its key, label and split."""

    kind: str
    key: str
    label: str | None
    split: str | None
    _read: Callable[[], bytes] = field(compare=False)

    def bytes(self) -> bytes:
        """The picture's file. Raises PictureError."""
        return self._read()


@dataclass(eq=False, repr=False)
class Findings(Result):
    """What a survey found. `counts` by (class, split), `sizes` by (height, width), `formats` and `modes` by name.

    `checks` names what was looked for, `skipped_checks` what was not. Of tables: `columns`, `notes` on how it was read,
    `suggestions` of what its columns could be, and `funnel`, how many rows each condition left. `pictures` are usable ones.
    """

    source: str
    rows: int = 0
    pictures: int = 0
    byte_count: int = 0
    counts: Counter[tuple[str | None, str | None]] = field(default_factory=Counter)
    sizes: Counter[tuple[int, int]] = field(default_factory=Counter)
    formats: Counter[str] = field(default_factory=Counter)
    modes: Counter[str] = field(default_factory=Counter)
    problems: list[Problem] = field(default_factory=list)
    checks: list[str] = field(default_factory=list)
    skipped_checks: list[str] = field(default_factory=list)
    columns: list[ColumnFacts] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    suggestions: list[str] = field(default_factory=list)
    funnel: list[tuple[str, int]] = field(default_factory=list)
    suspects: list[Suspect] = field(default_factory=list)
    table: Any = None

    @property
    def quick(self) -> bool:
        """Whether headers alone were read."""
        return bool(self.skipped_checks)

    @property
    def classes(self) -> list[str]:
        return sorted({label for label, _ in self.counts if label is not None})

    @property
    def splits(self) -> list[str]:
        return sorted({split for _, split in self.counts if split is not None}, key=split_rank)

    @property
    def is_harmful(self) -> bool:
        """Whether something was found that would make training wrong."""
        return any(problem.is_harmful for problem in self.problems)

    def suspicious(self, most: int) -> list[Suspect]:
        """Up to `most` suspicious pictures, worst first, each once."""
        rank = {kind.name: number for number, kind in enumerate((*HARMFUL, *HARMLESS))}
        first: dict[str, Suspect] = {}
        for suspect in sorted(self.suspects, key=lambda suspect: rank[suspect.kind]):
            first.setdefault(suspect.key, suspect)
        return list(first.values())[:most]

    def frame(self) -> Any:
        """A pandas data frame, a row a usable picture: key, label, split, height, width, format, mode, byte_count."""
        return to_frame(self.table)

    def problem_frame(self) -> Any:
        """A pandas data frame, a row a kind of problem."""
        return to_frame(pa.Table.from_pylist([asdict(problem) for problem in self.problems]))

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON."""
        return {
            "source": self.source,
            "quick": self.quick,
            "checks": self.checks,
            "skipped_checks": self.skipped_checks,
            "notes": self.notes,
            "suggestions": self.suggestions,
            "columns": plain(self.columns),
            "rows": self.rows,
            "funnel": [{"where": where, "rows": count} for where, count in self.funnel],
            "pictures": self.pictures,
            "byte_count": self.byte_count,
            "counts": [{"label": label, "split": split, "pictures": n} for (label, split), n in self.counts.items()],
            "sizes": [{"height": h, "width": w, "pictures": n} for (h, w), n in sorted(self.sizes.items())],
            "formats": dict(self.formats),
            "modes": dict(self.modes),
            "problems": plain(self.problems),
            "is_harmful": self.is_harmful,
        }


class Collected:
    """Problems as they are found, by kind."""

    def __init__(self) -> None:
        self._examples: defaultdict[str, list[str]] = defaultdict(list)
        self._groups: defaultdict[str, list[list[str]]] = defaultdict(list)

    def add(self, kind: str, example: str) -> None:
        self._examples[kind].append(example)

    def add_group(self, kind: str, example: str, keys: list[str]) -> None:
        """Adds a set of pictures that have one problem together."""
        self.add(kind, example)
        self._groups[kind].append(keys)

    def add_all(self, kind: str, examples: Iterable[str]) -> None:
        for example in examples:
            self.add(kind, example)

    def problems(self) -> list[Problem]:
        """In order of harm."""
        return [
            self._problem(kind, harmful)
            for kinds, harmful in ((HARMFUL, True), (HARMLESS, False))
            for kind in kinds
            if kind.name in self._examples
        ]

    def _problem(self, kind: Concern, is_harmful: bool) -> Problem:
        examples, groups = self._examples[kind.name], self._groups[kind.name]
        pictures = sum(map(len, groups))
        effect = f"sets of {pictures:,} pictures: {kind.effect}" if pictures > 2 * len(groups) else kind.effect
        return Problem(kind.name, len(examples), examples, effect, kind.mend, is_harmful, groups)
