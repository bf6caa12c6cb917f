"""A plan as text: for ``setfacl --restore``, and as a script that does all of it and can take it back."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Iterator

from drawknife.core.disk.plan_steps import PlanStep
from drawknife.core.model.disk import STICKY, Acl, ThingOnDisk, letters


def block(path: str, thing: ThingOnDisk) -> str:
    """One thing as ``getfacl -n`` writes it; `path` is counted from the store's root."""
    name = path.lstrip("/").replace("\\", "\\\\").replace("\n", "\\012").replace("\r", "\\015") or "."
    flags = "".join(
        letter if thing.mode & bit else "-" for letter, bit in (("s", 0o4000), ("s", 0o2000), ("t", STICKY))
    )
    lines = [f"# file: {name}", f"# owner: {thing.uid}", f"# group: {thing.gid}"]
    lines += [f"# flags: {flags}"] if flags != "---" else []
    lines += _long(_access(thing), "")
    lines += _long(thing.default, "default:") if thing.default else []
    return "\n".join(lines) + "\n\n"


def restore_text(steps: Iterable[PlanStep]) -> str:
    """The folders of a plan that are known to be there, for ``setfacl --restore`` in the store's root."""
    return "".join(block(s.path, s.planned) for s in steps if s.what == "folder" and not s.perhaps)


def script(store: str, root: str, steps: Iterable[PlanStep], about: str) -> str:
    """A script for a POSIX shell with ``find``, ``getfacl`` and ``setfacl`` (`about`: a line that says of what it was made)."""
    kept = f"{store}-before.acl"
    lines = [
        "#!/bin/sh",
        f"# {about}",
        f"#   sh THIS        does it, and keeps what was in ./{kept}",
        "#   sh THIS undo   puts that back",
        "set -eu",
        f"root={shlex.quote(root)}",
        f'kept="$(pwd)"/{shlex.quote(kept)}',
        'cd -- "$root"',
        'if [ "${1:-}" = undo ]; then exec setfacl --restore="$kept"; fi',
        'if [ -e "$kept" ]; then echo "$kept is there already: move it away, or undo first" >&2; exit 1; fi',
        "umask 077",
        'getfacl -R -P -n . > "$kept"',
        "",
    ]
    for step in steps:
        lines += _step(step)
    return "\n".join(lines) + "\n"


def _step(step: PlanStep) -> Iterator[str]:
    here = shlex.quote("." + step.path.rstrip("/"))
    if step.perhaps:
        yield f"if [ -d {here} ] && [ ! -h {here} ]; then"
    yield from _lines(step, here)
    if step.perhaps:
        yield "fi"


def _lines(step: PlanStep, here: str) -> Iterator[str]:
    if step.what == "folder":
        yield from (f"{command} {here}" for command in _commands(step))
        return
    if step.what == "files":
        now = step.now
        which = f"find {here} -maxdepth 1 -type f -user {now.uid} -group {now.gid} -perm {now.mode:04o}"
    else:
        spared = " -o ".join(f"-path {shlex.quote(_pattern('.' + p))}" for p in step.but)
        prune = f"\\( {spared} \\) -prune -o " if spared else ""
        where = _pattern("." + step.path.rstrip("/"))
        depth = f"-path {shlex.quote(where + '/*/*')}" if step.what == "deeper" else f"! -path {shlex.quote(where)}"
        most = " -maxdepth 1" if step.what == "children" else ""
        which = f"find {here} -xdev{most} {prune}{depth} -type d"
    yield from (f"{which} -exec {command} {{}} +" for command in _commands(step))


def _commands(step: PlanStep) -> Iterator[str]:
    """What is done to a thing, all but its name."""
    now, planned = step.now, step.planned
    if (now.mode ^ planned.mode) & STICKY:
        yield f"chmod {'+' if planned.mode & STICKY else '-'}t"
    if (now.mode, now.acl) != (planned.mode, planned.acl):
        yield f"setfacl --set {_access(planned)}"
    if planned.default is None and now.default is not None:
        yield "setfacl -k"
    elif planned.default != now.default:
        yield f"setfacl -d --set {planned.default}"


def _pattern(path: str) -> str:
    """A path as a pattern that matches it alone."""
    return "".join(f"\\{c}" if c in "\\*?[" else c for c in path)


def _access(thing: ThingOnDisk) -> Acl:
    if thing.acl is not None:
        return thing.acl
    return Acl(thing.mode >> 6 & 7, (), thing.mode >> 3 & 7, (), None, thing.mode & 7)


def _long(acl: Acl, prefix: str) -> list[str]:
    lines = [f"user::{letters(acl.owner)}", *(f"user:{uid}:{letters(p)}" for uid, p in acl.users)]
    lines += [f"group::{letters(acl.group)}", *(f"group:{gid}:{letters(p)}" for gid, p in acl.groups)]
    lines += [] if acl.mask is None else [f"mask::{letters(acl.mask)}"]
    return [prefix + line for line in (*lines, f"other::{letters(acl.other)}")]
