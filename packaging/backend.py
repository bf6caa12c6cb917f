"""The build of the package (PEP 517): setuptools', with the console, the man pages and the
completion scripts in it.

What is built from the checkout needs Node.js for the console, where console/dist is not there yet.
A source distribution has them already, so that a wheel of it needs nothing.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tomllib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from setuptools import build_meta
from setuptools.build_meta import (
    build_editable,
    get_requires_for_build_editable,
    prepare_metadata_for_build_wheel,
)

__all__ = [
    "build_editable",
    "build_sdist",
    "build_wheel",
    "get_requires_for_build_editable",
    "get_requires_for_build_sdist",
    "get_requires_for_build_wheel",
    "prepare_metadata_for_build_wheel",
]

ROOT = Path(__file__).resolve().parent.parent
#: Where what is built goes: the console beside the modules, the rest as `share/` of the
#: installation.
CONSOLE, SHARE = ROOT / "src" / "drawknife" / "console", ROOT / "packaging" / "share"
COMPLETIONS = {
    "bash": "bash-completion/completions/drawknife",
    "zsh": "zsh/site-functions/_drawknife",
    "fish": "fish/vendor_completions.d/drawknife.fish",
}


def _requires() -> list[str]:
    """What runs while the console's types and the man pages are made: the whole product."""
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    extras = project["optional-dependencies"]
    return [*project["dependencies"], *extras["server"], *extras["rehearsal"], "click-man>=0.5"]


def get_requires_for_build_wheel(settings: Any = None) -> list[str]:
    return [] if _is_source_distribution() else _requires()


get_requires_for_build_sdist = get_requires_for_build_wheel


def build_wheel(folder: str, settings: Any = None, metadata: str | None = None) -> str:
    with _all_made():
        return build_meta.build_wheel(folder, settings, metadata)


def build_sdist(folder: str, settings: Any = None) -> str:
    with _all_made():
        return build_meta.build_sdist(folder, settings)


def _is_source_distribution() -> bool:
    return (ROOT / "PKG-INFO").exists()


@contextmanager
def _all_made() -> Iterator[None]:
    """While the package is built, what is made for it stands where setuptools takes it from."""
    if _is_source_distribution():
        yield
        return
    try:
        _make_console()
        shutil.rmtree(SHARE, ignore_errors=True)
        _make_man_pages()
        _make_completions()
        yield
    finally:
        shutil.rmtree(CONSOLE, ignore_errors=True)
        shutil.rmtree(SHARE, ignore_errors=True)


def _run(*command: str, folder: Path = ROOT) -> None:
    subprocess.run(command, cwd=folder, check=True, env=_environment(), stdout=sys.stderr)


def _environment() -> dict[str, str]:
    """This process's, with the checkout's modules: an isolated build finds the packages that it
    needs by PYTHONPATH.
    """
    path = [str(ROOT / "src"), str(ROOT), *filter(None, [os.environ.get("PYTHONPATH")])]
    return {**os.environ, "PYTHONPATH": os.pathsep.join(path)}


def _make_console() -> None:
    built = ROOT / "console" / "dist"
    if not (built / "index.html").exists():
        if shutil.which("npm") is None:
            raise SystemExit(
                "the console is not built, and npm is not here to build it; install nodejs and npm,"
                " or install the wheel"
            )
        _run(sys.executable, "-m", "tools.description")
        _run("npm", "ci", "--no-audit", "--no-fund", "--loglevel=error", folder=ROOT / "console")
        _run("npm", "run", "--silent", "build", folder=ROOT / "console")
    shutil.rmtree(CONSOLE, ignore_errors=True)
    shutil.copytree(built, CONSOLE, ignore=shutil.ignore_patterns(".built"))


def _make_man_pages() -> None:
    _run(sys.executable, "-m", "tools.man_pages", str(SHARE / "man" / "man1"))


def _make_completions() -> None:
    for shell, name in COMPLETIONS.items():
        to = SHARE / name
        to.parent.mkdir(parents=True, exist_ok=True)
        script = subprocess.run(
            [
                sys.executable,
                "-c",
                "from drawknife.cli.main import main; main()",
                "completion",
                shell,
            ],
            check=True,
            capture_output=True,
            text=True,
            env=_environment(),
        )
        to.write_text(script.stdout)
