"""The order of an epoch: a permutation of any count, place by place, that nobody could tell from a shuffle."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

import numpy as np
import pandas as pd
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from pannier.feeding import kinds
from pannier.feeding.chosen import Bits, ChosenRows
from pannier.feeding.order import Windowed, shuffled
from pannier.hashing import fold


@pytest.mark.parametrize("counts", [range(1, 1001), [4095, 4096, 4097, 65535, 65536, 65537]], ids=["to 1,000", "powers"])
def test_every_record_has_one_place_whatever_their_number(counts: range | list[int]) -> None:
    for count in counts:
        assert np.array_equal(np.sort(shuffled(np.arange(count), count, 7, 3)), np.arange(count)), count


@settings(deadline=None)
@given(count=st.integers(1, 3000), window=st.integers(1, 700), seed=st.integers(0, 99), epoch=st.integers(0, 9))
def test_windows_hold_neighbors_and_every_record_once(count: int, window: int, seed: int, epoch: int) -> None:
    order, places = Windowed(count, seed, window), np.arange(count)
    found, drawn = order.at(epoch, places)
    assert np.array_equal(np.sort(found), places)
    assert set(drawn.tolist()) == {epoch}
    assert np.array_equal(order.at(epoch, places[::3])[0], found[::3])
    for begin in range(0, count, window):
        some = np.sort((found[begin : begin + window] - fold(seed, epoch, 6) % count) % count)
        assert some[-1] - some[0] == len(some) - 1


@settings(deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(count=st.integers(1, 1 << 40), seed=st.integers(0, 2**64 - 1), epoch=st.integers(0, 99), data=st.data())
def test_any_part_of_an_order_is_as_in_the_whole(count: int, seed: int, epoch: int, data: st.DataObject) -> None:
    places = np.array(data.draw(st.lists(st.integers(0, count - 1), max_size=9)), np.int64)
    found = shuffled(places, count, seed, epoch)
    assert found.tolist() == [int(shuffled(np.array([place]), count, seed, epoch)[0]) for place in places]
    assert all(0 <= each < count for each in found.tolist())


@pytest.mark.parametrize("count", [3, 8, 50, 257, 300])
def test_places_and_neighbors_are_as_chance_has_them(count: int) -> None:
    epochs = max(600, 400_000 // count**2)
    places, follows = np.zeros((count, count)), np.zeros((count, count))
    for epoch in range(epochs):
        order = shuffled(np.arange(count), count, 11, epoch)
        places[np.arange(count), order] += 1
        follows[order[:-1], order[1:]] += 1
    expected, apart = epochs / count, ~np.eye(count, dtype=bool)
    # chi-square over its degrees of freedom is 1 by chance, and this near to it all but always
    for found, freedom in ((places, (count - 1) ** 2), (follows[apart], apart.sum())):
        assert abs(((found - expected) ** 2 / expected).sum() / freedom - 1) < 6 * (2 / freedom) ** 0.5 + 0.02


def test_epochs_seeds_and_neighbors_have_nothing_to_do_with_each_other() -> None:
    count, places = 1_000_000, np.arange(100_000)
    one, next_epoch, other_seed = (shuffled(places, count, *which) for which in ((1, 0), (1, 1), (2, 0)))
    for some, others in ((one, next_epoch), (one, other_seed), (one[:-1], one[1:]), (one, places)):
        assert abs(np.corrcoef(some, others)[0, 1]) < 5 / len(places) ** 0.5


@given(st.integers(0, 700).flatmap(lambda total: st.tuples(st.just(total), st.sets(st.integers(0, max(0, total - 1))))))
def test_chosen_rows_and_flags_are_found_by_place(drawn: tuple[int, set[int]]) -> None:
    total, some = drawn
    rows = np.array(sorted(some if total else ()), np.int64)
    chosen, places = ChosenRows(rows, total), np.arange(len(rows))[::-1]
    assert len(chosen) == len(rows)
    assert np.array_equal(chosen.at(places), rows[places])
    assert chosen.byte_count <= total / 4 + 24
    flags = np.isin(np.arange(total), rows)
    assert np.array_equal(Bits(flags).at(np.arange(total)), flags)
    by_flags = ChosenRows(flags, total)
    assert np.array_equal(by_flags.rows(), rows)
    assert len(by_flags) == len(rows)
    backwards = ChosenRows(rows[::-1], total + 1)
    assert np.array_equal(backwards.at(places), rows[::-1][places])


@pytest.mark.parametrize("case", range(12))
def test_kinds_of_records_are_told_apart_as_pandas_groups_them(case: int, monkeypatch: pytest.MonkeyPatch) -> None:
    rng, total, sizes = np.random.default_rng(case), 500, ["counts", "largest", "sums"]
    names = ("format", "mode", "turn", "progressive", "height", "width", "byte_count")
    most = (3, 2, 8, 2, 4 if case % 2 else 200, 3, 9_000)
    stored = pd.DataFrame({name: rng.integers(0, high, 2 * total) for name, high in zip(names, most, strict=True)})
    if case == 5:
        stored.loc[7, "width"] = 1 << 23  # longer than is told apart in one number
    positions = rng.permutation(2 * total)[:total] if case % 3 else None
    manifest: Any = SimpleNamespace(
        whole=lambda name: stored[name].to_numpy(),
        names=lambda name: ["a", "b", "c"],
        gather=lambda rows, name: stored[name].to_numpy()[rows if positions is None else positions[rows]],
        positions=positions,
    )
    monkeypatch.setattr(kinds, "_IN_ONE_WALK", 64)
    listed = rng.permutation(total)[:90]
    chosen: list[Any] = [rng.random(total) < 0.4, None, listed, np.zeros(total, bool)]
    parts: list[kinds.Part] = [(ChosenRows(each, total), None) for each in chosen]
    parts[1] = (parts[1][0], rng.random(total) < 0.5)

    found = kinds.kinds_of(manifest, parts)

    rows = np.concatenate([part.rows() for part, _ in parts])
    records = stored.iloc[rows if positions is None else positions[rows]].reset_index(drop=True)
    flags = [np.zeros(len(part), bool) if rendered is None else rendered for part, rendered in parts]
    records["rendered"] = np.concatenate(flags)
    groups = records.groupby([*names[:-1], "rendered"])["byte_count"]
    of_kind = pd.DataFrame({"counts": found.counts, "largest": found.largest, "sums": found.sums}).sort_values(sizes)
    if case == 5:
        assert (of_kind.counts == 1).all()
    else:
        expected = groups.agg(counts="count", largest="max", sums="sum").sort_values(sizes)
        assert (of_kind.to_numpy() == expected.to_numpy()).all()
        assert found.rendered.sum() == sum(expected.index.get_level_values("rendered"))
    wanted = found.largest > 8_000
    among = np.concatenate(found.among(wanted))
    of_record = records.byte_count if case == 5 else groups.transform("max")
    assert (among == (of_record > 8_000)).all()
