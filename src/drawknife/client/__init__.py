"""A client of the service, for programs and for the command line."""

from .client import Client
from .errors import ClientError, Refused, ServiceUnavailable

__all__ = ["Client", "ClientError", "Refused", "ServiceUnavailable"]
