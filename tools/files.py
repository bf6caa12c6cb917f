"""A small real file tree for the demo, from a seed: what lies in Tidewrack's stores."""

from __future__ import annotations

import random
import shutil
from pathlib import Path

FOLDERS = {
    "survey/inbox/kittiwake": ("line", "xyz", 14),
    "survey/inbox/fulmar": ("line", "xyz", 22),
    "survey/inbox/razorbill": ("line", "xyz", 6),
    "survey/soundings/north-bank": ("grid", "tif", 10),
    "survey/soundings/west-shoal": ("grid", "tif", 8),
    "survey/charts/issued": ("chart", "pdf", 9),
    "survey/charts/exchange": ("plan", "pdf", 4),
    "survey/archive/lab": ("season", "tar", 5),
    "public/tides": ("tides", "csv", 24),
    "public/notices": ("notice", "txt", 7),
    "homes/ines": ("notes", "md", 5),
}
SIZES = {
    "xyz": 40_000,
    "tif": 120_000,
    "pdf": 60_000,
    "tar": 200_000,
    "csv": 4_000,
    "txt": 900,
    "md": 700,
}


def make_files(folder: Path) -> int:
    """Make the tree, unless it is there; returns how many files were made."""
    if (folder / "made").exists():
        return 0
    shutil.rmtree(folder, ignore_errors=True)
    rng = random.Random(20260)
    count = 0
    for place, (stem, kind, number) in FOLDERS.items():
        (folder / place).mkdir(parents=True)
        for i in range(1, number + 1):
            size = int(SIZES[kind] * rng.uniform(0.5, 1.5))
            (folder / place / f"{stem}-{i:02}.{kind}").write_bytes(rng.randbytes(size))
            count += 1
    (folder / "made").touch()
    return count
