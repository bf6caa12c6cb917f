"""Clients that ask the same again and again, each over a connection of its own:
python -m benchmarks.asking PORT TOKEN COUNT CLIENTS

One process for all of them, written to cost little: the service is to be measured, not its clients.
Begins at a line on standard input; each client asks COUNT times.
"""

from __future__ import annotations

import json
import selectors
import socket
import sys


def connected(port: int) -> socket.socket:
    made = socket.create_connection(("127.0.0.1", port))
    made.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    return made


def whole_answer(connection: socket.socket) -> bytes:
    """One answer, read by its Content-Length."""
    answer = b""
    while True:
        answer += connection.recv(65536)
        before, found, rest = answer.partition(b"\r\n\r\n")
        if found and len(rest) >= int(
            before.lower().split(b"content-length:")[1].split(b"\r\n")[0]
        ):
            return answer


def main(port: int, token: str, count: int, clients: int) -> None:
    body = json.dumps({"account": "a000007", "action": "download", "path": "/survey/x"}).encode()
    head = (
        f"POST /api/v1/decisions HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {token}\r\n"
        f"Content-Type: application/json\r\nContent-Length: {len(body)}\r\n\r\n"
    )
    request = head.encode() + body
    connections = [connected(port) for _ in range(clients)]
    for one in connections:
        one.sendall(request)
        answer = whole_answer(one)
        assert answer.startswith(b"HTTP/1.1 200"), answer[:300]
    length = len(answer)  # all answers are alike
    print("ready", flush=True)
    sys.stdin.readline()
    with selectors.DefaultSelector() as selector:
        left = {}
        for one in connections:
            selector.register(one, selectors.EVENT_READ)
            left[one] = [count, length]
            one.sendall(request)
        while left:
            for key, _ in selector.select():
                one = key.fileobj
                state = left[one]
                state[1] -= len(one.recv(65536))
                if state[1] > 0:
                    continue
                state[0], state[1] = state[0] - 1, length
                if state[0]:
                    one.sendall(request)
                else:
                    selector.unregister(one)
                    del left[one]


if __name__ == "__main__":
    main(int(sys.argv[1]), sys.argv[2], int(sys.argv[3]), int(sys.argv[4]))
