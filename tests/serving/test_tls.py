"""TLS with a certificate of one's own, through the door: the browser is spoken to so, and the cookie is for it only."""

from __future__ import annotations

import datetime
import ipaddress
import json
import ssl
import urllib.request
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from moorfog.bootstrap import ensure_web
from moorfog.core.rules.book import Rules
from moorfog.demo.seed import enter_facepieces
from moorfog.instruments.link import Server
from moorfog.platform.db.base import make_engine, run_in_transaction
from moorfog.serving.database import FAST_FLAGS
from moorfog.serving.doctor import examine
from moorfog.serving.ports import free_port
from moorfog.serving.whole import Door, Where
from tests.rooms.house import PASSWORD, House
from tests.template import running_server


def certificate(folder: Path, days: int, name: str = "own") -> tuple[Path, Path]:
    """A certificate for this machine, signed by its own key, that counts for so many days."""
    key = ec.generate_private_key(ec.SECP256R1())
    who = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "moorfog.example")])
    now = datetime.datetime.now(datetime.UTC)
    here = [x509.IPAddress(ipaddress.ip_address("127.0.0.1")), x509.DNSName("moorfog.example")]
    made = (
        x509.CertificateBuilder()
        .subject_name(who)
        .issuer_name(who)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=days))
        .add_extension(x509.SubjectAlternativeName(here), critical=False)
        .sign(key, hashes.SHA256())
    )
    files = folder / f"{name}.pem", folder / f"{name}-key.pem"
    files[0].write_bytes(made.public_bytes(serialization.Encoding.PEM))
    plain = serialization.NoEncryption()
    files[1].write_bytes(key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, plain))
    return files


def test_a_browser_is_spoken_to_by_tls_and_the_cookie_is_for_it_only(place: Path, rules: Rules) -> None:
    files = certificate(place, 90)
    server = running_server(place / "db", FAST_FLAGS)
    engine = make_engine(server.url)
    run_in_transaction(engine, enter_facepieces)
    house = House(engine, rules)
    env = {"MOORFOG_DATABASE_URL": server.url, "MOORFOG_WEB": str(ensure_web())}
    where = Where(port=free_port(), certificate=files[0], key=files[1], names=("moorfog.example",))
    door = Door(place, where, 1, env)
    trust = ssl.create_default_context(cafile=str(files[0]))
    try:
        assert door.start() == f"https://moorfog.example:{where.port}"
        body = json.dumps({"login": house.ours.logins["tester"], "password": PASSWORD}).encode()
        headers = {"Content-Type": "application/json"}
        address = f"https://127.0.0.1:{where.port}/api/session"
        with urllib.request.urlopen(urllib.request.Request(address, body, headers), context=trust, timeout=20) as got:
            assert "Secure" in got.headers["Set-Cookie"] and "max-age" in got.headers["Strict-Transport-Security"]
        asked = urllib.request.Request(address, headers={"Host": "moorfog.example"})
        with pytest.raises(urllib.error.HTTPError, match="401"):
            urllib.request.urlopen(asked, context=trust, timeout=20)
        with pytest.raises(OSError, match=r"not trusted here.*SSL_CERT_FILE"):
            Server(f"https://127.0.0.1:{where.port}", "a link's token").call("/api/link/status", {})
        strange = urllib.request.Request(address, headers={"Host": "elsewhere.example"})
        with pytest.raises(urllib.error.HTTPError, match="400"):
            urllib.request.urlopen(strange, context=trust, timeout=20)
    finally:
        door.parts.stop()
        engine.dispose()
        server.stop()


def test_a_certificate_that_ends_soon_or_is_another_keys_is_said(place: Path) -> None:
    soon, other = certificate(place, 3, "soon"), certificate(place, 90, "other")

    def wrong(pem: Path, key: Path | None) -> list[str]:
        return [one.what for one in examine(place / "none", "", pem, key) if not one.is_well]

    assert any("ends in 2 days" in one or "ends in 3 days" in one for one in wrong(*soon))
    assert any("not this certificate's" in one for one in wrong(other[0], soon[1]))
    assert any("cannot be read" in one for one in wrong(other[1], other[1]))
    assert not any("certificate" in one or "key" in one for one in wrong(*other))
    assert any("there is no data" in one for one in wrong(*other))
