"""What a change would do, in the words of :mod:`messages`: counted, and the first of each named."""

from __future__ import annotations

from itertools import islice
from typing import Any

from drawknife import messages as msg
from drawknife.core.consequences import AccessChange, Consequences, SettingChange, consequences
from drawknife.core.difference import Differs, differing
from drawknife.core.findings import Finding
from drawknife.core.model import Model
from drawknife.core.prepared import Prepared, prepare
from drawknife.formats.model_file import item_data

#: More than these are counted, not named.
ITEMS, LINES, NAMES = 200, 200, 20


def item_changes(old: Model, new: Model) -> tuple[int, list[msg.ItemChange]]:
    """How many items differ, and the first of them."""
    found = list(differing(old, new))
    return len(found), [_item(d) for d in islice(found, ITEMS)]


def _item(d: Differs) -> msg.ItemChange:
    def data(item: Any) -> Any:
        if item is None or isinstance(item, str):
            return item
        found = item_data(d.section, item)
        found.pop("folders", None)
        return found

    return msg.ItemChange(section=d.section, name=d.name, before=data(d.before), after=data(d.after))


def access_changes(found: tuple[AccessChange, ...]) -> list[msg.AccessChangeMessage]:
    return [
        msg.AccessChangeMessage(
            accounts=list(a.accounts[:NAMES]), account_count=len(a.accounts),
            locations=list(a.locations[:NAMES]), location_count=len(a.locations),
            gained=list(a.gained), lost=list(a.lost), widened=list(a.widened), narrowed=list(a.narrowed),
        )
        for a in found[:LINES]
    ]  # fmt: skip


def setting_changes(found: tuple[SettingChange, ...]) -> list[msg.SettingChangeMessage]:
    return [
        msg.SettingChangeMessage(
            accounts=list(s.accounts[:NAMES]), account_count=len(s.accounts), name=s.name, before=s.before, after=s.after
        )
        for s in found[:LINES]
    ]  # fmt: skip


def finding_messages(found: tuple[Finding, ...]) -> list[msg.FindingMessage]:
    return [msg.FindingMessage(kind=f.kind, about=f.about, text=f.text) for f in found]


def preview(before: Prepared, after: Model, revision: int) -> msg.Preview:
    """What putting `after` in force would change, and what follows."""
    count, items = item_changes(before.model, after)
    follows = consequences(before, prepare(after, before)) if count else Consequences((), (), (), ())
    return msg.Preview(
        revision=revision, item_count=count, items=items, access=access_changes(follows.access),
        settings=setting_changes(follows.settings), new_findings=finding_messages(follows.new_findings),
        mended=finding_messages(follows.mended),
    )  # fmt: skip
