"""Which part of the product may use which: nothing imports what stands above it, and nothing goes
in circles.
"""

import ast
from graphlib import TopologicalSorter
from pathlib import Path

import pytest

SOURCE = Path(__file__).resolve().parent.parent / "src"
#: From the bottom up. Those of one line know nothing of each other.
LAYERS = [
    ["drawknife.core.words"],
    ["drawknife.core.model"],
    ["drawknife.core.disk"],
    ["drawknife.core.prepared"],
    ["drawknife.core.limits"],
    ["drawknife.core.decide"],
    ["drawknife.core.everybody"],
    ["drawknife.core.follows"],
    ["drawknife.formats"],
    ["drawknife.messages"],
    [
        "drawknife.changing",
        "drawknife.census",
        "drawknife.disk",
        "drawknife.documents",
        "drawknife.host_files",
    ],
    ["drawknife.mending"],
    ["drawknife.idle", "drawknife.patterns", "drawknife.trials"],
    ["drawknife.answers"],
    ["drawknife.records"],
    ["drawknife.directory"],
    ["drawknife.client", "drawknife.service"],
    ["drawknife.rehearsal"],
    ["drawknife.cli"],
]
HEIGHT = {name: height for height, names in enumerate(LAYERS) for name in names}


def modules() -> dict[str, Path]:
    found = {}
    for path in SOURCE.rglob("*.py"):
        parts = path.relative_to(SOURCE).with_suffix("").parts
        found[".".join(parts[:-1] if parts[-1] == "__init__" else parts)] = path
    return found


MODULES = modules()


def imports(name: str) -> set[str]:
    """The modules of the product that one imports, wherever in it."""
    package = name if MODULES[name].name == "__init__.py" else name.rpartition(".")[0]
    found = set()
    for node in ast.walk(ast.parse(MODULES[name].read_text())):
        if isinstance(node, ast.Import):
            found.update(alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            above = package.rsplit(".", node.level - 1)[0] if node.level else ""
            base = ".".join(filter(None, (above, node.module)))
            found.update(
                f"{base}.{alias.name}" if f"{base}.{alias.name}" in MODULES else base
                for alias in node.names
            )
    return {x for x in found if x in MODULES and x != name}


def layer(name: str) -> str | None:
    return next((known for known in HEIGHT if name == known or name.startswith(known + ".")), None)


@pytest.mark.parametrize("name", sorted(MODULES))
def test_nothing_uses_what_stands_above_it(name):
    own = layer(name)
    for other in imports(name):
        used = layer(other)
        if own and used and own != used:
            assert HEIGHT[used] < HEIGHT[own], f"{name} uses {other}"


def test_nothing_goes_in_circles():
    graph = {
        name: {x for x in imports(name) if MODULES[x].name != "__init__.py"} for name in MODULES
    }
    assert list(TopologicalSorter(graph).static_order())


def test_every_module_is_in_a_layer():
    outside = {name for name in MODULES if layer(name) is None}
    assert outside == {"drawknife", "drawknife.core", "drawknife.__main__"} & set(MODULES)


def test_a_file_of_one_name_is_about_one_subject():
    """Modules may share a name only where they are about the same, layer by layer."""
    shared = {
        "access",
        "accounts",
        "administrators",
        "censuses",
        "certificates",
        "changes",
        "changing",
        "common",
        "credentials",
        "database",
        "directories",
        "disk",
        "disk_plan",
        "disks",
        "drafting",
        "drafts",
        "errors",
        "history",
        "idle",
        "items",
        "limits",
        "mending",
        "model",
        "patterns",
        "people",
        "places",
        "previews",
        "named",
        "promises",
        "questions",
        "rehearsals",
        "reports",
        "telling",
        "trials",
        "way_in",
    }
    seen: dict[str, set[str]] = {}
    for name, path in MODULES.items():
        if path.name != "__init__.py":
            seen.setdefault(name.rpartition(".")[2], set()).add(name)
    assert {short for short, where in seen.items() if len(where) > 1} <= shared


def test_no_file_is_longer_than_a_reader_keeps_in_mind_and_no_function():
    console = (
        p
        for p in (SOURCE.parent / "console" / "src").rglob("*.ts*")
        if not p.name.endswith(".gen.ts")
    )
    python = [
        p
        for folder in ("src", "tools", "benchmarks")
        for p in (SOURCE.parent / folder).rglob("*.py")
    ]
    long = {
        str(p.relative_to(SOURCE.parent)): n
        for p in (*python, *console)
        if (n := len(p.read_text().splitlines())) > 500
    }
    assert long == {}
    functions = (
        (p, x)
        for p in python
        for x in ast.walk(ast.parse(p.read_text()))
        if isinstance(x, ast.FunctionDef | ast.AsyncFunctionDef)
    )
    assert [f"{p.name}: {x.name}" for p, x in functions if x.end_lineno - x.lineno >= 100] == []


def test_where_each_message_is_is_current():
    from tools.message_names import PAGE, page

    assert PAGE.read_text() == page(), "write it anew with python -m tools.message_names"
    from drawknife import messages
    from drawknife.messages.where import WHERE

    face = Path(messages.__file__).read_text()
    assert [
        module for module in set(WHERE.values()) if f"from .{module} import *" not in face
    ] == []
    assert all(
        getattr(messages, name).__name__ == name
        for name in WHERE
        if isinstance(getattr(messages, name), type)
    )
