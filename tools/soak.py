"""`./run soak MINUTES`: the property tests on new examples, on every core, until the time is over
or one fails.

Each round has a seed of its own; a round that fails is printed whole, with the command that goes
through it again.
"""

from __future__ import annotations

import os
import random
import subprocess
import sys
import threading
import time
from pathlib import Path

#: Folders of which the tests share a service.
WITH_A_SERVICE = ("service", "scim")
ROOT = Path(__file__).resolve().parent.parent


def property_tests() -> list[str]:
    """The files with properties, but for those that start a service: that takes its time, and is
    not for examples.
    """
    found = {p: p.read_text() for p in sorted((ROOT / "tests").rglob("test_*.py"))}
    some = (
        p
        for p, text in found.items()
        if "from hypothesis" in text and p.parent.name not in WITH_A_SERVICE
    )
    return [str(p.relative_to(ROOT)) for p in some if "serving(" not in found[p]]


def main(minutes: float) -> int:
    end = time.monotonic() + minutes * 60
    failed = threading.Event()
    rounds: list[int] = []

    def go() -> None:
        while time.monotonic() < end and not failed.is_set():
            seed = random.SystemRandom().randrange(2**32)
            command = [
                sys.executable,
                "-m",
                "pytest",
                "-x",
                "-p",
                "no:cacheprovider",
                f"--hypothesis-seed={seed}",
                *property_tests(),
            ]
            done = subprocess.run(
                command,
                cwd=ROOT,
                env={**os.environ, "DRAWKNIFE_SOAK": "1"},
                capture_output=True,
                text=True,
            )
            if done.returncode:
                failed.set()
                print(done.stdout, done.stderr, sep="\n")
                print(f"· again: DRAWKNIFE_SOAK=1 {' '.join(command[1:])}", file=sys.stderr)
                return
            rounds.append(seed)
            print(f"· round {len(rounds)}: seed {seed} holds", file=sys.stderr, flush=True)

    workers = [threading.Thread(target=go) for _ in range(os.cpu_count() or 1)]
    for worker in workers:
        worker.start()
    for worker in workers:
        worker.join()
    if not failed.is_set():
        print(
            f"· {len(rounds)} rounds on {len(workers)} cores, and nothing differs", file=sys.stderr
        )
    return int(failed.is_set())


if __name__ == "__main__":
    try:
        sys.exit(main(float(sys.argv[1])))
    except (IndexError, ValueError):
        print("run: say for how many minutes: ./run soak 30", file=sys.stderr)
        sys.exit(2)
