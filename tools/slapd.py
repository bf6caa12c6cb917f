"""A real directory server of the tests' own: slapd on loopback, with the scenario's tree."""

import os
import shutil
import socket
import subprocess
from contextlib import contextmanager
from pathlib import Path

from .cluster import free_port

SUFFIX = "dc=tidewrack,dc=example"
ADMIN, PASSWORD = f"cn=admin,{SUFFIX}", "keel and rudder"
SCHEMAS = Path("/etc/ldap/schema")


def certificates(folder):
    """A certification authority, a certificate of `localhost`, one of another name, and another
    authority.
    """

    def openssl(*arguments):
        subprocess.run(["openssl", *arguments], cwd=folder, check=True, capture_output=True)

    for name in ("ca", "other-ca"):
        openssl(
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-keyout",
            f"{name}.key",
            "-out",
            f"{name}.pem",
            "-days",
            "2",
            "-subj",
            f"/CN={name}",
            "-addext",
            "keyUsage=critical,keyCertSign,cRLSign",
        )
    for name, alternative in (
        ("right", "DNS:localhost,IP:127.0.0.1"),
        ("wrong", "DNS:elsewhere.tidewrack.example"),
    ):
        renew(folder, name, alternative)


def renew(folder, name="right", alternative="DNS:localhost,IP:127.0.0.1"):
    """A new certificate of the authority in a folder, and its key."""

    def openssl(*arguments):
        subprocess.run(["openssl", *arguments], cwd=folder, check=True, capture_output=True)

    openssl(
        "req",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-keyout",
        f"{name}.key",
        "-out",
        f"{name}.csr",
        "-subj",
        f"/CN={name}",
    )
    (folder / f"{name}.ext").write_text(f"subjectAltName={alternative}\n")
    openssl(
        "x509",
        "-req",
        "-in",
        f"{name}.csr",
        "-CA",
        "ca.pem",
        "-CAkey",
        "ca.key",
        "-CAcreateserial",
        "-days",
        "2",
        "-out",
        f"{name}.pem",
        "-extfile",
        f"{name}.ext",
    )


class Slapd:
    """A running server. `kill` ends it as a crash would."""

    def __init__(self, process, port, tls_port):
        self.process, self.port, self.tls_port = process, port, tls_port
        self.address, self.tls_address = f"ldap://localhost:{port}", f"ldaps://localhost:{tls_port}"

    def kill(self):
        self.process.kill()
        self.process.wait()


@contextmanager
def directory_server(folder, ldif, certificate="right", authority=None, limits="", ports=None):
    """slapd with the entries of `ldif` (bytes); `authority` is the folder of :func:`certificates`.

    `ports` are those of ldap and ldaps, where another server has to know them beforehand.
    """
    data = folder / "data"
    data.mkdir(parents=True)
    tls = ""
    if authority is not None:
        tls = (
            f"TLSCACertificateFile {authority}/ca.pem\nTLSCertificateFile"
            f" {authority}/{certificate}.pem\nTLSCertificateKeyFile {authority}/{certificate}.key\n"
        )
    config = folder / "slapd.conf"
    config.write_text(
        "".join(
            f"include {SCHEMAS}/{name}.schema\n"
            for name in ("core", "cosine", "nis", "inetorgperson")
        )
        + f"pidfile {folder}/slapd.pid\nmodulepath /usr/lib/ldap\nmoduleload"
        f" back_mdb\n{tls}{limits}"
        + f'database mdb\nmaxsize 1073741824\nsuffix "{SUFFIX}"\nrootdn "{ADMIN}"\nrootpw'
        f' "{PASSWORD}"\ndirectory {data}\n'
        + "access to attrs=userPassword by * auth\naccess to * by * read\n"
    )
    (folder / "tree.ldif").write_bytes(ldif)
    added = subprocess.run(
        ["/usr/sbin/slapadd", "-q", "-f", config, "-l", folder / "tree.ldif"],
        capture_output=True,
        text=True,
    )
    assert added.returncode == 0, added.stderr
    port, tls_port = ports or (free_port(), free_port())
    urls = f"ldap://localhost:{port}/" + (f" ldaps://localhost:{tls_port}/" if authority else "")
    log = (folder / "log").open("w")
    process = subprocess.Popen(
        ["/usr/sbin/slapd", "-d", "0", "-f", config, "-h", urls], stderr=log, stdout=log
    )
    server = Slapd(process, port, tls_port)
    try:
        _until_it_answers(server, folder)
        yield server
    finally:
        if process.poll() is None:
            process.terminate()
            process.wait()
        log.close()
        shutil.rmtree(data, ignore_errors=True)


def _until_it_answers(server, folder):
    while server.process.poll() is None:
        with socket.socket() as probe:
            if probe.connect_ex(("localhost", server.port)) == 0:
                return
        os.sched_yield()
    raise AssertionError((folder / "log").read_text())


def person(name, unit="people", **more):
    lines = [
        f"dn: uid={name},ou={unit},{SUFFIX}",
        "objectClass: inetOrgPerson",
        f"uid: {name}",
        f"cn: {name}",
        "sn: x",
    ]
    lines += [f"{key}: {value}" for key, value in more.items()]
    return "\n".join(lines) + "\n\n"


def group(name, *members):
    lines = [f"dn: cn={name},ou=groups,{SUFFIX}", "objectClass: groupOfNames", f"cn: {name}"]
    return "\n".join([*lines, *(f"member: {m}" for m in members)]) + "\n\n"


def unit(name, above=""):
    return f"dn: ou={name},{above}{SUFFIX}\nobjectClass: organizationalUnit\nou: {name}\n\n"


ROOT = f"dn: {SUFFIX}\nobjectClass: domain\ndc: tidewrack\n\n"


def uid(name, unit="people"):
    return f"uid={name},ou={unit},{SUFFIX}"


def cn(name):
    return f"cn={name},ou=groups,{SUFFIX}"
