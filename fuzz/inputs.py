"""`python -m fuzz.inputs`: inputs of a few bytes that ask for very much: outcome, seconds and memory of each."""

from __future__ import annotations

import gzip
import io
import lzma
import re
import struct
import sys
import tarfile
import tempfile
import threading
import zipfile
import zlib
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa
from PIL import Image
from pyarrow import parquet

import pannier
from fuzz import pictures
from fuzz.pictures import png
from fuzz.running import LONGEST_SECONDS, MOST_BYTES, Outcome, run
from pannier.store.documents import canonical, digest, sealed
from pannier.units import show_bytes
from tests.conftest import fill

LIMIT = "128MiB"
_LONGEST_TOLD = 140
_LIMIT_BYTES = 128 << 20


class Input(NamedTuple):
    """What makes an input in a folder and gives what takes it; what is said of it; the memory limit that it was given."""

    make: Callable[[Path], Callable[[], Any]]
    says: str
    limit_bytes: int = 0


def _picture(make: Callable[[], bytes]) -> Callable[[Path], Callable[[], Any]]:
    def through_a_treatment(folder: Path) -> Callable[[], Any]:
        data = make()
        return lambda: pannier.Treatment(size=16)(data)

    return through_a_treatment


def _packed(name: str, make: Callable[[Path], None]) -> Callable[[Path], Callable[[], Any]]:
    """A source that is made and packed under the limit."""

    def packing(folder: Path) -> Callable[[], Any]:
        source, store = folder / name, pannier.create(folder / "s.store")
        make(source)
        return lambda: store.pack(source, memory_limit=LIMIT, unlabeled="keep", label="NULL")

    return packing


def _surveyed(name: str, make: Callable[[Path], None]) -> Callable[[Path], Callable[[], Any]]:
    def surveying(folder: Path) -> Callable[[], Any]:
        make(folder / name)
        return lambda: pannier.survey(folder / name, memory_limit=LIMIT)

    return surveying


def _zip_of_zeros(path: Path) -> None:
    head = png(struct.pack(">IIBBBBB", 9000, 9000, 8, 6, 0, 0, 0), b"")[:-12]
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for number in range(2):
            with archive.open(f"{number}.png", "w") as member:
                member.write(head)
                for _ in range(1000):
                    member.write(bytes(1 << 20))


def _tar_of_zeros(path: Path) -> None:
    with lzma.open(path, "wb", preset=0) as packed, tarfile.open(fileobj=packed, mode="w") as archive:
        info = tarfile.TarInfo("a.png")
        info.size = 700 << 20
        archive.addfile(info, _Zeros(info.size))  # type: ignore[arg-type]


class _Zeros(io.RawIOBase):
    def __init__(self, count: int) -> None:
        self._left = count

    def read(self, size: int = -1) -> bytes:
        some = min(size, self._left)
        self._left -= some
        return bytes(some)


def _tar_of_many_files(path: Path) -> None:
    with gzip.open(path, "wb", compresslevel=1) as packed:
        header = tarfile.TarInfo("a.jpg").tobuf()
        for _ in range(400):
            packed.write(header * 1000)


def _tar_of_a_long_name(path: Path) -> None:
    info = tarfile.TarInfo("././@LongLink")
    info.type, info.size = tarfile.GNUTYPE_LONGNAME, 600 << 20
    with path.open("wb") as file:
        file.write(info.tobuf())
        file.truncate(600 << 20)


def _sparse_tar(path: Path) -> None:
    """A file of 900 MB that keeps 512 bytes (GNU tar's old sparse format)."""
    info = tarfile.TarInfo("a.png")
    info.type, info.size = tarfile.GNUTYPE_SPARSE, 512
    header = bytearray(info.tobuf(tarfile.GNU_FORMAT))
    header[386:398], header[398:410] = b"%011o\0" % 0, b"%011o\0" % 512
    header[483:495] = b"%011o\0" % (900 << 20)
    header[148:156] = b" " * 8
    header[148:156] = b"%06o\0 " % sum(header)
    path.write_bytes(bytes(header) + b"\x89PNG\r\n\x1a\n".ljust(512, b"\0") + bytes(1024))


def _parquet_of_one_text(path: Path) -> None:
    indices = pa.array(np.zeros(4000, np.int32))
    texts = pa.DictionaryArray.from_arrays(indices, pa.array(["x" * (1 << 20)]))
    parquet.write_table(pa.table({"photo": texts}), path, compression="zstd")


def _parquet_of_one_number(path: Path) -> None:
    table = pa.table({"n": pa.array(np.zeros(10_000_000, np.int64))})
    with parquet.ParquetWriter(path, table.schema) as writer:
        for _ in range(10):
            writer.write_table(table)


def _large_pictures(kind: str, **options: Any) -> Callable[[Path], None]:
    def fill_folder(folder: Path) -> None:
        folder.mkdir()
        image = Image.fromarray(np.zeros((9900, 9900, 3), np.uint8))
        for number in range(3):
            image.save(folder / f"{number}.{kind}", **options)

    return fill_folder


def _docket_of_a_large_size(folder: Path) -> Callable[[], Any]:
    snapshot = pannier.create(folder / "s.store").pack(fill(folder / "first", 2)).snapshot
    path = folder / "a.docket"
    path.write_text(snapshot.docket(size=16).text().replace("size = 16\n", "size = 16000\n"))
    text = path.read_text()
    assert "16000" in text
    path.write_text("\n".join(line for line in text.splitlines() if not line.startswith("treatment = ")))
    return lambda: pannier.from_docket(path, store=snapshot.store.path, memory_limit="64MiB")


def _query(sql: str) -> Callable[[Path], Callable[[], Any]]:
    def asking(folder: Path) -> Callable[[], Any]:
        snapshot = pannier.create(folder / "s.store").pack(fill(folder / "first", 20)).snapshot
        snapshot.query("SELECT 1")
        return lambda: snapshot.query(sql)

    return asking


class _PackedRules(BaseHTTPRequestHandler):
    """Its robots.txt is some hundred MiB in a few hundred KiB."""

    body = gzip.compress(b"User-agent: *\nDisallow: /x\n" * (8 << 20), 1)

    def log_message(self, format: str, *args: Any) -> None:
        """Says nothing."""

    def do_GET(self) -> None:
        self.send_response(200 if "robots" in self.path else 404)
        self.send_header("Content-Encoding", "gzip")
        self.end_headers()
        self.wfile.write(self.body if "robots" in self.path else b"")


def _packed_rules(folder: Path) -> Callable[[], Any]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _PackedRules)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    rows = [{"photo": f"http://127.0.0.1:{server.server_address[1]}/a.jpg"}]

    def gather() -> None:
        gathered = pannier.gather(rows, folder / "pictures", link="photo", timeout="3s", attempts=1)
        raise pannier.PannierError(gathered.failed[0].reason)

    return gather


def _document(change: Callable[[bytes], bytes]) -> Callable[[Path], Callable[[], Any]]:
    """A snapshot's document otherwise, under the digest that it then has."""

    def opening(folder: Path) -> Callable[[], Any]:
        snapshot = pannier.create(folder / "s.store").pack(fill(folder / "first", 2)).snapshot
        content = change((folder / "s.store" / "snapshots" / f"{snapshot.id}.json").read_bytes())
        (folder / "s.store" / "snapshots" / f"{digest(content)}.json").write_bytes(content)
        return lambda: pannier.open_store(folder / "s.store").snapshot(digest(content))

    return opening


def _compressed_manifest(folder: Path) -> Callable[[], Any]:
    """A manifest of a few KiB whose buffers say to unpack to 1 GiB."""
    snapshot = pannier.create(folder / "s.store").pack(fill(folder / "first", 2)).snapshot
    store, document = folder / "s.store", dict(snapshot.document)
    table = pa.table({"key": pa.array(["x" * (1 << 20)] * 1000)})
    sink = io.BytesIO()
    with pa.ipc.new_file(sink, table.schema, options=pa.ipc.IpcWriteOptions(compression="zstd")) as writer:
        writer.write_table(table)
    content = sink.getvalue()
    (store / "manifests" / f"{digest(content)}.arrow").write_bytes(content)
    told = {"name": digest(content), "crc32": zlib.crc32(content), "byte_count": len(content), "rows": 6}
    forged = canonical(document | {"base": told})
    (store / "snapshots" / f"{digest(forged)}.json").write_bytes(forged)
    return lambda: pannier.open_store(store).snapshot(digest(forged))


def _lease_for_ever(folder: Path) -> Callable[[], Any]:
    store = pannier.create(folder / "s.store")
    told = {"kind": "tidier", "author": "a", "host": "h", "process": 1, "machine": "m", "started": "now", "snapshots": []}
    (folder / "s.store" / "leases").mkdir(exist_ok=True)
    (folder / "s.store" / "leases" / f"tidier-{'0' * 16}-000001.json").write_bytes(sealed(told | {"seconds": 10**9}))
    return lambda: store.pack(fill(folder / "first", 2)).snapshot


_CROSS = "SELECT count(*) FROM " + ", ".join(f"records AS r{i}" for i in range(7))

INPUTS: dict[str, Input] = {
    "a JPEG of 4,000 scans": Input(_picture(pictures.jpeg_of_many_scans), "scans, which is not read"),
    "a JPEG of 4,000 scans, not progressive": Input(_picture(pictures.jpeg_of_many_plain_scans), "scans, which is not read"),
    "a PPM with a comment of 20 MB": Input(_picture(pictures.ppm_of_a_long_comment), "its header cannot be read"),
    "a PNG of 98 megapixels in 74 bytes": Input(_picture(pictures.png_of_a_large_header), "cut short"),
    "a TIFF of 50,000 pages": Input(_packed("a", lambda at: _in_folder(at, pictures.tiff_of_many_pages(50_000))), "", 0),
    "three PNG of 98 megapixels": Input(_packed("a", _large_pictures("png")), "over the memory limit", _LIMIT_BYTES),
    "three progressive JPEG of 98 megapixels": Input(
        _packed("a", _large_pictures("jpg", progressive=True)), "over the memory limit", _LIMIT_BYTES
    ),
    "a zip of 2 MB that unpacks to 2 GB": Input(_packed("a.zip", _zip_of_zeros), "as no picture does", _LIMIT_BYTES),
    "a tar.xz of 0.1 MB that unpacks to 700 MB": Input(
        _packed("a.tar.xz", _tar_of_zeros), "as no pictures do", _LIMIT_BYTES
    ),
    "a tar.gz of 400,000 files in 1 MB": Input(_packed("a.tar.gz", _tar_of_many_files), "memory_limit", _LIMIT_BYTES),
    "a tar whose first name has 600 MB": Input(_packed("a.tar", _tar_of_a_long_name), "a name or a header of", _LIMIT_BYTES),
    "a tar with a sparse file of 900 MB": Input(_packed("a.tar", _sparse_tar), "as no picture does", _LIMIT_BYTES),
    "a Parquet of one text in 4,000 rows, 4 GB": Input(
        _surveyed("a.parquet", _parquet_of_one_text), "is the limit", _LIMIT_BYTES
    ),
    "a Parquet of one number in 100 million rows": Input(
        _surveyed("a.parquet", _parquet_of_one_number), "is the limit", _LIMIT_BYTES
    ),
    "a gzipped robots.txt of 226 MB": Input(_packed_rules, "HTTP 404"),
    "a docket of size 16000x16000": Input(_docket_of_a_large_size, "over a memory limit of 64 MiB", 64 << 20),
    "SQL: seven tables crossed": Input(_query(_CROSS), "takes more than"),
    "SQL: texts without end": Input(
        _query("SELECT list(a.key || b.key) FROM records a, records b, records c, records d"), "more"
    ),
    "SQL: repeat('x', 5000000000)": Input(_query("SELECT length(repeat('x', 5000000000))"), "makes more than it may"),
    "a document nested 100,000 deep": Input(_document(lambda _: b"[" * 100_000), "is damaged"),
    "a document with a number of 5,000 digits": Input(_document(lambda _: b'{"a": ' + b"9" * 5000 + b"}"), "is damaged"),
    "a document with half a letter": Input(
        _document(lambda content: content.replace(b'"note": ""', b'"note": "\\ud800"')), "is damaged"
    ),
    "a manifest whose buffers unpack to 1 GB": Input(_compressed_manifest, "it is compressed"),
    "a lease that holds for 30 years": Input(_lease_for_ever, ""),
}


def _in_folder(folder: Path, data: bytes) -> None:
    folder.mkdir()
    (folder / "a.tiff").write_bytes(data)


def tried(name: str) -> Outcome:
    """What became of one input, in a child; "said otherwise" where its error does not say what it should."""
    case, use = INPUTS[name], list[Callable[[], Any]]()
    with tempfile.TemporaryDirectory(prefix="hostile-") as folder:
        (outcome,) = run(lambda _: use[0](), [0], lambda: use.append(case.make(Path(folder))))
    is_said = any(words in outcome.told for words in case.says.split("|")) if outcome.status == "refused" else not case.says
    status = outcome.status if is_said or not outcome.is_ended_well else f"said otherwise ({outcome.status})"
    return outcome._replace(status=status, most_bytes=MOST_BYTES + case.limit_bytes)


def table() -> tuple[bool, list[str]]:
    """Every input's outcome as rows of a page; whether all are well."""
    rows = ["| input | outcome | what is said | seconds | MiB, of as many as it may take |", "|---|---|---|---|---|"]
    is_well = True
    for name in INPUTS:
        outcome = tried(name)
        is_well &= outcome.is_well
        told = re.sub(r"\S*/hostile-[^/]*/", "", outcome.told).replace("|", "/")[:_LONGEST_TOLD]
        memory = f"{outcome.peak_bytes >> 20} of {outcome.most_bytes >> 20}"
        status = outcome.status if outcome.is_well else f"NOT WELL: {outcome.status}"
        rows.append(f"| {name} | {status} | {told} | {outcome.seconds:.1f} | {memory} |")
    return is_well, rows


def main(names: list[str]) -> int:
    is_well = True
    if names == ["--table"]:
        is_well, rows = table()
        print("\n".join(rows))
        return 0 if is_well else 1
    for name in names or INPUTS:
        outcome = tried(name)
        is_well &= outcome.is_well
        mark = "" if outcome.is_well else "  <-- NOT WELL"
        told = f": {outcome.told[-150:]}" if outcome.told else ""
        memory = f"{show_bytes(outcome.peak_bytes)} of {show_bytes(outcome.most_bytes)}"
        print(
            f"{name}: {outcome.status}, {outcome.seconds:.1f} of {LONGEST_SECONDS * outcome.slowness:.0f} s, "
            f"{memory}{mark}{told}",
            flush=True,
        )
    return 0 if is_well else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
