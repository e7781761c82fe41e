"""The coach's own pages for other devices of the studio, encrypted: certificate and server.

Without a certificate of one's own a small authority is made in the data folder. A device that
trusts it (once, see ``/trust``) reads every page here without a warning.
"""

from __future__ import annotations

import asyncio
import ipaddress
import os
import socket
import ssl
import threading
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from dachi.files import write_anew
from dachi.store.database import StoreError

#: Devices refuse longer ones, days.
LEAF_DAYS, AUTHORITY_DAYS = 390, 3650
#: A certificate is made anew when less is left, days.
RENEW_DAYS = 30


@dataclass(frozen=True)
class Certificate:
    """Files of a certificate and its key; ``authority`` is the one made here, if it was."""

    cert: Path
    key: Path
    authority: Path | None = None


def own(cert: Path, key: Path) -> Certificate:
    """A certificate that was brought along. StoreError where it cannot be used."""
    try:
        ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER).load_cert_chain(cert, key)
        names_in(cert)
    except (OSError, ValueError, x509.ExtensionNotFound) as error:
        raise StoreError(f"{cert} and {key} are no certificate with its key: {error}") from error
    return Certificate(cert, key)


def self_made(folder: Path, names: Sequence[str], now: datetime) -> Certificate:
    """A certificate for names and addresses, by an authority kept in the data folder.

    Both are made where they are missing; the certificate also where it does not say all names
    or ends soon, the authority where it may sign for more than this machine and its network, or
    may not for a name.
    """
    home = folder / "tls"
    home.mkdir(mode=0o700, exist_ok=True)
    found = Certificate(home / "studio.pem", home / "studio.key", home / "authority.pem")
    authority, key = _authority(home, names, now)
    if not _still_good(found, authority, names, now):
        _leaf(found, authority, key, names, now)
    return found


def fingerprint(path: Path) -> str:
    """SHA-256 of a certificate in pairs of digits, as devices show it."""
    digest = x509.load_pem_x509_certificate(path.read_bytes()).fingerprint(hashes.SHA256())
    return digest.hex(":").upper()


def as_der(path: Path) -> bytes:
    """A certificate in the form phones take in."""
    cert = x509.load_pem_x509_certificate(path.read_bytes())
    return cert.public_bytes(serialization.Encoding.DER)


def names_in(path: Path) -> list[str]:
    """Names and addresses a certificate says, without those for many hosts."""
    cert = x509.load_pem_x509_certificate(path.read_bytes())
    said = cert.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    return [str(n.value) for n in said if "*" not in str(n.value)]


def _authority(
    home: Path, names: Sequence[str], now: datetime
) -> tuple[x509.Certificate, ec.EllipticCurvePrivateKey]:
    cert, key = home / "authority.pem", home / "authority.key"
    if cert.exists() and key.exists():
        old = x509.load_pem_x509_certificate(cert.read_bytes())
        known = serialization.load_pem_private_key(key.read_bytes(), None)
        assert isinstance(known, ec.EllipticCurvePrivateKey)
        if _may_sign(old, names) and old.not_valid_after_utc > now + timedelta(days=LEAF_DAYS):
            return old, known
    new = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name(
        [x509.NameAttribute(NameOID.COMMON_NAME, f"Dachi on {socket.gethostname()[:40]}")]
    )
    made = (
        _builder(name, name, new.public_key(), now, AUTHORITY_DAYS)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(_usage(sign=True), critical=True)
        .add_extension(x509.NameConstraints(_permitted(names), None), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(new.public_key()), critical=False)
        .sign(new, hashes.SHA256())
    )
    _write_key(key, new)
    _write(cert, made.public_bytes(serialization.Encoding.PEM))
    return made, new


#: Addresses that lead nowhere but into one's own network.
NETWORKS = (
    "10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "127.0.0.0/8", "169.254.0.0/16",
    "fc00::/7", "fe80::/10", "::1/128",
)  # fmt: skip


def _permitted(names: Sequence[str]) -> list[x509.GeneralName]:
    """For whom the authority may sign: this machine's names, and addresses of its own network.

    Whoever copies the folder stands between these devices and nothing else.
    """
    found: list[x509.GeneralName] = [x509.IPAddress(ipaddress.ip_network(n)) for n in NETWORKS]
    for name in names:
        try:
            address = ipaddress.ip_address(name)
        except ValueError:
            found.append(x509.DNSName(name))
        else:
            if not _within(address):
                found.append(x509.IPAddress(ipaddress.ip_network(address)))
    return found


def _within(address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> bool:
    return any(
        address in net
        for n in NETWORKS
        if (net := ipaddress.ip_network(n)).version == address.version
    )


def _may_sign(authority: x509.Certificate, names: Sequence[str]) -> bool:
    """Whether an authority may sign for just such names; not where it may for any."""
    try:
        said = authority.extensions.get_extension_for_class(x509.NameConstraints).value
    except x509.ExtensionNotFound:
        return False
    permitted = set(said.permitted_subtrees or ())
    return set(_permitted(names)) <= permitted


def _leaf(
    found: Certificate,
    authority: x509.Certificate,
    signer: ec.EllipticCurvePrivateKey,
    names: Sequence[str],
    now: datetime,
) -> None:
    new = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, names[0][:60])])
    made = (
        _builder(name, authority.subject, new.public_key(), now, LEAF_DAYS)
        .add_extension(x509.SubjectAlternativeName([_named(n) for n in names]), critical=False)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(_usage(sign=False), critical=True)
        .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
        .add_extension(
            x509.AuthorityKeyIdentifier.from_issuer_public_key(signer.public_key()),
            critical=False,
        )
        .sign(signer, hashes.SHA256())
    )
    _write_key(found.key, new)
    _write(found.cert, made.public_bytes(serialization.Encoding.PEM))


def _builder(
    name: x509.Name, issuer: x509.Name, key: ec.EllipticCurvePublicKey, now: datetime, days: int
) -> x509.CertificateBuilder:
    return (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(issuer)
        .public_key(key)
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=days))
    )


def _usage(*, sign: bool) -> x509.KeyUsage:
    return x509.KeyUsage(
        digital_signature=not sign, content_commitment=False, key_encipherment=False,
        data_encipherment=False, key_agreement=False, key_cert_sign=sign, crl_sign=sign,
        encipher_only=False, decipher_only=False,
    )  # fmt: skip


def _named(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ipaddress.ip_address(name))
    except ValueError:
        return x509.DNSName(name)


def _still_good(
    found: Certificate, authority: x509.Certificate, names: Sequence[str], now: datetime
) -> bool:
    if not found.cert.exists() or not found.key.exists():
        return False
    try:
        cert = x509.load_pem_x509_certificate(found.cert.read_bytes())
        cert.verify_directly_issued_by(authority)
        said = cert.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except Exception:
        return False
    ends = cert.not_valid_after_utc - timedelta(days=RENEW_DAYS)
    return ends > now and all(_named(n) in set(said) for n in names)


def _write(path: Path, data: bytes) -> None:
    write_anew(path, data)


def _write_key(path: Path, key: ec.EllipticCurvePrivateKey) -> None:
    part = path.with_suffix(".part")
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "wb") as out:
        out.write(
            key.private_bytes(
                serialization.Encoding.PEM,
                serialization.PrivateFormat.PKCS8,
                serialization.NoEncryption(),
            )
        )
    os.replace(part, path)


def names_of_here(address: str) -> list[str]:
    """Names and addresses under which this machine is reached in its network."""
    host = socket.gethostname().lower()
    return list(dict.fromkeys([address, host, f"{host.split('.')[0]}.local", "127.0.0.1"]))


def listen(
    app: Callable[..., Iterable[bytes]],
    certificate: Certificate,
    port: int,
    *,
    host: str = "0.0.0.0",
    most: int,
) -> threading.Thread:
    """Answer encrypted in a thread of its own; bodies up to ``most`` bytes.

    Handshakes wait beside each other, so that a silent connection keeps nobody out.
    """
    from hypercorn.asyncio import serve
    from hypercorn.config import Config

    config = Config()
    config.bind = [f"{host}:{port}"]
    config.certfile, config.keyfile = str(certificate.cert), str(certificate.key)
    config.wsgi_max_body_size = most
    config.alpn_protocols = ["http/1.1"]
    config.keep_alive_timeout, config.ssl_handshake_timeout, config.read_timeout = 30, 10, 30
    config.include_server_header = False
    config.accesslog, config.errorlog = None, None

    def odd(loop: asyncio.AbstractEventLoop, context: dict[str, Any]) -> None:
        # A device that hangs up halfway is no news.
        if not isinstance(context.get("exception"), (ssl.SSLError, ConnectionError, TimeoutError)):
            loop.default_exception_handler(context)

    async def forever() -> None:
        asyncio.get_running_loop().set_exception_handler(odd)
        await asyncio.Event().wait()

    def run() -> None:
        wsgi: Any = app
        asyncio.run(serve(wsgi, config, shutdown_trigger=forever, mode="wsgi"))

    thread = threading.Thread(target=run, name="studio", daemon=True)
    thread.start()
    return thread
