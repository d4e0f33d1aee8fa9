"""A training loop that is stopped and goes on with exactly the next batch, in another process, with other workers too.

python examples/stopped_and_gone_on.py swatches.store checkpoint.json   # stops after some batches; run again, it goes on
"""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import pannier

TREATMENT = pannier.Treatment(size=32, flip="horizontal", turn=10)


def main(path: str, checkpoint: str, batches: int = 7, epochs: int = 2) -> None:
    kept = Path(checkpoint)
    before: dict[str, Any] = json.loads(kept.read_text()) if kept.exists() else {"batches": 0, "mean": 0.0, "position": None}
    count, mean = before["batches"], before["mean"]
    with pannier.open(path).feed("train", TREATMENT, batch_size=8, seed=5, position=before["position"]) as feed:
        print("at the beginning" if not count else f"going on after {count} batches")
        while feed.position["epoch"] < epochs:
            for batch in feed:
                count += 1
                mean += (float(batch.images.mean()) - mean) / count  # what a model would learn
                if count % batches == 0:
                    kept.write_text(json.dumps({"batches": count, "mean": mean, "position": feed.position}))
                    print(f"stopped after {count} batches; mean so far {mean:.6f}")
                    return
    print(f"the end: {count} batches, mean {mean:.6f}")


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2])
