"""The eleven rights, their bundles, and the `perm` fact of RFC 3659, section 7.5.5.

A set of rights is an ``int``: bit `i` stands for ``RIGHTS[i]``.
"""

from .names import BadValue

RIGHTS = (
    "enter",
    "list",
    "download",
    "upload",
    "overwrite",
    "append",
    "rename",
    "delete-file",
    "make-folder",
    "delete-folder",
    "set-attributes",
)
INDEX = {right: i for i, right in enumerate(RIGHTS)}
BIT = {right: 1 << i for i, right in enumerate(RIGHTS)}
ALL = (1 << len(RIGHTS)) - 1

ENTER = BIT["enter"]

#: Shown for the folder itself: `yes` or `no`. The others are shown for the files in it.
FOLDER_RIGHTS = ("enter", "list", "upload", "make-folder", "delete-folder")
FILE_RIGHTS = tuple(r for r in RIGHTS if r not in FOLDER_RIGHTS)


def mask_of(*rights: str) -> int:
    """The set of the rights named."""
    mask = 0
    for right in rights:
        mask |= BIT[right]
    return mask


_look = mask_of("enter", "list")
_read = _look | BIT["download"]
_add = _read | mask_of("upload", "append", "make-folder")
_change = _add | mask_of("overwrite", "rename", "delete-file", "delete-folder")
BUNDLES = {
    "look": _look,
    "read": _read,
    "drop": mask_of("enter", "upload"),
    "add": _add,
    "change": _change,
    "all": ALL,
}
_WORDS = {**BIT, **BUNDLES}
_LARGEST_FIRST = sorted(BUNDLES.items(), key=lambda item: -item[1].bit_count())


def parse_rights(text: str) -> int:
    """Read a list of rights and bundles, ``read,append``."""
    mask = 0
    for word in text.split(","):
        if word not in _WORDS:
            raise BadValue(
                (
                    f"{word!r} is no right and no bundle"
                    if word
                    else "the list of rights has an empty place"
                ),
                "some of " + ", ".join(RIGHTS) + ", or the bundles " + ", ".join(BUNDLES),
            )
        mask |= _WORDS[word]
    return mask


def format_rights(mask: int) -> str:
    """Write a set of rights: largest bundles first, then what remains in the table's order."""
    words, written = [], 0
    for name, bundle in _LARGEST_FIRST:
        if bundle & mask == bundle and bundle & ~written:
            words.append(name)
            written |= bundle
    words += [right for right, bit in BIT.items() if mask & bit & ~written]
    return ",".join(words)


# RFC 3659, 7.5.5: what a client is told of a folder, and of the files in it.
PERM_FOLDER = (
    ("c", "upload"),
    ("d", "delete-folder"),
    ("e", "enter"),
    ("l", "list"),
    ("m", "make-folder"),
    ("p", "delete-file"),
)
PERM_FILE = (
    ("a", "append"),
    ("d", "delete-file"),
    ("f", "rename"),
    ("r", "download"),
    ("w", "overwrite"),
)


def perm_word(states: "tuple[str, ...] | list[str]") -> str:
    """The access at one folder as one word: ``FOLDER/FILES`` in letters of the `perm` fact.

    A letter stands for a right held on every file; one in round brackets for files of one's own
    only, in square brackets for files of others only. Nothing at all is ``-``.
    """

    def letters(table: tuple[tuple[str, str], ...]) -> str:
        plain, own, others = "", "", ""
        for letter, right in table:
            state = states[INDEX[right]]
            if state == "yes":
                plain += letter
            elif state == "own":
                own += letter
            elif state == "others":
                others += letter
        return plain + (f"({own})" if own else "") + (f"[{others}]" if others else "")

    folder, files = letters(PERM_FOLDER), letters(PERM_FILE)
    return f"{folder}/{files}" if files else folder or "-"
