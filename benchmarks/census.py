"""Walking a tree of many small files, against `du -s` of the operating system."""

from __future__ import annotations

import os
import resource
import subprocess
from pathlib import Path
from tempfile import TemporaryDirectory

from drawknife.census.walk import walk_files

from .timing import against

FOLDERS, FILES = 2_000, 100


def measure() -> list[tuple[str, str, str, bool | None]]:
    with TemporaryDirectory() as folder:
        for i in range(FOLDERS):
            at = Path(folder) / f"{i % 40}" / f"{i}"
            at.mkdir(parents=True)
            for k in range(FILES):
                (at / str(k)).write_bytes(b"x" * (k % 7))
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        ratio, ours, theirs = against(
            lambda: walk_files(folder, processes=min(4, os.cpu_count() or 1)),
            lambda: subprocess.run(["du", "-s", folder], capture_output=True),
            5,
        )
        grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    count = FOLDERS * FILES
    return [
        (
            f"census of {count:,} files / du -s",
            f"{ratio:.2f} ({ours:.2f} s, {theirs:.2f} s)",
            "within 3",
            ratio <= 3,
        ),
        (f"memory that walking {count:,} files takes more", f"{grown:.0f} MiB", "told", None),
    ]
