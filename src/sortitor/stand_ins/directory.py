"""A directory for demonstrations and tests: the real slapd of Debian's packages, on loopback, with
a folder, ports and a certificate of its own.
"""

from __future__ import annotations

import base64
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

BASE = "dc=wrenmoor,dc=example"
ROOT = f"cn=books,{BASE}"
PASSWORD = "the books are level"
_SCHEMAS = ("core", "cosine", "inetorgperson")
_START_SECONDS = 20.0
_CONFIG = """
{includes}
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload refint
pidfile {folder}/slapd.pid
TLSCACertificateFile {folder}/authority.pem
TLSCertificateFile {folder}/server.pem
TLSCertificateKeyFile {folder}/server.key
{limits}
database mdb
maxsize 1073741824
suffix "{base}"
rootdn "{root}"
rootpw "{password}"
directory {folder}/data
index objectClass,entryUUID,uid,mail,member eq
index entryCSN,modifyTimestamp eq
dbnosync
access to attrs=userPassword by anonymous auth by * none
access to * by users read by * none
overlay refint
refint_attributes member owner
refint_nothing "cn=nobody,{base}"
"""


def is_there() -> bool:
    """Whether slapd is installed."""
    return _program("slapd") is not None


def _program(name: str) -> str | None:
    return shutil.which(name, path="/usr/sbin:/usr/bin:/sbin:/bin:/usr/local/sbin")


def free_port() -> int:
    """A port of this machine that nobody listens on."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


@dataclass(slots=True)
class Directory:
    """One slapd. `authority` is the certificate (PEM) of whoever vouches for it."""

    folder: Path
    port: int = field(default_factory=free_port)
    secure_port: int = field(default_factory=free_port)
    host: str = "localhost"
    size_limit: str = "unlimited"
    authority: str = ""
    _process: subprocess.Popen[bytes] | None = None

    @property
    def address(self) -> str:
        """Its address, over TLS from the start."""
        return f"ldaps://{self.host}:{self.secure_port}"

    @property
    def plain_address(self) -> str:
        """Its address where TLS is begun by StartTLS, or not at all."""
        return f"ldap://{self.host}:{self.port}"

    def fill(self, ldif: str) -> None:
        """Begin anew with these entries."""
        shutil.rmtree(self.folder / "data", ignore_errors=True)
        (self.folder / "data").mkdir(parents=True)
        self.configure()
        file = self.folder / "entries.ldif"
        file.write_text(ldif)
        added = subprocess.run(
            [
                _program("slapadd") or "slapadd",
                *("-q", "-f", str(self.folder / "slapd.conf"), "-l", str(file)),
            ],
            capture_output=True,
            check=False,
        )
        if added.returncode:
            raise RuntimeError(added.stderr.decode(errors="replace"))

    def configure(self) -> None:
        """Write its settings; certificates are made where there are none."""
        known = self.folder / "authority.pem"
        self.authority = (
            known.read_text() if known.exists() else write_certificates(self.folder, self.host)
        )
        includes = "\n".join(f"include /etc/ldap/schema/{name}.schema" for name in _SCHEMAS)
        (self.folder / "slapd.conf").write_text(
            _CONFIG.format(
                includes=includes,
                folder=self.folder,
                limits=f"sizelimit {self.size_limit}",
                base=BASE,
                root=ROOT,
                password=PASSWORD,
            )
        )

    def start(self) -> None:
        """Listen on loopback."""
        urls = f"ldap://127.0.0.1:{self.port} ldaps://127.0.0.1:{self.secure_port}"
        with (self.folder / "slapd.log").open("wb") as log:
            self._process = subprocess.Popen(
                [
                    _program("slapd") or "slapd",
                    *("-h", urls, "-f", str(self.folder / "slapd.conf"), "-d", "0"),
                ],
                stdout=subprocess.DEVNULL,
                stderr=log,
            )
        until = time.monotonic() + _START_SECONDS
        while time.monotonic() < until:
            with suppress(OSError), socket.create_connection(("127.0.0.1", self.port), 1):
                return
            if self._process.poll() is not None:
                break
            time.sleep(0.05)
        raise RuntimeError((self.folder / "slapd.log").read_text(errors="replace"))

    @contextmanager
    def hanging(self) -> Iterator[None]:
        """Let it take connections and answer nothing."""
        assert self._process is not None, "it listens once it was started"
        self._process.send_signal(signal.SIGSTOP)
        try:
            yield
        finally:
            self._process.send_signal(signal.SIGCONT)

    def stop(self) -> None:
        """End it."""
        if self._process is not None:
            self._process.terminate()
            try:
                self._process.wait(10)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()
            self._process = None


@contextmanager
def running(folder: Path, ldif: str, size_limit: str = "unlimited") -> Iterator[Directory]:
    """A directory of these entries, ended at the end."""
    folder.mkdir(parents=True, exist_ok=True)
    made = Directory(folder, size_limit=size_limit)
    made.fill(ldif)
    made.start()
    try:
        yield made
    finally:
        made.stop()


#: What an authority's key is for (RFC 5280 §4.2.1.3): later Pythons and others insist on it.
_SIGNS_CERTIFICATES = x509.KeyUsage(
    digital_signature=False,
    content_commitment=False,
    key_encipherment=False,
    data_encipherment=False,
    key_agreement=False,
    key_cert_sign=True,
    crl_sign=True,
    encipher_only=False,
    decipher_only=False,
)


def write_certificates(folder: Path, host: str) -> str:
    """A certificate authority and a server's certificate by it; gives the authority's (PEM)."""
    now = datetime.now(UTC) - timedelta(minutes=5)
    root_key, key = ec.generate_private_key(ec.SECP256R1()), ec.generate_private_key(ec.SECP256R1())
    root_name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Wrenmoor Lines authority")])
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, host)])

    def signed(builder: x509.CertificateBuilder) -> bytes:
        made = (
            builder.issuer_name(root_name)
            .serial_number(x509.random_serial_number())
            .not_valid_before(now)
            .not_valid_after(now + timedelta(days=390))
            .sign(root_key, hashes.SHA256())
        )
        return made.public_bytes(serialization.Encoding.PEM)

    authority = signed(
        x509.CertificateBuilder()
        .subject_name(root_name)
        .public_key(root_key.public_key())
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(_SIGNS_CERTIFICATES, critical=True)
        .add_extension(
            x509.SubjectKeyIdentifier.from_public_key(root_key.public_key()), critical=False
        )
    )
    server = signed(
        x509.CertificateBuilder()
        .subject_name(name)
        .public_key(key.public_key())
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(host)]), critical=False)
        .add_extension(
            x509.AuthorityKeyIdentifier.from_issuer_public_key(root_key.public_key()),
            critical=False,
        )
    )
    (folder / "authority.pem").write_bytes(authority)
    (folder / "server.pem").write_bytes(server)
    secret = folder / "server.key"
    secret.touch(mode=0o600)
    secret.write_bytes(
        key.private_bytes(
            serialization.Encoding.PEM,
            serialization.PrivateFormat.PKCS8,
            serialization.NoEncryption(),
        )
    )
    return authority.decode()


# ---- entries


def ldif_of(entries: Iterable[tuple[str, Mapping[str, str | Sequence[str]]]]) -> str:
    """Entries as LDIF (RFC 2849), whatever their values are made of."""
    lines: list[str] = []
    for place, attributes in entries:
        for name, values in (("dn", place), *attributes.items()):
            for value in [values] if isinstance(values, str) else values:
                encoded = base64.b64encode(value.encode()).decode()
                lines.append(f"{name}:: {encoded}")
        lines.append("")
    return "\n".join(lines)


def top() -> list[tuple[str, Mapping[str, str | Sequence[str]]]]:
    """The directory's root, and branches for people, groups and devices."""
    return [
        (BASE, {"objectClass": ["top", "domain"], "dc": "wrenmoor"}),
        *(
            (
                f"ou={name},{BASE}",
                {"objectClass": ["top", "organizationalUnit"], "ou": name},
            )
            for name in ("people", "groups", "devices")
        ),
    ]


def person(
    uid: str, name: str, mail: str | None = None, **more: str
) -> tuple[str, Mapping[str, str | Sequence[str]]]:
    """Somebody, as inetOrgPerson (RFC 2798)."""
    entry: dict[str, str | Sequence[str]] = {
        "objectClass": ["top", "person", "organizationalPerson", "inetOrgPerson"],
        "uid": uid,
        "cn": name,
        "sn": name.rpartition(" ")[2] or name,
        **more,
    }
    if mail:
        entry["mail"] = mail
    return f"uid={uid},ou=people,{BASE}", entry


def group(name: str, members: Sequence[str]) -> tuple[str, Mapping[str, str | Sequence[str]]]:
    """A group of people and groups, by their places."""
    return (
        f"cn={name},ou=groups,{BASE}",
        {
            "objectClass": ["top", "groupOfNames"],
            "cn": name,
            "member": list(members) or [f"cn=nobody,{BASE}"],
        },
    )
