"""A billion pictures, on paper: what each part costs by what was measured of one million, and what breaks first.

`python docs/billion.py` writes docs/billion.md. Change a parameter and see.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

PAGE = Path(__file__).with_name("billion.md")


@dataclass(frozen=True)
class World:
    """What there is. Bytes, seconds, and money in cents."""

    pictures: float = 1e9
    picture_bytes: float = 100e3
    shards: float = 10_000
    machines: float = 1_000
    cores: float = 16
    # of the bucket, as their vendors state them for one prefix of names
    latency: float = 0.05
    link: float = 1e9  # of one machine, 8 Gbit/s
    requests_of_a_prefix: float = 5_500
    cents_a_million_reads: float = 40
    # of a machine
    in_flight: float = 32
    memory: float = 64 * 2**30


@dataclass(frozen=True)
class Measured:
    """What was measured here (docs/benchmarks.md), a record or a picture."""

    manifest_bytes: float = 111  # by docs/format.md, with keys of 25 bytes
    index_bytes: float = 52
    index_memory: float = 16
    order_bytes: float = 0.3
    first_batch_seconds: float = 35e-9
    decode_seconds: float = 1e-3  # of a core, 500 x 375 to 96 x 96
    run_records: float = 10  # that come in one request of a megabyte, in windows
    commit_trips: float = 12  # of a change, one after another
    change_bytes: float = 130e3  # of a snapshot of 100 changes


def lines(world: World, known: Measured) -> list[str]:
    per_machine = world.pictures / world.machines
    manifest, index = world.pictures * known.manifest_bytes, world.pictures * known.index_bytes
    epoch = {
        "the processors": per_machine * known.decode_seconds / world.cores,
        "the link": per_machine * world.picture_bytes / world.link,
        f"{world.in_flight:.0f} requests in flight, a whole shuffle": per_machine / (world.in_flight / world.latency),
        "the same, windows": per_machine / known.run_records / (world.in_flight / world.latency),
        "one prefix of the bucket, a whole shuffle": world.pictures / world.requests_of_a_prefix,
        "one prefix of the bucket, windows": world.pictures / known.run_records / world.requests_of_a_prefix,
    }
    money = world.pictures / 1e6 * world.cents_a_million_reads / 100
    commit = known.commit_trips * world.latency
    return [
        "# A billion pictures, on paper",
        "",
        f"{world.pictures:,.0f} pictures of {world.picture_bytes / 1e3:.0f} KB in {world.shards:,.0f} shards, "
        f"{world.pictures * world.picture_bytes / 1e12:,.0f} TB, read by {world.machines:,.0f} machines of "
        f"{world.cores:.0f} cores, each a part. Computed by [billion.py](billion.py) from what was measured of a million; "
        "nobody has run it.",
        "",
        "| what | comes to |",
        "|---|---|",
        f"| a shard | {world.pictures * world.picture_bytes / world.shards / 1e9:.0f} GB |",
        f"| the manifest, mapped | {manifest / 1e9:,.0f} GB; {manifest / world.link:,.0f} s to fetch, once a machine |",
        f"| the indexes, mapped | {index / 1e9:,.0f} GB; {index / world.link:,.0f} s to fetch |",
        f"| the index in memory, a process | {world.pictures * known.index_memory / 1e9:,.0f} GB |",
        f"| order and plan in memory, a process | {world.pictures * known.order_bytes / 1e9:.1f} GB |",
        f"| the first batch after opening | {world.pictures * known.first_batch_seconds:,.0f} s |",
        f"| reads an epoch | {world.pictures:,.0f}, ${money:,.0f}; in windows "
        f"{world.pictures / known.run_records:,.0f}, ${money / known.run_records:,.0f} |",
        f"| a snapshot of 100 changes | {known.change_bytes / 1e3:.0f} KB and {commit:.1f} s of the bucket's latency |",
        f"| writers of one strand at once | {1 / commit:.1f} snapshots a second together, however many they are |",
        "",
        "An epoch takes the longest of these:",
        "",
        "| bound by | hours |",
        "|---|---|",
        *(f"| {name} | {seconds / 3600:,.2f} |" for name, seconds in sorted(epoch.items(), key=lambda each: -each[1])),
        "",
        "**What breaks first**",
        "",
        f"1. *The bucket.* {world.machines:,.0f} machines with {world.in_flight:.0f} requests in flight ask "
        f"{world.machines * world.in_flight / world.latency:,.0f} times a second, "
        f"{world.machines * world.in_flight / world.latency / world.requests_of_a_prefix:,.0f} times what one prefix "
        "answers. Windows divide that by ten; a cache on each machine that holds its part leaves the first epoch alone. "
        "Shards under several prefixes would be a new version of the format.",
        f"2. *The index.* {world.pictures * known.index_memory / 1e9:,.0f} GB a process are "
        f"{world.pictures * known.index_memory / world.memory:.0%} of a machine's memory, so one process a machine, with "
        "threads. Past some two billion it no longer fits: then look-up has to go by the bucket of the hash, as digests do.",
        f"3. *The manifest.* Every machine fetches {(manifest + index) / 1e9:,.0f} GB before its first batch: "
        f"{(manifest + index) / world.link / 60:.0f} minutes, once; then it lies in the cache. A machine that needs its "
        "part alone would have to read rows by bucket.",
        "4. *A strand* is not what breaks: training writes nothing, and a lease is two requests a machine.",
    ]


if __name__ == "__main__":
    PAGE.write_text("\n".join(lines(World(), Measured())) + "\n")
