"""Writes src/drawknife/messages/where.py, where each name of a message is: python -m
tools.message_names

With it `drawknife.messages` loads only what is used, and a small question does not wait for a
hundred types.
"""

from __future__ import annotations

import ast
import sys
from collections.abc import Iterator
from pathlib import Path

FOLDER = Path(__file__).resolve().parent.parent / "src" / "drawknife" / "messages"
PAGE = FOLDER / "where.py"
HEAD = '''"""In which module each message is; written by `python -m tools.message_names`.

A test says whether it is current.
"""

WHERE = {
'''


def _defined(path: Path) -> Iterator[str]:
    """The names that a module defines itself, and does not keep to itself."""
    for node in ast.parse(path.read_text()).body:
        targets = node.targets if isinstance(node, ast.Assign) else [getattr(node, "target", None)]
        names = (
            [node.name]
            if isinstance(node, ast.ClassDef)
            else [t.id for t in targets if isinstance(t, ast.Name)]
        )
        yield from (name for name in names if not name.startswith("_"))


def page() -> str:
    """The file as it must be."""
    found = {
        name: path.stem
        for path in FOLDER.glob("*.py")
        if path not in (PAGE, FOLDER / "__init__.py")
        for name in _defined(path)
    }
    return HEAD + "".join(f'    "{name}": "{found[name]}",\n' for name in sorted(found)) + "}\n"


if __name__ == "__main__":
    PAGE.write_text(page())
    sys.exit(0)
