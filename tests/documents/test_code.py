"""What a card's code says without a network. Ed25519 against the vectors of RFC 8032, section 7.1 (recalled)."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from hypothesis import given
from hypothesis import strategies as st

from moorfog import cards
from moorfog.platform.keys import public_hex
from moorfog.rooms.papers.code import (
    ALPHABET,
    LENGTH,
    NotACard,
    Statement,
    as_typed,
    initials,
    is_code,
    packed,
    readable,
    unpacked,
)

VECTORS = (  # secret key, public key, message, signature
    (
        "9d61b19deffd5a60ba844af492ec2cc44449c5697b326919703bac031cae7f60",
        "d75a980182b10ab7d54bfed3c964073a0ee172f3daa62325af021a68f707511a",
        "",
        "e5564300c360ac729086e2cc806e828a84877f1eb8e5d974d873e065224901555fb8821590a33bacc61e39701cf9b46bd25bf5f0595bbe24655141438e7a100b",
    ),
    (
        "4ccd089b28ff96da9db6c346ec114e0f5b8a319f35aba624da8cf6ed4fb8a6fb",
        "3d4017c3e843895a92b70aa74d1b7ebc9c982ccf2ec4968cc0cd55f12af4660c",
        "72",
        "92a009a9f0d4cab8720e820b5f642540a2b27b5416503f8fb3762223ebdb69da085ac1e43e15996e458f3613d0f11d8c387b2eaeb4302aeeb00d291612bb0c00",
    ),
)
SAID = Statement("0123456789AB", "Å. T.", "Bracken M", "2027-02-10")
words = st.text(st.characters(exclude_categories=("Cs", "Cc")), max_size=40)
codes = st.text(ALPHABET, min_size=LENGTH, max_size=LENGTH)


@pytest.mark.parametrize(("secret", "public", "message", "signature"), VECTORS)
def test_the_signature_is_that_of_the_standard(secret: str, public: str, message: str, signature: str) -> None:
    key = Ed25519PrivateKey.from_private_bytes(bytes.fromhex(secret))
    assert public_hex(key.public_key()) == public
    assert key.sign(bytes.fromhex(message)).hex() == signature


@given(codes, words, words, st.dates().map(str))
def test_what_is_packed_comes_out_the_same(code: str, who: str, piece: str, until: str) -> None:
    said = Statement(code, who, piece, until)
    for text in (packed(said, b"s" * 64), f"https://moor.example/c/{code}#{packed(said, b's' * 64)}\n"):
        assert unpacked(text) == (said, said.written(), b"s" * 64)


@given(codes)
def test_a_code_is_known_however_it_is_typed(code: str) -> None:
    assert is_code(code) and as_typed(readable(code)) == as_typed(f" {code.lower()} ") == code
    assert as_typed(code.replace("0", "o").replace("1", "l")) == code


def test_initials_are_those_of_the_words_of_a_name() -> None:
    assert initials("Åsa Tarn") == "Å. T." and initials("łukasz moss-Heather") == "Ł. M." and initials("  ") == ""


def test_a_changed_foreign_or_cut_card_is_not_taken_for_ours(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    ours, other = Ed25519PrivateKey.generate(), Ed25519PrivateKey.generate()
    key, word = public_hex(ours.public_key()), packed(SAID, ours.sign(SAID.written()))
    scanned = tmp_path / "scanned.txt"
    scanned.write_text(f"http://127.0.0.1:8400/c/{SAID.code}#{word}")
    assert cards.run(str(scanned), key) == cards.run(word, key) == 0
    assert "Å. T., Bracken M, until 2027-02-10, code 0123-4567-89AB" in capsys.readouterr().out
    longer = Statement(SAID.code, SAID.initials, SAID.facepiece, "2037-02-10")
    assert cards.run(packed(longer, ours.sign(SAID.written())), key) == cards.DIFFERENT
    assert cards.run(word, public_hex(other.public_key())) == cards.DIFFERENT
    for wrong in ("", "no card", word[:30], word.split(".")[0] + ".!", json.dumps({"c": 1})):
        assert cards.run(wrong, key) in (cards.UNREADABLE, cards.DIFFERENT)
    assert cards.run(word, "zz") == cards.UNREADABLE
    with pytest.raises(NotACard, match="newer"):
        unpacked("eyJ2IjoyfQ.AAAA")
