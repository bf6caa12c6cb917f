"""The census: bytes and files of a store, by folder and owner, measured on the file
system itself.
"""
