"""What goes wrong with asking a service.

ClientError
├── ServiceUnavailable    no service answers, or its database is away: asking again later may do
└── Refused               it answers that it will not; `problem` says why
"""

from __future__ import annotations

from drawknife import messages as msg


class ClientError(Exception):
    """The service could not be asked, or did not answer as it should."""


class ServiceUnavailable(ClientError):
    """No service answers there, or its database is away. Asking again later may do."""


class Refused(ClientError):
    """The service refused the request; `problem` says what is wrong, where, and what would be
    right.
    """

    def __init__(self, problem: msg.Problem) -> None:
        super().__init__(problem.detail)
        self.problem = problem
