"""The packages that are built are whole: installed elsewhere, they do what the source tree does."""

from __future__ import annotations

import os
import subprocess
import sys
import tarfile
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent

pytest.importorskip("build", reason="pip install build")


# only what the package itself asks for is there, as where nothing else was installed
WITHOUT_EXTRAS = """
import sys
class Absent:
    def find_spec(self, name, path=None, target=None):
        if name.partition(".")[0] in "pandas scipy cffi yaml obstore distributed dask openpyxl polars".split():
            raise ModuleNotFoundError(name, name=name)
sys.meta_path.insert(0, Absent())
"""


def test_the_wheel_works_without_the_source_tree_and_the_extras(tmp_path: Path) -> None:
    build = [sys.executable, "-m", "build", "--no-isolation", "--outdir", str(tmp_path / "dist"), str(ROOT)]
    made = subprocess.run(build, capture_output=True, text=True)
    assert made.returncode == 0, made.stdout[-2000:] + made.stderr[-2000:]
    (wheel,), (source,) = (list((tmp_path / "dist").glob(each)) for each in ("*.whl", "*.tar.gz"))
    install = [
        sys.executable,
        "-m",
        "pip",
        "install",
        "--no-deps",
        "--no-index",
        "--quiet",
        "--target",
        str(tmp_path / "there"),
    ]
    subprocess.run([*install, str(wheel)], check=True)
    (tmp_path / "sitecustomize.py").write_text(WITHOUT_EXTRAS)
    environment = os.environ | {"PYTHONPATH": os.pathsep.join([str(tmp_path / "there"), str(tmp_path)])}
    there, drawn = str(tmp_path / "there"), str(tmp_path / "drawn")
    program = f"import pannier\nassert pannier.__file__.startswith({there!r}), pannier.__file__\n"
    program += f"from pannier.cli.entry import main\nmain(['demo', {drawn!r}, '--only-draw', '--swatches', '60'])\n"
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, env=environment, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    page = """
import pannier
assert 'near doubles' in str(pannier.survey('drawn/archive').to_dict())
s = pannier.create('s.store').pack('drawn/archive').snapshot
for frame in (s.frame, s.doubles().to_frame):
    try:
        frame()
        raise SystemExit('a frame without pandas')
    except pannier.UsageError as error:
        assert "pip install pandas" in str(error)
from pannier.cli.entry import status_of
assert status_of(['doubles', 's.store', '--table', 'pairs.csv', '--json']) == 0
pannier.open('s.store').store.change(unlike='pairs.csv', preview=True)
"""
    done = subprocess.run([sys.executable, "-c", page], capture_output=True, text=True, env=environment, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    page = "import pannier; print(pannier.report(pannier.open('s.store'), 'page.html'))"
    done = subprocess.run([sys.executable, "-c", page], capture_output=True, text=True, env=environment, cwd=tmp_path)
    assert int(done.stdout) > 10_000, done.stderr  # templates and their scripts came along
    with tarfile.open(source) as archive:
        names = archive.getnames()
    assert any(name.endswith("README.md") for name in names)
