"""Documents that come back are read in a process of their own: with bounds on memory, time and
unpacked size.

A workbook of some kilobytes may unpack to gigabytes, and a damaged PDF may keep its reader busy for
ever. The process has no secrets in its environment, writes no files, and ends with what it read.
"""

from __future__ import annotations

import json
import resource
import subprocess
import sys

from drawknife import messages as msg
from drawknife.core.words.errors import BadInput

#: Bytes of memory; seconds of the processor, and by the clock; bytes of a document, and of its
#: answer.
MEMORY, PROCESSOR, PATIENCE, LARGEST, ANSWER = 2**30, 20, 60, 2**24, 2**24
_WANTED = "the PDF or workbook of the report, or the file that its page saved"


def read(raw: bytes, number: int) -> list[msg.Decided]:
    """The decisions of a report, row by row.

    :class:`BadInput` for everything that is wrong with the document.
    """
    if len(raw) > LARGEST:
        raise BadInput("document", "it is too large", f"at most {LARGEST // 2**20} MiB")
    command = [sys.executable, "-I", "-m", __name__, str(number)]
    try:
        done = subprocess.run(
            command, input=raw, capture_output=True, timeout=PATIENCE, env={}, check=False
        )
    except subprocess.TimeoutExpired:
        raise BadInput(
            "document", f"reading it took more than {PATIENCE} seconds", _WANTED
        ) from None
    if done.returncode != 0 or len(done.stdout) > ANSWER:
        raise BadInput(
            "document", "it takes too much time or memory to read, or is damaged", _WANTED
        )
    found = json.loads(done.stdout)
    if "wrong" in found:
        raise BadInput(*found["wrong"])
    return [msg.Decided.model_validate(d) for d in found["decided"]]


def _main() -> None:
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    resource.setrlimit(resource.RLIMIT_CPU, (PROCESSOR, PROCESSOR))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    from .come_back import read as read_here

    answer: dict[str, object]
    try:
        answer = {
            "decided": [
                d.model_dump(mode="json")
                for d in read_here(sys.stdin.buffer.read(), int(sys.argv[1]))
            ]
        }
    except BadInput as bad:
        answer = {"wrong": [bad.where, bad.message, bad.expected]}
    sys.stdout.write(json.dumps(answer))


if __name__ == "__main__":
    _main()
