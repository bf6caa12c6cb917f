"""The HTTP service: it checks the input, asks the core or the records, and writes the answer."""
