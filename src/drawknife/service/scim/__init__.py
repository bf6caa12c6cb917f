"""SCIM 2.0 (RFC 7643, RFC 7644): people and groups of a directory, sent by the systems that people
already have.
"""
