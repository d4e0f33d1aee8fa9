"""A store in an Azure container, on a server that speaks like it, which `make test` installs where npm is."""

from __future__ import annotations

import base64
import hashlib
import hmac
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from email.utils import formatdate
from pathlib import Path

import httpx
import numpy as np
import pytest

import pannier
from pannier.errors import NotFoundError
from tests.conftest import fill

SERVERS = Path(__file__).parent.parent / "build" / "servers" / "node_modules" / ".bin"
SERVER = shutil.which("azurite-blob") or shutil.which("azurite-blob", path=SERVERS)
pytestmark = pytest.mark.skipif(SERVER is None, reason="no server that speaks like Azure: npm install -g azurite")
pytest.importorskip("obstore", reason="stores in buckets: pip install obstore")

# of every such stand-in, as its documents tell
ACCOUNT = "devstoreaccount1"
KEY = "Eby8vdM02xNOcqFlqUwJPLlmEtlCDXJ1OUzFT50uSRZ6IFsuFq2UVErCz4I6tq/K1SZFPTOtr/KBHBeksoGMGw=="


@pytest.fixture
def container(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    words = [str(SERVER), "--silent", "--skipApiVersionCheck", "--blobPort", str(port), "--location", str(tmp_path / "az")]
    endpoint = f"http://127.0.0.1:{port}/{ACCOUNT}"
    with subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as server:
        try:
            make_container(endpoint, "cloth")
            for name, value in (("ACCOUNT_NAME", ACCOUNT), ("ACCOUNT_KEY", KEY), ("ENDPOINT", endpoint)):
                monkeypatch.setenv(f"AZURE_STORAGE_{name}", value)
            yield "az://cloth"
        finally:
            server.terminate()


def make_container(endpoint: str, name: str) -> None:
    """One signed request, as soon as the server answers."""
    until = time.monotonic() + 60
    while True:
        headers = {"x-ms-date": formatdate(usegmt=True), "x-ms-version": "2021-12-02", "content-length": "0"}
        told = [f"{each}:{headers[each]}" for each in ("x-ms-date", "x-ms-version")]
        path = f"/{ACCOUNT}{httpx.URL(endpoint).path}/{name}"
        text = "\n".join(["PUT", *[""] * 11, *told, path, "restype:container"])
        signature = base64.b64encode(hmac.digest(base64.b64decode(KEY), text.encode(), hashlib.sha256)).decode()
        headers["authorization"] = f"SharedKey {ACCOUNT}:{signature}"
        try:
            httpx.put(f"{endpoint}/{name}?restype=container", headers=headers).raise_for_status()
            return
        except httpx.TransportError:
            assert time.monotonic() < until
            time.sleep(0.1)


def test_a_store_in_a_container_is_the_store_on_disk(container: str, tmp_path: Path) -> None:
    folder = fill(tmp_path / "a", 8)
    near = pannier.create(tmp_path / "s.store").pack(folder, shares={"train": 70, "val": 30}, seed=3).snapshot
    store = pannier.create(f"{container}/s.store")
    far = store.pack(folder, shares={"train": 70, "val": 30}, seed=3).snapshot
    assert far.content_id == near.content_id
    with near.feed("train", size=16, seed=1) as one, far.feed("train", size=16, seed=1) as other:
        assert all(np.array_equal(a.images, b.images) for a, b in zip(one, other, strict=True))
    store.change(where="label = 'twill'", set="label=satin")
    store.tag("spring")
    assert [step.records for step in store.history()] == [24, 24]
    assert store.verify() == []
    back = pannier.create(tmp_path / "back.store")
    store.copy("main", back)
    assert back.snapshot().content_id == store.snapshot().content_id
    with pytest.raises(NotFoundError):
        pannier.open(f"{container}/none.store")
