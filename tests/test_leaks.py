"""Splits that cannot leak: groups, doubles and near doubles stay together, frozen stays frozen, nothing moves."""

from __future__ import annotations

import hashlib
import io
import shutil
from collections import Counter, defaultdict
from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
import pandas
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

import pannier
from pannier.columns import Digests
from pannier.dealing.shares import Dealing, read_shares
from pannier.dealing.splits import targets
from pannier.demo.weaves import DRAFTS, draw_swatch
from pannier.errors import NotFoundError, SourceError, UsageError
from pannier.hashing import Hashes, text_hash
from pannier.images import near
from pannier.images.alike import likeness
from pannier.images.miniature import SIDE, miniature
from pannier.images.near import Fetch, Near, Pair, near_links
from pannier.packing import grouping
from pannier.packing.grouping import settle
from pannier.packing.merging import merge
from pannier.store.manifest import Manifest
from pannier.store.manifest_files import SCHEMA
from tests.conftest import draw, encoded, fill

SHARES = read_shares("train=60,val=25,test=15")


@dataclass(frozen=True)
class Made:
    """A made-up record: its label, which picture it shows, which of some look-alikes that is, and its group."""

    label: str
    picture: int
    look: int
    group: str | None


def digest_of(picture: int, look: int) -> bytes:
    return look.to_bytes(4, "big") + hashlib.sha256(str(picture).encode()).digest()[:28]


def no_hashes(digests: Digests) -> Hashes:
    return np.zeros(len(digests), np.uint64)


def shown_as(digests: Digests) -> Fetch:
    """Miniatures: pictures of one look differ a little, others in all."""
    looks = [int.from_bytes(each.tobytes()[:4], "big") for each in digests]
    noise = [np.random.default_rng(int(each[5])).integers(-3, 4, (SIDE, SIDE)) for each in digests]
    shown = [np.clip(draw(look, SIDE, SIDE)[:, :, 0] + off, 0, 255) for look, off in zip(looks, noise, strict=True)]
    return lambda rows: np.array([shown[row] for row in rows.tolist()], np.uint8)


def rows_of(made: list[tuple[str, Made]]) -> pa.Table:
    columns: dict[str, list[object]] = {name: [] for name in SCHEMA.names}
    for key, record in sorted(made, key=lambda each: (text_hash(each[0]), each[0])):
        facts = {"hash": text_hash(key), "key": key, "label": record.label, "split": None, "crc32": 0, "byte_count": 1}
        facts |= {"sha256": digest_of(record.picture, record.look), "width": 8, "height": 8, "format": "png", "mode": "rgb"}
        for name, value in (facts | {"turn": 1, "progressive": False}).items():
            columns[name].append(value)
    table = pa.table({field.name: pa.array(columns[field.name], field.type) for field in SCHEMA}, schema=SCHEMA)
    groups = dict(made)
    return table.append_column("group", pa.array([groups[key].group for key in columns["key"]], pa.string()))


def grown(manifest: Manifest, rows: pa.Table, dealing: Dealing) -> tuple[Manifest, set[str]]:
    """The manifest with those rows dealt, and the keys of those that were left out."""
    revision, _ = merge(rows, manifest, likeness=no_hashes)
    labels, splits = manifest.codes("label"), manifest.codes("split")
    counts = Counter(zip(labels[0].tolist(), splits[0].tolist(), strict=True))
    named = {(labels[1][label], splits[1][split]): count for (label, split), count in counts.items()}
    revision = settle(revision, named, dealing, shown_as).revision
    base, delta, digests = manifest.changed(revision.changes())
    return Manifest(base, delta, digests), {item.key for item in revision.left_out}


def splits_of(manifest: Manifest) -> dict[str, str]:
    table = manifest.table()
    return dict(zip(table.column("key").to_pylist(), table.column("split").to_pylist(), strict=True))


made = st.builds(
    Made,
    label=st.sampled_from(["plain", "satin", "twill"]),
    picture=st.integers(0, 50),
    look=st.integers(0, 40),
    group=st.sampled_from([None, None, *(f"bolt{i}" for i in range(12))]),
)
deliveries = st.lists(st.lists(made, min_size=1, max_size=14), min_size=1, max_size=4)


def sampled(scale: int) -> settings:
    """So many cases in a sample, `scale` times as many in a proof."""
    return settings(max_examples=60 * scale, deadline=None, derandomize=True, database=None)


@pytest.mark.proof
def test_nothing_straddles_and_nothing_moves_however_a_dataset_grows(scale: int) -> None:
    cases = {"deliveries": deliveries, "seed": st.integers(0, 9), "near": st.sampled_from([None, 6])}
    sampled(scale)(given(**cases, freeze=st.booleans())(grow))()
    print(f"\n{60 * scale} datasets, each grown by up to four deliveries")


def grow(deliveries: list[list[Made]], seed: int, near: int | None, freeze: bool) -> None:
    manifest, before, everything, frozen = Manifest.empty(), {}, {}, set()
    for number, delivery in enumerate(deliveries):
        dealing = Dealing(SHARES, seed, near=near, group_by="bolt", frozen=("test",) if freeze and number else ())
        rows = [(f"{number}/{i:03}", record) for i, record in enumerate(delivery)]
        everything |= dict(rows)
        manifest, left_out = grown(manifest, rows_of(rows), dealing)
        splits = splits_of(manifest)
        assert set(splits) == set(everything) - left_out - (set(everything) - set(before) - {key for key, _ in rows})
        assert all(splits[key] == split for key, split in before.items()), "what is there keeps its split"
        assert None not in splits.values()
        if dealing.frozen:
            assert {key for key, split in splits.items() if split == "test"} == frozen, "frozen stays frozen"
        where: dict[object, set[str]] = defaultdict(set)
        for key, split in splits.items():
            record = everything[key]
            where["group", record.group if record.group else key].add(split)
            where["picture", digest_of(record.picture, record.look)].add(split)
            if near:
                where["look", record.look].add(split)
        assert all(len(found) == 1 for found in where.values()), "no group straddles"
        frozen = {key for key, split in splits.items() if split == "test"}
        everything = {key: record for key, record in everything.items() if key in splits}
        before = splits


@pytest.mark.proof
def test_shares_are_exact_to_the_record_where_nothing_holds_together(scale: int) -> None:
    counts = st.lists(st.lists(st.integers(0, 25), min_size=3, max_size=3), min_size=1, max_size=4)
    sampled(scale)(given(sizes=counts, seed=st.integers(0, 9))(deal_exactly))()
    print(f"\n{60 * scale} datasets")


def deal_exactly(sizes: list[list[int]], seed: int) -> None:
    manifest, total, picture = Manifest.empty(), Counter(), 0
    for number, counts in enumerate(sizes):
        rows = []
        for label, count in zip(("plain", "satin", "twill"), counts, strict=True):
            for _ in range(count):
                picture += 1
                rows.append((f"{number}/{picture}", Made(label, picture, picture, None)))
        if rows:
            manifest, _ = grown(manifest, rows_of(rows), Dealing(SHARES, seed))
            total.update(record.label for _, record in rows)
    if not total:
        return
    table = manifest.table()
    found = Counter(zip(table.column("label").to_pylist(), table.column("split").to_pylist(), strict=True))
    for label, count in total.items():
        wanted = targets(count, SHARES)
        placed = {name: found[label, name] for name in SHARES}
        # what was dealt before keeps its place: so a split may have gone past what it gets now, by one at most a delivery
        assert sum(placed.values()) == count
        assert all(abs(placed[name] - wanted[name]) <= (0 if len(sizes) == 1 else len(sizes)) for name in SHARES)


def save(path: Path, pixels: np.ndarray, kind: str = "jpeg", **options: object) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(encoded(pixels, kind, **options))


def coarse(seed: int) -> np.ndarray:
    return draw(5000 + seed, 160, 200)


@pytest.fixture
def alike(tmp_path: Path) -> Path:
    """Pictures of which each is there five times: as it is, small, compressed again, turned, mirrored."""
    for i in range(12):
        pixels, weave = coarse(i), ("twill", "satin")[i % 2]
        image = Image.fromarray(pixels)
        save(tmp_path / "alike" / weave / f"{i}.jpg", pixels)
        save(tmp_path / "alike" / weave / f"{i}-small.jpg", np.asarray(image.resize((100, 80))))
        save(tmp_path / "alike" / weave / f"{i}-again.jpg", pixels, quality=40)
        save(tmp_path / "alike" / weave / f"{i}-turned.png", np.rot90(pixels).copy(), "png")
        save(tmp_path / "alike" / weave / f"{i}-mirrored.webp", pixels[:, ::-1].copy(), "webp")
    return tmp_path / "alike"


def test_near_doubles_stay_together_also_across_deliveries(alike: Path, tmp_path: Path, store: pannier.Store) -> None:
    later = tmp_path / "later"
    for weave in ("twill", "satin"):
        for path in sorted((alike / weave).glob("*-turned.png")):
            (later / weave).mkdir(parents=True, exist_ok=True)
            shutil.move(path, later / weave / path.name)
    first = store.pack(alike, shares="train=50,val=50", near=8).snapshot
    second = store.pack(later, prefix="later").snapshot
    assert second.dealing.near == 8
    where = defaultdict(set)
    for record in second:
        where[record.key.rpartition("/")[2].split(".")[0].split("-")[0]].add(record.split)
    assert len(where) == 12
    assert all(len(splits) == 1 for splits in where.values())
    assert min(first.splits.values()) >= 20


def cloth(seed: int, side: int = 360) -> np.ndarray:
    """A photograph of a woven cloth, or of something else, gray."""
    rng = np.random.default_rng(seed)
    if seed % 2:
        return np.asarray(Image.fromarray(draw(seed, 90, 120)[:, :, 0]).resize((side * 4 // 3, side)))
    weave = list(DRAFTS)[seed // 2 % len(DRAFTS)]
    return np.asarray(Image.fromarray(draw_swatch(weave, side, side * 4 // 3, rng)).convert("L"))


def variants(pixels: np.ndarray) -> dict[str, np.ndarray]:
    height, width = pixels.shape
    image, by = Image.fromarray(pixels), (0.05, 0.08, 0.02, 0.0)

    def cut(left: float, top: float, right: float, bottom: float) -> np.ndarray:
        return pixels[round(top * height) : round((1 - bottom) * height), round(left * width) : round((1 - right) * width)]

    return {
        "smaller": np.asarray(image.resize((width // 2, height // 2))),
        "again": np.asarray(Image.open(io.BytesIO(encoded(pixels, quality=60)))),
        "mirrored": pixels[:, ::-1],
        "turned": np.rot90(pixels),
        "brighter": np.clip(pixels * 1.15 + 8, 0, 255).astype(np.uint8),
        "cropped": cut(0.05, 0.05, 0.05, 0.05),
        "cropped much": cut(0.1, 0.1, 0.1, 0.1),
        "cropped somewhere and turned": np.rot90(cut(*by), 3),
    }


def links_of(shown: list[np.ndarray], unlike: tuple[Pair, ...] = (), **how: Any) -> Near:
    small = np.array([np.frombuffer(miniature(pixels), np.uint8).reshape(SIDE, SIDE) for pixels in shown])
    return near_links(lambda rows: small[rows], digests_for(len(small)), 6, unlike, **how)


def digests_for(count: int) -> Digests:
    return np.array([list(hashlib.sha256(str(i).encode()).digest()) for i in range(count)], np.uint8)


@pytest.mark.proof
def test_variants_are_linked_and_unlike_pictures_are_not(scale: int) -> None:
    """Of so many pictures each variant is linked to its own by itself, but for one of 54; unlike ones are not."""
    count = 12 if scale == 1 else 54
    parted: Counter[str] = Counter()
    for seed in range(count):
        pixels = cloth(seed)
        for name, other in variants(pixels).items():
            parted[name] += not len(links_of([pixels, other]).pairs)
    print(f"\n{count} pictures, parted of each kind: {dict(parted)}")
    assert max(parted.values()) <= 1, parted
    unlike = 100 if scale == 1 else 10_000
    false = links_of([cloth(1000 + seed, 160 + 20 * (seed // 2 % 4)) for seed in range(unlike)]).pairs
    print(f"{unlike:,} unlike pictures, linked: {len(false)}")
    assert len(false) <= 1


def test_links_are_the_same_whatever_the_order_and_whoever_asks() -> None:
    pictures = [cloth(seed, 120) for seed in range(8)]
    shown = pictures + [variants(pixels)["cropped"] for pixels in pictures] + [cloth(50 + seed, 120) for seed in range(8)]
    found = links_of(shown)
    assert {tuple(pair) for pair in found.pairs.tolist()} == {(i, i + 8) for i in range(8)}
    assert found.likeness.min() > 0.67
    assert found.pairs.tolist() == links_of(shown).pairs.tolist()
    back = 23 - links_of(shown[::-1]).pairs
    assert {tuple(sorted(pair)) for pair in back.tolist()} == {(i, i + 8) for i in range(8)}
    assert {tuple(pair) for pair in links_of(shown, asked=3).pairs.tolist()} == {(i, i + 8) for i in range(3)}
    apart = digests_for(24)[[2, 10]]
    unlike = (apart[1].tobytes().hex(), apart[0].tobytes().hex())
    assert {tuple(pair) for pair in links_of(shown, (unlike,)).pairs.tolist()} == {(i, i + 8) for i in range(8) if i != 2}


def test_pictures_of_one_shade_look_like_nothing() -> None:
    shades = [np.full((40, 40), shade, np.uint8) for shade in (0, 90, 255, 255)]
    assert not len(links_of([*shades, cloth(1, 60)]).pairs)
    assert len(links_of([cloth(1, 60), cloth(1, 60)]).pairs) == 1


def test_groups_stay_together_and_what_they_cost_is_said(tmp_path: Path, store: pannier.Store) -> None:
    for i in range(40):
        save(tmp_path / "a" / ("twill", "satin")[i % 2] / f"bolt{i // 4}_{i}.jpg", draw(i))
    rule = "regexp_extract(stem, '^(bolt[0-9]+)', 1)"
    result = store.pack(tmp_path / "a", shares="train=70,val=30", group_by=rule)
    bolts = defaultdict(set)
    for record in result.snapshot:
        bolts[record.side["group"]].add(record.split)
    assert len(bolts) == 10
    assert all(len(splits) == 1 for splits in bolts.values())
    assert result.snapshot.dealing.group_by == rule
    save(tmp_path / "b" / "twill" / "bolt3_900.jpg", draw(900))
    later = store.pack(tmp_path / "b").snapshot
    assert {later["twill/bolt3_900.jpg"].split} == bolts["bolt3"]
    (tmp_path / "t.csv").write_text("file,weave\nb/twill/bolt3_900.jpg,twill\n")
    with pytest.raises(UsageError, match="groups are kept since an earlier pack, and `group_by` .* give this source"):
        store.pack(tmp_path / "t.csv", label="weave")
    with pytest.raises(SourceError, match="group 'bolt0' is in two splits"):
        store.change(where="key LIKE '%/bolt0_0.jpg'", set={"split": "val" if "train" in bolts["bolt0"] else "train"})


def test_leaks_given_from_outside_are_refused_unless_allowed_for_ever(tmp_path: Path, store: pannier.Store) -> None:
    fill(tmp_path / "train", 3)
    fill(tmp_path / "val", 3, first=20)
    shutil.copy(tmp_path / "train" / "twill" / "0001.jpg", tmp_path / "val" / "twill" / "copy.jpg")
    with pytest.raises(SourceError, match="one picture is in two splits"):
        store.pack(tmp_path, exclude="s.store/")
    allowed = store.pack(tmp_path, exclude="s.store/", allow_leaks=True).snapshot
    assert allowed.dealing.leaks_allowed
    assert store.change(where="label = 'plain'", remove=True).snapshot.dealing.leaks_allowed


def test_a_frozen_split_neither_gains_nor_loses(tmp_path: Path, store: pannier.Store) -> None:
    first = store.pack(fill(tmp_path / "a", 20), shares="train=70,test=30", freeze="test").snapshot
    fixed = {record.key: record.sha256 for record in first if record.split == "test"}
    key = sorted(fixed)[0]
    later = fill(tmp_path / "b", 20, first=40)
    (later / "twill" / "double.jpg").write_bytes(first[key].bytes())
    result = store.pack(later)
    assert [(item.key, item.kind) for item in result.left_out] == [("twill/double.jpg", "frozen")]
    changed = tmp_path / "c" / key
    changed.parent.mkdir(parents=True)
    changed.write_bytes(encoded(draw(7777)))
    assert [item.kind for item in store.pack(tmp_path / "c").left_out] == ["frozen"]
    mirrored = store.pack(later, remove_missing=True)
    now = {record.key: record.sha256 for record in mirrored.snapshot if record.split == "test"}
    assert {*now.values()} == {*fixed.values()}, "though one of its pictures lies elsewhere in the source"
    assert {*now} ^ {*fixed} == {key, "twill/double.jpg"}
    assert len(mirrored.snapshot) == len(fixed) + 60
    kept = {item.key: item.reason for item in mirrored.left_out if item.key in fixed}
    assert kept == dict.fromkeys({*fixed} - {key}, "test is frozen: the record is not removed")
    assert pannier.verify(store) == []


def test_shares_apply_to_what_is_not_fixed(tmp_path: Path) -> None:
    fill(tmp_path / "a" / "train", 20)
    fill(tmp_path / "a" / "test", 5, first=40)
    carved = pannier.create(tmp_path / "1").pack(tmp_path / "a", carve="val=15%", of="train").snapshot
    assert carved.splits == {"train": 51, "val": 9, "test": 15}
    more = carved.store.pack(fill(tmp_path / "b" / "train", 20, first=60).parent, prefix="more").snapshot
    assert more.splits == {"train": 102, "val": 18, "test": 15}
    flat = fill(tmp_path / "c", 30)
    rule = "CASE WHEN stem < '0005' THEN 'test' END"
    given_test = pannier.create(tmp_path / "2").pack(
        flat, split_by=rule, shares="train=80,val=20", allow_missing_classes=True
    )
    assert given_test.snapshot.splits == {"train": 60, "val": 15, "test": 15}
    counted = pannier.create(tmp_path / "3").pack(flat, counts="test=12", shares={"train": 75, "val": 25}).snapshot
    assert counted.splits == {"train": 60, "val": 18, "test": 12}
    folded = pannier.create(tmp_path / "4").pack(flat, folds=5).snapshot
    assert folded.splits == {f"fold-{i}": 18 for i in range(1, 6)}
    assert folded.feed(folded.all_but("fold-2")).records == 72
    with pytest.raises(UsageError, match="only 90 records"):
        pannier.create(tmp_path / "5").pack(flat, counts="test=91", shares="train=100")


def test_a_subset_is_fair_fixed_and_the_same_everywhere(packed: pannier.Snapshot) -> None:
    with packed.feed("train", subset="20%", seed=4, shuffle=False) as feed:
        keys = [key for batch in feed for key in batch.keys]
    assert Counter(key.split("/")[0] for key in keys) == {"plain": 3, "satin": 3, "twill": 3}
    with packed.feed("train", subset=Fraction(1, 2), seed=4, shuffle=False) as feed:
        larger = [key for batch in feed for key in batch.keys]
    assert set(keys) < set(larger)
    with pytest.raises(UsageError, match="`subset` 0"):
        packed.feed("train", subset="0%")


def test_a_tie_between_two_splits_is_left_out(tmp_path: Path, store: pannier.Store) -> None:
    for split, seed in (("train", 1), ("val", 2)):
        for weave in ("twill", "satin"):
            save(tmp_path / "a" / split / weave / "x.png", draw(seed + (weave == "twill") * 10), "png")
    store.pack(tmp_path / "a", columns="'bolt-' || split as group")
    first = store.snapshot()
    assert first["train/twill/x.png"].side == {"group": "bolt-train"}
    sink = io.BytesIO(first["val/twill/x.png"].bytes())
    (tmp_path / "b" / "twill").mkdir(parents=True)
    (tmp_path / "b" / "twill" / "y.png").write_bytes(sink.getvalue())
    result = store.pack(tmp_path / "b", shares="train=50,val=50", columns="'bolt-train' as group")
    assert [item.kind for item in result.left_out] == ["tie"]


def test_nothing_that_is_there_moves_into_a_frozen_split(tmp_path: Path, store: pannier.Store) -> None:
    first = store.pack(fill(tmp_path / "a", 20), shares="train=70,test=30", freeze="test").snapshot
    frozen = {record.key: record.sha256 for record in first if record.split == "test"}
    shown = first[sorted(frozen)[0]].bytes()
    key = next(record.key for record in first if record.split == "train" and record.key.startswith("twill/"))
    save(tmp_path / "b" / key, draw(1))
    (tmp_path / "b" / key).write_bytes(shown)
    packed = store.pack(tmp_path / "b")
    assert [(item.key, item.kind) for item in packed.left_out] == [(key, "frozen")]
    for said in ({"near": 6}, {"shares": "train=60,val=40", "near": 6}):
        try:
            store.change(**said)
        except SourceError:
            continue  # near doubles that lie in two splits already
    now = {record.key: record.sha256 for record in store.snapshot() if record.split == "test"}
    assert now == frozen


def test_what_has_no_split_is_dealt_when_shares_are_said(tmp_path: Path, store: pannier.Store) -> None:
    assert store.pack(fill(tmp_path / "a", 20)).snapshot.splits == {}
    assert store.pack(tmp_path / "a", shares="train=75,val=25").snapshot.splits == {"train": 45, "val": 15}
    assert not store.pack(tmp_path / "a", shares="train=75,val=25").is_new


def bolts(folder: Path, groups: list[int], **columns: list[Any]) -> Path:
    """A table of pictures that differ, with the bolt that each is of."""
    for i in range(len(groups)):
        (folder / f"{i:03}.jpg").write_bytes(encoded(draw(i, 24, 32)))
    names = [f"{i:03}.jpg" for i in range(len(groups))]
    pandas.DataFrame({"photo": names, "label": "twill", "bolt": groups, **columns}).to_csv(folder / "t.csv", index=False)
    return folder / "t.csv"


def test_a_test_set_that_a_rule_fixes_gains_nothing_unasked(tmp_path: Path, run: Callable[..., Any]) -> None:
    """17 records are named as test, 17 others are of their bolts. Shares are of what remains."""
    groups = [i // 2 if i < 34 else 100 + i for i in range(120)]
    table = bolts(tmp_path, groups, part=["test" if i < 34 and i % 2 == 0 else None for i in range(120)])
    how: dict[str, Any] = {"picture": "photo", "split_by": "part", "group_by": "bolt", "shares": "train=80,val=20"}
    says = "test is fixed from outside, and 17 more records would come to it by groups or doubles: 001.jpg goes with 000.jpg"
    with pytest.raises(SourceError, match=says):
        pannier.create(tmp_path / "1").pack(table, **how)
    follow = pannier.create(tmp_path / "2").pack(table, ties="follow", **how)
    assert follow.snapshot.splits == {"train": 69, "val": 17, "test": 34}
    left = pannier.create(tmp_path / "3").pack(table, ties="leave-out", **how)
    assert left.snapshot.splits == {"train": 69, "val": 17, "test": 17}
    assert sum(item.kind == "tie" for item in left.left_out) == 17
    assert left.snapshot.dealing.ties == "leave-out"
    (tmp_path / "120.jpg").write_bytes((tmp_path / "000.jpg").read_bytes())
    double = [{"photo": "120.jpg", "label": "twill", "bolt": 7, "part": None}]
    later = left.snapshot.store.pack(double, root=tmp_path, **{**how, "shares": None})
    assert later.left_out[0].reason == "goes with 000.jpg in test, which is fixed", "what was said of ties holds later too"
    words = ("--picture", "photo", "--split-by", "part", "--group-by", "bolt", "--shares", "train=80,val=20")
    said = run("pack", table, tmp_path / "4", *words)
    assert (said.status, "say --ties follow to have them there" in said.err) == (1, True), said.err


def test_why_shares_are_missed_is_told_by_the_set_that_stays_together(tmp_path: Path, run: Callable[..., Any]) -> None:
    table = bolts(tmp_path, [0] * 20 + [*range(1, 11)])
    words = ("--picture", "photo", "--group-by", "bolt", "--shares", "train=50,val=50")
    ended = run("pack", table, tmp_path / "s.store", *words)
    assert "the largest set in it are 20 records, 000.jpg among them." in ended.out


def test_every_dealing_can_be_asked_why(tmp_path: Path, run: Callable[..., Any]) -> None:
    groups = [i // 2 for i in range(60)]
    table = bolts(tmp_path, groups, part=["test" if i < 8 else None for i in range(60)])
    store = pannier.create(tmp_path / "s.store")
    how: dict[str, Any] = {
        "picture": "photo",
        "split_by": "part",
        "group_by": "bolt",
        "shares": "train=80,val=20",
        "seed": 5,
    }
    first = store.pack(table, **how).snapshot
    assert str(first.why("000.jpg")) == f"given by the rule part, since snapshot {first.id[:12]}"
    dealt = first.why("030.jpg").because
    assert dealt.endswith("dealt by shares train=80,val=20, seed 5, among twill, with 1 more that stay together"), dealt
    (tmp_path / "later").mkdir()
    (tmp_path / "later" / "060.jpg").write_bytes((tmp_path / "030.jpg").read_bytes())
    later = [{"photo": "060.jpg", "label": "twill", "bolt": 30, "part": None}]
    second = store.pack(later, root=tmp_path / "later", **how | {"shares": None}).snapshot
    tied = second.why("060.jpg")
    assert tied.tied_to == ("030.jpg",)
    assert tied.because == f"the same picture as 030.jpg in {second['030.jpg'].split}"
    assert second.why("030.jpg").since == first.id
    third = store.change(where="key = '031.jpg' OR key = '030.jpg' OR key = '060.jpg'", set="split=val").snapshot
    told = third.why("031.jpg")
    assert told.because == ("set by hand; the source says train" if told.since == third.id else dealt)
    shown = run("show", store.path, "000.jpg").out
    assert f"because  given by the rule part, since snapshot {first.id[:12]}" in shown
    with pytest.raises(NotFoundError, match="no record 'x'"):
        third.why("x")


def test_a_record_that_moved_is_where_it_was_for_the_reason_it_had(tmp_path: Path) -> None:
    folder = fill(tmp_path / "a", 10)
    store = pannier.create(tmp_path / "s.store")
    first = store.pack(folder, shares="train=70,val=30").snapshot
    (folder / "twill" / "0003.jpg").rename(folder / "satin" / "moved.jpg")
    second = store.pack(folder).snapshot
    told = second.why("satin/moved.jpg")
    assert told.since == first.id
    assert told.because.startswith("as twill/0003.jpg, which has moved: dealt by shares train=70,val=30")


def test_doubles_are_listed_drawn_and_declared_unlike_for_good(
    tmp_path: Path, store: pannier.Store, run: Callable[..., Any]
) -> None:
    pixels = cloth(1, 200)
    save(tmp_path / "a" / "twill" / "1.png", pixels, "png")
    save(tmp_path / "a" / "satin" / "cut.jpg", variants(pixels)["cropped"])
    save(tmp_path / "a" / "satin" / "same.png", pixels, "png")
    for seed in range(2, 8):
        save(tmp_path / "a" / ("twill", "satin")[seed % 2] / f"{seed}.jpg", cloth(seed, 120))
    snapshot = store.pack(tmp_path / "a", shares="train=50,val=50", near=6).snapshot
    found = snapshot.doubles()
    assert {(each.key, each.other) for each in found.pairs if each.likeness < 1} in (
        {("satin/cut.jpg", "twill/1.png")},
        {("satin/cut.jpg", "satin/same.png")},
    )
    assert found.sets == [["satin/cut.jpg", "satin/same.png", "twill/1.png"]]
    assert len({snapshot[key].split for key in found.sets[0]}) == 1
    assert found.to_frame()["unlike"].tolist() == ["", ""]
    assert snapshot.doubles(0).sets == [["satin/same.png", "twill/1.png"]]
    table, sheet = tmp_path / "pairs.csv", tmp_path / "pairs.png"
    ended = run("doubles", store.path, "--table", table, "--figure", sheet)
    assert "3 records in 1 set of doubles (near 6); 0 pairs in two splits" in ended.out
    assert sheet.exists()
    filled = pandas.read_csv(table, dtype={"unlike": "object"})
    filled["unlike"] = ["yes" if likeness < 1 else "" for likeness in filled["likeness"]]
    filled.to_csv(table, index=False)
    assert run("change", store.path, "--unlike", table).status == 0
    assert store.snapshot().doubles().sets == [["satin/same.png", "twill/1.png"]]
    assert "1 pair declared unlike" in run("show", store.path).out
    again = store.change(shares="train=60,val=40", seed=3).snapshot
    assert again.dealing.unlike == store.snapshot().dealing.unlike != ()
    with pytest.raises(UsageError, match="both show the same picture"):
        store.change(unlike=[("twill/1.png", "satin/same.png")])
    with pytest.raises(NotFoundError, match="no record 'twill/one.png'"):
        store.change(unlike="twill/one.png=satin/same.png")
    with pytest.raises(UsageError, match=r"write a pair as a\.jpg=b\.jpg"):
        store.change(unlike="pairs.xlsx")
    assert store.change(unlike="none").snapshot.dealing.unlike == ()
    assert len(store.snapshot().doubles().sets[0]) == 3


def test_miniatures_are_derived_kept_checked_and_made_again(tmp_path: Path, store: pannier.Store) -> None:
    fill(tmp_path / "a", 6)
    save(tmp_path / "a" / "twill" / "whole.png", cloth(1, 200), "png")
    save(tmp_path / "a" / "twill" / "cut.png", variants(cloth(1, 200))["cropped"], "png")
    store.pack(tmp_path / "a", shares="train=50,val=50", near=6)
    kept = sorted((store.path / "miniatures").glob("*.arrow"))
    assert len(kept) == 1
    first = store.snapshot().doubles()
    assert [(each.key, each.other) for each in first.pairs] == [("twill/cut.png", "twill/whole.png")]
    assert sorted((store.path / "miniatures").glob("*.arrow")) == kept
    damaged = bytearray(kept[0].read_bytes())
    damaged[-3000] ^= 1
    kept[0].write_bytes(damaged)
    (finding,) = pannier.verify(store.path)
    assert finding.file.startswith("miniatures/")
    assert finding.is_damage
    assert store.snapshot().doubles().pairs == first.pairs
    assert not [finding for finding in pannier.verify(store.path, repair=True) if finding.is_damage]
    shutil.rmtree(store.path / "miniatures")
    assert store.snapshot().doubles().pairs == first.pairs
    shutil.rmtree(store.path / "miniatures")
    assert store.pack(fill(tmp_path / "a", 8), preview=True).added == 6
    assert not (store.path / "miniatures").exists(), "a preview keeps nothing"
    (shard,) = (store.path / "shards").glob("*.arrow")
    whole = shard.read_bytes()
    shard.write_bytes(bytes(len(whole)))
    assert pannier.open(store.path).doubles().pairs == []
    shard.write_bytes(whole)
    assert pannier.open(store.path).doubles().pairs == first.pairs, "what could not be made was not kept"


def test_a_frozen_split_takes_labels_and_says_what_it_withheld(tmp_path: Path, store: pannier.Store) -> None:
    def said(**changes: dict[str, str]) -> pannier.PackResult:
        splits = ("train", "val", "test") * 3
        rows = [{"id": f"{i}.png", "label": "twill", "part": split} for i, split in enumerate(splits)]
        rows = [{**row, **changes.get(f"at{i}", {}), "file": encoded(draw(i), "png")} for i, row in enumerate(rows)]
        how = {"key": "id", "label": "label", "split_by": "part", "picture": "file", "allow_missing_classes": True}
        return store.pack(rows, **how, freeze="test")

    said()
    done = said(at2={"label": "rib", "part": "train"}, at1={"part": "test"}, at0={"label": "rib"})
    assert (done.relabelled, done.resplit) == (2, 0)
    assert {item.key: item.reason for item in done.left_out} == {
        "2.png": "test is frozen: the record stays in test, not train",
        "1.png": "test is frozen: the record stays in val, not test",
    }
    snapshot = store.snapshot()
    assert {record.key for record in snapshot if record.label == "rib"} == {"0.png", "2.png"}
    assert {record.key for record in snapshot if record.split == "test"} == {"2.png", "5.png", "8.png"}
    assert said(at2={"label": "rib", "part": "train"}, at0={"label": "rib"}).is_new is False


def test_a_crowded_set_costs_no_more_with_its_square(monkeypatch: pytest.MonkeyPatch) -> None:
    """Small smooth pictures are alike by chance: the likeliest alone are compared, and doubles are found among them."""
    rng = np.random.default_rng(0)
    coarse = [Image.fromarray(rng.integers(0, 256, (3, 4), dtype=np.uint8)) for _ in range(2100)]
    pictures = [each.resize((32, 24), Image.Resampling.BICUBIC) for each in coarse]
    doubles = [each.transpose(Image.Transpose.ROTATE_90).resize((48, 64)) for each in pictures[:20]]
    small = [np.frombuffer(miniature(np.asarray(each)), np.uint8).reshape(64, 64) for each in [*pictures, *doubles]]
    miniatures, digests = np.array(small), rng.integers(0, 256, (len(small), 32)).astype(np.uint8)
    compared = 0

    def counted(*given: Any) -> float:
        nonlocal compared
        compared += 1
        return likeness(*given)

    monkeypatch.setattr(near, "likeness", counted)
    counts = {}
    for most in (2000, 20):
        monkeypatch.setattr(near, "_MOST_WRONG", most)
        compared = 0
        found = near.near_links(lambda rows: miniatures[rows], digests, 6)
        counts[most] = compared - len(found.pairs)
    assert counts[20] < 0.8 * counts[2000]
    linked = {tuple(pair) for pair in found.pairs.tolist()}
    assert sum((at, 2100 + at) in linked for at in range(20)) >= 15


def test_near_duplicates_in_two_splits_are_told_and_near_holds_or_is_refused(
    tmp_path: Path, run: Callable[..., Any]
) -> None:
    """What a new user does: pack with shares, hear of the pairs, say --near, and get splits that keep it."""
    for i in range(24):
        pixels = draw(i, 90, 120)
        save(tmp_path / "a" / ("twill", "satin")[i % 2] / f"{i:02}.png", pixels)
        save(tmp_path / "a" / ("twill", "satin")[i % 2] / f"{i:02}-again.jpg", pixels[:, ::-1] if i % 3 else pixels[5:, 5:])
    path = tmp_path / "s.store"
    told = run("pack", tmp_path / "a", path, "--shares", "train=60,val=40").out
    store = pannier.open_store(path)
    straddling = [each for each in store.snapshot().doubles(6).pairs if each.straddles]
    assert len(straddling) > 3
    assert f"Near-duplicates in two splits: {len(straddling)} pairs, for example" in told
    (way_out,) = [line.strip().removeprefix("pannier ") for line in told.splitlines() if line.startswith("  pannier change")]
    head = store.snapshot().id
    for way in (["pack", tmp_path / "a", path, "--near", 6], ["pack", tmp_path / "a", path, "--near", 6, "--resplit"]):
        refused = run(*way)
        assert refused.status == 1
        assert "near doubles are in two splits" in refused.err
        assert "deal all records again with --shares of pannier change" in refused.err
    assert run("change", path, "--near", 6).status == 1
    assert (store.snapshot().id, store.snapshot().dealing.near) == (head, None), "nothing is recorded that does not hold"
    assert run(*way_out.split()).status == 0, way_out
    assert not [each for each in store.snapshot().doubles(6).pairs if each.straddles]
    assert run("pack", tmp_path / "a", path, "--near", 6).out.startswith("Nothing new")
    assert pannier.verify(store) == []
    # later deliveries: only pairs of what is new are told, and none where near holds
    save(tmp_path / "b" / "twill" / "late.jpg", draw(3, 70, 90))
    assert "Near-duplicates" not in run("pack", tmp_path / "b", path).out
    other = pannier.create(tmp_path / "t.store")
    other.pack(tmp_path / "a", shares="train=60,val=40")
    assert other.pack(tmp_path / "a", note="again").straddling == []
    # a near that holds already is recorded though no record changes
    apart = pannier.create(tmp_path / "u.store")
    apart.pack(fill(tmp_path / "c", 4), shares="train=60,val=40")
    before = apart.snapshot()
    done = apart.pack(tmp_path / "c", near=0)
    assert (done.is_new, done.snapshot.dealing.near, done.snapshot.content_id) == (True, 0, before.content_id)


def test_verify_checks_that_what_is_kept_together_is(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for i in range(8):
        save(tmp_path / "a" / "twill" / f"bolt{i // 2}_{i}.jpg", draw(i, 60, 80))
        (tmp_path / "a" / "twill" / f"bolt{i // 2}_{i}.png").write_bytes(encoded(draw(i, 60, 80), "png"))
    shutil.copy(tmp_path / "a" / "twill" / "bolt0_0.png", tmp_path / "a" / "twill" / "bolt0_9.png")
    rule = "regexp_extract(stem, '^(bolt[0-9]+)', 1)"
    store = pannier.create(tmp_path / "s.store")
    store.pack(tmp_path / "a", shares="train=50,val=50", near=6, group_by=rule)
    assert pannier.verify(store) == []
    monkeypatch.setattr(grouping, "_refuse_leaks", lambda *_: None)  # as a program that writes splits as it likes
    for key, what in (
        ("bolt0_9.png", "one picture is in two splits"),
        ("bolt0_0.jpg", "one group is in two splits"),
        ("bolt0_0.jpg", "near-duplicates (near 6) are in two splits"),
    ):
        split = store.snapshot()[f"twill/{key}"].split
        store.change(where=f"key = 'twill/{key}'", set={"split": "val" if split == "train" else "train"})
        assert any(what in finding.problem and finding.is_damage for finding in pannier.verify(store)), what
        assert not [finding for finding in pannier.verify(store, quick=True) if finding.is_damage]
        store.change(where=f"key = 'twill/{key}'", set={"split": split})
    assert pannier.verify(store) == []
