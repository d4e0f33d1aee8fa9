"""What reads input of strangers, by name: each makes good input once, and takes it changed by a seed."""

from __future__ import annotations

import contextlib
import gzip
import hashlib
import json
import os
import random
import re
import shutil
import tarfile
import tempfile
import threading
import time
import tomllib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import numpy
import pyarrow as pa
import tomlkit
from pyarrow import csv, parquet

import pannier
from fuzz.forging import forge
from fuzz.mutating import changed_bytes, changed_node, json_text
from fuzz.pictures import good
from pannier.errors import PannierError
from pannier.sources.gathering.links import identity
from tests.conftest import fill

# makes good input in a folder, and gives what takes it changed
Reader = Callable[[Path], Callable[[int], None]]


@contextmanager
def _emptied() -> Iterator[Path]:
    folder = Path(tempfile.mkdtemp(prefix="hostile-"))
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def each_tried(*calls: Callable[[], Any]) -> None:
    """Calls them all, whatever errors of ours the first ones raise; raises the first of those."""
    first: PannierError | None = None
    for call in calls:
        try:
            call()
        except PannierError as error:
            first = first or error
    if first:
        raise first


def stores(folder: Path) -> Callable[[int], None]:
    """A store with a bit of everything, forged, through all calls that read one."""
    template = folder / "s.store"
    _make_store(folder)

    def case(seed: int) -> None:
        with _emptied() as place:
            store = Path(shutil.copytree(template, place / "s.store"))
            forge(store, random.Random(seed))
            use_store(store, folder, whole=seed % 8 == 0)

    return case


def _make_store(folder: Path) -> None:
    fill(folder / "first", 3)
    fill(folder / "second", 1, first=7)
    (folder / "first" / "plain" / "broken.jpg").write_bytes(b"\xff\xd8\xff\xe0 cut")
    store = pannier.create(folder / "s.store")
    store.pack(folder / "first", shares="train=60,val=40", near=6, facts={"camera": "B"}, columns="length(stem) as letters")
    store.tag("spring")
    store.change(where="key = 'twill/0001.jpg'", set="label=satin")
    snapshot = store.pack(folder / "second", prefix="second").snapshot
    snapshot.attach(facts={"run": 3}, files={"log.txt": Path(__file__)})
    snapshot.render("train", size=16)


def use_store(path: Path, folder: Path, *, whole: bool) -> None:
    store = pannier.open_store(path)
    each_tried(
        lambda: use_snapshot(store.snapshot(), whole=whole),
        lambda: store.snapshot("spring").table(),
        lambda: store.history(),
        lambda: store.verify(),
    )
    if whole:
        use_for_more(store, path, folder)


def use_for_more(store: pannier.Store, path: Path, folder: Path) -> None:
    each_tried(
        lambda: store.tidy(preview=True),
        lambda: store.to_dict(),
        lambda: store.renderings(),
        lambda: store.pack(folder / "first", near=6, preview=True),
        lambda: store.change(where="label = 'plain'", set="label=twill"),
        lambda: store.copy_all(pannier.create(path.parent / "copy.store")),
    )


def use_snapshot(snapshot: pannier.Snapshot, *, whole: bool) -> None:
    def feed() -> None:
        with snapshot.feed(None, size=16, batch_size=4, workers=1, memory_limit="64MiB") as batches:
            for batch in batches:
                batch.keys  # noqa: B018

    each_tried(
        lambda: [record.bytes() for record in snapshot],
        lambda: snapshot.to_dict(),
        lambda: snapshot.left_out,
        lambda: snapshot.table(),
        lambda: snapshot.query("SELECT label, count(*) FROM records GROUP BY label"),
        lambda: [each.bytes() for each in snapshot.attachments],
        lambda: snapshot.docket("train", size=16).text(),
    )
    if whole:
        each_tried(lambda: snapshot.why(snapshot[0].key), lambda: snapshot.doubles(), feed)


def pictures(folder: Path) -> Callable[[int], None]:
    """A picture of any kind with some bytes otherwise, through a treatment: what becomes of it, and of no other."""
    treatment = pannier.Treatment(size=16)

    def case(seed: int) -> None:
        rng = random.Random(seed)
        data = good(rng)
        treatment(changed_bytes(data, rng, range(min(len(data), 200)) if rng.random() < 0.4 else None))

    return case


def dockets(folder: Path) -> Callable[[int], None]:
    """A docket with a node or some bytes otherwise: read, and fed."""
    store = pannier.create(folder / "s.store")
    snapshot = store.pack(fill(folder / "first", 3), shares="train=60,val=40").snapshot
    text = snapshot.docket("train", size=16, where="width > 3", batch_size=4, seed=3).text()
    document = tomllib.loads(text)

    def case(seed: int) -> None:
        rng = random.Random(seed)
        path = folder / f"{os.getpid()}.docket"
        path.write_bytes(_toml(changed_node(document, rng)) if rng.random() < 0.7 else changed_bytes(text.encode(), rng))
        with pannier.from_docket(path, store=store.path, memory_limit="64MiB", workers=1) as feed:
            next(iter(feed), None)

    return case


def treatments(folder: Path) -> Callable[[int], None]:
    """A treatment's file with a node or some bytes otherwise: read, explained, fed and called."""
    snapshot = pannier.create(folder / "s.store").pack(fill(folder / "first", 2)).snapshot
    said: dict[str, Any] = {
        "size": 24,
        "fit": "shortest",
        "side": 30,
        "color": "gray",
        "values": "table",
        "dtype": "float16",
    }
    said |= {"table": [each / 255 for each in range(256)], "flip": "horizontal", "turn": 20, "noise": 0.02, "tone": "clahe"}
    said |= {
        "brightness": 0.2,
        "erase": 0.2,
        "pad": [1, 2, 3],
        "border": "pad",
        "trim": 8,
        "jpeg": [40, 90],
        "zoom": [0.8, 1.2],
    }
    plain = {"size": [24, 32], "fit": "contain", "values": "standard", "mean": [0.5] * 3, "std": [0.2] * 3, "anchor": "top"}
    wholes = [_valid(said), _valid(plain)]
    data = good(random.Random(1))

    def case(seed: int) -> None:
        rng = random.Random(seed)
        path, document = folder / f"{os.getpid()}.toml", rng.choice(wholes)
        text = _toml(changed_node(document, rng)) if rng.random() < 0.7 else changed_bytes(_toml(document), rng)
        path.write_bytes(text)
        with snapshot.feed(None, str(path), batch_size=2, workers=1, augment=True, memory_limit="64MiB") as feed:
            next(iter(feed), None)
        treatment = pannier.Treatment.from_file(path)
        assert treatment(data).shape == treatment.shape
        treatment.save(path)
        assert pannier.Treatment.from_file(path) == treatment

    return case


def tables(folder: Path) -> Callable[[int], None]:
    """A table of any kind with some bytes otherwise: surveyed, and packed."""
    fill(folder / "pictures", 2)
    names = sorted(str(path.relative_to(folder)) for path in (folder / "pictures").rglob("*.*"))
    rows = [
        {"photo": name, "weave": name.split("/")[1], "width": 3.5 * i, "seen": i % 2 == 0} for i, name in enumerate(names)
    ]
    whole = pa.Table.from_pylist(rows)
    held = whole.append_column("bytes", pa.array([(folder / name).read_bytes() for name in names]))
    parquet.write_table(whole, folder / "a.parquet")
    parquet.write_table(held.drop_columns(["photo"]), folder / "b.parquet", compression="zstd")
    csv.write_csv(whole, folder / "a.csv")
    (folder / "a.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    (folder / "a.txt").write_bytes((folder / "a.csv").read_text().replace(",", ";").encode("utf-16"))
    numpy.savez_compressed(folder / "a.npz", x=numpy.arange(3 * 8 * 9, dtype=numpy.uint8).reshape(3, 8, 9), y=[1, 2, 3])
    files = sorted(folder.glob("?.*"))

    def case(seed: int) -> None:
        rng = random.Random(seed)
        file = rng.choice(files)
        data = file.read_bytes()
        places = rng.choice((None, range(min(200, len(data))), range(max(0, len(data) - 600), len(data))))
        path = folder / f"changed-{os.getpid()}{file.suffix}"
        path.write_bytes(changed_bytes(data, rng, places))
        try:
            _read_source(path, labels=rng.random() < 0.5)
        finally:
            path.unlink()

    return case


def _valid(fields: dict[str, Any]) -> dict[str, Any]:
    """Those of the fields with which there is a treatment, each tried upon those before."""
    together = ("size", "values", "table", "mean", "std")
    kept = {name: fields[name] for name in together if name in fields}
    for name, value in fields.items():
        with contextlib.suppress(PannierError):
            pannier.Treatment(**{**kept, name: value})
            kept[name] = value
    assert len(kept) > len(fields) // 2, fields.keys() - kept.keys()
    return kept


def _read_source(path: Path, *, labels: bool) -> None:
    rules: dict[str, Any] = {"label": "weave", "where": "width < 9"} if labels else {"unlabeled": "keep"}
    with _emptied() as place:
        each_tried(
            lambda: pannier.survey(path, quick=labels, memory_limit="128MiB").to_dict(),
            lambda: pannier.create(place / "s.store").pack(path, memory_limit="128MiB", workers=1, **rules),
        )


def archives(folder: Path) -> Callable[[int], None]:
    """An archive with some bytes otherwise: packed."""
    fill(folder / "first", 2)
    files = [
        Path(shutil.make_archive(str(folder / "a"), kind, folder / "first")) for kind in ("zip", "tar", "gztar", "xztar")
    ]
    with tarfile.open(folder / "long.tar", "w", format=tarfile.PAX_FORMAT) as archive:
        archive.add(folder / "first" / "plain", "plain/" + "x" * 150)
    files.append(folder / "long.tar")

    def case(seed: int) -> None:
        rng = random.Random(seed)
        file = rng.choice(files)
        data = file.read_bytes()
        ending = file.name.partition(".")[2]
        places = None
        if ending == "tar":  # a checksum is right again: what it guards is looked at
            at = rng.choice([at for at in range(0, len(data), 512) if data[at + 257 : at + 262] == b"ustar"])
            data = _header_changed(data, at, rng)
        else:
            places = rng.choice((None, range(min(60, len(data))), range(max(0, len(data) - 600), len(data))))
            data = changed_bytes(data, rng, places)
        path = folder / f"changed-{os.getpid()}.{ending}"
        path.write_bytes(data)
        try:
            _read_source(path, labels=False)
        finally:
            path.unlink()

    return case


def _header_changed(data: bytes, at: int, rng: random.Random) -> bytes:
    """A header of a tar file with some bytes otherwise, and its checksum as POSIX.1-2001 (ustar) has it."""
    header = bytearray(changed_bytes(data[at : at + 512], rng, range(512)).ljust(512, b"\0")[:512])
    header[148:156] = b" " * 8
    header[148:156] = b"%06o\0 " % sum(header)
    return data[:at] + bytes(header) + data[at + 512 :]


def servers(folder: Path) -> Callable[[int], None]:
    """A web server whose answers, robots.txt too, have some bytes otherwise, come in pieces, or end too soon."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Mutated)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    link = f"http://127.0.0.1:{server.server_address[1]}"

    def case(seed: int) -> None:
        with _emptied() as place:
            rows = [{"photo": f"{link}/{seed}/{number}.jpg"} for number in range(2)]
            options: dict[str, Any] = {"pause": "0s", "timeout": "500ms", "attempts": 1, "max_bytes": "1MiB"}
            gathered = pannier.gather(rows, place / "pictures", link="photo", **options)
            assert gathered.came + len(gathered.failed) == 2
            pannier.gather(rows, place / "pictures", link="photo", again=True, **options)

    return case


class _Mutated(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, format: str, *args: Any) -> None:
        """Says nothing."""

    def do_GET(self) -> None:
        rng = random.Random(self.path if "robots" not in self.path else self.headers.get("Host", "") + str(time.time_ns()))
        is_rules = "robots" in self.path
        body = b"User-agent: *\nDisallow: /private\nCrawl-delay: 0\n" if is_rules else good(rng)
        headers = {"Content-Type": "image/jpeg", "Content-Length": str(len(body)), "Connection": "close"}
        if rng.random() < 0.3:
            body = gzip.compress(body * rng.choice((1, 1, 2000)))
            headers |= {"Content-Encoding": rng.choice(("gzip", "deflate", "br", "x")), "Content-Length": str(len(body))}
        if rng.random() < 0.3:
            odd = ("", "-1", "9" * 30, "\xff", "x" * 9000, "Wed, 99 Foo 9999", "//[", "http://[::1", "/" * 500, "data:,x")
            headers[rng.choice(("Location", "Retry-After", "Content-Length", "Content-Type", "Transfer-Encoding"))] = (
                rng.choice(odd)
            )
        status = rng.choice(("200 OK", "200 OK", "200 OK", "302 Found", "429 Busy", "503 No", "999 ?", "-1 x", "204 None"))
        text = f"HTTP/1.1 {status}\r\n" + "".join(f"{name}: {value}\r\n" for name, value in headers.items()) + "\r\n"
        answer = text.encode("latin-1") + body
        if rng.random() < 0.5:
            answer = changed_bytes(answer, rng, range(len(text)) if rng.random() < 0.5 else None)
        with contextlib.suppress(OSError):
            self.wfile.write(answer)
        self.close_connection = True


def folders(folder: Path) -> Callable[[int], None]:
    """Folders that tell what they are, one laid out of a store, one gathered into, with a node or some bytes otherwise."""
    snapshot = pannier.create(folder / "s.store").pack(fill(folder / "first", 2), shares="train=50,val=50").snapshot
    snapshot.export(folder / "out", layout="split")
    rows, lines = [{"photo": f"http://127.0.0.1:9/{number}.jpg"} for number in range(3)], list[Any]()
    (folder / "gathered").mkdir()
    for number, row in enumerate(rows):
        data, told = good(random.Random(number)), {"identity": identity(row["photo"]), "link": row["photo"]}
        came = {"file": f"{number}.jpg", "time": "2026-01-01T00:00:00Z", "byte_count": len(data), "status": 200}
        came["sha256"] = hashlib.sha256(data).hexdigest()
        lines.append(
            {"came": told | came} if number else {"failed": told | {"reason": "x", "status": 404, "is_final": True}}
        )
        (folder / "gathered" / f".arriving-{told['identity']}").write_bytes(data)
    laid_out = folder / "out" / ".pannier-export.json"
    about = json.loads(laid_out.read_bytes())

    def case(seed: int) -> None:
        rng = random.Random(seed)
        with _emptied() as place:
            out, gathered = (Path(shutil.copytree(folder / name, place / name)) for name in ("out", "gathered"))
            text = json_text(changed_node(about, rng)) if rng.random() < 0.7 else changed_bytes(laid_out.read_bytes(), rng)
            (out / laid_out.name).write_bytes(text)
            changed = [json_text(changed_node(line, rng) if rng.random() < 0.5 else line) for line in lines]
            (gathered / ".gathered.jsonl").write_bytes(b"\n".join([*changed, b""]))
            options: dict[str, Any] = {"pause": "0s", "timeout": "200ms", "attempts": 1, "ignore_robots": True}
            try:
                each_tried(
                    lambda: snapshot.export(out, layout="split", preview=True),
                    lambda: snapshot.export(out, layout="split", overwrite=True),
                    lambda: pannier.create(place / "t.store").pack(out),
                    lambda: pannier.gather(rows, gathered, link="photo", preview=True),
                    lambda: pannier.gather(rows, gathered, link="photo", **options),
                )
            finally:
                assert {path.name for path in place.iterdir()} <= {"out", "gathered", "t.store"}

    return case


_WORDS = r"""
    SELECT FROM records WHERE GROUP BY ORDER LIMIT 3 key label width sha256 split ( ) , . * + - / || = < > 'x' NULL
    count(*) max(width) row_number() OVER (PARTITION label) WITH a AS UNION ALL JOIN USING (key) CASE WHEN THEN END
    list(key) unnest([1,2]) repeat('x',9) range(5) lpad(key,9,'x') regexp_replace read_csv('a') ATTACH COPY ; --
    {'a':1} [x_for_x_in_[1]] x->x+1 ::INTEGER ::BLOB TRY_CAST 1e308 9999999999999999999999 '\\' $1 ? @ EXISTS
""".split()  # noqa: SIM905
_QUERIES = (
    "SELECT label, count(*) AS n FROM records WHERE width > 3 GROUP BY label ORDER BY n DESC LIMIT 9",
    "SELECT key, row_number() OVER (PARTITION BY label ORDER BY key) FROM records QUALIFY true",
    "WITH a AS (SELECT key, width FROM records) SELECT * FROM a JOIN records USING (key) WHERE a.width IN (1, 2)",
)


def queries(folder: Path) -> Callable[[int], None]:
    """SQL with words otherwise, gone or more of them, as a query, as a rule's condition, and as a docket's."""
    snapshot = pannier.create(folder / "s.store").pack(fill(folder / "first", 3), shares="train=60,val=40").snapshot

    def case(seed: int) -> None:
        rng = random.Random(seed)
        words = re.findall(r"\w+|\S", rng.choice(_QUERIES))
        for _ in range(rng.choice((1, 2, 4, 9))):
            at = rng.randrange(len(words))
            words[at : at + rng.randrange(3)] = [rng.choice(_WORDS) for _ in range(rng.randrange(3))]
        sql = " ".join(words)
        _, _, condition = sql.partition("WHERE")
        each_tried(
            lambda: snapshot.query(sql),
            lambda: snapshot.docket("train", where=condition or sql),
            lambda: snapshot.store.change(where=condition or sql, set="label=twill", preview=True),
        )

    return case


def _toml(document: Any) -> bytes:
    try:
        return tomlkit.dumps(document).encode("utf-8", "surrogatepass")
    except Exception:  # what has no form in TOML stands there as JSON
        return b"docket = " + json_text(document)


READERS: dict[str, Reader] = {
    "stores": stores,
    "dockets": dockets,
    "treatments": treatments,
    "tables": tables,
    "archives": archives,
    "pictures": pictures,
    "servers": servers,
    "folders": folders,
    "queries": queries,
}
