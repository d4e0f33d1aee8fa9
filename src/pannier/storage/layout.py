"""The names of all files and folders of a store (docs/format.md): said here and nowhere else."""

from __future__ import annotations

from functools import lru_cache, partial

FORMAT_FILE = "pannier.json"
# what a web server gives the store out by; derived
LISTING_FILE = "listing.json"
SHARDS, INDEX = "shards", "index"
MANIFESTS, SNAPSHOTS, LEFT_OUT = "manifests", "snapshots", "left-out"
STRANDS, TAGS = "strands", "tags"
ADDITIONS, FILES = "additions", "files"
LEASES = "leases"
# derived and disposable: what packs have read, small gray pictures, copies for hard links, canvases
SEEN, MINIATURES, SINGLES, RENDERED = "seen", "miniatures", "singles", "rendered"
# what a repair set aside
DAMAGED = "damaged"

FOLDERS = (
    *(SHARDS, INDEX, MANIFESTS, SNAPSHOTS, LEFT_OUT, STRANDS, TAGS, ADDITIONS, FILES, LEASES),
    *(SEEN, MINIATURES, SINGLES, RENDERED, DAMAGED),
)

# the shard, in memory alone, that pictures make up which are not packed
UNPACKED = "unpacked"

ARROW, JSON = ".arrow", ".json"

# in a rendering's folder, which has shards and index as a store has
CANVAS_FILE = "canvas.json"


@lru_cache(4096)  # asked for every picture that is read
def shard_file(name: str) -> str:
    return f"{SHARDS}/{name}{ARROW}"


def _file(folder: str, ending: str, name: str) -> str:
    return f"{folder}/{name}{ending}"


segment_file = partial(_file, INDEX, ARROW)
manifest_file, left_out_file = partial(_file, MANIFESTS, ARROW), partial(_file, LEFT_OUT, ARROW)
snapshot_file, attached_file = partial(_file, SNAPSHOTS, JSON), partial(_file, FILES, "")


def entry_file(folder: str, number: int) -> str:
    """One of the numbered entries of a folder: of a strand, a tag, a snapshot's additions."""
    return f"{folder}/{number:08}{JSON}"


def single_file(sha256: str) -> str:
    return f"{SINGLES}/{sha256[:2]}/{sha256}"


def stem(file: str) -> str:
    """What a file is called, without its folder and ending: a shard's name, a snapshot's id."""
    return file.rpartition("/")[2].partition(".")[0]


def folder_of(file: str) -> str:
    """The first folder of a file's name."""
    return file.partition("/")[0]
