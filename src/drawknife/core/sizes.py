"""Sizes and numbers as people read them."""


def show_size(size: int) -> str:
    """A size for people: three figures and a binary unit."""
    amount, unit = float(size), "B"
    for unit in ("B", "KiB", "MiB", "GiB", "TiB", "PiB"):
        if amount < 1024 or unit == "PiB":
            break
        amount /= 1024
    return f"{size} B" if unit == "B" else f"{amount:.3g} {unit}" if amount < 1000 else f"{amount:.0f} {unit}"


def number_of(number: int, word: str) -> str:
    """A number of things: ``1 file``, ``2,020 files``."""
    return f"{number:,} {word}{'' if number == 1 else 's'}"
