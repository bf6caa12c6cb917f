"""Why something is not done; the client is told no more than its protocol says."""


class NotDone(Exception):
    """Something is not done. The client is told no more than its protocol says."""


class Denied(NotDone):
    """The rules do not let it."""


class LimitReached(NotDone):
    """A limit does not let it, or no more of it."""


class NotThere(NotDone):
    """It would be let, and there is no such file or folder."""


class InTheWay(NotDone):
    """Something is there already, or is in the folder."""


class BadName(NotDone):
    """A name that cannot be."""
