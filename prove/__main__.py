"""`python -m prove`: the proofs at full scale, and what came out of them as docs/proofs.md.

The same tests as in `make test`, with more cases; and a hunt for hangs: hundreds of feeds under limits that the system
enforces, two at a time, each ended by wall clock with the stacks of all its threads where it does not answer.

What passed is kept in build/proved.json, and is not run again for the same code and the same test: a run that was stopped
goes on. `python -m prove --anew` forgets it.
"""

from __future__ import annotations

import hashlib
import json
import platform
import re
import shlex
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

# whether it passed, what the page says of it, and what was said of each case that did not pass
Result = tuple[bool, str, list[str]]

PROOFS = (
    ("Interrupted calls", "tests/test_odd_disks.py::test_a_signal_that_interrupts_a_call_leaves_before_or_after", 10),
    ("Clocks, vanished folders, odd disks", "tests/test_odd_disks.py -k 'not signal'", 2),
    ("Hostile input", "tests/test_hostile.py::test_no_input_of_a_stranger_provokes_more_than_an_error_of_ours", 2),
    ("Limited packs", "tests/test_memory_limits.py", 1),
    ("Killed operations", "tests/test_proofs.py::test_an_operation_killed_anywhere_leaves_before_or_after", 10),
    ("Refused calls", "tests/test_proofs.py::test_any_call_that_the_disk_refuses_leaves_before_or_after", 10),
    ("Damage", "tests/test_proofs.py::test_any_damage_is_found_and_no_wrong_picture_is_given_out", 68),
    (
        "Forged checksums",
        "tests/test_proofs.py::test_forged_bytes_of_an_equal_checksum_are_found_where_a_docket_is_trusted",
        100,
    ),
    ("Any operations", "tests/test_state_machine.py::test_any_operations_in_any_order_agree_with_a_dictionary", 10),
    ("All verbs", "tests/test_all_verbs.py::test_all_verbs_in_any_order_do_what_a_person_expects", 200),
    ("Writers at once", "tests/test_upkeep.py::test_writers_at_once_on_one_strand_lose_no_snapshot", 10),
    (
        "Readers beside writers and tidying",
        "tests/test_upkeep.py::test_readers_never_meet_an_error_or_a_mix_beside_writers_and_tidying",
        10,
    ),
    ("Packers at once", "tests/test_proofs.py::test_packers_at_once_lose_no_snapshot", 5),
    ("Growing datasets", "tests/test_leaks.py::test_nothing_straddles_and_nothing_moves_however_a_dataset_grows", 9),
    ("Exact shares", "tests/test_leaks.py::test_shares_are_exact_to_the_record_where_nothing_holds_together", 9),
    ("Near doubles", "tests/test_leaks.py::test_variants_are_linked_and_unlike_pictures_are_not", 2),
    ("Histories of deliveries", "tests/test_histories.py::test_any_history_of_deliveries_ends_as_a_person_expects", 68),
    ("Two strands", "tests/test_two_sides.py::test_any_two_sides_come_together_as_a_plain_model_says", 70),
    ("Rules and pandas", "tests/test_rules_and_pandas.py::test_rules_give_what_pandas_gives", 20),
    ("Killed gatherings", "tests/test_gather.py::test_a_killed_gathering_goes_on_with_nothing_lost_or_doubled", 16),
    ("Damaged archives", "tests/test_nasty.py::test_damaged_archives_give_whole_pictures_or_an_error", 8),
    (
        "Cold scripts under limits",
        "tests/test_cold_limits.py::test_a_limit_holds_in_a_plain_script_that_has_loaded_nothing",
        67,
    ),
    ("The README's promises by plain scripts", "tests/test_promises.py", 20),
    ("Limited feeds", "tests/test_proofs.py::test_no_feed_exceeds_an_enforced_limit", 100),
    ("Rendered or not", "tests/test_rendering.py::test_rendered_or_not_whatever_the_workers_batches_are_equal", 20),
    ("Damaged renderings", "tests/test_rendering.py::test_damage_is_found_and_made_again", 20),
    ("Killed renderings", "tests/test_rendering.py::test_killed_at_any_instant_nothing_is_lost", 14),
    ("Killed fillings", "tests/test_filling.py::test_a_killed_one_loses_nothing", 100),
    ("Fillings of any treatment", "tests/test_filling.py -k any_treatment", 20),
    ("Feeds opened and closed", "tests/test_feed.py::test_feeds_opened_and_closed_leak_nothing", 50),
    ("Raced feeds", "tests/test_feed.py::test_raced_feeds_give_the_same_bytes", 50),
    ("Working memory and the system's list", "tests/test_measure.py::test_working_memory_is_what_the_system_says", 20),
    ("Raced engines in processes", "tests/test_processes.py::test_raced_engines_give_the_same_bytes", 125),
    ("Failing requests to a bucket", "tests/test_bucket_proofs.py::test_any_request_that_fails_leaves_before_or_after", 10),
    (
        "Killed at a request to a bucket",
        "tests/test_bucket_proofs.py::test_an_operation_killed_at_any_request_leaves_before_or_after",
        10,
    ),
    (
        "Writers at once in one bucket",
        "tests/test_bucket_proofs.py::test_writers_at_once_on_one_bucket_lose_no_snapshot",
        10,
    ),
    ("Killed processes that are fed", "tests/test_processes.py::test_engines_end_with_the_process_that_is_fed", 20),
)
HUNTED = 400
HANGS = """## Why a feed could stand still

A feed was seen once waiting 20 s for nothing, under load. The one thing in it that waits for more than its own work was its
lease: made when it begins and renewed between batches, it was flushed to the disk, which takes as long when others write
much. Leases need not outlive the machine's running and are no longer flushed (that this was the cause is inferred; that a
feed flushes nothing is tested). Nor can a wake-up be lost in the queue of runs: whoever puts, takes or gives back a permit
wakes one of those who may go on, under the one lock of all.

Early trials under an enforced limit hung now and then. Three ways were found in which a consumer waits for ever, all closed:

- A thread that cannot allocate even its own error message dies without a word, and the consumer waits for its batch. The
  consumer now looks every second whether those threads are alive, and raises where one is not.
- The interpreter, on ending, closes a loop that stands still after the feed's threads are gone; waiting for their last runs
  never returned. A closing engine now waits for nothing.
- Ctrl-C that meets Python code in the finalizer of a batch is swallowed there, and the buffer is lost. A batch's end is now
  told by a call into C alone. (A feeding process that went on after Ctrl-C was seen once; that this was its cause is
  inferred.)

The first two have tests in tests/test_feed.py. A trial that hangs all the same is ended by wall clock, and its row shows all
stacks."""
ROOT = Path(__file__).parent.parent
PAGE = ROOT / "docs" / "proofs.md"
KEPT = ROOT / "build" / "proved.json"
_lock = threading.Lock()


def main() -> int:
    if "--anew" in sys.argv:
        KEPT.unlink(missing_ok=True)
    lines = [
        "# What was proved",
        "",
        "Written by `make prove`: the tests of the same names at full scale. `make test` runs a seeded sample of each.",
        "",
        f"Python {platform.python_version()}, {platform.machine()}, two cores; two proofs at a time.",
        "",
        "| proof | outcome | what was seen | seconds | commit |",
        "|---|---|---|---|---|",
    ]
    with ThreadPoolExecutor(2) as pool:  # two at a time, on two cores
        rows = list(pool.map(lambda proof: prove(*proof), PROOFS))
    failed = sum(not is_proved for is_proved, _ in rows)
    lines += [row for _, row in rows]
    hunted, row, reasons = proved_once("tests/test_proofs.py", ["hunt", HUNTED], lambda: hunt(HUNTED))
    is_bounded, table, _ = proved_once("fuzz/inputs.py", ["inputs"], large_inputs)
    failed += (not hunted) + (not is_bounded)
    lines += [row, "", "## Inputs that ask for very much", "", *table.splitlines()]
    if reasons:
        lines += ["", "## What the hunt met", "", *(f"```\n{reason}\n```" for reason in reasons[:5])]
    lines += ["", HANGS]
    PAGE.write_text("\n".join(lines) + "\n")
    return 1 if failed else 0


def proved_once(file: str, what: list[Any], run: Callable[[], Result]) -> Result:
    """What a proof came to: as kept, where it passed with the same code and the same test."""
    proof = json.dumps([*what, _digest_of_code(file)])
    with _lock:
        kept = json.loads(KEPT.read_text()) if KEPT.exists() else {}
    if proof in kept:
        return True, kept[proof], []
    result = run()
    print(result[1], flush=True)
    if result[0]:
        with _lock:
            KEPT.parent.mkdir(exist_ok=True)
            kept = json.loads(KEPT.read_text()) if KEPT.exists() else {}
            KEPT.write_text(json.dumps(kept | {proof: result[1]}, indent=1))
    return result


def _digest_of_code(test_file: str) -> str:
    """Of the package, of the test's own file and of what tests share."""
    paths = [path for folder in ("src", "tests", "fuzz") for path in (ROOT / folder).rglob("*.py")]
    shared = (path for path in paths if not path.name.startswith("test_"))
    asked = [*shared, ROOT / test_file]
    return hashlib.sha256(b"".join(path.read_bytes() for path in sorted(asked))).hexdigest()


def _commit() -> str:
    """What is proved, as the history of this project names it."""
    asked = subprocess.run(["git", "rev-parse", "--short", "HEAD"], cwd=ROOT, capture_output=True, text=True, check=False)
    return asked.stdout.strip() or "-"


def prove(name: str, test: str, scale: int) -> tuple[bool, str]:
    """Runs one proof: whether it passed, and its row of the page."""
    file = test.partition("::")[0].split()[0]
    is_proved, row, _ = proved_once(file, [name, test, scale], lambda: run_proof(name, test, scale))
    return is_proved, row


def run_proof(name: str, test: str, scale: int) -> Result:
    started = time.monotonic()
    command = [sys.executable, "-m", "pytest", "-q", "-s", *shlex.split(test), "--scale", str(scale)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    said = [line for line in done.stdout.splitlines() if re.match(r"\d+ \w+", line) and "passed" not in line]
    seen = "; ".join(said) or f"{scale} times the cases of the sample"
    outcome = "passed" if done.returncode == 0 else "FAILED"
    row = f"| {name} | {outcome} | {seen} | {time.monotonic() - started:.0f} | {_commit()} |"
    if done.returncode:
        print(done.stdout[-4000:], flush=True)
    return done.returncode == 0, row, []


def large_inputs() -> Result:
    """The table of inputs that ask for very much, with seconds and memory."""
    command = [sys.executable, "-m", "fuzz.inputs", "--table"]
    asked = subprocess.run(command, capture_output=True, text=True, check=False)
    return asked.returncode == 0, asked.stdout, []


def hunt(count: int) -> Result:
    """Limited feeds of random settings: how they ended, and what was said of those that did not end well."""
    import pannier
    from pannier.demo.archive import draw_archive
    from tests.test_proofs import limited_trial

    started = time.monotonic()
    counts: Counter[str] = Counter()
    reasons = []
    with tempfile.TemporaryDirectory() as folder, ThreadPoolExecutor(2) as pool:
        draw_archive(Path(folder), 60, 3)
        snapshot = pannier.create(Path(folder) / "s.store").pack(Path(folder) / "archive").snapshot
        for status, reason, share in pool.map(
            lambda number: limited_trial(snapshot, number, 0.2), range(1000, 1000 + count)
        ):
            over = status == "ok" and share > 1
            counts["over" if over else status] += 1
            if status != "ok" or over:
                reasons.append(reason or f"peak at {share:.3f} of its limit")
                print(status, share, reason, flush=True)
    seen = ", ".join(f"{count} {status}" for status, count in counts.most_common())
    outcome = "FAILED" if reasons else "passed"
    what = f"{count} limited feeds: {seen}"
    row = f"| Hunt for hangs | {outcome} | {what} | {time.monotonic() - started:.0f} | {_commit()} |"
    return not reasons, row, reasons


if __name__ == "__main__":
    sys.exit(main())
