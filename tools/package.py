"""`./run wheel`: the package, and beside it a bill of the packages that it is installed with
(CycloneDX 1.6, JSON).

It is built of a copy of what git has, so that nothing else gets into it and the checkout stays as
it is: the source distribution first, with the console, man pages and completions in it, and of that
the wheel.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import NamedTuple

from drawknife import __version__

ROOT = Path(__file__).resolve().parent.parent
_BUILD_SDIST = (
    "import sys; sys.path.insert(0, 'packaging'); import backend; backend.build_sdist(sys.argv[1])"
)


#: What is built in a checkout, as .gitignore has it.
NOT_OF_IT = (
    ".venv",
    ".run",
    "node_modules",
    "dist",
    "generated",
    "__pycache__",
    "*.egg-info",
    ".*_cache",
    ".hypothesis",
    "build",
)


class Built(NamedTuple):
    """The files that were built."""

    wheel: Path
    sdist: Path
    bill: Path


def build(folder: Path) -> Built:
    """Build wheel, source distribution and bill in a folder. subprocess.CalledProcessError where
    one cannot be built.
    """
    folder = folder.resolve()
    folder.mkdir(parents=True, exist_ok=True)
    with TemporaryDirectory() as temporary:
        copy = checkout_copy(Path(temporary) / "checkout")
        if (ROOT / "console" / "dist").is_dir():
            shutil.copytree(ROOT / "console" / "dist", copy / "console" / "dist")
        _run([sys.executable, "-c", _BUILD_SDIST, str(folder)], copy)
    sdist = folder / f"drawknife-{__version__}.tar.gz"
    _run(
        [
            sys.executable,
            "-m",
            "pip",
            "wheel",
            "--quiet",
            "--no-deps",
            "--wheel-dir",
            str(folder),
            str(sdist),
        ],
        folder,
    )
    bill = folder / f"drawknife-{__version__}.cdx.json"
    _run(
        [
            sys.executable,
            "-m",
            "cyclonedx_py",
            "requirements",
            "--pyproject",
            str(ROOT / "pyproject.toml"),
            "--output-reproducible",
            "--of",
            "JSON",
            "--validate",
            "-o",
            str(bill),
            str(ROOT / "requirements" / "run.lock"),
        ],
        folder,
    )
    return Built(folder / f"drawknife-{__version__}-py3-none-any.whl", sdist, bill)


def checkout_copy(to: Path) -> Path:
    """A copy of the files that git has here, as they are now; of an unpacked archive, of all but
    what is built there.
    """
    if not (ROOT / ".git").exists():
        shutil.copytree(ROOT, to, ignore=shutil.ignore_patterns(*NOT_OF_IT))
        return to
    listed = subprocess.run(
        ["git", "ls-files", "-z"], cwd=ROOT, check=True, capture_output=True
    ).stdout
    for name in filter(None, map(os.fsdecode, listed.split(b"\0"))):
        if (ROOT / name).exists():
            (to / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(ROOT / name, to / name)
    return to


def _run(command: list[str], folder: Path) -> None:
    subprocess.run(command, cwd=folder, check=True, capture_output=True)


if __name__ == "__main__":
    try:
        for made in build(Path(sys.argv[1])):
            print(made)
    except subprocess.CalledProcessError as error:
        sys.exit(f"run: {error.stderr.decode()[-2000:]}")
