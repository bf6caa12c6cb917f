"""One client that asks the same again and again over one connection: python -m benchmarks.asking PORT TOKEN COUNT

It is written to cost little: the service is to be measured, not its clients. Begins at a line on standard input.
"""

from __future__ import annotations

import json
import socket
import sys


def main(port: int, token: str, count: int) -> None:
    body = json.dumps({"account": "a000007", "action": "download", "path": "/survey/x"}).encode()
    head = (
        f"POST /api/v1/decisions HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {token}\r\n"
        f"Content-Type: application/json\r\nContent-Length: {len(body)}\r\n\r\n"
    )
    request = head.encode() + body
    connection = socket.create_connection(("127.0.0.1", port))
    connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)

    def ask() -> None:
        connection.sendall(request)
        answer = b""
        while True:
            answer += connection.recv(65536)
            before, found, rest = answer.partition(b"\r\n\r\n")
            if found:
                length = int(before.lower().split(b"content-length:")[1].split(b"\r\n")[0])
                if len(rest) >= length:
                    assert before.startswith(b"HTTP/1.1 200"), answer[:300]
                    return

    ask()
    print("ready", flush=True)
    sys.stdin.readline()
    for _ in range(count):
        ask()


if __name__ == "__main__":
    main(int(sys.argv[1]), sys.argv[2], int(sys.argv[3]))
