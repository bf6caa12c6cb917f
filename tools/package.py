"""`./run wheel`: the package, and beside it a bill of the packages that it is installed with (CycloneDX 1.6, JSON)."""

from __future__ import annotations

import fcntl
import subprocess
import sys
from pathlib import Path

from drawknife import __version__

ROOT = Path(__file__).resolve().parent.parent


def build(folder: Path) -> tuple[Path, Path]:
    """Build the wheel in a folder; it and the bill. subprocess.CalledProcessError where one cannot be built."""
    folder.mkdir(parents=True, exist_ok=True)
    run = [sys.executable, "-m"]
    wheel = [
        *run,
        "pip",
        "wheel",
        "--quiet",
        "--no-deps",
        "--no-build-isolation",
        "--wheel-dir",
        str(folder),
        str(ROOT),
    ]
    with (ROOT / "pyproject.toml").open() as one_at_a_time:  # what is built lies in the checkout meanwhile
        fcntl.flock(one_at_a_time, fcntl.LOCK_EX)
        subprocess.run(wheel, check=True, capture_output=True)
    bill = folder / f"drawknife-{__version__}.cdx.json"
    subprocess.run(
        [*run, "cyclonedx_py", "requirements", "--pyproject", str(ROOT / "pyproject.toml"), "--output-reproducible",
         "--of", "JSON", "--validate", "-o", str(bill), str(ROOT / "requirements" / "run.lock")],
        check=True, capture_output=True,
    )  # fmt: skip
    return folder / f"drawknife-{__version__}-py3-none-any.whl", bill


if __name__ == "__main__":
    try:
        for made in build(Path(sys.argv[1])):
            print(made)
    except subprocess.CalledProcessError as error:
        sys.exit(f"run: {error.stderr.decode()[-2000:]}")
