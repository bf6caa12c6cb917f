"""What the steps of a draft make of a model, and which of them no longer can (docs/rules.md,
"Drafts").

A step is a change as it is written down, or ``{"op": "load", "model": {…}}``, ``{"op": "back",
"revision": 12}``, ``{"op": "back-to", "as_of": "…"}``.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import groupby
from typing import Any, NamedTuple

from drawknife.changing import apply
from drawknife.core.follows.pairing import Renames, Renaming
from drawknife.core.model.items import Model
from drawknife.core.model.kinds import KINDS
from drawknife.core.words.errors import DrawknifeError
from drawknife.formats.model_file import model_from

from .changing import Keeper

Step = dict[str, Any]
LOAD, BACK, BACK_TO = "load", "back", "back-to"


class Laid(NamedTuple):
    """What steps make of a model.

    `back_from` is the earliest revision from which accounts come back.
    """

    model: Model
    renames: Renames
    notes: tuple[str, ...]
    back_from: int | None = None

    def then(self, further: Laid) -> Laid:
        """What further steps make of it."""
        back = [x for x in (self.back_from, further.back_from) if x is not None]
        renames = Renames([*self.renames.each, *further.renames.each])
        return Laid(further.model, renames, (*self.notes, *further.notes), min(back, default=None))


def lay(model: Model, steps: Sequence[Step], keeper: Keeper) -> Laid:
    """The model after all of the steps.

    Raises as :func:`drawknife.changing.apply`, and as the keeper.
    """
    renames: list[Renaming] = []
    notes: list[str] = []
    back_from: list[int] = []
    for op, some in groupby(steps, lambda s: s["op"] if s["op"] in (LOAD, BACK, BACK_TO) else None):
        if op is None:
            applied = apply(model, list(some))
            model = applied.model
            renames += applied.renames.each
            notes += [*applied.doubts, *applied.notes]
            continue
        for step in some:
            if op == LOAD:
                model = model_from(step["model"])
                continue
            if op == BACK:
                edit, revision = keeper.undoing(step["revision"]), step["revision"] - 1
            else:
                revision, edit = keeper.returning(step["as_of"])
            model, found = edit(model)
            renames += found.each
            back_from.append(revision)
    return Laid(model, Renames(renames), tuple(notes), min(back_from, default=None))


def misfits(model: Model, steps: Sequence[Step], keeper: Keeper) -> dict[int, DrawknifeError]:
    """The steps, by their positions, that cannot be done after those before them that can; each
    with why not.
    """
    found: dict[int, DrawknifeError] = {}
    for i, step in enumerate(steps):
        try:
            model = lay(model, [step], keeper).model
        except DrawknifeError as error:
            found[i] = error
    return found


_NAMED = re.compile(r"\b(account|group|unit):([^\s,]+)")
_PLACE = re.compile(r"([^\s:/,]+):(/[^\s]*)")


def names_in(step: Step) -> list[tuple[str, str]]:
    """The items that a step names, as (section, name): what it changes, and whoever and wherever
    its lines name.
    """
    found: dict[tuple[str, str], None] = {}
    kind = KINDS.get(str(step.get("kind")))
    if kind is not None and step.get("name"):
        found[kind.section, str(step["name"])] = None

    def look(value: Any) -> None:
        if isinstance(value, dict):
            for part in value.values():
                look(part)
        elif isinstance(value, list):
            for part in value:
                look(part)
        elif isinstance(value, str):
            for of, name in _NAMED.findall(value):
                found[KINDS[of].section, name] = None
            for store, path in _PLACE.findall(value):
                found["folders", f"{store}:{path}"] = None
                found["stores", store] = None

    look(
        [
            step.get("name"),
            step.get("to"),
            step.get("item"),
            step.get("set"),
            step.get("add"),
            step.get("drop"),
        ]
    )
    item = step.get("item") or step.get("set") or {}
    if isinstance(item, dict) and isinstance(item.get("unit"), str):
        found["units", item["unit"]] = None
    return list(found)


def says(step: Step) -> str:
    """A step in a line."""
    op = step["op"]
    if op == LOAD:
        return f"load a model of {len(step['model'].get('accounts') or [])} accounts"
    if op == BACK:
        return f"take back revision {step['revision']}"
    if op == BACK_TO:
        return f"go back to {step['as_of']}"
    kind = str(step.get("kind", "")).replace("-", " ")
    item = step.get("item") or {}
    called = step.get("name") or str(
        item.get("name") or item.get("path") or item.get("for") or item.get("of") or ""
    )
    parts = [f"{op} {kind} {called}".rstrip()]
    if op == "rename":
        parts.append(f"to {step.get('to')}")
    if op == "change":
        done = [f"set {key} to {_shown(value)}" for key, value in (step.get("set") or {}).items()]
        for way, before, after in (("add", "add ", ""), ("drop", "take ", " away")):
            done += [
                f"{before}`{_shown(x)}`{after}"
                for lines in (step.get(way) or {}).values()
                for x in lines
            ]
        return f"{kind} {called}".rstrip() + ": " + ", ".join(done)
    details = [
        f"{k} {_shown(v)}" for k, v in item.items() if k not in ("name", "path", "for", "of")
    ]
    if step.get("everywhere"):
        details.append("and every line that names it")
    return " ".join(parts) + (": " + ", ".join(details) if details else "")


def _shown(value: Any) -> str:
    if isinstance(value, dict):
        line = value.get("line") or value.get("member")
        ends = f" until {value['until']}" if value.get("until") else ""
        return f"{line}{ends}" if line else ", ".join(f"{k} {_shown(v)}" for k, v in value.items())
    if isinstance(value, list):
        return ", ".join(map(_shown, value)) or "none"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "as by default" if value is None else str(value)
