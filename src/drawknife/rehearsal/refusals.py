"""Why something is not done; the client is told no more than its protocol says."""


class Refusal(Exception):
    """Something is not done. The client is told no more than its protocol says."""


class Denied(Refusal):
    """The rules do not let it."""


class NoRoom(Refusal):
    """A limit does not let it, or no more of it."""


class NotThere(Refusal):
    """It would be let, and there is no such file or folder."""


class InTheWay(Refusal):
    """Something is there already, or is in the folder."""


class BadName(Refusal):
    """A name that cannot be."""
