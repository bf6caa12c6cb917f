"""Directories: how they are reached and read, and what a sync does."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from pydantic import Field, model_validator

from .base import Message, Name
from .changes import Preview

Filter = Annotated[
    str, Field(min_length=3, max_length=4000, description="A search filter (RFC 4515)")
]
Attribute = Annotated[str, Field(max_length=200)]


#: The address of a directory that is provisioned.
PROVISIONED = "scim:"


class DirectoryOptions(Message):
    """Where a directory is, and how it is read.

    Attributes are those of RFC 4519, RFC 2798 and RFC 2307.
    """

    address: Annotated[
        str,
        Field(
            max_length=2000,
            description=(
                "ldap://HOST[:PORT], ldaps://HOST[:PORT], the path of an LDIF file, or scim: for"
                " what is sent"
            ),
        ),
    ]
    start_tls: bool = Field(
        True, description="ldap: secure the connection by StartTLS before anything is said"
    )
    ca_file: str | None = Field(
        None, description="Certificates that are trusted; left out: the system's"
    )
    bind_name: str | None = Field(None, description="The name to bind with; left out: anonymously")
    bind_password_file: str | None = Field(
        None, description="A file with the bind password, on the service's machine"
    )
    shown_first: bool = Field(
        False, description="scim: what is sent waits for a sync, which can be looked at before"
    )
    referral_servers: Annotated[str | None, Field(max_length=2000)] = Field(
        None,
        description=(
            "Servers to follow referrals to, with the same credentials, such as"
            " ldaps://b.example,ldaps://c.example"
        ),
    )
    people_base: Annotated[
        str, Field(max_length=2000, description="Where its people are; not for scim:")
    ] = ""
    people_filter: Filter = "(objectClass=inetOrgPerson)"
    groups_base: Annotated[
        str | None, Field(max_length=2000, description="Left out: no groups")
    ] = None
    groups_filter: Filter = (
        "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))"
    )
    units_base: Annotated[str | None, Field(max_length=2000, description="Left out: no units")] = (
        None
    )
    units_filter: Filter = "(objectClass=organizationalUnit)"
    name_attribute: Attribute = "uid"
    login_name: Annotated[str | None, Field(max_length=200)] = Field(
        None,
        description=(
            "Template for login names, such as {userName up to @} or {sn}.{uid}; default: the name"
            " attribute"
        ),
    )
    id_attribute: Attribute | None = Field(
        "entryUUID",
        description="What never changes of somebody, so that who is renamed is followed (RFC 4530)",
    )
    display_attribute: Attribute = "displayName,cn"
    mail_attribute: Attribute = "mail"
    home_attribute: Attribute | None = Field(None, description="Such as homeDirectory")
    home_store: Name | None = Field(None, description="The store that the homes are in")
    home_strip: Annotated[
        str, Field(max_length=1000, description="What a home begins with outside of the store")
    ] = ""
    group_name_attribute: Attribute = "cn"
    unit_name_attribute: Attribute = "ou"
    member_attributes: Attribute = "member,uniqueMember,memberUid"
    member_of_attribute: Attribute | None = Field(
        None, description="memberOf, where people say what they are in"
    )
    suffix: Annotated[
        str, Field(max_length=40, description="Appended to each name, such as @tidewrack.example")
    ] = ""
    interval: Annotated[
        int, Field(ge=0, le=30 * 86400, description="Seconds between syncs; 0: only on demand")
    ] = 0
    most_leavers: Annotated[
        int,
        Field(
            ge=0,
            le=100,
            description=(
                "Per cent. A sync that would remove more people, groups or units, or end more"
                " memberships or access, changes nothing"
            ),
        ),
    ] = 20
    page_size: Annotated[int, Field(ge=1, le=10_000)] = 500
    timeout: Annotated[int, Field(ge=1, le=3600, description="Seconds to wait for an answer")] = 30

    @property
    def is_provisioned(self) -> bool:
        """Is what it has sent to the service by SCIM (RFC 7644), and not fetched?"""
        return self.address == PROVISIONED

    @property
    def servers_referred_to(self) -> list[str]:
        """The addresses of `referral_servers`."""
        return [
            address.strip()
            for address in (self.referral_servers or "").split(",")
            if address.strip()
        ]

    @model_validator(mode="after")
    def _where_people_are(self) -> DirectoryOptions:
        if not self.people_base and not self.is_provisioned:
            raise ValueError("people_base is wanted: below which name its people are")
        return self

    @model_validator(mode="after")
    def _home_needs_a_store(self) -> DirectoryOptions:
        if self.home_attribute and not self.home_store:
            raise ValueError("home_attribute needs home_store: the store that the homes are in")
        return self


class NewDirectory(Message):
    name: Name
    options: DirectoryOptions
    bind_password: Annotated[str, Field(max_length=1000)] | None = Field(
        None, description="Kept encrypted, never shown"
    )


class DirectoryChange(Message):
    """New options; those left out stay."""

    options: dict[str, str | int | bool | None] = {}
    bind_password: Annotated[str, Field(max_length=1000)] | None = None


class SyncNotes(Message):
    """The notes of a sync of one kind."""

    kind: str
    notes: list[str]


class SyncReport(Message):
    """What a sync found, and did or would do.

    `named` has the first of each kind of change; the counts are of all.
    """

    directory: str
    at: datetime
    who: str
    state: str = Field(description="preview, done, nothing-to-do, refused, or failed")
    text: str
    revision: int | None = None
    people: int = 0
    groups: int = 0
    units: int = 0
    counts: dict[str, int] = Field(
        default={}, description="Such as accounts added, accounts switched off, groups changed"
    )
    named: dict[str, list[str]] = Field(default={}, description="The first of each, by name")
    left_alone: list[str] = Field(
        default=[], description="Names that exist here already, and were left as they are"
    )
    left_out: list[str] = Field(default=[], description="What could not be taken, and why")
    notes: list[str] = Field(
        default=[], description="Notes, most important first; many of a kind are one line"
    )
    noted: list[SyncNotes] = Field(default=[], description="All notes by kind")


class SyncPreview(Message):
    report: SyncReport
    changes: Preview | None


class DirectoryLine(Message):
    name: str
    options: DirectoryOptions
    has_password: bool
    accounts: int
    groups: int
    units: int
    last: SyncReport | None
    confirmed: bool = Field(
        default=True,
        description=(
            "Somebody has synchronised it once; before that nothing is done at its interval"
        ),
    )
    last_good: datetime | None = Field(default=None, description="When a sync succeeded last")
    failing_since: datetime | None = Field(
        default=None, description="Since when each sync failed or was refused"
    )


class DirectoryList(Message):
    directories: list[DirectoryLine]


class SyncWish(Message):
    most_leavers: Annotated[int, Field(ge=0, le=100)] | None = Field(
        None, description="Per cent, for this once"
    )
    adopt: Annotated[list[str], Field(max_length=1000)] = Field(
        [],
        description=(
            "Accounts and groups that are here already, such as account:ines: the directory's from"
            " now on"
        ),
    )


class TryWish(Message):
    """Options to try without saving them; the others are those of the directory."""

    options: dict[str, Any] = {}


class Tried(Message):
    """What a directory answered when it was tried: the first few of each, as they would come."""

    people: list[str]
    groups: list[str]
    units: list[str]
    left_out: list[str]
    renamed: list[str] = Field(
        default=[], description="Accounts, groups and units that would be renamed"
    )
    left_alone: list[str] = Field(default=[], description="Names that already exist here")
