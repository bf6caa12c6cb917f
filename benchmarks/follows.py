"""What follows from a change, on the large model, against its whole map."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from drawknife.answers.previews import follow
from drawknife.changing import apply
from drawknife.core.everybody.access_map import AccessMap
from drawknife.core.prepared.prepared import prepare

from .large import large_model
from .timing import against


def measure() -> list[tuple[str, str, str, bool | None]]:
    model = large_model()
    before = prepare(model)
    now = datetime.now(UTC)
    whole = AccessMap(before)
    folder = next(f for f in model.stores[1].folders if f.entries and f.path != "/")
    path = model.virtual_paths[0]
    kinds: dict[str, dict[str, Any]] = {
        "entry": {"op": "change", "kind": "folder", "name": f"{model.stores[1].name}:{folder.path}",
                  "add": {"entries": ["deny account:a000005 upload"]}},
        "membership": {"op": "change", "kind": "group", "name": "g0100", "add": {"members": ["account:a000005"]}},
        "grant": {"op": "change", "kind": "virtual-path", "name": f"{path.path}>{path.leads_to}",
                  "add": {"grants": ["account:a000005 read"]}},
        "account switched off": {"op": "change", "kind": "account", "name": "a000005", "set": {"enabled": False}},
    }  # fmt: skip

    def preview(change: dict[str, Any]) -> None:
        applied = apply(model, [change])
        follow(before, prepare(applied.model, before), now, applied.renames)

    def map_all() -> None:
        for _ in whole.cells():
            pass

    preview(kinds["entry"])
    out: list[tuple[str, str, str, bool | None]] = []
    for name, change in kinds.items():
        ratio, took, mapped = against(lambda change=change: preview(change), map_all, 3)  # type: ignore[misc]
        out.append(
            (f"preview of one {name} / the whole map", f"{ratio:.2f} ({took:.2f} s, {mapped:.2f} s)", "told", None)
        )
    return out
