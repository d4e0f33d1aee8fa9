"""The guided tour: takes every step of the job as a user would, and says each command before it runs."""

from __future__ import annotations

import os
import shlex
import textwrap
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from pannier.demo.bucket import in_a_bucket
from pannier.demo.mill import mill_of, serving
from pannier.errors import PannierError, UsageError


@dataclass(frozen=True)
class Stop:
    """What is shown and why, the command, and the exit status that it must end with."""

    says: str
    command: str
    status: int = 0


def run_tour(
    directory: str | Path, swatches: int, seed: int, run: Callable[[list[str]], int] | None, *, remote: bool = False
) -> int:
    """Draws the archive into a new or empty folder and has every step run; none with None. Raises UsageError, PannierError.

    run: takes a command's arguments and gives its exit status. remote: the steps of a store in a bucket instead, on a
    stand-in for its server.
    """
    folder = Path(directory)
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise UsageError(
            f"{folder} is not empty; the demo never writes into a folder that holds something: name another one"
        )
    folder.mkdir(parents=True, exist_ok=True)
    started = time.monotonic()
    _draw(folder, swatches, seed)
    if run is None:
        return 0
    if remote:
        with in_a_bucket(folder / "buckets", "cloth", latency=0.02) as endpoint:
            print(f"# A stand-in for a bucket's server listens on {endpoint}; every answer takes 20 ms.")
            _take(_steps(_REMOTE_TOUR, folder, seed, endpoint), run)
        look = "buckets, cache"
    else:
        with serving(mill_of(folder / "archive")) as mill:
            _take(_steps(_TOUR, folder, seed, mill), run)
        look = "swatches.html, measured.html, counts.png, sheet.png, look.png"
    print(f"\nAll of it took {time.monotonic() - started:.0f} s. Everything is in {folder}: look at {look}.")
    return 0


def _take(steps: list[Stop], run: Callable[[list[str]], int]) -> None:
    for step in steps:
        _say(step.says, step.command)
        words = shlex.split(step.command)
        if words[0] == "mv":
            os.rename(*words[1:])
        elif (status := run(words[1:])) != step.status:
            raise PannierError(f"the demo's step ended with exit status {status}, not {step.status}: {step.command}")


# a line that begins with "#" says why; a command is led by the exit status that it must end with
_TOUR = """\
# What is in the archive, and what is wrong with it?
1 pannier survey {here}/archive
# And in the second delivery? Headers alone will do.
1 pannier survey {here}/season --quick
# Into the store, dealt to splits; what is broken is left out and listed.
0 pannier pack {here}/archive {store} --shares train=75,val=15,test=10 --seed {seed} --note 'first six weaves'
# Is a picture there twice, or nearly?
0 pannier doubles {store} --figure {here}/pairs.png
# The snapshot.
0 pannier show {store} --batch-size 32 --figure {here}/counts.png
# This state gets a name, and a docket: a small file for the code's repository, with which anyone gets the same batches. \
Of what it feeds, the digest is printed.
0 pannier tag {store} spring
0 pannier docket {store}@spring {here}/weave.docket --split train --size 96 --batch-size 32 --seed {seed}
0 pannier feed --docket {here}/weave.docket --digest
# Two labels are put right: a change is a new snapshot too, and touches no picture.
0 pannier change {store} --where "key LIKE 'rib/0003.%' OR key LIKE 'rib/0007.%'" --set label=basket \
--note 'two labels put right'
# The archivist puts the folder in order: one picture goes to another class, two swap their names.
0 mv {here}/archive/plain/0002.jpg {here}/archive/basket/0902.jpg
0 mv {here}/archive/rib/0001.jpg {here}/archive/aside.jpg
0 mv {here}/archive/twill/0002.jpg {here}/archive/rib/0001.jpg
0 mv {here}/archive/aside.jpg {here}/archive/twill/0002.jpg
# It is packed again. Records are known by their pictures: labels and splits go with them, and what was put right here stays.
0 pannier pack {here}/archive {store} --note 'the archive put in order'
# The second delivery has a class folder misspelt: packing stops.
1 pannier pack {here}/season {store}
# Told what is meant, it goes through.
0 pannier pack {here}/season {store} --rename herringbon=herringbone --note 'second season'
# A weaver looks at the cloth in a strand of her own, while the archivist goes on. What both have changed is asked.
0 pannier strand {store} weaver
0 pannier change {store} --strand weaver --where "key LIKE 'twill/000%'" --set label=herringbone --note 'the weaver'
0 pannier change {store} --where "key LIKE 'twill/0004.%'" --set label=satin --note 'the archivist'
1 pannier merge {store} weaver --conflicts {here}/conflicts.csv
0 pannier merge {store} weaver --prefer theirs
# A colleague sends a table of corrections. They go into a strand, which is merged; then one more label is corrected.
0 pannier strand {store} colleague
0 pannier change {store} --strand colleague --from {here}/checked.csv --note 'checked by eye'
0 pannier change {store} --where "key LIKE 'satin/0005.%'" --set label=twill --note 'the archivist again'
0 pannier merge {store} colleague
0 pannier change {store} --where "key LIKE 'satin/0006.%'" --set label=twill --note 'one more'
# Why is a picture where it is?
0 pannier show {store} basket/0902.jpg
# What has changed since?
0 pannier compare {store}@spring {store} --rows 6 --figure {here}/differences.png
0 pannier history {store}
# The old season is fed again from its docket: the same batches.
0 pannier feed --docket {here}/weave.docket --digest
# The register links to pictures by raking light. Those that a rule wants are gathered from the mill's web server, which \
a stand-in on this machine plays; it asks for patience now and then.
0 pannier gather {here}/register.csv {here}/raking --link "replace(raking, 'https://mill.example', '{mill}')" \
--where "finish = 'washed' AND abs(warp_per_cm - weft_per_cm) <= 1" --pause 20ms
# A rule over the register's columns gives labels; pictures of one loom stay in one split.
0 pannier pack {here}/raking/gathered.csv {here}/cloth.store \
--label "CASE WHEN warp_per_cm < 24 THEN 'coarse' ELSE 'fine' END" --columns fiber,loom --group-by loom \
--shares train=75,val=25 --name 'Fine and coarse'
# The weaver has looked again: looms 1 and 2 weave coarse cloth alone. What would change?
0 pannier change {here}/cloth.store --where "loom <= 2" --set label=coarse --preview
# Look at the pictures before training on them.
0 pannier sheet {store} --split train --figure {here}/sheet.png
# A treatment says how a picture becomes an array. A commented file to begin with, and one swatch through it.
0 pannier treatment {here}/cloth.toml --new
0 pannier look {store} twill/0004.jpg --treatment {here}/cloth.toml --figure {here}/look.png
# Mean and deviation of the training split, measured at the very size in use, go into the file.
0 pannier stats {store} --split train --treatment {here}/cloth.toml --save
# One batch, as training would get it.
0 {feed} --describe
# An epoch; then what is fixed is run once and kept, and an epoch again.
0 {feed}
0 pannier render {store} --treatment {here}/cloth.toml
0 {feed}
# How much memory does it take to be fast, and is it worth rendering? Measured, not guessed.
0 pannier measure {store} --treatment {here}/cloth.toml --workers 2 --source shards,rendered --memory-limit 16MiB,64MiB \
--rounds 2 --slice-seconds 0.2 --save {here}/measured.json --figure {here}/measure.png
# Pages for a colleague: what is in the store, and what was measured.
0 pannier report {store} --page {here}/swatches.html
0 pannier report {here}/measured.json --page {here}/measured.html
# Is every byte as it was written?
0 pannier verify {store}
"""


_REMOTE_TOUR = """\
# Packed into a bucket, as into a directory.
0 pannier pack {here}/archive s3://cloth/swatches.store --shares train=75,val=15,test=10 --seed {seed}
0 pannier tag s3://cloth/swatches.store spring
# And into a directory: the content id is the same.
0 pannier pack {here}/archive {store} --shares train=75,val=15,test=10 --seed {seed}
0 pannier compare {store} s3://cloth/swatches.store
# An epoch from there: many requests are in flight at once. What was read is kept near by.
0 pannier feed s3://cloth/swatches.store --split train --size 96 --cache {here}/cache --digest
# Again: the same batches, and no picture is asked for.
0 pannier feed s3://cloth/swatches.store --split train --size 96 --cache {here}/cache --digest
# From the disk: the same.
0 pannier feed {store} --split train --size 96 --digest
# A label is put right there, in one more snapshot; then the copy here is brought up to date.
0 pannier change s3://cloth/swatches.store --where "key LIKE 'rib/0003.%'" --set label=basket --note 'put right'
0 pannier history s3://cloth/swatches.store
0 pannier copy s3://cloth/swatches.store {here}/copy.store
# Is every byte there as it was written? The cache is not asked.
0 pannier verify s3://cloth/swatches.store
# For a web server that gives out files: the store's listing goes in beside them. Then anyone reads it by https.
0 pannier publish s3://cloth/swatches.store
0 pannier show {mill}/cloth/swatches.store
"""


def _steps(tour: str, folder: Path, seed: int, mill: str) -> list[Stop]:
    here = shlex.quote(str(folder))
    feed = f"pannier feed {here}/swatches.store --split train --treatment {here}/cloth.toml --memory-limit 128MiB"
    steps, says = [], ""
    for line in tour.format(here=here, store=f"{here}/swatches.store", feed=feed, seed=seed, mill=mill).splitlines():
        mark, _, rest = line.partition(" ")
        if mark == "#":
            says = rest
        else:
            steps.append(Stop(says, rest, int(mark)))
            says = ""
    return steps


def _say(says: str, command: str) -> None:
    if says:
        print("\n" + "\n".join(textwrap.wrap(says, 100, initial_indent="# ", subsequent_indent="# ")))
    print(f"\n$ {command}", flush=True)


def _draw(folder: Path, swatches: int, seed: int) -> None:
    from pannier.demo.archive import draw_archive

    what = f"drawing {swatches} swatches and a second delivery into {folder}"
    print(f"# Fell Lane Mill photographs its cloth: {what}", flush=True)
    draw_archive(folder, swatches, seed)
    rows = [f"basket/{number:04},{label}" for number, label in ((1, "rib"), (2, "rib"), (3, "twill"))]
    (folder / "checked.csv").write_text("\n".join(["swatch,label", *rows]) + "\n")
