"""nginx before the services of a test, on a loopback port.

The program is the machine's, or what `./run test` has unpacked of Debian's package without
installing it.
"""

import os
import shutil
import socket
import subprocess
from contextlib import contextmanager

from ..conftest import ROOT, until

UNPACKED = ROOT / ".run" / "nginx" / "usr" / "sbin" / "nginx"

_CONFIG = """
daemon off;
pid {folder}/nginx.pid;
error_log {folder}/error.log warn;
events {{ worker_connections 512; }}
http {{
    access_log off;
    client_body_temp_path {folder}/bodies;
    proxy_temp_path {folder}/answers;
    fastcgi_temp_path {folder}/unused;
    uwsgi_temp_path {folder}/unused;
    scgi_temp_path {folder}/unused;
    upstream drawknife {{
        {servers}
        keepalive 8;
    }}
    server {{
        listen 127.0.0.1:{port};
        location / {{
            proxy_pass http://drawknife;
            proxy_http_version 1.1;
            proxy_set_header Connection "";
            proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for;
            proxy_set_header X-Forwarded-Proto $scheme;
        }}
    }}
}}
"""


def program():
    """The path of nginx; None if there is none."""
    installed = shutil.which("nginx", path=f"{os.environ['PATH']}:/usr/sbin")
    return installed or (str(UNPACKED) if UNPACKED.exists() else None)


def free_port():
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return free.getsockname()[1]


def _listens(port):
    with socket.socket() as connection:
        return connection.connect_ex(("127.0.0.1", port)) == 0


@contextmanager
def nginx(folder, ports):
    """nginx before the services on `ports`: its own port, while the block runs."""
    own = free_port()
    servers = " ".join(f"server 127.0.0.1:{port} max_fails=0;" for port in ports)
    config = folder / "nginx.conf"
    config.write_text(_CONFIG.format(folder=folder, servers=servers, port=own))
    errors = folder / "error.log"
    process = subprocess.Popen([program(), "-e", errors, "-p", folder, "-c", config])
    try:
        until(lambda: _listens(own) or process.poll() is not None)
        assert process.poll() is None, errors.read_text()
        yield own
    finally:
        process.terminate()
        process.wait(timeout=30)
