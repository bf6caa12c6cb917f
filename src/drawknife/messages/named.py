"""What has a text in its name."""

from __future__ import annotations

from pydantic import Field

from .base import Message


class Named(Message):
    """Something of the model: its kind, what it is called, and what else it goes by."""

    kind: str = Field(
        description=(
            "As items are: account, group, unit, store, folder, virtual-path, endpoint, promise,"
            " trial …"
        )
    )
    name: str
    also: str = Field("", description="A display name, or where a virtual path leads")


class NamedAnswer(Message):
    """The likeliest first: what is called so, then what begins so, then where it is in the name."""

    revision: int
    total: int
    found: list[Named]
