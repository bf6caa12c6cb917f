"""What all messages share, and errors."""

from __future__ import annotations

from datetime import date
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

State = Annotated[str, Field(json_schema_extra={"enum": ["yes", "own", "others", "no"]})]
Where = Annotated[str, Field(json_schema_extra={"enum": ["synthetic", "virtual path", "folder"]})]
Name = Annotated[str, Field(min_length=1, max_length=64)]
Location = Annotated[
    str, Field(min_length=1, max_length=4096, description="A virtual location, such as /inbox")
]


class Message(BaseModel):
    model_config = ConfigDict(defer_build=True, extra="forbid", frozen=True)


class LineMessage(Message):
    """A line that names somebody: an entry, a grant, or a member."""

    line: str
    until: date | None = Field(
        None, description="The last day (UTC) that it counts; null: it does not end"
    )
    ended: bool = Field(False, description="It counts no more")
    note: str | None = Field(None, description="Why it is there")


# --- errors (RFC 9457) --------------------------------------------------------------------------


class Fault(Message):
    """One mistake of the input: where it is, what stands there, what would be right."""

    where: str
    message: str
    expected: str = ""
    line: int | None = None
    found: str | None = None
    nearest: str | None = None


class Problem(Message):
    """A problem as RFC 9457 has it. `type` is stable; `places` tells each mistake of bad input."""

    type: str
    title: str
    status: int
    detail: str
    places: list[Fault] = []
