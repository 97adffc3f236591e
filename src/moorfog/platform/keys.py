"""The installation's own key: what it signs with, and its fingerprint."""

from __future__ import annotations

from pathlib import Path

from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

from moorfog.auditor.archive import fingerprint
from moorfog.platform.web.errors import DomainError
from moorfog.secret_files import SecretFault, key_folder, secret_of

KEY = "anchors.pem"


def signing_key(folder: Path) -> Ed25519PrivateKey:
    """Return the key of this installation, made at its first use; only its owner can read it. Raises OSError."""
    try:
        key = serialization.load_pem_private_key(secret_of(folder / KEY, _made_key), None)
    except ValueError as error:
        raise SecretFault(f"{folder / KEY} holds no key; lay the file of a backup there") from error
    if not isinstance(key, Ed25519PrivateKey):
        raise SecretFault(f"{folder / KEY} holds no Ed25519 key; lay the file of a backup there")
    return key


def _made_key() -> bytes:
    return Ed25519PrivateKey.generate().private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )


def installation_key() -> Ed25519PrivateKey:
    """Return the key of this installation, to sign with. Raises :class:`DomainError` where it cannot be read."""
    try:
        return signing_key(key_folder())
    except (OSError, ValueError) as error:
        raise DomainError("no_key", f"The key of this installation cannot be read: {error}.", status=503) from error


def key_fingerprint() -> str:
    """Return what people compare of it. Raises :class:`DomainError` where it cannot be read."""
    return fingerprint(public_hex(installation_key().public_key()))


def known_key(folder: Path) -> str:
    """Return the public key of this installation in hexadecimal, empty where its key is not here. Raises OSError."""
    return public_hex(signing_key(folder).public_key()) if (folder / KEY).exists() else ""


def public_hex(key: Ed25519PublicKey) -> str:
    """Return a public key as sixty-four hexadecimal digits."""
    return key.public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw).hex()
