"""Dockets: a small text file for the code's repository, with which anyone gets the same pictures and batches."""

from __future__ import annotations

import os
import tomllib
from pathlib import Path
from typing import Any, Literal

from pydantic import ConfigDict, Field, ValidationError

from pannier.choices import LabelAs, Last, Layout
from pannier.errors import DamageError, LimitError, NotFoundError, UsageError, did_you_mean
from pannier.images.canary import canary_digest
from pannier.images.cost import after_fit_bytes
from pannier.images.fields import Fields
from pannier.images.treatment import Treatment
from pannier.images.treatment_file import plain_fields
from pannier.sources.sql import check_simple
from pannier.storage.opening import is_remote
from pannier.store.snapshots import SHOWN_DIGITS
from pannier.store.state import ALL, State, open_store
from pannier.units import show_bytes

FORMAT = 1
ENDING = ".docket"
HEADER = "# With this file and the store, anyone gets the same pictures and batches: see pannier feed\n\n"

_LONGEST_LINE = 100
LONGEST_SHOWN = 100


class _Part(Fields):
    model_config = ConfigDict(frozen=True, extra="forbid", strict=True)


class FeedPart(_Part):
    """How the snapshot is fed; what is not said is free."""

    split: str | None = None
    batch_size: int | None = Field(default=None, ge=1)
    seed: int | None = Field(default=None, ge=0)
    where: str | None = None
    shuffle: bool | None = None
    augment: bool | None = None
    last: Last | None = None
    steps: int | None = Field(default=None, ge=1)
    subset: str | None = None
    label_as: LabelAs | None = None
    treatment: str | None = None
    canary: str | None = None

    def options(self) -> dict[str, Any]:
        """What it fixes, as `snapshot.feed` takes it."""
        return self.model_dump(exclude={"treatment", "canary"}, exclude_none=True)


class ExportPart(_Part):
    """How the snapshot lies in a folder, which is named relative to the docket."""

    folder: str
    layout: Layout = "class"
    where: str | None = None
    hard_links: bool = False


class Docket(_Part):
    """Which snapshot, and how it is fed or laid out. `store` is a hint, relative to the docket; nothing is executed.

    `packed_from` names the sources that it came from; the snapshot has their recipes.
    """

    docket: Literal[1]
    store: str
    snapshot: str = Field(pattern=r"^[0-9a-f]{64}$")
    content_id: str = Field(pattern=r"^[0-9a-f]{64}$")
    classes: list[str]
    packed_from: list[str] | None = None
    feed: FeedPart = FeedPart()
    treatment: dict[str, Any] | None = None
    export: ExportPart | None = None

    @staticmethod
    def of(
        snapshot: State,
        *,
        store: str | None = None,
        treatment: Treatment | None = None,
        export: ExportPart | None = None,
        **feed: Any,
    ) -> Docket:
        """The docket of a snapshot. store: how its address is written, else as it was opened. feed: see `FeedPart`.

        Raises TreatmentError if the treatment's standard values are not measured yet, UsageError if the snapshot has splits
        and none is given: a model is not trained on all of them.
        """
        if export is None:
            refuse_no_split(snapshot, feed.get("split"))
        fields: dict[str, Any] = {name: value for name, value in feed.items() if value is not None}
        if treatment is not None:
            treatment.check_ready()
            fields |= {"treatment": treatment.identity, "canary": canary_digest(treatment)}
        return _checked(
            {
                "docket": FORMAT,
                "store": store or str(snapshot.storage.address),
                "snapshot": snapshot.id,
                "content_id": snapshot.content_id,
                "classes": snapshot.classes,
                "packed_from": [" ".join(each["source"]) for each in snapshot.recipes] or None,
                "feed": fields,
                "treatment": None if treatment is None else plain_fields(treatment),
                "export": None if export is None else export.model_dump(),
            },
            "the docket",
        )

    def to_dict(self) -> dict[str, Any]:
        """Plain data for JSON: what `text` says."""
        return self.model_dump(exclude_none=True)

    def __repr__(self) -> str:
        return f"<Docket of snapshot {self.snapshot[:SHOWN_DIGITS]} in {self.store}>"

    __str__ = __repr__

    @staticmethod
    def read(path: str | Path) -> Docket:
        """Reads a file. Raises NotFoundError, UsageError for an unknown field or an impossible value."""
        try:
            with open(path, "rb") as file:
                return _checked(tomllib.load(file), str(path))
        except FileNotFoundError:
            raise NotFoundError(f"no docket {path}") from None
        except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
            raise UsageError(f"{path} is no docket that can be read: {error}") from None

    def text(self) -> str:
        """As it stands in a file: TOML."""
        import tomlkit

        document = tomlkit.item(self.to_dict())
        for value in document.values():
            if isinstance(value, tomlkit.items.Array):
                value.multiline(len(value.as_string()) > _LONGEST_LINE)
        return HEADER + document.as_string()

    def read_treatment(self, most_bytes: int | None = None) -> Treatment | None:
        """The treatment in it. Raises UsageError where it, or this machine's decoder, is not that of the docket's making.

        most_bytes: of memory, for one picture; raises LimitError.
        """
        if self.treatment is None:
            return None
        treatment = Treatment(**self.treatment)
        if self.feed.treatment is not None and treatment.identity != self.feed.treatment:
            raise UsageError(
                f"the treatment differs: its digest is {treatment.identity[:12]}, the docket was made with "
                f"{self.feed.treatment[:12]}: a field was changed by hand, or by another version of Pannier"
            )
        one = treatment.byte_count + after_fit_bytes(treatment)
        if most_bytes is not None and one > most_bytes:
            what = f"one picture of the docket's treatment takes {show_bytes(one, up=True)}"
            raise LimitError(f"{what}, over a memory limit of {show_bytes(most_bytes)}", smallest_limit=one)
        if self.feed.canary is not None and canary_digest(treatment) != self.feed.canary:
            raise UsageError(
                "the decoder differs: the canary picture has other pixels here than where the docket was made, so batches "
                "would differ in places; use the same versions of OpenCV and simplejpeg"
            )
        return treatment

    def open(self, store: str | Path | None = None, *, beside: str | Path | None = None) -> State:
        """The snapshot, out of `store` or where the docket says, beside it or here. Raises where it is not the same.

        All that is read of it is held against the SHA-256 that leads from the docket to it.
        """
        place = _hinted(self.store, beside) if store is None else store
        if store is None and self.store.startswith(("http://", "https://")):
            from pannier.sources.gathering.addresses import is_this_machine  # which loads much that others need not

            if is_this_machine(self.store):
                raise UsageError(
                    f"the docket names a store on this very machine, {self.store}: a docket from elsewhere must not make "
                    "requests here; give the store with `store` if it is meant"
                )
        try:
            opened = open_store(str(place))
        except NotFoundError as error:
            if store is not None:
                raise
            raise NotFoundError(f"{error}; the docket names it as {self.store}: say where it is with `store`") from None
        if self.snapshot not in opened.snapshot_ids():
            raise NotFoundError(
                f"{place} has no snapshot {self.snapshot[:12]}: bring it there with pannier copy, or give another `store`"
            )
        snapshot = opened.state_of(self.snapshot, by_digest=True)
        if snapshot.content_id != self.content_id:
            raise DamageError(
                f"the content differs: snapshot {snapshot.id[:12]} has content {snapshot.content_id[:12]}, the docket says "
                f"{self.content_id[:12]}: one of the two was changed by hand"
            )
        if snapshot.classes != self.classes:
            raise UsageError(
                f"the class numbers differ: {', '.join(snapshot.classes)} in the snapshot, "
                f"{', '.join(self.classes)} in the docket"
            )
        return snapshot


def refuse_no_split(snapshot: State, split: str | None) -> None:
    """Raises UsageError where a snapshot has splits and none is given."""
    if split is None and snapshot.splits:
        raise UsageError(
            f"say which split the docket feeds: `split` {', '.join(snapshot.splits)}, or {ALL} for every record",
            argument="split",
        )


def relative_to(address: str | Path, folder: str | Path) -> str:
    """How a store's address is written into a file in a folder, so that both can move together; a bucket's as it is."""
    if is_remote(str(address)):
        return str(address)
    return Path(os.path.relpath(Path(address).absolute(), folder)).as_posix()


def _hinted(store: str, beside: str | Path | None) -> str | Path:
    """Where the store is by a docket's hint: relative to the docket, or else to where one works."""
    if is_remote(store):
        return store
    path = Path(store)
    relative = path if beside is None else Path(beside) / path
    return relative if relative.exists() or not path.exists() else path


def _checked(fields: dict[str, Any], name: str) -> Docket:
    try:
        docket = Docket(**fields)
    except ValidationError as error:
        problem = error.errors()[0]
        field = ".".join(str(part) for part in problem["loc"])
        if problem["type"] == "extra_forbidden":
            parts: dict[str, type[_Part]] = {"feed": FeedPart, "export": ExportPart}
            known = parts.get(str(problem["loc"][0]), Docket).model_fields
            what = f"a docket has no field {field!r}{did_you_mean(field.rpartition('.')[2], known)}"
        elif problem["type"] == "missing":
            what = f"the field {field!r} is missing"
        elif field == "docket":
            what = f"it is of format {problem['input']}; this Pannier reads {FORMAT}"
        else:
            what = f"{field} = {problem['input']!r}: {problem['msg']}"
        raise UsageError(f"{name}: {what}") from None
    for part in (docket.feed, docket.export):
        if part is not None and part.where is not None:
            check_simple(part.where, f"{name}: where = {part.where[:LONGEST_SHOWN]!r}")
    return docket
