"""Disk readings: the folders and files of a machine, with owners, modes and access
control lists.
"""

from .from_text import reading_from, users_from
from .walking import read_disk

__all__ = ["read_disk", "reading_from", "users_from"]
