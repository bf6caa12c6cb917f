"""Changes of the model, and what follows from them."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import Field

from drawknife.core.model.kinds import KINDS, NETWORK

from .base import Message
from .questions import FindingMessage

if TYPE_CHECKING:
    Kind = str
else:
    Kind = Literal[(*KINDS, NETWORK)]
Values = dict[str, Any]
#: A line of a list: text, or a mapping with its end (`until`) and its `note`, as in the model file.
Line = str | dict[str, str]


class Change(Message):
    """One change. Items have the keys of the model file; a folder's name is STORE:/path."""

    op: Literal["add", "change", "rename", "remove"]
    kind: Kind
    name: Annotated[str, Field(max_length=8192)] | None = None
    item: Values | None = Field(None, description="add: the new item")
    set: Values | None = Field(
        None, description="change: new values; null takes a key back to its default"
    )
    add: dict[str, list[Line]] | None = Field(None, description="change: lines added to lists")
    drop: dict[str, list[Line]] | None = Field(None, description="change: lines taken from lists")
    to: Annotated[str, Field(max_length=8192)] | None = Field(
        None, description="rename: the new name"
    )
    everywhere: bool | None = Field(
        None, description="remove: strike out the lines that name it, too"
    )
    stops: bool | None = Field(
        None, description="Of an endpoint: it may take ports of one that runs, which then stops"
    )

    def plain(self) -> Values:
        """As it is written down.

        What is null is left out, but for the values that `set` takes back to their default.
        """
        return self.model_dump(exclude_none=True, exclude={"set"}) | (
            {"set": self.set} if self.set else {}
        )


class Changes(Message):
    """Changes that are done together or not at all."""

    changes: Annotated[list[Change], Field(min_length=1, max_length=10_000)]


class ItemChange(Message):
    """One item that differs. `section` as in the model file, or folders; null: it is not there.

    In what a change would do, and has done, what is renamed is one item, under its new name.
    """

    section: str
    name: str
    before: Any
    after: Any


class AccessChangeMessage(Message):
    """What some accounts gain and lose at some locations; long lists are cut, and counted."""

    accounts: list[str]
    account_count: int
    locations: list[str] = Field(
        description="LOCATION/… is a folder in it that is not recorded, /…/… one deeper"
    )
    location_count: int
    below: int = Field(
        0,
        description=(
            "So many more locations, each of which lies below one of these and changes as that does"
        ),
    )
    gained: list[str]
    lost: list[str]
    widened: list[str] = Field(
        description="Rights that now hold for more files: one's own, or others'"
    )
    narrowed: list[str]
    own: list[str] = Field(
        [], description="Of all these rights, those that are about the accounts' own files only"
    )
    others: list[str] = Field(
        [], description="Of all these rights, those that are about others' files only"
    )
    endpoint: str | None = Field(None, description="Through this endpoint; null: without one")


class SignInChangeMessage(Message):
    """Who may now sign in at an endpoint, or may no more, and what refuses the first of them."""

    accounts: list[str]
    account_count: int
    endpoint: str
    may: bool
    why: str


class LeadsChangeMessage(Message):
    """For whom a location leads to another folder; null: to none."""

    accounts: list[str]
    account_count: int
    location: str
    before: str | None
    after: str | None


class SettingChangeMessage(Message):
    accounts: list[str]
    account_count: int
    name: str
    before: Any
    after: Any
    before_from: list[str] = Field(default=[], description="For whom the value before was set")
    after_from: list[str] = Field(default=[], description="For whom the value afterwards is set")


class RoomMessage(Message):
    """How much more fits; null: as much as one likes."""

    bytes: int | None
    files: int | None


class RoomChangeMessage(Message):
    """Who has other room at a location, and below it as far as no quota begins there."""

    accounts: list[str]
    account_count: int
    location: str
    before: RoomMessage | None
    after: RoomMessage | None


class NoEffectMessage(Message):
    """A line that is added and changes nothing for anybody, and why."""

    line: str
    reasons: list[str]


class OnDiskMessage(Message):
    """What is gained and lost with what the disks of some stores let through."""

    stores: list[str]
    access: list[AccessChangeMessage]


class Follows(Message):
    """What follows from a change, for every account of the model before and after it.

    Compared are signing in at each endpoint, access with and without endpoints at every location
    and in folders that are not recorded, where locations lead, settings, room, and findings; now,
    and on the day after each end that is ahead. What is so whatever the account is told by itself.
    """

    nothing: bool = Field(
        description="Nothing is different for anybody, and no finding comes or goes"
    )
    summary: list[str] = Field(description="The same in a line or two")
    come: list[str] = Field(description="New accounts, the first of them")
    come_count: int
    gone: list[str] = Field(description="Accounts that are there no more, the first of them")
    gone_count: int
    sign_in: list[SignInChangeMessage]
    access: list[AccessChangeMessage] = Field(description="By the server's rights")
    on_disk: OnDiskMessage | None = Field(
        None, description="With disks; left out where that is what access says"
    )
    leads: list[LeadsChangeMessage]
    settings: list[SettingChangeMessage]
    room: list[RoomChangeMessage]
    for_everybody: list[str] = Field(
        [],
        description=(
            "For whoever comes: from where and how clients come in, lockouts, where files lie"
        ),
    )
    new_findings: list[FindingMessage]
    mended: list[FindingMessage]
    without_effect: list[NoEffectMessage]
    notes: list[str] = Field(description="What whoever makes the change should know besides")
    left_out: list[str] = Field(
        description="What was not compared, or is not listed for its length"
    )
    later: list[Later] = Field(
        [], description="What is different only on days to come, as lines end"
    )


class Later(Message):
    """What is different from a day on and was not before, as a line ended the day before."""

    day: date
    follows: Follows


class Preview(Follows):
    """What a change would do: the items that differ, and what follows from it."""

    revision: int
    item_count: int
    items: list[ItemChange]


class Back(Message):
    """One revision, to be undone."""

    revision: Annotated[int, Field(ge=1, lt=2**63)]


class BackTo(Message):
    """A revision, or a time that has been, to whose model to go back."""

    as_of: Annotated[str, Field(min_length=1, max_length=64)]


class Checked(Message):
    """The changes could be done. `doubts` are questions: what is written looks like a slip."""

    revision: int
    doubts: list[str]
    notes: list[str]


class Changed(Message):
    """The change is in force. `changed` is false where nothing differed."""

    revision: int
    changed: bool
    item_count: int
    items: list[ItemChange]
    followed: list[str] = Field(default=[], description="What followed from it, in a line or two")
    notes: list[str] = []
