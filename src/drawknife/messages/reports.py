"""Reports: who can get at what, for somebody to go through and sign; and what comes back."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from .base import Message


class ReportRow(Message):
    """Some accounts that may do the same at a place, by the same entries; or a member of a group.

    Below a place all is as its row says, but where a row of its own says otherwise.
    """

    number: int
    place: str = Field(description="survey:/soundings; of a group its name")
    location: str | None = Field(description="The virtual location at which they see it")
    accounts: list[str]
    may: str = Field(description="In words; of a member how many accounts come with it")
    by: list[str] = Field(description="The entries that let them; of a member the line")
    to_decide: bool = Field(description="False where it says that somebody may do nothing here")
    new: list[str] = Field(
        default=[], description="Those who did not have this when it was signed last"
    )


class ReportPerson(Message):
    """Somebody whom a report names."""

    name: str
    display: str | None
    last_sign_in: datetime | None = Field(
        description=(
            "As transfer servers reported it; null: none was, within the time that sign-ins are"
            " kept"
        )
    )


class Signed(Message):
    """Who went through a report, and when; so many rows were kept, taken away, and left without a
    word.
    """

    at: datetime
    by: str = Field(description="An administrator, or the mail address that a link was sent to")
    sent_by: str | None = Field(
        None, description="Who sent the link; null: it was signed by an administrator"
    )
    kept: int
    taken_away: list[int]
    undecided: list[int]
    draft: str | None


class ReportLine(Message):
    number: int
    about: str
    revision: int
    made: datetime
    made_by: str
    signed: Signed | None


class Decided(Message):
    """What was decided of one row."""

    row: int
    decision: Literal["keep", "take away"]
    remark: str | None = None


class ReviewLink(Message):
    """A link through which a report can be signed, once."""

    address: str
    sent_by: str
    sent: datetime
    expires: datetime


class Report(ReportLine):
    title: str
    rows: list[ReportRow]
    people: list[ReportPerson] = Field([], description="Everybody whom a row names")
    decided: list[Decided] = Field([], description="What was decided, once it is signed")
    links: list[ReviewLink] = Field([], description="Links that are neither used nor expired")
    gone: list[str] = Field([], description="Removed since the last signed report")
    not_removed: list[str] = Field(
        [], description="To be removed by the last signed report, but still present"
    )
    since: ReportLine | None = Field(
        None, description="The one that was signed last, with which it is compared"
    )
    notes: list[str] = []


class ReportList(Message):
    reports: list[ReportLine]


class NewReport(Message):
    about: Annotated[
        str, Field(max_length=2000, description="survey:/soundings, store:survey, or group:boats")
    ]


class NewReviewLink(Message):
    to: Annotated[str, Field(max_length=254, description="A mail address")]
    days: Annotated[int, Field(ge=1, le=90)] = Field(14, description="Days until the link expires")


class Review(Message):
    """A report as a link shows it."""

    number: int
    title: str
    html: str = Field(description="Its rows, with fields for the decisions, as HTML")


class Decisions(Message):
    decided: Annotated[list[Decided], Field(max_length=5000)]


class SignedReport(Message):
    """What came of a signed report: the draft that takes away what is to go, and what that does not
    reach.
    """

    report: ReportLine
    says: list[str] = Field(description="The changes that the draft was given, a line each")
    left: list[str] = Field(description="What is to go and does not go by it, and why")
