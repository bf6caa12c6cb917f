"""Disk readings: what lies on a machine, with owners, modes and access control lists."""

from .attributes import acl_from, acl_to
from .walking import Seen, read_disk

__all__ = ["Seen", "acl_from", "acl_to", "read_disk"]
