"""A plan as text: for ``setfacl --restore``, and as a script that carries it out and undoes it."""

from __future__ import annotations

import ast
import inspect
import json
from collections.abc import Iterable
from types import ModuleType
from typing import Any

from drawknife.core.disk.plan_steps import PlanStep
from drawknife.core.model.disk import ThingOnDisk
from drawknife.core.model.items import DiskReading

from . import standalone
from .standalone import carrying_out, file_names, lists_and_modes, opened_things, scanning
from .standalone.lists_and_modes import Acl, Thing, as_getfacl


def as_thing(thing: ThingOnDisk) -> Thing:
    """A thing as the standalone module has it."""
    acl, default = (None if x is None else Acl(*x) for x in (thing.acl, thing.default))
    return Thing(thing.uid, thing.gid, thing.mode, acl, default)


def restore_text(steps: Iterable[PlanStep]) -> str:
    """The folders of a plan that are known to be there, for ``setfacl --restore`` in the store's
    root.
    """
    blocks = (
        as_getfacl(s.path.strip("/").encode(), as_thing(s.planned))
        for s in steps
        if s.what == "folder" and not s.perhaps
    )
    return b"".join(blocks).decode()


def plan_data(
    reading: DiskReading, root: str, steps: Iterable[PlanStep], under: str = "/"
) -> dict[str, Any]:
    """A plan and the reading that it was made of, as :class:`standalone.Plan` takes them: plain
    data.
    """
    data: dict[str, Any] = {
        "store": reading.store,
        "root": root,
        "under": under,
        "listed": {f.path: str(f.thing) for f in reading.folders},
        "files": {},
        "folders": {},
        "perhaps": [],
        "becoming": {},
        "below": {},
        "with_steps": [],
        "users": [[u.uid, u.gid, list(u.groups)] for u in reading.users],
    }
    for files in reading.files:
        data["files"].setdefault(files.path, []).append(str(files.thing))
    for step in steps:
        data["with_steps"] += [step.path, *step.but]
        if step.what == "folder":
            data["folders"][step.path] = str(step.planned)
            data["perhaps"] += [step.path] if step.perhaps else []
        elif step.what == "files":
            data["becoming"].setdefault(step.path, {})[str(step.now)] = str(step.planned)
        else:
            data["below"].setdefault(step.path, {})[step.what] = str(step.planned)
    return data


def script(data: dict[str, Any], about: str) -> str:
    """A script for Debian's own Python, without anything else (`about`: a line that says of what it
    was made).
    """
    name = f"{data['store']}-plan.py"
    head = [
        about,
        (
            f"  python3 {name}        carries it out, and keeps what was in"
            f" ./{data['store']}-before.acl"
        ),
        f"  python3 {name} undo   puts that back",
    ]
    modules = [lists_and_modes, file_names, opened_things, carrying_out]
    return _script(
        head, standalone.__doc__ or "", modules, f"main({_as_python(data)}, sys.argv[1:])"
    )


def scanner(asked: dict[str, Any]) -> str:
    """A script for Debian's own Python that prints a scan of a disk, as
    :func:`~drawknife.disk.standalone.scanning.scan` makes it.

    `asked` has the store, its root, `confined` as 0 or 1, and as lists `recorded` folders and users
    in `acting`.
    """
    name, store = f"{asked['store']}-scanner.py", asked["store"]
    head = [
        (
            f"Reads the disk of store {store} and changes nothing. Run it as root on the machine"
            " that has the disk."
        ),
        f"It reads {asked['root']}; name another folder as its argument.",
        f"  python3 {name} > {store}.scan",
        f"  drawknife disk read {store} - < {store}.scan",
    ]
    modules = [file_names, lists_and_modes, scanning]
    return _script(
        head, scanning.__doc__ or "", modules, f"print_scan({_as_python(asked)}, sys.argv[1:])"
    )


def _as_python(data: dict[str, Any]) -> str:
    """Plain data as source.

    Text, numbers, lists and dictionaries are written alike in JSON and Python.
    """
    return json.dumps(data, ensure_ascii=False, indent=1)


def _script(head: list[str], docstring: str, modules: list[ModuleType], call: str) -> str:
    lines = ["#!/usr/bin/python3 -I", *(f"# {line}" for line in head), f'"""{docstring}"""\n']
    lines.append("from __future__ import annotations\n")
    run = f'if __name__ == "__main__":\n    sys.exit({call})\n'
    return "\n".join([*lines, *map(_by_itself, modules), run])


def _by_itself(module: ModuleType) -> str:
    """The source of a module without its docstring, and without what it has of the modules printed
    before it.
    """
    source = inspect.getsource(module)
    lines = source.splitlines()
    docstring, *others = ast.parse(source).body
    imports = [
        n for n in others if isinstance(n, ast.ImportFrom) and (n.level or n.module == "__future__")
    ]
    for node in reversed([docstring, *imports]):
        del lines[node.lineno - 1 : node.end_lineno]
    return "\n".join(lines).strip() + "\n\n"
