"""Which role each route takes: one table, which is all that is looked at.

A route that is not in it is for nobody. What a change may touch besides is looked at where it is
made (keeping.py).
"""

from __future__ import annotations

from drawknife.core.words.roles import ADDS, DRAFTER, EDITOR, OWNER, READER, covers

_NEEDS = {
    READER: (
        """
        GET /accounts  GET /accounts/{name}  GET /accounts/{name}/standing
        GET /accounts/{name}/access  GET /accounts/{name}/listing  GET /accounts/{name}/ways
        GET /accounts/{name}/without  GET /accounts/{name}/headroom  GET /accounts/{name}/handover
        GET /accounts/{name}/handover/document  GET /accounts/{name}/credentials  GET /groups
        GET /units  GET /subjects  GET /stores  GET /folders  GET /virtual-paths  GET /endpoints
        GET /endpoints/{name}/reach  GET /endpoints/{name}/certificate  GET /directories
        GET /directories/{name}  GET /usage  GET /limits  GET /censuses  GET /lockouts
        GET /overview  GET /findings  GET /promises  GET /trials  GET /items  GET /item
        GET /model  GET /model/schema  GET /journal  GET /journal/{revision}  GET /when  GET /who
        GET /map  GET /comparisons  POST /comparisons  POST /decisions  POST /decisions/batch
        POST /changes/preview  POST /changes/check  POST /model/preview  POST /model/losses
        POST /back/preview  POST /back-to/preview  POST /mends  GET /administrators
        PUT /administrators/{name}/password  GET /tokens  POST /tokens  DELETE /tokens/{id}
        GET /drafts  GET /drafts/{name}  GET /idle  GET /rehearsal/log  GET /disks
        GET /disks/{store}/drift  GET /disks/{store}/plan  GET /disks/{store}/adoption
        GET /disks/{store}/descriptors  GET /find  GET /folders/inside  GET /host-users
        GET /patterns  GET /patterns/{name}  POST /patterns/{name}/changes  GET /reports
        POST /reports  GET /reports/{number}  GET /reports/{number}/document
        GET /reports/{number}/returned
        """
    ),
    DRAFTER: (
        """
        POST /drafts  DELETE /drafts/{name}  POST /drafts/{name}/changes
        POST /drafts/{name}/model  POST /drafts/{name}/back  POST /drafts/{name}/comments
        DELETE /drafts/{name}/steps/{number}  POST /reports/{number}/signed
        POST /reports/{number}/links
        """
    ),
    EDITOR: (
        """
        POST /changes  POST /back  POST /drafts/{name}/apply  PUT /accounts/{name}/password
        DELETE /accounts/{name}/password  POST /accounts/{name}/password/check
        POST /accounts/{name}/keys  DELETE /accounts/{name}/keys/{fingerprint}  POST /sign-ins
        POST /rehearsal/log  DELETE /lockouts/{of}/{name}  POST /censuses  DELETE /censuses
        PUT /findings/accepted  DELETE /findings/accepted
        """
    ),
    OWNER: (
        """
        PUT /model  POST /back-to  POST /directories  PATCH /directories/{name}
        DELETE /directories/{name}  POST /directories/{name}/try
        POST /directories/{name}/sync/preview  POST /directories/{name}/sync  POST /administrators
        PATCH /administrators/{name}  DELETE /administrators/{name}
        POST /administrators/{name}/link
        """
    ),
}


def _routes(text: str) -> list[tuple[str, str]]:
    words = text.split()
    return list(zip(words[::2], words[1::2], strict=True))


#: (method, route) by the role that it takes.
ROLE_OF: dict[tuple[str, str], str] = {
    route: role for role, text in _NEEDS.items() for route in _routes(text)
}

#: What only people do, whatever the role of a program: programs make no tokens, end nobody's
#: session and sign nothing.
FOR_PEOPLE = frozenset(
    _routes("""
        POST /tokens  DELETE /tokens/{id}  POST /administrators  PATCH /administrators/{name}
        DELETE /administrators/{name}  POST /administrators/{name}/link
        PUT /administrators/{name}/password  POST /reports/{number}/signed
        POST /reports/{number}/links
        """)
)

#: What is about everybody, or about what lies in no area, whatever the area: whoever reads only
#: what touches one does not.
OF_ALL = frozenset(
    _routes("""
        GET /directories  GET /directories/{name}  GET /host-users  GET /disks
        GET /disks/{store}/drift  GET /disks/{store}/plan  GET /disks/{store}/adoption
        GET /disks/{store}/descriptors  POST /model/preview  POST /model/losses
        POST /back-to/preview  POST /drafts/{name}/model  PUT /findings/accepted
        DELETE /findings/accepted
        """)
)
#: The reason of that refusal.
OF_EVERYBODY = (
    "this also covers what is outside your area, which you cannot read. Ask an owner for the right"
    " to read everything."
)


def what_it_takes(role: str, needed: str) -> str | None:
    """What somebody is told whose role is too small; None if it is not."""
    if covers(role, needed):
        return None
    instead = (
        "put it in a draft, or ask an owner"
        if (role, needed) == (DRAFTER, EDITOR)
        else "ask an owner"
    )
    return f"this takes the role {needed}, which {ADDS[needed]}; yours is {role}: {instead}"
