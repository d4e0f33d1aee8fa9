"""Names that are suspiciously alike: class names between splits and among themselves, keys that differ in case alone."""

from __future__ import annotations

import difflib
import unicodedata
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping

import numpy as np

from pannier.errors import SourceError
from pannier.sources.findings import Collected
from pannier.sources.rows import Chosen, check_same_classes, classes_by_split

# how alike two names must be, of 1, to be taken for a misspelling; short ones are alike by chance, but for a letter more
ALIKE = 0.85
SHORTEST = 5
SHORTEST_WITH_ONE_MORE = 4
SHORTEST_PLURAL = 3


def compare_names(chosen: Chosen, problems: Collected) -> None:
    """Notes what is suspicious about the class names and keys of some rows."""
    classes = classes_by_split(chosen)
    differing: set[str] = set()
    if len(classes) > 1:
        try:
            check_same_classes(classes)
        except SourceError as error:
            text = str(error).partition(": ")[2].partition(". Say")[0]
            problems.add_all("class names", text.split("; "))
            differing = {name for names in classes.values() for name in names if not _in_all(name, classes)}
    names = sorted({chosen.labels.names[code] for code in np.unique(chosen.labels.codes).tolist() if code >= 0})
    problems.add_all("alike classes", _alike(names, differing))
    folded = Counter(key.casefold() for key in chosen.key_texts())
    if len(folded) < len(chosen):
        pairs: dict[str, list[str]] = defaultdict(list)
        for key in chosen.key_texts():
            if folded[key.casefold()] > 1:
                pairs[key.casefold()].append(key)
        problems.add_all("case", (" ~ ".join(keys) for keys in pairs.values()))


def _alike(names: list[str], differing: set[str]) -> Iterator[str]:
    """Pairs of class names that may be one: alike but for case, blanks or Unicode form, or nearly in spelling."""
    for i, one in enumerate(names):
        for other in names[i + 1 :]:
            if (one in differing and other in differing) or not alike(one, other):
                continue  # the first is said already
            is_written_so = _plain(one) == _plain(other)
            yield f"{one!r} and {other!r}" + (" (but for case, blanks or Unicode form)" if is_written_so else "")


def alike(one: str, other: str) -> bool:
    """Whether two class names may be one."""
    plain = _plain(one), _plain(other)
    return plain[0] == plain[1] or _is_near(*plain)


def _plain(name: str) -> str:
    return "".join(unicodedata.normalize("NFKC", name).casefold().split())


def _is_near(one: str, other: str) -> bool:
    one, other = sorted((one, other), key=len)
    if any(letter.isdigit() for letter in one + other):
        return False  # numbered names are alike on purpose
    if len(one) >= SHORTEST:
        matcher = difflib.SequenceMatcher(None, one, other)
        if matcher.quick_ratio() >= ALIKE and matcher.ratio() >= ALIKE:
            return True
    at = next((i for i, letters in enumerate(zip(one, other, strict=False)) if len({*letters}) > 1), len(one))
    if len(one) < len(other):
        has_one_more = one[at:] == other[at + 1 :]
        return has_one_more and len(one) >= (SHORTEST_PLURAL if at == len(one) else SHORTEST_WITH_ONE_MORE)
    is_swapped = one[at : at + 2] == other[at : at + 2][::-1] and one[at + 2 :] == other[at + 2 :]
    return len(one) >= SHORTEST and (is_swapped or one[at + 1 :] == other[at + 1 :])


def _in_all(name: str, classes: Mapping[str, set[str]]) -> bool:
    return all(name in names for names in classes.values())
