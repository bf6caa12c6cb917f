"""What a change would do, in the words of :mod:`messages`: counted, and the first of each named."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from itertools import islice
from typing import Any, NamedTuple

from drawknife import messages as msg
from drawknife.answers.asked import ONLY_OF_THE_AREA
from drawknife.answers.summaries import summary
from drawknife.core.everybody.findings import Finding
from drawknife.core.everybody.severity import SEVERITY
from drawknife.core.follows.access_differences import AccessChange
from drawknife.core.follows.added_lines import added_lines
from drawknife.core.follows.consequences import Consequences, SettingChange
from drawknife.core.follows.days import consequences
from drawknife.core.follows.disk_changes import not_compared
from drawknife.core.follows.held_back import held_back
from drawknife.core.follows.no_effect import LINES as LOOKED_AT
from drawknife.core.follows.no_effect import NoEffect, lines_without_effect
from drawknife.core.follows.pairing import Renames, items_differing
from drawknife.core.follows.promises_held import broken_by
from drawknife.core.follows.room_changes import Room
from drawknife.core.follows.sign_in_changes import Credentials
from drawknife.core.model.difference import Differs
from drawknife.core.model.items import Model
from drawknife.core.prepared.prepared import Prepared, prepare
from drawknife.core.words.collecting import many_objects
from drawknife.formats.model_file import change_data

#: More than these are counted, not named.
ITEMS, LINES, NAMES = 200, 200, 20


class WhatFollows(NamedTuple):
    """What follows from a change, and the lines of it that have no effect; what was not looked at,
    in words.
    """

    follows: Consequences
    without_effect: tuple[NoEffect, ...]
    left_out: tuple[str, ...]
    held_back: tuple[str, ...] = ()


def follow(
    before: Prepared,
    after: Prepared,
    at: datetime,
    renames: Renames | None = None,
    credentials: Credentials = None,
) -> WhatFollows:
    """What follows from having `after` in the place of `before`, as of a moment."""
    if before.model == after.model:
        return WhatFollows(Consequences(), (), ())
    with many_objects():
        follows = consequences(before, after, at, renames, credentials)
        # A line that only names somebody by another name, as it is renamed, is not new.
        was = renames.carried(before.model) if renames else before.model
        added = added_lines(was, after.model)
        first = list(islice(added, LOOKED_AT))
        idle, left = lines_without_effect(before, after, follows, at, was, added=first, more=added)
        held = held_back(after, first, at.date())
    return WhatFollows(follows, tuple(idle), (left,) if left else (), tuple(held))


#: Of whom it is said that nothing concerns them, where only the accounts of an area are told of.
NOBODY_IN_AREA = "nobody in your area"


def within(part: WhatFollows, whole: WhatFollows) -> WhatFollows:
    """What follows in the part of a model that is told, held against what follows in the whole.

    For others a line may have an effect, and a finding be none: only what is so in the whole is
    said to be without effect, new, or mended.
    """
    idle = {str(x.line): x.reasons for x in whole.without_effect}
    return part._replace(
        follows=_within(part.follows, whole.follows),
        without_effect=tuple(
            x._replace(reasons=reasons_within(x.reasons, idle[str(x.line)]))
            for x in part.without_effect
            if str(x.line) in idle
        ),
        held_back=tuple(x for x in part.held_back if x in set(whole.held_back)),
    )


def reasons_within(part: Sequence[str], whole: Sequence[str]) -> tuple[str, ...]:
    """Why something has no effect, of the reasons that a part of a model gives those that are so in
    the whole.
    """
    return tuple(reason for reason in part if reason in whole) or (
        "no account gains or loses anything",
    )


def _within(part: Consequences, whole: Consequences) -> Consequences:
    days = dict(whole.later)
    new, mended = (
        {(f.kind, f.about) for f in found} for found in (whole.new_findings, whole.mended)
    )
    return part._replace(
        new_findings=tuple(f for f in part.new_findings if (f.kind, f.about) in new),
        mended=tuple(f for f in part.mended if (f.kind, f.about) in mended),
        later=tuple(
            (day, _within(then, days.get(day, Consequences()))) for day, then in part.later
        ),
    )


def item_changes(
    old: Model, new: Model, renames: Renames | None = None
) -> tuple[int, list[msg.ItemChange]]:
    """How many items differ, and the first of them; what is renamed is one item, under its new
    name.
    """
    found = items_differing(old, new, renames or Renames())
    return len(found), [_item(x.differs) for x in found[:ITEMS]]


def _item(d: Differs) -> msg.ItemChange:
    before, after = (change_data(d.section, item) for item in (d.before, d.after))
    return msg.ItemChange(section=d.section, name=d.name, before=before, after=after)


def access_changes(found: Sequence[AccessChange]) -> list[msg.AccessChangeMessage]:
    return [
        msg.AccessChangeMessage(
            **_named(a.accounts),
            locations=list(a.worth_a_line[:NAMES]),
            location_count=len(a.worth_a_line),
            below=len(a.locations) - len(a.worth_a_line),
            gained=list(a.gained),
            lost=list(a.lost),
            widened=list(a.widened),
            narrowed=list(a.narrowed),
            own=list(a.own),
            others=list(a.others),
            endpoint=a.endpoint,
        )
        for a in found[:LINES]
    ]


def setting_changes(found: Sequence[SettingChange]) -> list[msg.SettingChangeMessage]:
    return [
        msg.SettingChangeMessage(
            **_named(s.accounts),
            name=s.name,
            before=s.before,
            after=s.after,
            before_from=list(s.before_from),
            after_from=list(s.after_from),
        )
        for s in found[:LINES]
    ]


def _named(accounts: Sequence[str]) -> dict[str, Any]:
    return {"accounts": list(accounts[:NAMES]), "account_count": len(accounts)}


def finding_messages(found: Sequence[Finding]) -> list[msg.FindingMessage]:
    return [
        msg.FindingMessage(kind=f.kind, about=f.about, text=f.text, severity=SEVERITY[f.kind])
        for f in found
    ]


def _room(room: Room | None) -> msg.RoomMessage | None:
    return None if room is None else msg.RoomMessage(bytes=room.bytes, files=room.files)


def _left_out(outcome: WhatFollows) -> list[str]:
    """Lists that are too long to be told whole."""
    said = [*outcome.follows.left_out, *outcome.left_out]
    if outcome.follows.on_disk.not_compared:
        said.append(not_compared(outcome.follows.on_disk.not_compared))
    f = outcome.follows
    for what, found in (
        ("signing in", f.sign_in),
        ("access", f.access),
        ("where locations lead", f.leads),
        ("settings", f.settings),
        ("room", f.room),
        ("new findings", f.new_findings),
        ("findings that are mended", f.mended),
    ):
        if len(found) > LINES:
            said.append(f"{len(found) - LINES} more lines about {what} are not listed")
    return said


def follows_fields(
    outcome: WhatFollows, notes: Sequence[str] = (), nobody: str = "nobody"
) -> dict[str, Any]:
    """The fields of :class:`msg.Follows`; `nobody` is whom nothing concerns, where nothing does."""
    f = outcome.follows
    return {
        "nothing": f.nothing and nobody == "nobody",
        "summary": summary(f, nobody),
        "come": list(f.come[:NAMES]),
        "come_count": len(f.come),
        "gone": list(f.gone[:NAMES]),
        "gone_count": len(f.gone),
        "sign_in": [
            msg.SignInChangeMessage(**_named(s.accounts), endpoint=s.endpoint, may=s.may, why=s.why)
            for s in f.sign_in[:LINES]
        ],
        "access": access_changes(f.access),
        "on_disk": (
            None
            if f.on_disk.access is None
            else msg.OnDiskMessage(
                stores=list(f.on_disk.stores), access=access_changes(f.on_disk.access)
            )
        ),
        "leads": [
            msg.LeadsChangeMessage(
                **_named(x.accounts),
                location=x.location,
                before=x.before and str(x.before),
                after=x.after and str(x.after),
            )
            for x in f.leads[:LINES]
        ],
        "settings": setting_changes(f.settings),
        "room": [
            msg.RoomChangeMessage(
                **_named(r.accounts),
                location=r.location,
                before=_room(r.before),
                after=_room(r.after),
            )
            for r in f.room[:LINES]
        ],
        "for_everybody": list(f.for_everybody),
        "new_findings": finding_messages(f.new_findings[:LINES]),
        "mended": finding_messages(f.mended[:LINES]),
        "without_effect": [
            msg.NoEffectMessage(line=str(x.line), reasons=list(x.reasons))
            for x in outcome.without_effect
        ],
        "notes": [*notes, *outcome.held_back],
        "left_out": _left_out(outcome),
        "later": [
            msg.Later(
                day=day,
                follows=msg.Follows(**follows_fields(WhatFollows(then, (), ()), (), nobody)),
            )
            for day, then in f.later
        ],
    }


def preview(
    before: Prepared,
    after: Model,
    revision: int,
    at: datetime,
    renames: Renames | None = None,
    *,
    credentials: Credentials = None,
    notes: Sequence[str] = (),
    whole: tuple[Prepared, Prepared] | None = None,
) -> msg.Preview:
    """What putting `after` in force would change, and what follows.

    `whole` are the models before and after it, where only the parts of them are told that an area
    shows.
    """
    count, items = item_changes(before.model, after, renames)
    with many_objects():
        prepared = prepare(after, before)
    outcome = follow(before, prepared, at, renames, credentials)
    broken = [b.text() for b in broken_by(before, prepared, at.date(), renames)]
    nobody = "nobody"
    if whole is not None:
        outcome, nobody = within(outcome, follow(*whole, at, renames, credentials)), NOBODY_IN_AREA
        outcome = outcome._replace(left_out=(ONLY_OF_THE_AREA, *outcome.left_out))
        if not broken and broken_by(*whole, at.date(), renames):
            broken = ["it breaks a promise about accounts outside your area"]
    refused = [f"it would be refused: {text}" for text in broken]
    fields = follows_fields(outcome, [*refused, *notes], nobody)
    return msg.Preview(revision=revision, item_count=count, items=items, **fields)
