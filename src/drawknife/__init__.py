"""Drawknife: what each account of a file transfer server can really do, and why."""

__version__ = "0.2.0"
