"""Access, decisions and why, who, the map, and comparisons."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Literal

from pydantic import ConfigDict, Field

from .base import Fault, Location, Message, Name, State, Where


class AccessRow(Message):
    location: str
    kind: Where
    place: str | None
    rights: dict[str, State]
    below: int = Field(
        0, description="So many locations below are the same and are not listed, as it is folded"
    )


class NotServed(Message):
    path: str
    reason: str
    text: str


class AccessAnswer(Message):
    revision: int
    account: str
    endpoint: str | None
    notes: list[str]
    total: int = Field(description="So many locations there are, listed or not")
    rows: list[AccessRow]
    not_served: list[NotServed]


class SeenFolder(Message):
    name: str
    location: str
    kind: Where
    place: str | None


class ListingAnswer(Message):
    """What an account sees where it lists a location. Folders only."""

    revision: int
    account: str
    location: str
    allowed: bool
    text: str
    folders: list[SeenFolder]
    shows: Literal["reachable", "all"] | None = Field(
        None,
        description=(
            "Which subfolders are shown; null where it only leads to virtual paths, or is out of"
            " view"
        ),
    )
    notes: list[str] = Field([], description="What was not asked")


# --- questions ----------------------------------------------------------------------------------


class QuestionMessage(Message):
    """May an account do something? See docs/reference/questions.md."""

    account: Name
    action: str
    path: str | None = None
    to: str | None = None
    thing: str | None = None
    replaces: bool | None = None
    owner: str | None = None
    endpoint: str | None = None
    from_: str | None = Field(default=None, alias="from")
    tls: bool | None = None
    method: str | None = None
    size: Annotated[int, Field(ge=0, lt=2**63)] | None = None
    replaced_size: Annotated[int, Field(ge=0, lt=2**63)] | None = None
    files: Annotated[int, Field(ge=0, lt=2**63)] | None = None
    sessions: Annotated[int, Field(ge=0, lt=2**63)] | None = Field(
        None, description="How many it has open; left out: as reported"
    )
    at: str | None = None
    explain: bool | None = None
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True, strict=True)


class Obstacle(Message):
    gate: str
    reason: str
    text: str


class EntryPartMessage(Message):
    """One entry and what became of it.

    It ends with ``until DAY`` where it does; `note` says why it is there.
    """

    entry: str
    fate: str
    by: str | None
    chain: list[str]
    note: str | None = None


class LevelMessage(Message):
    place: str
    up: int
    sealed: bool
    recorded: bool
    owner: str | None
    entries: list[EntryPartMessage]


class JudgementMessage(Message):
    """How one right was decided at one folder."""

    right: str
    place: str
    own: bool | None
    allowed: bool
    reason: str
    text: str
    decided_at: str | None
    decided_by: str | None
    levels: list[LevelMessage]


class PassingMessage(Message):
    place: str
    allowed: bool
    alike: int = Field(0, description="So many more folders below it are the same")


class CheckMessage(Message):
    """What the folder gate looked at for one right: the way there, and the decision."""

    passing: list[PassingMessage]
    judgement: JudgementMessage
    blocked: list[JudgementMessage]


class GateMessage(Message):
    gate: str
    asked: bool
    obstacles: list[Obstacle]
    notes: list[str]


class ResolvedMessage(Message):
    """Where a virtual location is. `ceiling` are the rights that the grants give."""

    location: str
    place: str | None
    virtual_path: str | None
    ceiling: str | None
    grants: list[str] = Field(
        description="The grants that reach the account, from all virtual paths that act as one"
    )
    synthetic: bool


class ExplanationMessage(Message):
    obstacles: list[Obstacle]
    locations: list[ResolvedMessage]
    gates: list[GateMessage]
    checks: list[CheckMessage]


class Answer(Message):
    """The verdict. `gate` is null when allowed."""

    allowed: bool
    gate: str | None
    reason: str
    text: str
    told_to_client: str | None = Field(
        None, description="What a client is told of a refused sign-in, whatever the reason"
    )
    explanation: ExplanationMessage | None = None


class Questions(Message):
    """Many questions at once."""

    questions: Annotated[list[QuestionMessage], Field(max_length=10_000)]


class AnswerOrError(Message):
    """An answer in a batch, or the error that stands in its place."""

    allowed: bool | None = None
    gate: str | None = None
    reason: str | None = None
    text: str | None = None
    told_to_client: str | None = None
    explanation: ExplanationMessage | None = None
    error: Fault | None = None


class Answers(Message):
    revision: int
    answers: list[AnswerOrError]


# --- who, map, compare --------------------------------------------------------------------------


class HolderMessage(Message):
    account: str
    state: State
    location: str
    virtual_path: str | None
    place: str | None
    decided_at: str | None
    decided_by: str | None
    chain: list[str]


class AlmostMessage(Message):
    account: str
    location: str | None
    obstacles: list[Obstacle]


class WhoAnswer(Message):
    """Who has a right at a place; with `but_for`, who lacks it only by what that gate refuses."""

    revision: int
    right: str
    at: str
    endpoint: str | None
    but_for: str | None
    total: int
    holders: list[HolderMessage]
    almost: list[AlmostMessage]
    notes: list[str] = Field([], description="What was not asked")


class MapAnswer(Message):
    """A window of the map. `cells[i][j]` is account i at location j; null: no such location for it.

    With a right, a cell is its state; without, the access as one word of the `perm` fact (RFC
    3659).
    """

    revision: int
    right: str | None
    endpoint: str | None
    total_accounts: int
    total_locations: int
    accounts: list[str]
    locations: list[str]
    cells: list[list[str | None]]
    notes: list[str] = Field([], description="What was not asked")


class DifferenceMessage(Message):
    """One right at one location in which two sides differ; null: that side has no such location."""

    location: str
    right: str
    one: State | None
    other: State | None
    why_one: str
    why_other: str
    below: int = Field(
        0, description="So many locations below differ alike and are not listed, as it is folded"
    )


class CompareAnswer(Message):
    revision: int
    one: str
    other: str
    total: int = Field(
        description="So many differences there are, rights counted one by one, listed or not"
    )
    differences: list[DifferenceMessage]
    notes: list[str] = Field([], description="What was not asked")


class ModelComparison(Message):
    """Compare an account in force with itself in another model, given as a model file."""

    account: Name
    model: str
    under: Location = "/"
    endpoint: str | None = None


class AcceptedMessage(Message):
    """Who accepts a finding, up to the end of which day (UTC), and why."""

    until: date
    note: str
    who: str
    at: datetime


class FindingMessage(Message):
    """Something that needs attention, though no rule is broken."""

    kind: str
    about: str
    text: str
    severity: Literal["stops-people", "risk", "tidy-up"] = "risk"
    accepted: AcceptedMessage | None = None


class TurnMessage(Message):
    """From when on the verdict was this one."""

    at: datetime
    allowed: bool | None = Field(description="null: the account, or the endpoint, was not there")
    text: str
    revision: int | None = Field(
        description="The revision that made it; null: something ended, or it was so from the first"
    )
    who: str | None
    what: str | None
    items: list[str] = Field(
        description="What that revision changed of all that counts for the question"
    )


class WhenAnswer(Message):
    """Since when an account can do a thing, or cannot."""

    revision: int
    account: str
    action: str
    path: str
    allowed: bool | None = Field(description="The verdict now")
    turns: list[TurnMessage] = Field(
        description="The last first; the last of the list is how it was at first"
    )
    looked_at: int = Field(description="So many revisions changed something that counts")
    history_start: int | None = Field(
        None, description="The first available revision, if earlier ones were removed"
    )
    notes: list[str]
