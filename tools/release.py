"""Gives a version to what is not released yet: python -m tools.release X.Y.Z

The version stands in src/drawknife/__init__.py and nowhere else. CHANGELOG's section gets the
version and the day, both are committed, the commit is tagged vX.Y.Z, and the package is built of
it.
"""

from __future__ import annotations

import re
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
UNRELEASED = "## Not yet released"
_VERSION = re.compile(r'^__version__ = "(\d+\.\d+\.\d+)"$', re.MULTILINE)


class NotReleased(Exception):
    """Why nothing was released."""


def release(root: Path, version: str) -> None:
    """Commit and tag a version in a checkout. :class:`NotReleased` before anything is changed."""
    package, changelog = root / "src" / "drawknife" / "__init__.py", root / "CHANGELOG.md"
    source, changes = package.read_text(), changelog.read_text()
    found = _VERSION.search(source)
    if found is None:
        raise NotReleased(f"{package} has no version")
    if re.fullmatch(r"\d+\.\d+\.\d+", version) is None:
        raise NotReleased(f"{version!r} is not a version such as 1.2.3")
    if _numbers(version) <= _numbers(found[1]):
        raise NotReleased(f"{version} does not come after {found[1]}")
    if _git(root, "status", "--porcelain"):
        raise NotReleased("there are changes that are not committed")
    if _git(root, "tag", "--list", f"v{version}"):
        raise NotReleased(f"there is a tag v{version} already")
    section = changes.partition(UNRELEASED)[2].partition("\n## ")[0]
    if not section.strip():
        raise NotReleased(f"CHANGELOG.md has nothing under {UNRELEASED!r}")
    heading = f"{UNRELEASED}\n\n## {version} ({datetime.now(UTC):%Y-%m-%d})"
    changelog.write_text(changes.replace(UNRELEASED, heading, 1))
    package.write_text(_VERSION.sub(f'__version__ = "{version}"', source))
    for page in [*root.glob("docs/*.md"), root / "README.md"]:
        text = page.read_text()
        page.write_text(text.replace(f"drawknife-{found[1]}", f"drawknife-{version}"))
    _git(root, "commit", "--quiet", "--all", "--message", f"Release {version}")
    _git(
        root,
        "tag",
        "--annotate",
        f"v{version}",
        "--message",
        f"Drawknife {version}\n{section.rstrip()}",
    )


def _numbers(version: str) -> tuple[int, ...]:
    return tuple(map(int, version.split(".")))


def _git(root: Path, *arguments: str) -> str:
    return subprocess.run(
        ["git", *arguments], cwd=root, check=True, capture_output=True, text=True
    ).stdout.strip()


if __name__ == "__main__":
    if len(sys.argv) != 2:
        sys.exit("run: name the version: ./run release 1.2.3")
    try:
        release(ROOT, sys.argv[1])
    except NotReleased as error:
        sys.exit(f"run: {error}")
    sys.exit(
        subprocess.run(
            [sys.executable, "-m", "tools.package", "dist"], cwd=ROOT, check=False
        ).returncode
    )
