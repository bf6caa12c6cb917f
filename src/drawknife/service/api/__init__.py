"""The routes, by subject."""
