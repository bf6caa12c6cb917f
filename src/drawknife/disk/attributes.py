"""Access control lists as Linux keeps them: the extended attributes ``system.posix_acl_access`` and ``_default``.

Version 2: a little-endian 32-bit version, then of each entry a 16-bit tag, 16-bit permissions and a 32-bit id.
"""

from __future__ import annotations

import errno
import os
import struct
from functools import lru_cache

from drawknife.core.model.disk import Acl

ACCESS, DEFAULT = "system.posix_acl_access", "system.posix_acl_default"
_VERSION, _NOBODY = 2, 0xFFFFFFFF
_OWNER, _USER, _GROUP, _NAMED_GROUP, _MASK, _OTHER = 1, 2, 4, 8, 0x10, 0x20
#: There is no list, or the file system has none.
_NONE = {errno.ENODATA, errno.ENOTSUP, errno.EOPNOTSUPP}


@lru_cache(1 << 12)
def acl_from(data: bytes) -> Acl:
    """The list that an attribute holds. ValueError if it is none."""
    if len(data) < 4 or len(data) % 8 != 4 or struct.unpack_from("<I", data)[0] != _VERSION:
        raise ValueError("no access control list of version 2")
    single: dict[int, int] = {}
    named: dict[int, list[tuple[int, int]]] = {_USER: [], _NAMED_GROUP: []}
    for tag, permissions, id_ in struct.iter_unpack("<HHI", data[4:]):
        if tag in named:
            named[tag].append((id_, permissions))
        else:
            single[tag] = permissions
    if not {_OWNER, _GROUP, _OTHER} <= single.keys():
        raise ValueError("an access control list without owner, group or others")
    return Acl(
        single[_OWNER], tuple(sorted(named[_USER])), single[_GROUP], tuple(sorted(named[_NAMED_GROUP])),
        single.get(_MASK), single[_OTHER],
    )  # fmt: skip


def acl_to(acl: Acl) -> bytes:
    """The attribute that holds a list."""
    entries = [(_OWNER, acl.owner, _NOBODY), *((_USER, p, uid) for uid, p in acl.users), (_GROUP, acl.group, _NOBODY)]
    entries += [(_NAMED_GROUP, p, gid) for gid, p in acl.groups]
    entries += [] if acl.mask is None else [(_MASK, acl.mask, _NOBODY)]
    entries.append((_OTHER, acl.other, _NOBODY))
    return struct.pack("<I", _VERSION) + b"".join(struct.pack("<HHI", *entry) for entry in entries)


def read_list(path: bytes, name: str, follow: bool = False) -> Acl | None:
    """One of the lists of a thing, that of a link's target only if `follow`; None if it has none."""
    try:
        return acl_from(os.getxattr(path, name, follow_symlinks=follow))
    except OSError as error:
        if error.errno in _NONE:
            return None
        raise
