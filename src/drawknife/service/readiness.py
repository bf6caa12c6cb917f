"""What the manager of services is told: systemd, where it started this one with Type=notify
(sd_notify(3)).
"""

from __future__ import annotations

import os
import socket


def tell_manager(state: str) -> None:
    """Tell `READY=1` or `STOPPING=1`; nobody, where nobody wants to know."""
    address = os.environ.get("NOTIFY_SOCKET")
    if not address:
        return
    if address.startswith("@"):  # an abstract one
        address = "\0" + address[1:]
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as manager:
        manager.connect(address)
        manager.sendall(state.encode())
