"""Writes docs/reference/kinds.md from the declarations of the kinds: python -m tools.reference"""

from __future__ import annotations

import sys
from pathlib import Path

from drawknife.core.model import values as v
from drawknife.core.model.fields import REQUIRED, Field
from drawknife.core.model.kinds import EVERY, LINES, SETTING, UNIT, Kind

PAGE = Path(__file__).resolve().parent.parent / "docs" / "reference" / "kinds.md"
#: How values of a shape are told.
WORDS = (
    (v.BOOL, "`true` or `false`"),
    (v.SIZE, "a size"),
    (v.NUMBER, "a number"),
    (v.DURATION, "a duration"),
    (v.PORT, "a port"),
    (v.PORTS, "a range of ports"),
    (v.MOMENT, "a time"),
    (v.PLACE, "a store folder"),
    ({"type": "string", "format": "date"}, "a day"),
)
HEAD = """# Every key of every item

Written by `python -m tools.reference` from the declarations in `core/model/kinds.py`; a test says
whether it is current. The [model file](model-file.md), [changes](changes.md), the options of the
changing commands (`host_names` is `--host-name`, and `--drop-host-name` takes a line away) and the
console's forms have the same keys.
"""


def _default(field: Field) -> str:
    if field.default is REQUIRED:
        return "must be given"
    if field.unset is not None and field.unset != ():
        return ", ".join(field.unset) if isinstance(field.unset, tuple) else _word(field.unset)
    if field.default in (None, ()):
        return ""
    shown = field.written(field.default)
    return ", ".join(map(str, shown)) if isinstance(shown, list) else _word(shown)


def _word(value: object) -> str:
    return {True: "true", False: "false"}[value] if isinstance(value, bool) else str(value)


def _value(field: Field) -> str:
    choices = field.schema.get("enum")
    if choices:
        text = ", ".join(f"`{c}`" for c in choices)
    else:
        limited = {key: x for key, x in field.schema.items() if key != "anyOf"}
        either = [x for x in field.schema.get("anyOf", ()) if "const" not in x]
        shape = either[0] if either else limited
        text = next((word for known, word in WORDS if known == shape), "text")
        text += " or `unlimited`" if either else ""
    return f"lines: {text}" if field.many else text


def _section(kind: Kind) -> str:
    where = "`folders` of a store" if kind.name == "folder" else f"`{kind.section}`"
    out = [f"## {kind.title[0].upper()}{kind.title[1:]}, in {where}\n"]
    if kind is UNIT:
        out.append("A path alone, or with where it comes from:\n")
    out.append("| key | what it is | value | if left out |\n|---|---|---|---|")
    out += [f"| `{f.name}` | {f.about} | {_value(f)} | {_default(f)} |" for f in kind.fields]
    if kind is SETTING:
        out.append(
            "\nWhat is left out is not set: the setting comes from the next nearest subject that"
            " sets it."
        )
    return "\n".join(out)


def page() -> str:
    """The page as it must be."""
    lines = "\n".join(f"| `{f.name}` | {f.about} |" for f in LINES.values())
    sections = [
        *map(_section, EVERY),
        f"## Lists of lines\n\n| section | a line |\n|---|---|\n{lines}",
    ]
    return HEAD + "\n" + "\n\n".join(sections) + "\n"


def main() -> int:
    PAGE.write_text(page())
    return 0


if __name__ == "__main__":
    sys.exit(main())
