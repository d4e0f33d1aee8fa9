"""Gathering: polite, each picture once, going on after a kill, unharmed by what servers send."""

from __future__ import annotations

import asyncio
import csv
import hashlib
import json
import os
import random
import signal
import socket
import ssl
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from http.server import ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import pannier
from pannier.demo.mill import serving
from pannier.errors import SourceError, UsageError
from pannier.sources.gathering import addresses
from pannier.sources.gathering.links import identity, name_in, safe_path, unlike, without_credentials
from tests.conftest import Ended
from tests.standin import StandIn, picture, stand_in

QUICK = {"pause": "1ms", "timeout": "60s", "attempts": 3}


@pytest.fixture
def server() -> Iterator[tuple[str, type[StandIn]]]:
    handler = stand_in()
    with serving(handler) as link:
        yield link, handler


def rows_in(path: Path) -> list[dict[str, str]]:
    with open(path, newline="", encoding="utf-8") as file:
        return list(csv.DictReader(file))


def files_in(folder: Path) -> set[str]:
    return {str(path.relative_to(folder)) for path in folder.rglob("*") if path.is_file() and path.name[0] != "."}


def test_pictures_come_with_their_rows_and_pack_reads_them(
    server: tuple[str, type[StandIn]], tmp_path: Path, run: Callable[..., Ended]
) -> None:
    link, handler = server
    table = tmp_path / "register.csv"
    lines = [f"{i},{('twill', 'satin')[i % 2]},{link}/ok/{i}.jpg,{'raw' if i < 8 else ''}" for i in range(10)]
    table.write_text("swatch,weave,photo,finish\n" + "\n".join(lines) + "\n11,twill,,raw\n")
    refused = run("pack", table, tmp_path / "s.store", "--label", "weave")
    assert "Gather them first (pannier gather, --link photo)" in refused.err
    words = ("gather", table, tmp_path / "pictures", "--where", "finish = 'raw'", "--pause", "1ms")
    done = run(*words)
    assert done.status == 0, done.err
    assert "8 pictures came" in done.out
    assert "1 row without a link" in done.out
    rows = rows_in(tmp_path / "pictures" / "gathered.csv")
    assert [row["swatch"] for row in rows] == [str(i) for i in range(8)]
    assert rows[3]["file"] == "3.jpg"
    assert rows[3]["link"] == f"{link}/ok/3.jpg"
    assert (rows[3]["http_status"], rows[3]["byte_count"]) == ("200", str(len(picture(3))))
    assert (tmp_path / "pictures" / "3.jpg").read_bytes() == picture(3)
    again = run(*words)
    assert "0 pictures came, 0 bytes; 8 were there before." in again.out
    assert max(Counter(path for _, path in handler.log if path != "/robots.txt").values()) == 1
    packed = run(
        "pack", tmp_path / "pictures" / "gathered.csv", tmp_path / "s.store", "--label", "weave", "--columns", "swatch"
    )
    assert packed.status == 0, packed.err
    assert pannier.open(tmp_path / "s.store").counts == {("twill", None): 4, ("satin", None): 4}


def test_every_bad_habit_of_a_server_is_borne(server: tuple[str, type[StandIn]], tmp_path: Path) -> None:
    link, handler = server
    outcomes = {
        "busy/1.jpg": None,
        "flaky/2.jpg": None,
        "to/3.jpg": None,
        "gzip/4.jpg": None,
        "naive/17.jpg": None,
        "toport/99999": "not a link that can be asked for",
        "toport/x1": "Invalid port",
        "status/403": "HTTP 403",
        "status/404": "HTTP 404",
        "status/500": "HTTP 500, 3 times",
        "loop/5": "it leads on and on",
        "tofile/6": "only http and https are fetched, not file",
        "page/7": "not a picture (the server calls it text/html)",
        "empty/8.jpg": "an empty answer",
        "huge/9.png": "30,000 x 30,000 is over 100 megapixels",
        "large/10.jpg": "raise `max_bytes` to take it",
        "endless/11.jpg": "more than 1 MiB",
        "bomb/12.jpg": "more than 1 MiB",
        "cut/13.jpg": "the connection broke",
        "quietcut/14.jpg": "cut short, 3 times",
        "private/16.jpg": "robots.txt asks not to fetch it",
    }
    table = [{"photo": f"{link}/{path}", "label": "twill"} for path in outcomes]
    table += [{"photo": "file:///etc/hostname", "label": "twill"}, {"photo": "http://[", "label": "twill"}]
    result = pannier.gather(table, tmp_path / "p", link="photo", max_bytes="1MiB", connections=8, **QUICK)
    reasons = {failed.link.removeprefix(link + "/"): failed for failed in result.failed}
    for path, reason in outcomes.items():
        if reason is None:
            assert path not in reasons
        else:
            assert reason in reasons[path].reason, path
    drip = [{"photo": f"{link}/drip/15.jpg", "label": "twill"}]
    (slow,) = pannier.gather(drip, tmp_path / "slow", link="photo", **{**QUICK, "timeout": "1s"}).failed
    assert (slow.reason, slow.is_final) == ("it took longer than 1 s, 3 times", False)
    assert reasons["file:///etc/hostname"].reason == "only http and https are fetched, not file"
    assert "not a link" in reasons["http://["].reason
    final = {path for path, failed in reasons.items() if failed.is_final}
    assert {"status/403", "status/404", "page/7", "huge/9.png", "private/16.jpg", "tofile/6"} <= final
    assert not final & {"status/500", "cut/13.jpg", "quietcut/14.jpg", "empty/8.jpg"}
    assert (result.came, result.rows) == (5, 5)
    assert files_in(tmp_path / "p") == {"1.jpg", "2.jpg", "3.jpg", "4.jpg", "17.jpg", "gathered.csv"}
    asked = Counter(path for _, path in handler.log)
    pannier.gather(table, tmp_path / "p", link="photo", max_bytes="1MiB", connections=8, **QUICK)
    more = Counter(path for _, path in handler.log)
    assert more["/status/403"] == asked["/status/403"] == 1
    assert more["/status/500"] > asked["/status/500"]
    pannier.gather(table[7:8], tmp_path / "p", link="photo", again=True, **QUICK)
    assert Counter(path for _, path in handler.log)["/status/403"] == 2


def test_a_host_is_asked_one_after_another_and_left_alone_when_it_says_so(
    server: tuple[str, type[StandIn]], tmp_path: Path
) -> None:
    link, handler = server
    started = time.monotonic()
    pannier.gather([{"photo": f"{link}/ok/{i}.jpg"} for i in range(8)], tmp_path / "p", pause="60ms", connections=4)
    # robots.txt and eight pictures: eight pauses at least, however slow or quick the machine is
    assert len(handler.log) == 9
    assert handler.log[-1][0] - started >= 8 * 0.06
    rows = [{"photo": f"{link}/later/1.jpg"}, *({"photo": f"{link}/ok/{i}.jpg"} for i in range(20, 24))]
    result = pannier.gather(rows, tmp_path / "q", pause="1ms", connections=1)
    assert {failed.reason for failed in result.failed} == {"the host asks to be left alone for 86,400 s"}
    assert len(result.failed) == 5
    assert result.can_try_again


def test_the_host_that_asks_for_patience_is_the_one_that_gets_it(server: tuple[str, type[StandIn]], tmp_path: Path) -> None:
    link, handler = server
    paths = ["elsewhere/later/1", "ok/1", "ok/2", "elsewhere/ok/3"]
    rows = [{"photo": f"{link}/{path}"} for path in paths]

    async def in_a_notebook() -> pannier.Gathered:
        return pannier.gather(rows, tmp_path / "p", pause="1ms", connections=1)

    result = asyncio.run(in_a_notebook())
    assert result.came == 2
    assert [failed.link.rpartition("/")[0].removeprefix(link) for failed in result.failed] == [
        "/elsewhere/later",
        "/elsewhere/ok",
    ]
    assert not any(path == "/ok/3" for _, path in handler.log)


def test_names_are_safe_and_come_from_links_or_a_rule(server: tuple[str, type[StandIn]], tmp_path: Path) -> None:
    link, _ = server
    paths = [
        "ok/1/a.jpg",
        "ok/2/a.jpg",
        "ok/3/A.JPG",
        "ok/4/%2e%2e%2fx.jpg",
        "ok/5/con.jpg",
        "ok/6/?n=1",
        "ok/7/" + "y" * 300,
    ]
    rows = [{"photo": f"{link}/{path}", "id": f"../{i}/x:{i}"} for i, path in enumerate(paths)]
    pannier.gather(rows, tmp_path / "p", link="photo", **QUICK)
    names = files_in(tmp_path / "p") - {"gathered.csv"}
    assert len(names) == len(paths)
    assert {"a.jpg", "a-2.jpg", "A-3.jpg", "con_.jpg"} <= names
    assert all(len(name) < 130 and ".." not in name for name in names)
    pannier.gather(rows, tmp_path / "q", link="photo", name="id", **QUICK)
    assert files_in(tmp_path / "q") - {"gathered.csv"} == {f"{i}/x_{i}.jpg" for i in range(len(paths))}
    assert set(os.listdir(tmp_path)) == {"p", "q"}
    rows = [{"photo": f"{link}/ok/1", "id": "bolt"}, {"photo": f"{link}/ok/2", "id": "bolt.jpg/2"}]
    assert pannier.gather(rows, tmp_path / "r", link="photo", name="id", **QUICK).came == 2


@given(st.text(max_size=200))
def test_no_name_leads_out_or_is_more_than_a_disk_takes(text: str) -> None:
    path = safe_path(text)
    assert path
    assert not path.startswith("/")
    for part in path.split("/"):
        assert part not in ("", ".", "..")
        assert len(part.encode()) <= 121
        assert not set(part) & set('\0<>:"|?*\\')
    name_in(f"http://h/{text}")
    identity(text)


def test_names_that_are_taken_get_numbers() -> None:
    assert list(unlike(["a", "A", "a-2", "b"], {"b"})) == ["a", "A-2", "a-2-2", "b-2"]


def test_credentials_are_written_nowhere(server: tuple[str, type[StandIn]], tmp_path: Path) -> None:
    link, _ = server
    secret = link.replace("http://", "http://weaver:opensesame@")
    rows = [{"photo": f"{secret}/ok/1.jpg?size=2&token=opensesame", "note": f"see {secret}/x"}]
    rows += [{"photo": f"{secret}/status/404?api_key=opensesame", "note": "gone"}]
    result = pannier.gather(rows, tmp_path / "p", link="photo", **QUICK)
    assert result.came == 1
    for path in (tmp_path / "p").rglob("*"):
        assert b"opensesame" not in path.read_bytes(), path
    assert rows_in(tmp_path / "p" / "gathered.csv")[0]["link"] == f"{link}/ok/1.jpg?size=2&token=hidden"
    assert "opensesame" not in result.failed[0].link
    assert without_credentials("s3://k:s@bucket/a?X-Amz-Signature=ab&v=1") == "s3://bucket/a?X-Amz-Signature=hidden&v=1"


def test_names_of_sessions_and_keys_stay_out_too_and_still_tell_pictures_apart(
    server: tuple[str, type[StandIn]], tmp_path: Path
) -> None:
    link, _ = server
    paths = ["ok/1.jpg;jsessionid=opensesame?x=1", "ok/2.jpg?key=opensesame-a", "ok/2.jpg?key=opensesame-b"]
    paths += ["status/404?code=opensesame&PHPSESSID=opensesame", "ok/3.jpg;v=2?sid=opensesame"]
    result = pannier.gather([{"photo": f"{link}/{path}"} for path in paths], tmp_path / "p", **QUICK)
    assert (result.came, len(result.failed)) == (4, 1)
    for path in (tmp_path / "p").rglob("*"):
        assert b"opensesame" not in path.read_bytes(), path
        assert "opensesame" not in path.name
    assert "opensesame" not in str(result.failed)
    told = [row["link"].removeprefix(link) for row in rows_in(tmp_path / "p" / "gathered.csv")]
    assert told[0] == "/ok/1.jpg;jsessionid=hidden?x=1"
    assert told[3] == "/ok/3.jpg;v=2?sid=hidden"
    one, two = (f"{link}/ok/1.jpg;jsessionid={session}" for session in "ab")
    assert identity(one) == identity(two)


@pytest.mark.parametrize(
    ("changed", "says"),
    [
        ({"file": "../outside.jpg"}, "line 1: came.file: Value error, a path that leads out of the folder"),
        ({"file": "/outside.jpg"}, "a path that leads out of the folder"),
        ({"file": "a/../../outside.jpg"}, "a path that leads out of the folder"),
        ({"identity": "../arriving"}, "line 1: came.identity"),
        ({"byte_count": "many"}, "line 1: came.byte_count"),
        ({"status": 10**40}, "line 1: came.status"),
        ({"more": 1}, "line 1: came.more: Extra inputs are not permitted"),
    ],
)
def test_a_strangers_journal_writes_nowhere_else(tmp_path: Path, changed: dict[str, Any], says: str) -> None:
    folder, data = tmp_path / "p", picture(1)
    folder.mkdir()
    came = {"identity": "0" * 32, "link": "http://mill.example/a.jpg", "file": "a.jpg", "time": "2026-01-01T00:00:00Z"}
    came |= {"byte_count": len(data), "sha256": hashlib.sha256(data).hexdigest(), "status": 200}
    (folder / ".gathered.jsonl").write_text(json.dumps({"came": came | changed}) + "\n")
    (folder / f".arriving-{came['identity']}").write_bytes(data)
    with pytest.raises(SourceError, match="damaged") as caught:
        pannier.gather([{"photo": "http://127.0.0.1:9/a.jpg"}], folder, **QUICK)
    assert says in str(caught.value)
    assert not list(tmp_path.glob("*.jpg"))
    assert (folder / f".arriving-{came['identity']}").exists()


def test_a_redirect_leads_inside_only_where_the_link_did(
    server: tuple[str, type[StandIn]], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    link, handler = server
    rows = [{"photo": f"{link}/elsewhere/ok/{number}.jpg"} for number in range(2)]
    assert pannier.gather(rows, tmp_path / "inside", **QUICK).came == 2
    inside = addresses.is_inside

    async def leads_inside(target: str) -> bool:  # as if the server were on the internet, and localhost here
        return "localhost" in target

    monkeypatch.setattr(addresses, "leads_inside", leads_inside)
    asked = len(handler.log)
    result = pannier.gather(rows, tmp_path / "outside", **QUICK)
    assert result.came == 0
    assert all("private or of this machine" in failed.reason and failed.is_final for failed in result.failed)
    assert all(path.startswith(("/elsewhere/", "/robots")) for _, path in handler.log[asked:])
    hosts = ("127.0.0.1", "10.1.2.3", "192.168.0.9", "169.254.169.254", "::1", "fe80::1%eth0", "::ffff:10.0.0.1", "fd00::1")
    assert all(map(inside, (*hosts, "0.0.0.0", "224.0.0.1", "100.64.0.1")))
    embedding = ("64:ff9b::7f00:1", "64:ff9b:1::a00:1", "2002:7f00:1::", "2002:a00:1::1", "::127.0.0.1", "::ffff:0:10.0.0.1")
    assert all(map(inside, embedding))
    assert not any(map(inside, ("9.9.9.9", "2620:fe::fe", "::ffff:9.9.9.9", "64:ff9b::909:909", "2606:4700::1111")))
    own = ("http://127.0.0.1:80/x", "http://localhost/x", "http://[::1]/x", "http://169.254.169.254/x", "http://0.0.0.0/")
    assert all(map(addresses.is_this_machine, (*own, "http://[::ffff:127.0.0.1]/x", "http://[2002:7f00:1::]/x")))
    assert not any(map(addresses.is_this_machine, ("http://9.9.9.9/x", "http://10.0.0.1/x", "http://nobody.invalid/x")))


def test_a_host_that_never_answers_in_time_is_given_up_and_others_go_on(
    server: tuple[str, type[StandIn]], tmp_path: Path
) -> None:
    link, _ = server
    with socket.create_server(("127.0.0.1", 0), backlog=64) as silent:  # it takes connections, and says nothing
        other = f"http://127.0.0.1:{silent.getsockname()[1]}"
        rows = [{"photo": f"{other}/{number}.jpg"} for number in range(20)]
        rows += [{"photo": f"{link}/ok/{number}.jpg"} for number in range(5)]
        options = {"pause": "1ms", "timeout": "2s", "attempts": 1, "ignore_robots": True}
        result = pannier.gather(rows, tmp_path / "p", **options)
    assert result.came == 5
    assert sum("the host does not answer" in failed.reason for failed in result.failed) >= 15


def test_what_comes_is_shrunk_and_checked_as_it_comes(server: tuple[str, type[StandIn]], tmp_path: Path) -> None:
    link, _ = server
    result = pannier.gather([{"photo": f"{link}/ok/5.jpg"}], tmp_path / "p", longest_side=20, encode="png", **QUICK)
    assert result.came == 1
    packed = pannier.create(tmp_path / "s").pack(tmp_path / "p" / "gathered.csv", unlabeled="keep", label="NULL").snapshot
    assert (packed[0].size, packed[0].format) == ((16, 20), "png")


def test_a_certificate_that_nobody_vouches_for_is_refused(tmp_path: Path) -> None:
    subject = ["-days", "2", "-subj", "/CN=127.0.0.1"]
    command = [
        "openssl",
        "req",
        "-x509",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-keyout",
        "key.pem",
        "-out",
        "cert.pem",
        *subject,
    ]
    made = subprocess.run(command, cwd=tmp_path, capture_output=True, check=False)
    if made.returncode:
        pytest.skip("openssl is not here to make a certificate")
    server = ThreadingHTTPServer(("127.0.0.1", 0), stand_in())
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(tmp_path / "cert.pem", tmp_path / "key.pem")
    server.socket = context.wrap_socket(server.socket, server_side=True)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        rows = [{"photo": f"https://127.0.0.1:{server.server_address[1]}/ok/1.jpg"}]
        result = pannier.gather(rows, tmp_path / "p", **QUICK)
    finally:
        server.shutdown()
        server.server_close()
        thread.join()
    assert "TLS" in result.failed[0].reason
    assert result.failed[0].is_final


def test_a_host_that_does_not_answer_is_given_up(tmp_path: Path) -> None:
    rows = [{"photo": f"http://127.0.0.1:9/{i}.jpg"} for i in range(50)]
    result = pannier.gather(rows, tmp_path / "p", pause="1ms", attempts=1, connections=1)
    assert len(result.failed) == 50
    assert len({failed.reason for failed in result.failed}) == 2
    assert "the host does not answer" in result.failed[-1].reason


@pytest.mark.parametrize(
    ("rows", "options", "says"),
    [
        ([{"a": "x"}], {}, "no column holds links"),
        ([{"a": "http://h/1", "b": "http://h/2"}], {}, "several columns hold links"),
        ([{"a": 3}], {"link": "a"}, "gives int64, not links"),
        ([{"a": "http://h/1"}], {"pause": "soon"}, "is no time"),
        ([{"a": "http://h/1"}], {"attempts": 0}, "must be 1 or more"),
        ([{"a": "http://h/1"}], {"where": "b = 1"}, "no column 'b'"),
    ],
)
def test_a_gathering_that_makes_no_sense_is_said(
    tmp_path: Path, rows: list[dict[str, object]], options: dict[str, object], says: str
) -> None:
    with pytest.raises(UsageError, match=says):
        pannier.gather(rows, tmp_path / "p", **options)
    assert not (tmp_path / "p").exists()


def test_other_folders_and_other_gatherings_are_let_alone(tmp_path: Path) -> None:
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "mine.txt").write_text("mine")
    with pytest.raises(UsageError, match="holds other files already"):
        pannier.gather([{"a": "http://127.0.0.1:9/1"}], tmp_path / "full")
    (tmp_path / "bad").mkdir()
    (tmp_path / "bad" / ".gathered.jsonl").write_text("no json\n{}\n")
    with pytest.raises(SourceError, match="is damaged"):
        pannier.gather([{"a": "http://127.0.0.1:9/1"}], tmp_path / "bad")


@pytest.mark.proof
def test_a_killed_gathering_goes_on_with_nothing_lost_or_doubled(tmp_path: Path, scale: int) -> None:
    """Killed at random moments, many times over one folder; at the end everything is there once, and was fetched once."""
    handler = stand_in()
    count, kills = 60, 3 * scale
    rng = random.Random(5)
    with serving(handler) as link:
        table = tmp_path / "t.csv"
        table.write_text("photo\n" + "\n".join(f"{link}/ok/{i}.jpg" for i in range(count)))
        command = [sys.executable, "-m", "pannier", "gather", str(table), str(tmp_path / "p"), "--pause", "12ms", "--json"]
        killed = 0
        while killed < kills:
            if (tmp_path / "p").exists() and len(files_in(tmp_path / "p")) > count - 10:
                for path in list((tmp_path / "p").iterdir()):  # all is there: begin anew
                    path.unlink()
                handler.log.clear()
            process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            until = time.monotonic() + 20
            seen = len(handler.log)
            while len(handler.log) == seen and time.monotonic() < until and process.poll() is None:
                time.sleep(0.002)
            time.sleep(rng.random() * 0.25)
            process.send_signal(signal.SIGKILL)
            process.wait()
            killed += 1
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        facts = json.loads(done.stdout)
        assert (facts["rows"], facts["failed"]) == (count, [])
        assert files_in(tmp_path / "p") == {*(f"{i}.jpg" for i in range(count)), "gathered.csv"}
        for i in range(count):
            assert (tmp_path / "p" / f"{i}.jpg").read_bytes() == picture(i)
        # at a kill at most two pictures were on their way; only those are asked for again
        again = sum(times - 1 for path, times in Counter(path for _, path in handler.log).items() if "/ok/" in path)
        assert again <= 3 * kills
    print(f"\n{kills} kills, {again} pictures asked for again")
