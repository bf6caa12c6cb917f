"""What is kept of people and groups (RFC 7643, section 4): the schemas are published with just
these attributes.
"""

from typing import Annotated, Any, Union

from pydantic import Field
from scim2_models import (
    URN,
    CaseExact,
    ComplexAttribute,
    GroupMembership,
    Mutability,
    Name,
    Reference,
    Required,
    Resource,
    ResourceType,
    ScimPolicy,
    ScimProvider,
    ServiceProviderConfig,
    Uniqueness,
)

#: So many of a list at once, where no number is asked for, and at most.
AT_ONCE, MOST = 200, 1000

ReadOnly = Mutability.read_only


class MailAddress(ComplexAttribute):
    """A mail address, as it was sent: also one of this machine or network, without a dot (RFC 5321,
    section 2.3.5).
    """

    value: str | None = None
    display: str | None = None
    type: Annotated[str | None, Field(examples=["work", "home", "other"])] = None
    primary: bool | None = None


class User(Resource[Any]):
    """A person, or a program."""

    __schema__ = URN("urn:ietf:params:scim:schemas:core:2.0:User")

    user_name: Annotated[str | None, Uniqueness.server, Required.true] = None
    name: Name | None = None
    display_name: str | None = None
    emails: list[MailAddress] | None = None
    active: bool | None = None
    groups: Annotated[list[GroupMembership] | None, ReadOnly] = None


class Member(ComplexAttribute):
    """Somebody, or a group, that is in a group."""

    value: Annotated[str | None, Mutability.immutable, CaseExact.true] = None
    ref: Annotated[Reference[Union["User", "Group"]] | None, Mutability.immutable] = Field(
        None, serialization_alias="$ref", validation_alias="$ref"
    )
    type: Annotated[str | None, Mutability.immutable] = Field(None, examples=["User", "Group"])


class Group(Resource[Any]):
    """A group."""

    __schema__ = URN("urn:ietf:params:scim:schemas:core:2.0:Group")

    display_name: Annotated[str | None, Uniqueness.server, Required.true] = None
    members: list[Member] | None = None


Kind = type[User] | type[Group]
#: The kinds of resources, by the last part of their address.
KINDS: dict[str, Kind] = {"Users": User, "Groups": Group}

#: Clients send what is not kept, too, and some leave the letter of the standard.
LENIENT = ScimPolicy(
    unknown=ScimPolicy.Unknown.ignore,
    remove_value_as_filter=ScimPolicy.RemoveValue.apply,
    unmatched_path_filter=ScimPolicy.UnmatchedPathFilter.create,
)


def _supported(**more: int) -> dict[str, Any]:
    return {"supported": True, **more}


_NOT = {"supported": False}
_BULK = {"supported": False, "maxOperations": 0, "maxPayloadSize": 0}
_TOKEN = {
    "type": "oauthbearertoken",
    "name": "Bearer token",
    "description": "A token that was made to provision this directory (RFC 6750)",
    "primary": True,
}
CONFIG = ServiceProviderConfig.model_validate(
    {
        "patch": _supported(),
        "bulk": _BULK,
        "filter": _supported(maxResults=MOST),
        "changePassword": _NOT,
        "sort": _supported(),
        "etag": _NOT,
        "authenticationSchemes": [_TOKEN],
    }
)
PROVIDER = ScimProvider(
    [User, Group],
    [ResourceType.from_resource(User), ResourceType.from_resource(Group)],
    CONFIG,
    LENIENT,
)
