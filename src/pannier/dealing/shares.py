"""What is said of splits: shares, counts, what is carved out, what stays together, what is frozen."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Any

from pannier.choices import Ties, checked_choice
from pannier.errors import UsageError
from pannier.hashing import checked_seed
from pannier.images.near import Pair, checked_distance
from pannier.results import Result

Shares = dict[str, Fraction]


def read_shares(shares: str | Mapping[str, float | str | Fraction]) -> Shares:
    """Shares by split, as parts of 1: from {"train": 75, ...} or "train=75,val=15,test=10"; 75, 0.75 or 75% each.

    Raises UsageError where they do not sum up to 100 %.
    """
    if isinstance(shares, str):
        shares = dict(_pairs(shares, "`shares` train=75,val=15,test=10"))
    if not shares:
        raise UsageError("no shares are given: write them as train=75,val=15,test=10")
    numbers = {_checked_split(name): _share(name, value) for name, value in shares.items()}
    total = sum(numbers.values(), Fraction(0))
    whole = 100 if total > 1.5 else 1
    if abs(total - whole) > Fraction(whole, 1_000_000):
        shown = f"{float(total):g}" if whole == 100 else f"{float(total) * 100:g} %"
        raise UsageError(f"the shares sum up to {shown}, not to 100: change one of {', '.join(numbers)}")
    return {name: value / total for name, value in numbers.items()}


def _pairs(text: str, example: str) -> list[tuple[str, str]]:
    """Splits and their values out of "train=75,val=15". Raises UsageError."""
    pieces = [piece.partition("=") for piece in text.split(",") if piece.strip()]
    if not pieces or any(not equals for _, equals, _ in pieces):
        raise UsageError(f"{text!r} cannot be read: write it as {example}")
    names = [name.strip() for name, _, _ in pieces]
    if len(set(names)) < len(names):
        raise UsageError(f"{text!r} names a split twice")
    return [(name.strip(), value.strip()) for name, _, value in pieces]


def _checked_split(name: str) -> str:
    if not re.fullmatch(r"[A-Za-z0-9_.-]+", name):
        raise UsageError(f"{name!r} is no name for a split: use letters, digits, '-', '_' and '.'")
    return name


def split_given(name: str) -> str | None:
    """The name that data give a split, without stray blanks; None for nothing but blanks. Raises UsageError."""
    plain = name.strip()
    if re.search(r"[,=@\x00-\x1f]", plain):
        raise UsageError(f"{name!r} is no name for a split: several are named with commas between; give it another name")
    return plain or None


def _share(name: str, value: float | str | Fraction) -> Fraction:
    text = str(value).strip()
    try:
        number = Fraction(text.removesuffix("%").strip())
    except (ValueError, ZeroDivisionError):
        number = Fraction(-1)
    if number < 0:
        raise UsageError(f"the share {name}={value} is not a number of 0 or more")
    return number


def split_rank(split: str) -> tuple[int, str]:
    """Sorts splits: train, val, test, then others by name."""
    usual = ("train", "val", "test")
    return (usual.index(split) if split in usual else len(usual), split)


@dataclass(frozen=True, repr=False)
class Dealing(Result):
    """How records get their splits. What a snapshot was dealt by holds for later ones, until something else is said.

    shares: by split, parts of 1; those that are carved out of `carved_from` where that is given. counts: splits of so many
    records. frozen: splits that neither gain nor lose. near: how unlike near doubles may be, 0 to 12, or None where only
    exact doubles stay together; unlike: pairs of pictures, by their SHA-256, that are none. group_by: the rule whose equal
    values stay together. leaks_allowed: for ever.
    ties: what becomes of records tied to a split which neither shares nor counts name, so that it is fixed from outside.
    """

    shares: Shares | None = None
    seed: int = 0
    counts: Mapping[str, int] = field(default_factory=dict)
    carved_from: str | None = None
    frozen: tuple[str, ...] = ()
    near: int | None = None
    group_by: str | None = None
    leaks_allowed: bool = False
    ties: Ties | None = None
    unlike: tuple[Pair, ...] = ()

    @property
    def open_shares(self) -> Shares:
        """The shares of what is not frozen, among themselves."""
        return {name: share for name, share in (self.shares or {}).items() if name not in self.frozen}

    @property
    def open_counts(self) -> dict[str, int]:
        return {name: count for name, count in self.counts.items() if name not in self.frozen}

    @property
    def deals(self) -> bool:
        return bool(self.open_shares)

    def acting(self, before: Dealing, there: Collection[str]) -> Dealing:
        """What holds while a snapshot is made: a split that is frozen and made by it is frozen only afterwards."""
        frozen = tuple(name for name in self.frozen if name in before.frozen or name in there)
        return replace(self, frozen=frozen)

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON: all that is not as usual; shares as percentages."""
        shares = {split: float(share * 100) for split, share in self.shares.items()} if self.shares else None
        return {"shares": shares, "seed": self.seed} | self.to_document()

    def in_words(self) -> dict[str, Any]:
        """What is not as usual by the options that say it, as they are written."""
        shares = self.shares or {}
        told: dict[str, Any] = {}
        if self.carved_from is not None:
            told = {"carve": _in_words({name: share for name, share in shares.items() if name != self.carved_from}, "%")}
            told["of"] = self.carved_from
        elif shares:
            told["shares"] = _in_words(shares, "")
        told |= {"seed": self.seed} if shares else {}
        told |= {"counts": ",".join(f"{name}={count}" for name, count in self.counts.items())} if self.counts else {}
        told |= {"group_by": self.group_by} if self.group_by else {}
        told |= {"near": self.near} if self.near is not None else {}
        told |= {"ties": self.ties} if self.ties else {}
        told |= {"freeze": ",".join(self.frozen)} if self.frozen else {}
        return told | ({"allow_leaks": True} if self.leaks_allowed else {})

    def to_document(self) -> dict[str, Any]:
        """Plain data for a snapshot's document: what is not as usual."""
        fields = {name: getattr(self, name) for name in ("carved_from", "near", "group_by", "leaks_allowed", "ties")}
        fields |= {"counts": dict(self.counts), "frozen": list(self.frozen), "unlike": [list(pair) for pair in self.unlike]}
        return {name: value for name, value in fields.items() if value or (value == 0 and value is not False)}

    @staticmethod
    def from_document(document: Mapping[str, Any]) -> Dealing:
        shares = document.get("shares")
        more = dict(document.get("dealing") or {})
        more["frozen"] = tuple(more.get("frozen", ()))
        more["unlike"] = tuple((one, other) for one, other in more.get("unlike", ()))
        return Dealing(read_shares(dict(shares)) if shares else None, document.get("seed") or 0, **more)


def _in_words(shares: Mapping[str, Fraction], unit: str) -> str:
    """Shares as they are written, as train=75,val=25; of what no percentage is exact, as parts: train=1/3."""
    exact = all((share * 10000).denominator == 1 for share in shares.values())
    parts = {name: f"{float(share * 100):g}{unit}" if exact else str(share) for name, share in shares.items()}
    return ",".join(f"{name}={part}" for name, part in parts.items())


@dataclass(frozen=True)
class SaidDealing:
    """What was said of dealing, upon what held before. `anew`: shares were said, so earlier shares and counts are gone."""

    shares: Shares | None = None
    seed: int | None = None
    counts: Mapping[str, int] = field(default_factory=dict)
    carved_from: str | None = None
    freeze: tuple[str, ...] = ()
    thaw: bool = False
    near: int | None = None
    group_by: str | None = None
    allow_leaks: bool = False
    ties: Ties | None = None

    @property
    def deals(self) -> bool:
        return self.shares is not None or bool(self.counts)

    def upon(self, before: Dealing) -> Dealing:
        """Raises UsageError where the two do not go together."""
        anew = self.shares is not None
        counts = self.counts or ({} if anew else before.counts)
        shares = self.shares if anew else before.shares
        both = set(counts) & set(shares or {})
        if both:
            what = f"split {min(both)!r} has a count and a share"
            raise UsageError(f"{what}: name the shares of the others, as `shares` train=100")
        if counts and not shares:
            raise UsageError("`counts` says nothing of the rest: give it shares, as `shares` train=100")
        return Dealing(
            shares,
            self.seed if self.seed is not None else before.seed,
            counts,
            self.carved_from if anew else before.carved_from,
            tuple(dict.fromkeys([*(() if self.thaw else before.frozen), *self.freeze])),
            self.near if self.near is not None else before.near,
            self.group_by or before.group_by,
            self.allow_leaks or before.leaks_allowed,
            self.ties or before.ties,
            before.unlike,
        )


@dataclass(frozen=True, kw_only=True)
class DealingOptions:
    """Dealing as it is said; see `Dealing`. carve: shares that are taken out of the split `of`. folds: so many equal splits.

    freeze: splits, or "none". ties: "follow" or "leave-out": what becomes of records that a group or double ties to a split
    which neither shares nor counts name, as a test set fixed by a rule.
    """

    shares: str | Mapping[str, float | str] | None = None
    seed: int | None = None
    counts: str | Mapping[str, int] | None = None
    carve: str | Mapping[str, float | str] | None = None
    of: str | None = None
    folds: int | None = None
    freeze: str | Sequence[str] = ()
    near: int | None = None
    group_by: str | None = None
    allow_leaks: bool = False
    ties: Ties | None = None

    def read_dealing(self) -> SaidDealing:
        """Raises UsageError."""
        freeze = self.freeze.split(",") if isinstance(self.freeze, str) else self.freeze
        named = [name.strip() for name in freeze if name.strip()]
        return SaidDealing(
            self._read_shares(),
            None if self.seed is None else checked_seed(self.seed),
            _read_counts(self.counts),
            self.of,
            tuple(_checked_split(name) for name in named if name != "none"),
            "none" in named,
            None if self.near is None else checked_distance(self.near),
            self.group_by,
            self.allow_leaks,
            None if self.ties is None else checked_choice("ties", self.ties, Ties),
        )

    def _read_shares(self) -> Shares | None:
        if sum(way is not None for way in (self.shares, self.carve, self.folds)) > 1:
            raise UsageError("`shares`, `carve` and `folds` are three ways of dealing: say one of them")
        if (self.carve is None) != (self.of is None):
            raise UsageError("`carve` and `of` belong together, as `carve` val=15% `of` train")
        if self.carve is not None and self.of is not None:
            return _carved(self.carve, _checked_split(self.of))
        if self.folds is not None:
            if self.folds < 2:
                raise UsageError(f"`folds` {self.folds}: must be 2 or more")
            return {f"fold-{i}": Fraction(1, self.folds) for i in range(1, self.folds + 1)}
        return read_shares(self.shares) if self.shares is not None else None


def _carved(carve: str | Mapping[str, float | str], of: str) -> Shares:
    """The shares of the carved splits, and what is left to the one they are carved from."""
    pairs = carve if isinstance(carve, Mapping) else dict(_pairs(carve, "`carve` val=15%"))
    carved = {_checked_split(name): _share(name, value) for name, value in pairs.items()}
    carved = {name: share / 100 if share >= 1 else share for name, share in carved.items()}
    rest = 1 - sum(carved.values(), Fraction(0))
    if of in carved or rest <= 0 or not carved:
        raise UsageError(f"`carve` {carve} `of` {of}: carve less than all of it, into other splits")
    return {of: rest, **carved}


def _read_counts(count: str | Mapping[str, int] | None) -> dict[str, int]:
    if not count:
        return {}
    pairs = count.items() if isinstance(count, Mapping) else _pairs(count, "`counts` test=120")
    counts = {}
    for name, value in pairs:
        if not str(value).isdigit():
            raise UsageError(f"`counts` {name}={value}: give a number of records, as test=120")
        counts[_checked_split(name)] = int(value)
    return counts


def read_part(text: str | float | Fraction, option: str = "subset") -> Fraction:
    """A part of something: "10%" or 0.1, more than 0 and at most all of it. Raises UsageError.

    A number above 1 is refused: whoever means percent writes the sign.
    """
    share = _share(f"`{option}`", text)
    if str(text).strip().endswith("%"):
        share /= 100
    if not 0 < share <= 1:
        raise UsageError(f"`{option}` {text}: write a percentage, for example 10%, or a fraction, for example 0.1")
    return share
