"""Keys, certificates and signing requests (RFC 5280, RFC 2986), as PEM."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.x509.oid import NameOID

from sortitor.core.errors import BadInput
from sortitor.core.sources import LONG_DAYS

_KEY_BITS = 3_072
#: So long is a certificate good that is made here: a year and the time to renew it.
_DAYS = 397
_PEM_BEGINS = b"-----BEGIN CERTIFICATE-----"


@dataclass(frozen=True, slots=True)
class Certificate:
    """A certificate as it is shown: whose, by whom, from when until when, and what is odd about
    it.
    """

    pem: bytes
    subject: str
    issuer: str
    begins_at: datetime
    ends_at: datetime
    serial: str
    fingerprint: str
    remarks: tuple[str, ...]


def new_key() -> bytes:
    """A private key (RSA, 3,072 bits) as PEM."""
    key = rsa.generate_private_key(public_exponent=65_537, key_size=_KEY_BITS)
    return key.private_bytes(
        serialization.Encoding.PEM,
        serialization.PrivateFormat.PKCS8,
        serialization.NoEncryption(),
    )


def _loaded(key: bytes) -> rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey:
    found = serialization.load_pem_private_key(key, None)
    assert isinstance(found, rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey)
    return found


def _name(common: str, organisation: str) -> x509.Name:
    return x509.Name(
        [
            x509.NameAttribute(NameOID.ORGANIZATION_NAME, organisation[:64] or "Sortitor"),
            x509.NameAttribute(NameOID.COMMON_NAME, common[:64]),
        ]
    )


def own_certificate(key: bytes, common: str, organisation: str, now: datetime) -> bytes:
    """A certificate that vouches for itself: whoever is given it encrypts for its key."""
    private = _loaded(key)
    name = _name(common, organisation)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(private.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(minutes=5))
        .not_valid_after(now + timedelta(days=_DAYS))
        .sign(private, hashes.SHA256())
    )
    return made.public_bytes(serialization.Encoding.PEM)


def signing_request(key: bytes, common: str, organisation: str) -> bytes:
    """A certificate signing request (RFC 2986) for a key."""
    private = _loaded(key)
    made = x509.CertificateSigningRequestBuilder().subject_name(_name(common, organisation))
    return made.sign(private, hashes.SHA256()).public_bytes(serialization.Encoding.PEM)


def read_certificate(text: bytes, now: datetime) -> Certificate:
    """A certificate in PEM. Raises BadInput that says what is wrong with it."""
    if b"PRIVATE KEY" in text:
        raise BadInput(
            "private_key",
            "This is a private key. It must never leave where it was made.",
            "Give the certificate, which begins with BEGIN CERTIFICATE.",
        )
    if b"CERTIFICATE REQUEST" in text:
        raise BadInput(
            "signing_request",
            "This is a signing request, not yet a certificate.",
            "Let it be signed, then give the certificate.",
        )
    if _PEM_BEGINS not in text:
        raise BadInput(
            "no_certificate",
            "This is no certificate in PEM form.",
            "It begins with -----BEGIN CERTIFICATE-----.",
        )
    try:
        found = x509.load_pem_x509_certificate(text)
    except ValueError as error:
        raise BadInput(
            "bad_certificate", f"The certificate cannot be read: {error}.", "Fetch it again."
        ) from error
    ends_at = found.not_valid_after_utc
    remarks = []
    if ends_at <= now:
        remarks.append(f"It ended on {ends_at:%Y-%m-%d}.")
    if found.not_valid_before_utc > now:
        remarks.append(f"It is not good before {found.not_valid_before_utc:%Y-%m-%d %H:%M}.")
    if (ends_at - found.not_valid_before_utc).days > LONG_DAYS:
        remarks.append(f"It is good for more than {LONG_DAYS} days; many systems refuse that.")
    return Certificate(
        pem=found.public_bytes(serialization.Encoding.PEM),
        subject=found.subject.rfc4514_string(),
        issuer=found.issuer.rfc4514_string(),
        begins_at=found.not_valid_before_utc,
        ends_at=ends_at,
        serial=f"{found.serial_number:x}",
        fingerprint=found.fingerprint(hashes.SHA256()).hex(),
        remarks=tuple(remarks),
    )


def belongs(certificate: Certificate, key: bytes) -> bool:
    """Whether a certificate is that of a key."""
    kinds = (serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    public = x509.load_pem_x509_certificate(certificate.pem).public_key()
    return public.public_bytes(*kinds) == _loaded(key).public_key().public_bytes(*kinds)
