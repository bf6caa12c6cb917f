"""Directories: reading people, groups and units from LDAP or LDIF, and taking them into
the model.
"""
