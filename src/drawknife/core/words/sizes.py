"""Sizes, numbers and lists of names as people read them."""

from collections.abc import Iterable

UNITS = ("B", "KiB", "MiB", "GiB", "TiB", "PiB")


def show_size(size: int) -> str:
    """A size for people: three figures and a binary unit."""
    amount, unit = float(size), "B"
    for unit in UNITS:
        if amount < 1024 or unit == "PiB":
            break
        amount /= 1024
    if unit == "B":
        return f"{size} B"
    # What three figures would make a thousand of is one: not 1e+03.
    return f"{amount:.3g} {unit}" if amount < 999.5 else f"{amount:.0f} {unit}"


def show_sizes(before: int, after: int) -> str:
    """How a size has become another, both in the unit of the larger one: ``5.68 TiB → 5.76 TiB (+82
    GiB)``.
    """
    unit = show_size(max(before, after)).split()[1]
    factor = 1024 ** UNITS.index(unit)
    a, b = (
        f"{size / factor:.3g}" if size / factor < 999.5 else f"{size / factor:.0f}"
        for size in (before, after)
    )
    return (
        f"{a} {unit} → {b} {unit}"
        f" ({'−' if after < before else '+'}{show_size(abs(after - before))})"
    )


def number_of(number: int, word: str) -> str:
    """A number of things: ``1 file``, ``2,020 files``, ``2 entries``."""
    many = f"{word[:-1]}ies" if word.endswith("y") and word[-2] not in "aeou" else f"{word}s"
    return f"{number:,} {word if number == 1 else many}"


def several(names: Iterable[str], few: int = 3, count: int | None = None) -> str:
    """The first names, and how many more there are: ``ines, yuki and 2 more``.

    `count` if more are known than named.
    """
    every = list(dict.fromkeys(names))
    more = (len(every) if count is None else count) - min(few, len(every))
    return ", ".join(every[:few]) + (f" and {more} more" if more > 0 else "")
