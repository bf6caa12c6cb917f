"""The model in PostgreSQL. Every change is one transaction, one revision, one line in the journal.

Nothing here computes an access: it hands the core whole, immutable models.
"""
