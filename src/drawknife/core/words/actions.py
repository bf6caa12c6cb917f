"""What can be asked about, and the gates that may refuse it."""

from .rights import RIGHTS

ACTIONS = (*RIGHTS, "sign-in")
GATES = ("door", "sign-in", "endpoint", "virtual path", "folder", "disk", "limits")
