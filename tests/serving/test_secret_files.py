"""A secret that is empty, short or readable by others is none: the program says so and does not start with it."""

from __future__ import annotations

from pathlib import Path

import pytest

from moorfog.secret_files import LEAST, SecretFault, read_secret, secret_of, write_secret


def test_a_secret_is_made_once_for_its_owner_only(tmp_path: Path) -> None:
    path = tmp_path / "keys" / "links"
    made = secret_of(path)
    assert len(made) >= LEAST and secret_of(path) == made
    assert path.stat().st_mode & 0o777 == 0o600
    write_secret(path, b"another " * 9)
    assert secret_of(path) == made, "what is there stays"
    assert [one.name for one in path.parent.iterdir()] == ["links"], "nothing half-written is left beside it"


@pytest.mark.parametrize("content", [b"", b"\n", b"short", b" " * 64])
def test_an_empty_or_short_secret_is_refused_in_words(tmp_path: Path, content: bytes) -> None:
    path = tmp_path / "links"
    write_secret(path, content)
    with pytest.raises(SecretFault, match=r"links holds \d+ characters"):
        secret_of(path)


@pytest.mark.parametrize("mode", [0o640, 0o604, 0o660, 0o602])
def test_a_secret_that_others_can_read_is_refused_in_words(tmp_path: Path, mode: int) -> None:
    path = tmp_path / "links"
    secret_of(path)
    path.chmod(mode)
    with pytest.raises(SecretFault, match="others"):
        secret_of(path)


def test_a_secret_is_no_link_to_another_file(tmp_path: Path) -> None:
    secret_of(tmp_path / "one")
    (tmp_path / "two").symlink_to(tmp_path / "one")
    with pytest.raises(SecretFault, match="plain file"):
        read_secret(tmp_path / "two")
