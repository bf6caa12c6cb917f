"""docs/install.md, typed on a machine of its own: this one's root, with everything that is written
thrown away afterwards.
"""

import os
import re
import shutil
import subprocess

import pytest
from tools.package import build

from .conftest import ROOT

#: What stands for systemd, which is not the first process there: the unit's own commands, as its
#: user.
SYSTEMCTL = r"""
systemctl() {
    case "$*" in
    daemon-reload) ;;
    "enable --now drawknife")
        systemd-analyze verify /etc/systemd/system/drawknife.service
        export DRAWKNIFE_CONFIG=/etc/drawknife/drawknife.toml
        runuser -u drawknife -- /opt/drawknife/bin/drawknife config check "$DRAWKNIFE_CONFIG"
        runuser -u drawknife -- python3 -c '
import os, socket, subprocess, sys
manager = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
manager.bind("\0drawknife-test-%d" % os.getpid())
manager.settimeout(60)
env = {**os.environ, "NOTIFY_SOCKET": "@drawknife-test-%d" % os.getpid()}
log = open("/var/lib/drawknife/log", "w")
subprocess.Popen(["/opt/drawknife/bin/drawknife", "serve"], env=env, stderr=log)
sys.exit(manager.recv(100) != b"READY=1")'
        unset DRAWKNIFE_CONFIG ;;
    *) echo "no such call of systemctl: $*" >&2; return 1 ;;
    esac
}
"""
#: PostgreSQL starts by itself where the first process is systemd.
AFTER_PACKAGES = """
version=$(ls /etc/postgresql | sort -n | tail -1)
pg_ctlcluster "$version" main start
"""


def machine(folder, script):
    """Run a script on a copy of this machine's root, in which every process ends with it, and
    nothing stays.
    """
    inner = f"""
        set -e
        mkdir -p {folder}/machine
        mount -t tmpfs none {folder}/machine
        cd {folder}/machine
        mkdir up work root
        mount -t overlay overlay -o lowerdir=/,upperdir=up,workdir=work root
        mount --rbind /dev root/dev
        mount -t proc proc root/proc
        cp -r {folder}/given root/given
        exec chroot root bash -e -c 'cd /given && exec bash -e /given/script'
    """
    (folder / "given" / "script").write_text(script)
    environment = {
        k: v
        for k, v in os.environ.items()
        if not k.startswith(("DRAWKNIFE", "VIRTUAL_ENV", "PYTEST"))
    }
    environment |= {
        "PATH": "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
        "HOME": "/root",
        "DEBIAN_FRONTEND": "noninteractive",
    }
    return subprocess.run(
        ["unshare", "--mount", "--pid", "--fork", "--kill-child", "sh", "-c", inner],
        env=environment,
        capture_output=True,
        text=True,
        timeout=550,
    )


def blocks():
    return re.findall(r"^```sh\n(.*?)^```$", (ROOT / "docs/install.md").read_text(), re.M | re.S)


def test_what_the_page_says_works_word_for_word_on_a_machine_of_its_own(tmp_path):
    if os.geteuid() != 0 or shutil.which("unshare") is None:
        pytest.skip("a machine of one's own takes root")
    given = tmp_path / "given"
    given.mkdir()
    bare = machine(tmp_path, "true")
    if bare.returncode:
        pytest.skip(f"no machine of one's own can be made here: {bare.stderr.strip()[-200:]}")
    build(given)
    for folder in ("demo", "requirements"):
        shutil.copytree(ROOT / folder, given / folder)
    script = ["set -x", SYSTEMCTL]
    for number, block in enumerate(blocks()):
        script += [block, AFTER_PACKAGES if number == 0 else ""]
    script.append("""
        test "$(stat -c %a /var/lib/drawknife/token)" = 600
        test "$(stat -c %a /var/backups/drawknife/today.dump)" = 600
        curl --fail --silent http://127.0.0.1:8750/ | grep -q '<div id="root">'
        grep -q "Everybody who has RIGHT" /usr/local/share/man/man1/drawknife-who.1
        ! grep -q "$(cat /var/lib/drawknife/token)" /var/lib/drawknife/log
        pkill -TERM -f /opt/drawknife/bin/drawknife
        while pgrep -f /opt/drawknife/bin/drawknife >/dev/null; do :; done
        echo all of it was done
    """)
    done = machine(tmp_path, "\n".join(script))
    assert done.returncode == 0, done.stderr[-3000:]
    assert done.stdout.endswith("all of it was done\n")
    assert (
        "/sign-in#dk_" in done.stdout and "gustav" in done.stdout
    )  # the link, and who was imported
