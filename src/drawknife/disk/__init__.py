"""Disk readings: what lies on a machine, with owners, modes and access control lists."""

from .attributes import acl_from, acl_to
from .from_text import reading_from, users_from
from .walking import read_disk

__all__ = ["acl_from", "acl_to", "read_disk", "reading_from", "users_from"]
