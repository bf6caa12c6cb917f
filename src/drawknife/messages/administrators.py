"""Who may use the service: administrators, and the tokens of their programs."""

from __future__ import annotations

from datetime import date, datetime
from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import Field

from drawknife.core.words.roles import ROLES

from .base import Message, Name

if TYPE_CHECKING:
    Role = str
else:
    Role = Literal[ROLES]
AreaLine = Annotated[str, Field(min_length=1, max_length=4200)]
Area = Annotated[
    list[AreaLine] | None,
    Field(
        max_length=1000, description="store:NAME, STORE:/folder, unit:PATH, group:NAME; null: all"
    ),
]

Reads = Annotated[
    Literal["area", "everything"],
    Field(
        description=(
            "With an area: `area` limits reading, too; `everything` limits only changes. Without"
            " one: everything"
        )
    ),
]


class SignIn(Message):
    """A token, or the code of a sign-in link; or a name and a password."""

    token: Annotated[str, Field(max_length=200)] | None = None
    name: Name | None = None
    password: Annotated[str, Field(max_length=1024)] | None = None


class SignedIn(Message):
    """Who is signed in. `area` null: it may change everything that its role may."""

    name: str
    role: str
    area: list[str] | None
    reads: Reads
    second_person: bool = Field(
        description="Are all changes drafts here, applied by another than who wrote them?"
    )


_Directory = Annotated[
    str | None,
    Field(
        max_length=200,
        description=(
            "A directory (LDAP) through which it signs in, with the password that it has there"
        ),
    ),
]


class AdministratorLine(Message):
    name: str
    role: str
    area: list[str] | None
    reads: Reads
    has_password: bool
    added: datetime
    added_by: str
    directory: str | None = Field(
        None, description="Through which it signs in, with the password that it has there"
    )


class AdministratorList(Message):
    administrators: list[AdministratorLine]


class NewAdministrator(Message):
    name: Name
    role: Role
    area: Area = None
    reads: Reads | None = None
    directory: _Directory = None


class AdministratorChange(Message):
    """What is another; what is left out stays.

    An empty area is taken for none: everything; an empty directory likewise.
    """

    role: Role | None = None
    area: Area = None
    reads: Reads | None = None
    directory: _Directory = None


class AdministratorPassword(Message):
    password: Annotated[str, Field(max_length=1024, description="12 characters or more")]
    current: Annotated[
        str | None, Field(max_length=1024, description="Your present password, to change your own")
    ] = None


class SignInLink(Message):
    """Told once: the end of an address of the console that signs in, good once and until then."""

    administrator: str
    path: str
    until: datetime
    url: str | None = Field(
        default=None, description="The whole of it, where the service knows its public address"
    )


class TokenLine(Message):
    """A program's token, a console session, or a link that nobody has opened yet."""

    id: int
    administrator: str
    kind: str = Field(description="token, session, or code")
    called: str | None
    role: str
    made: datetime
    last_day: date | None = Field(
        description="The last day (UTC) that it is good; null: it does not end"
    )
    last_used: datetime | None = Field(description="To the minute; null: not yet")
    directory: str | None = Field(None, description="What it provisions by SCIM, and nothing else")


class TokenList(Message):
    tokens: list[TokenLine]


class NewToken(Message):
    """A token for a program. Its role is no wider than its maker's; left out: the maker's."""

    called: Name
    role: Role | None = None
    last_day: (
        Annotated[str, Field(max_length=10, description="The last day (UTC) that it is good")]
        | None
    ) = None
    directory: Name | None = Field(
        None,
        description="A directory whose address is scim: that it is to provision, and nothing else",
    )


class TokenMade(Message):
    """The token is told once."""

    called: str
    role: str
    token: str


class Ended(Message):
    """How many tokens, sessions and links ended with it."""

    ended: int
