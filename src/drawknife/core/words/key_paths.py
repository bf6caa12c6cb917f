"""Where in a document something stands, and how people write it."""

#: Where in a model something stands: keys and list positions, as in the model file.
Where = tuple[str | int, ...]


def key_path(where: Where) -> str:
    """A place as people write it: ``stores[0].folders[2].path``."""
    text = ""
    for step in where:
        text += f"[{step}]" if isinstance(step, int) else f".{step}" if text else str(step)
    return text
