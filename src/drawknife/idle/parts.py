"""The parts of a model that may be without effect, each with the change that takes it away."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

from drawknife.core.follows.added_lines import Added
from drawknife.core.model.endpoints import stopped_by
from drawknife.core.model.items import Model, Subject
from drawknife.core.model.kinds import SETTING
from drawknife.core.model.removal import lines_naming
from drawknife.core.words.names import Place
from drawknife.core.words.sizes import number_of
from drawknife.mending.steps import (
    Change,
    at_endpoint,
    at_folder,
    in_group,
    on_path,
    set_to,
    written,
)
from drawknife.messages import IdleKind


class Part(NamedTuple):
    """One part: what it is, where it stands, how it is written, and the change that takes it away.

    `what` is the line as :class:`Added` has it; for a setting the subject and the setting's name;
    else the item.
    """

    kind: IdleKind
    name: str
    says: str
    change: Change
    what: Any


def groups_unnamed(model: Model) -> Iterator[Part]:
    """Groups that nothing names. Those of a directory are left out: it would bring them back."""
    named = {
        subject.name
        for subject, _ in lines_naming(model, {Subject("group", g.name) for g in model.groups})
    }
    for g in model.groups:
        if g.source == "local" and g.name not in named:
            members = (
                f"group of {number_of(len(g.members), 'line')}"
                if g.members
                else "group without members"
            )
            yield Part(
                "group",
                f"group:{g.name}",
                members,
                {"op": "remove", "kind": "group", "name": g.name},
                g,
            )


def lines(model: Model) -> Iterator[Part]:
    """Entries, the deepest first, so that of two that say the same the one above stays; grants, and
    members.
    """
    folders = [(Place(s.name, f.path), f) for s in model.stores for f in s.folders if f.entries]
    for place, folder in sorted(folders, key=lambda x: -x[0].path.count("/") - (x[0].path != "/")):
        for entry in folder.entries:
            change = at_folder(place, drop=[written(entry)])
            yield Part(
                "entry", str(place), entry.says(), change, Added("folder", str(place), entry)
            )
    for v in model.virtual_paths:
        for grant in v.grants:
            change = on_path(v, drop=[written(grant)])
            yield Part("grant", v.path, grant.says(), change, Added("virtual path", v.path, grant))
    stopped = stopped_by(model.endpoints)
    for e in model.endpoints:  # one that does not run is kept for when it does
        for entry in e.entries if e.enabled and e.name not in stopped else ():
            change = at_endpoint(e.name, drop=[written(entry)])
            yield Part(
                "endpoint entry", e.name, entry.says(), change, Added("endpoint", e.name, entry)
            )
    for g in model.groups:
        if g.source == "local":
            for member in g.members:
                change = in_group(g.name, drop=[written(member, "member")])
                yield Part(
                    "membership",
                    f"group:{g.name}",
                    member.says(),
                    change,
                    Added("group", g.name, member),
                )


def settings(model: Model) -> Iterator[Part]:
    """Each setting of each subject."""
    for s in model.settings:
        for name, value in s.values:
            says = f"{name} {SETTING.by_name[name].written(value)}"
            yield Part(
                "setting",
                str(s.subject),
                says,
                set_to("setting", str(s.subject), **{name: None}),
                (s.subject, name),
            )


def quotas(model: Model) -> Iterator[Part]:
    """Each quota."""
    for q in model.quotas:
        about = (
            f"on {q.folder}"
            if q.folder is not None
            else "shared by " + (", ".join(map(str, q.shared_by)) or "nobody")
        )
        yield Part(
            "quota", q.name, f"quota {about}", {"op": "remove", "kind": "quota", "name": q.name}, q
        )
