"""pannier render"""

from __future__ import annotations

from typing import TYPE_CHECKING

import pannier
from pannier.cli import options as opt
from pannier.cli.terminal import plural, print_facts, print_json, print_table, progress_bar
from pannier.errors import UsageError
from pannier.units import show_bytes

if TYPE_CHECKING:
    from pannier.feeding.render_plan import RenderPlan
    from pannier.feeding.rendering import Rendered


_HOW = {
    "workers": opt.number("Threads; by default all usable cores."),
    **opt.MEMORY,
    "check": opt.switch("Read what is there first, and make again what is damaged."),
}


@opt.reads_afar
@opt.takes_treatment
@opt.takes("how", _HOW)
def render(
    store: opt.Store,
    treatment: opt.TreatmentOptions = opt.NO_TREATMENT,
    split: opt.FedSplit = None,
    disk_limit: str = opt.value("20GiB", "The most that renderings may take, or none.", "BYTES"),
    how: opt.Said = opt.NOTHING,
    cluster: opt.Cluster = None,
    preview: bool = opt.flag("--preview", "Say what it would cost; make nothing."),
    listed: bool = opt.flag("--list", "What is rendered in the store."),
    remove: str | None = opt.value(None, "Take a rendering away, by its first digits.", "DIGEST"),
    json: opt.AsJson = False,
) -> int:
    """Run the fixed part of a treatment once and keep its canvases: feeds through it need no decoding any more.

    [dim]$[/dim] pannier render swatches.store --treatment cloth.toml
    [dim]$[/dim] pannier render swatches.store --list
    """
    from pannier.executors import workers_at
    from pannier.feeding.rendering import plan_rendering
    from pannier.feeding.rendering import render as make

    if listed or remove is not None:
        return _kept(store, remove, json)
    if not treatment.are_said:
        raise UsageError("say through which treatment: --treatment FILE, or --size")
    snapshot = pannier.open(store)
    through, split = treatment.as_said(), opt.fed_split(snapshot, split)
    plan = plan_rendering(snapshot, through, split=split, disk_limit=disk_limit)
    if not json:
        _print_plan(plan, preview)
    if not preview:
        with progress_bar("render") as bar, workers_at(cluster) as executor:
            by: opt.Said = {"progress": bar, "executor": executor}
            plan = make(snapshot, through, split=split, disk_limit=disk_limit, **by, **how)
        if not json:
            print(f"rendered {plural(plan.missing, 'picture')}; feeds through this fixed part use them by themselves")
    if json:
        print_json(plan.to_dict())
    return 0


def _kept(store: str, remove: str | None, json: bool) -> int:
    """What is rendered, or that one of them goes."""
    from pannier.feeding.rendering import list_renderings, remove_rendering
    from pannier.storage.opening import parted_address

    storage = pannier.open_store(parted_address(store)[0]).storage
    if remove is not None:
        freed = remove_rendering(storage, remove)
        print_json({"freed_bytes": freed}) if json else print(f"removed {remove}: {show_bytes(freed)} freed")
    else:
        kept = list_renderings(storage)
        print_json([each.to_dict() for each in kept]) if json else _print_list(kept)
    return 0


def _print_list(found: list[Rendered]) -> None:
    if not found:
        print("nothing is rendered in this store")
        return
    rows = []
    for each in found:
        fixed = each.about["fixed"]
        tall, wide = fixed["size"]
        rest = [f"{name} {value}" for name, value in fixed.items() if name in ("tone", "filter", "trim", "anchor")]
        about = ", ".join([fixed["fit"], fixed["color"], *rest])
        canvas = "x".join(map(str, each.about["shape"][1:]))
        rows.append([each.digest[:12], f"{tall}x{wide}", about, canvas, f"{each.canvases:,}", show_bytes(each.byte_count)])
    print_table(["digest", "size", "fixed part", "canvas", "pictures", "bytes"], rows, left=3)


def _print_plan(plan: RenderPlan, preview: bool) -> None:
    canvas = "x".join(map(str, plan.shape[1:]))
    channels = "1 channel" if plan.shape[0] == 1 else f"{plan.shape[0]} channels"
    cap = "" if plan.limit_bytes is None else f" of {show_bytes(plan.limit_bytes)}"
    print_facts(
        ("fixed part", plan.digest[:12]),
        ("canvas", f"{canvas}, {channels}, {show_bytes(plan.shape[0] * plan.shape[1] * plan.shape[2])} a picture"),
        ("pictures", f"{plan.records:,}, of which {plan.there:,} are there and {plan.missing:,} are to be made"),
        ("disk", f"{show_bytes(plan.new_bytes)} more, then {show_bytes(plan.kept_bytes + plan.new_bytes)}{cap}"),
    )
    if preview:
        is_over = plan.limit_bytes is not None and plan.kept_bytes + plan.new_bytes > plan.limit_bytes
        what = "raise --disk-limit, or remove another rendering" if is_over else "leave --preview out to render"
        print(f"\nNothing was made: {'it would be over the limit, ' if is_over else ''}{what}")
