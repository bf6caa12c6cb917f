"""Giving a version to what is not released yet."""

import shutil
import subprocess

import pytest
from tools.release import NotReleased, release

from drawknife import __version__

from .conftest import ROOT

NEXT = ".".join([*__version__.split(".")[:2], str(int(__version__.split(".")[2]) + 1)])


@pytest.fixture
def checkout(tmp_path):
    """A checkout with one commit and something to release."""
    root = tmp_path / "checkout"
    for name in ("src/drawknife/__init__.py", "CHANGELOG.md", "README.md", "docs/install.md"):
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(ROOT / name, root / name)
    (root / "CHANGELOG.md").write_text(
        "# Changes\n\n## Not yet released\n\n- Something new.\n\n## 0.0.1\n\n- The first.\n"
    )
    git(root, "init", "--quiet")
    for name, value in (
        ("user.name", "A Committer"),
        ("user.email", "committer@tidewrack.example"),
    ):
        git(root, "config", name, value)
    git(root, "add", "--all")
    git(root, "commit", "--quiet", "--message", "All of it")
    return root


def git(root, *arguments):
    return subprocess.run(
        ["git", *arguments], cwd=root, check=True, capture_output=True, text=True
    ).stdout.strip()


def test_a_release_moves_the_changes_and_is_tagged(checkout):
    release(checkout, NEXT)
    changes = (checkout / "CHANGELOG.md").read_text()
    assert (
        changes.startswith(f"# Changes\n\n## Not yet released\n\n## {NEXT} (20")
        and "- Something new." in changes
    )
    assert f'__version__ = "{NEXT}"' in (checkout / "src/drawknife/__init__.py").read_text()
    assert f"drawknife-{NEXT}-py3-none-any.whl" in (checkout / "docs/install.md").read_text()
    assert (git(checkout, "log", "-1", "--format=%s"), git(checkout, "tag")) == (
        f"Release {NEXT}",
        f"v{NEXT}",
    )
    assert git(checkout, "status", "--porcelain") == "" and "- Something new." in git(
        checkout, "tag", "-n9"
    )


@pytest.mark.parametrize("version", ["", "1.2", "v9.9.9", __version__, "0.0.9"])
def test_a_version_that_does_not_rise_releases_nothing(checkout, version):
    with pytest.raises(NotReleased):
        release(checkout, version)
    assert (
        git(checkout, "log", "--format=%s") == "All of it"
        and git(checkout, "status", "--porcelain") == ""
    )


def test_nothing_is_released_of_what_is_not_committed_or_without_changes(checkout):
    (checkout / "README.md").write_text("changed")
    with pytest.raises(NotReleased, match="not committed"):
        release(checkout, NEXT)
    git(checkout, "checkout", "--quiet", "README.md")
    release(checkout, NEXT)
    following = f"{NEXT.rpartition('.')[0]}.{int(NEXT.rpartition('.')[2]) + 1}"
    with pytest.raises(NotReleased, match="has nothing under"):
        release(checkout, following)


def test_the_version_stands_in_one_place():
    """Pages name it only in the names of files, and a release writes those anew."""
    folders = (ROOT / "src" / "drawknife", ROOT / "tools", ROOT / "packaging")
    files = [
        path
        for folder in folders
        for path in folder.rglob("*")
        if path.suffix in (".py", ".toml", ".service")
    ]
    files += [
        ROOT / "run",
        ROOT / "Containerfile",
        ROOT / "pyproject.toml",
        ROOT / "console" / "package.json",
    ]
    named = [
        str(path.relative_to(ROOT)) for path in files if f'"{__version__}"' in path.read_text()
    ]
    assert named == ["src/drawknife/__init__.py"]
