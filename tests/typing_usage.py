"""Typed usage as a user would write it; checked by mypy, never run."""

import numpy as np

import pannier


def train() -> None:
    store = pannier.create("swatches.store")
    result = store.pack("archive/", shares={"train": 75, "val": 15, "test": 10}, seed=7, note="first six weaves")
    snapshot = result.snapshot
    treatment = pannier.Treatment(size=(96, 96), fit="cover", values="standard").measured(snapshot, "train")
    array: np.ndarray[tuple[int, ...], np.dtype[np.float32]] = treatment("new/picture.jpg")
    print(array.shape, snapshot.splits["train"], snapshot.classes[0], snapshot["twill/0042.jpg"].picture().shape)
    with snapshot.feed("train", treatment, batch_size=32, seed=7, memory_limit="256MiB") as feed:
        for epoch in feed.epochs(12):
            for batch in epoch:
                keys: list[str] = batch.keys
                print(batch.images, batch.labels, keys)


def collect() -> None:
    gathered = pannier.gather("register.csv", "raking/", link="raking", where="finish = 'raw'", pause="700ms")
    print(gathered.came, [failed.reason for failed in gathered.failed])
    findings = pannier.survey(gathered.table, label="weave")
    print(findings.problems[0].mend, findings.columns[0].stray_blanks)
    store = pannier.open_store("swatches.store")
    packed = store.pack(["archive/", "season.zip"], carve="val=15%", of="train", near=6, group_by="top", freeze="test")
    print(packed.funnel, packed.deviation, packed.snapshot.dealing.frozen)
    changed = store.change(where="loom = 7", set={"label": "satin"}, preview=True)
    print(changed.changes, changed.first, changed.left_out)


def remember() -> None:
    store = pannier.open_store("swatches.store")
    snapshot = store.tag("spring", note="what the first model saw")
    snapshot.attach(facts={"accuracy": 0.93}, files={"results/run-3.npz": "run-3.npz"})
    print(snapshot.facts["accuracy"], snapshot.attachment("results/run-3.npz").byte_count)
    treatment = pannier.Treatment.from_file("cloth.toml")
    text: str = snapshot.docket("train", treatment, seed=7).text()
    with pannier.from_docket("weave.docket", store="swatches.store", workers=2) as feed:
        print(text, len(feed))
    found = pannier.compare(snapshot, "swatches.store@main")
    print(found.counts["relabelled"], found.class_numbers, found.is_same)
    for step in store.history("main"):
        print(step.id, step.totals, step.by_class)
    print(snapshot.query("SELECT label, count(*) FROM records GROUP BY label").num_rows, snapshot.frame("train"))
    exported = snapshot.export("data/swatches", layout="split", hard_links=True)
    restored = pannier.restore("data/swatches.docket", overwrite=True)
    print(exported.docket, restored.kept, store.copy("main", pannier.open_store("other.store")).pictures)
    plan = store.tidy(older_than="2w")
    print(plan.byte_count, [going.file for going in plan.going], store.change(as_of="spring").is_new)
    for finding in pannier.verify(store, sample="5%", repair_from="other.store"):
        print(finding.keys)
