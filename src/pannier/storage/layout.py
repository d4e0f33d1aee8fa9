"""The names of all files and folders of a store (docs/format.md): said here and nowhere else."""

from __future__ import annotations

from functools import lru_cache

FORMAT_FILE = "pannier.json"
SHARDS, INDEX = "shards", "index"
MANIFESTS, SNAPSHOTS, LEFT_OUT = "manifests", "snapshots", "left-out"
TRACKS, TAGS = "tracks", "tags"
ANNOTATIONS, FILES = "annotations", "files"
LEASES = "leases"
# derived and disposable: what packs have read, copies for hard links, canvases
SEEN, LOOSE, RENDERED = "seen", "loose", "rendered"
# what a repair set aside
DAMAGED = "damaged"

FOLDERS = (
    *(SHARDS, INDEX, MANIFESTS, SNAPSHOTS, LEFT_OUT, TRACKS, TAGS, ANNOTATIONS, FILES, LEASES),
    *(SEEN, LOOSE, RENDERED, DAMAGED),
)

ARROW, JSON = ".arrow", ".json"

# in a rendering's folder, which has shards and index as a store has
CANVAS_FILE = "canvas.json"


@lru_cache(4096)  # asked for every picture that is read
def shard_file(name: str) -> str:
    return f"{SHARDS}/{name}{ARROW}"


def segment_file(shard: str) -> str:
    return f"{INDEX}/{shard}{ARROW}"


def manifest_file(name: str) -> str:
    return f"{MANIFESTS}/{name}{ARROW}"


def snapshot_file(snapshot_id: str) -> str:
    return f"{SNAPSHOTS}/{snapshot_id}{JSON}"


def left_out_file(name: str) -> str:
    return f"{LEFT_OUT}/{name}{ARROW}"


def entry_file(folder: str, number: int) -> str:
    """One of the numbered entries of a folder: of a track, a tag, a snapshot's annotations."""
    return f"{folder}/{number:08}{JSON}"


def attached_file(sha256: str) -> str:
    return f"{FILES}/{sha256}"


def loose_file(sha256: str) -> str:
    return f"{LOOSE}/{sha256[:2]}/{sha256}"


def stem(file: str) -> str:
    """What a file is called, without its folder and ending: a shard's name, a snapshot's id."""
    return file.rpartition("/")[2].partition(".")[0]


def folder_of(file: str) -> str:
    """The first folder of a file's name."""
    return file.partition("/")[0]
