"""Kinds of things that are told by a word: each word stands here, and the type checker knows no other."""

from __future__ import annotations

from typing import Literal

# why something is not brought in: what is wrong with the picture, or where it lies, or what rules and splits say of it;
# "skipped" is no picture, "name" a name that had to be changed, "malformed" and "no picture" are rows of tables
LeftOutKind = Literal[
    "broken", "empty", "empty folder", "oversized", "unsupported", "unreadable", "missing", "link", "unsafe", "excluded",
    "hidden", "skipped", "name", "malformed", "no picture", "no label", "rule", "frozen", "tie", "doubtful",
]  # fmt: skip
Refusal = tuple[LeftOutKind, str]

# what harms training though every picture is whole
DoubtKind = Literal["two labels", "alike classes"]

# what became of a record from one snapshot to another: the first that holds; "reencoded" where its pixels stayed alike
ChangeKind = Literal["added", "removed", "changed", "moved", "relabelled", "resplit", "columns", "reencoded"]
