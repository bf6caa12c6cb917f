"""Rehearsal: a stand-in for a transfer server, which speaks FTP and SFTP and asks the core at every
step.

It is for trying things out on loopback, with scratch files, before a real server is touched; not
for serving anybody.
"""

from .standing_in import StandIn

__all__ = ["StandIn"]
