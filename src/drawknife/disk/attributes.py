"""Access control lists as Linux keeps them: the extended attributes ``system.posix_acl_access`` and ``_default``.

Version 2: a little-endian 32-bit version, then of each entry a 16-bit tag, 16-bit permissions and a 32-bit id.
"""

from __future__ import annotations

import errno
import os
import struct
from functools import lru_cache

from drawknife.core.model.disk import Acl

from .standalone import lists_and_modes as modes

ACCESS, DEFAULT = modes.ACCESS, modes.DEFAULT
_VERSION = 2
#: There is no list, or the file system has none.
_NONE = {errno.ENODATA, errno.ENOTSUP, errno.EOPNOTSUPP}


@lru_cache(1 << 12)
def acl_from(data: bytes) -> Acl:
    """The list that an attribute holds. ValueError if it is none."""
    if len(data) < 4 or len(data) % 8 != 4 or struct.unpack_from("<I", data)[0] != _VERSION:
        raise ValueError("no access control list of version 2")
    try:
        return Acl(*modes.acl_from_bytes(data))
    except KeyError:
        raise ValueError("an access control list without owner, group or others") from None


def acl_to(acl: Acl) -> bytes:
    """The attribute that holds a list."""
    return modes.acl_to_bytes(modes.Acl(*acl))


def read_list(path: bytes, name: str, follow: bool = False) -> Acl | None:
    """One of the lists of a thing, that of a link's target only if `follow`; None if it has none."""
    try:
        return acl_from(os.getxattr(path, name, follow_symlinks=follow))
    except OSError as error:
        if error.errno in _NONE:
            return None
        raise
