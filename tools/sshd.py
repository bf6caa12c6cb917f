"""OpenSSH's server for tests, on a loopback port: in mounts of its own, with users that only it
knows; needs root.

The program is the machine's, or what `./run test` has unpacked of Debian's package without
installing it.
"""

import os
import shutil
import socket
import subprocess
from contextlib import contextmanager, suppress
from pathlib import Path

UNPACKED = Path(__file__).resolve().parent.parent / ".run" / "sshd" / "usr" / "sbin" / "sshd"

#: Everything is mounted anew where sshd looks: its users, its own folder, and the tree that clients
#: see as /.
_SCRIPT = """
set -e
mount --bind {folder}/passwd /etc/passwd
mount -t tmpfs -o mode=755 none /run
mkdir /run/sshd
cp {folder}/keys /run/keys
mount -t tmpfs -o mode=755 none /srv
mkdir /srv/tree
cd /srv/tree
{tree}
exec {program} -D -e -f {folder}/config
"""

_CONFIG = """
Port {port}
ListenAddress 127.0.0.1
HostKey {folder}/host-key
AuthorizedKeysFile /run/keys
PasswordAuthentication no
KbdInteractiveAuthentication no
UsePAM no
StrictModes no
PidFile none
Subsystem sftp internal-sftp
ChrootDirectory /srv/tree
ForceCommand internal-sftp
"""


def program():
    """Where sshd is; None: nowhere."""
    return shutil.which("sshd", path=f"{os.environ['PATH']}:/usr/sbin") or (
        str(UNPACKED) if UNPACKED.exists() else None
    )


@contextmanager
def serving(folder, users, public_key, tree):
    """A server that takes one key for all `users` (name to number); `tree` is a shell script that
    makes what they see.

    Yields its port; ``host-key.pub`` in the folder is its key.
    """
    folder.mkdir(parents=True, exist_ok=True)
    subprocess.run(
        ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", folder / "host-key"], check=True
    )
    lines = ["root:x:0:0::/root:/bin/sh", "sshd:x:100:65534::/run/sshd:/usr/sbin/nologin"]
    lines += [f"{name}:x:{number}:{number}::/:/bin/false" for name, number in users.items()]
    (folder / "passwd").write_text("\n".join(lines) + "\n")
    (folder / "keys").write_text(public_key + "\n")
    folder.chmod(0o755)
    for file in ("passwd", "keys"):
        (folder / file).chmod(0o644)
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    (folder / "config").write_text(_CONFIG.format(port=port, folder=folder))
    script = _SCRIPT.format(folder=folder, tree=tree, program=program())
    with subprocess.Popen(
        ["unshare", "--mount", "sh", "-c", script], stderr=subprocess.PIPE, text=True
    ) as process:
        try:
            for line in process.stderr:
                if "Server listening" in line:
                    break
            else:
                raise AssertionError("sshd did not start")
            yield port
        finally:
            with suppress(ProcessLookupError):
                process.terminate()
            process.stderr.close()
