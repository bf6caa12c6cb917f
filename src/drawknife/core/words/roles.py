"""What administrators may do: roles, each of which may do all that those before it may."""

from __future__ import annotations

READER, DRAFTER, EDITOR, OWNER = ROLES = ("reader", "drafter", "editor", "owner")
#: What each role adds to those before it.
ADDS = {
    READER: "asks everything",
    DRAFTER: "writes drafts",
    EDITOR: "changes the model, in its area",
    OWNER: (
        "has administrators, tokens, directories and networks, loads models and goes back to old"
        " ones"
    ),
}


def covers(role: str, needed: str) -> bool:
    """May somebody with a role do what needs another?"""
    return ROLES.index(role) >= ROLES.index(needed)


def narrower(one: str, other: str) -> str:
    """The role that may do less."""
    return min(one, other, key=ROLES.index)
