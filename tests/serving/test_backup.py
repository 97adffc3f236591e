"""Backups: whole or not at all, laid back into an empty home, and none that is foreign, cut or wrongly keyed."""

from __future__ import annotations

import json
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from sqlalchemy import text
from sqlalchemy.orm import Session

from moorfog.core.rules.book import Rules
from moorfog.demo.seed import enter_facepieces
from moorfog.operations.records.verify import verify
from moorfog.serving.backup import BackupFailed, back_up, check_file, restore
from moorfog.serving.database import FAST_FLAGS, PrivateServer
from moorfog.serving.keeping import BackupState, is_due, is_late, to_clear
from moorfog.store.base import make_engine, run_in_transaction
from tests.api.house import House
from tests.template import running_server


@pytest.fixture(scope="module")
def home(rules: Rules) -> Iterator[tuple[Path, PrivateServer]]:
    """A home with a signed visit in it."""
    one = Path(tempfile.mkdtemp(prefix="mfb"))
    one.chmod(0o755)
    server = running_server(one / "db", FAST_FLAGS)
    engine = make_engine(server.url)
    run_in_transaction(engine, enter_facepieces)
    house = House(engine, rules)
    house.client().whole_visit()
    (one / "keys").mkdir()
    (one / "keys" / "anchors.pem").write_text("a key")
    yield one, server
    engine.dispose()
    server.stop()
    shutil.rmtree(one, ignore_errors=True)


@pytest.fixture
def empty() -> Iterator[Path]:
    one = Path(tempfile.mkdtemp(prefix="mfe"))
    one.chmod(0o755)
    yield one
    shutil.rmtree(one, ignore_errors=True)


def counts(server: PrivateServer) -> dict[str, int]:
    engine = make_engine(server.url)
    with Session(engine) as db:
        tables = ("event", "person", "account", "wear_permission", "signature", "journal", "facepiece_version")
        found = {one: db.scalar(text(f"SELECT COUNT(*) FROM {one}")) or 0 for one in tables}
    engine.dispose()
    return found


def into(empty: Path) -> PrivateServer:
    """A database server for an empty home, as a restore has it."""
    server = PrivateServer(empty / "db", flags=FAST_FLAGS)
    server.install()
    server.start()
    server.ensure_accounts()
    return server


@pytest.mark.parametrize("passphrase", ["", "four quiet herons"])
def test_everything_comes_back_and_holds(home: tuple[Path, PrivateServer], empty: Path, passphrase: str) -> None:
    file = empty / "one.moorfog"
    back_up(home[1], home[0], file, passphrase)
    assert file.stat().st_mode & 0o077 == 0, "it is its owner's alone"
    readable = b"CREATE TABLE" in file.read_bytes() or b"database.sql" in file.read_bytes()
    assert readable is (not passphrase), "sealed, nothing of it can be read"
    server = into(empty)
    try:
        restore(file, empty, server, passphrase)
        assert counts(server) == counts(home[1]) and counts(server)["signature"] == 2
        engine = make_engine(server.url)
        assert verify(engine) == []
        with pytest.raises(Exception, match=r"never changed|denied"), engine.begin() as connection:
            connection.execute(text("UPDATE event SET actor = 'x'"))  # guards and grants are back as well
        engine.dispose()
    finally:
        server.stop()
    assert (empty / "keys" / "anchors.pem").read_text() == "a key"


def test_a_file_that_is_cut_changed_foreign_or_wrongly_keyed_is_refused(
    home: tuple[Path, PrivateServer], empty: Path
) -> None:
    plain, sealed, bad = empty / "plain", empty / "sealed", empty / "bad"
    back_up(home[1], home[0], plain)
    back_up(home[1], home[0], sealed, "four quiet herons")
    content, kept = plain.read_bytes(), sealed.read_bytes()
    assert check_file(plain).program and check_file(sealed, "four quiet herons").salt
    middle = len(content) // 2
    flipped = content[:middle] + bytes([content[middle] ^ 1]) + content[middle + 1 :]
    header, rest = kept.split(b"\n", 1)
    other = json.dumps({**json.loads(header), "made_at": "2020-01-01"}, sort_keys=True).encode()
    wrong = [
        (content[:-1], ""),
        (content[:middle], ""),
        (content + b"x", ""),
        (flipped, ""),
        (b"", ""),
        (b"SQLite format 3\0" + content, ""),
        (kept, ""),
        (kept, "three quiet herons"),
        (other + b"\n" + rest, "four quiet herons"),
        (kept[:-40], "four quiet herons"),
    ]
    for number, (made, passphrase) in enumerate(wrong):
        bad.write_bytes(made)
        with pytest.raises(BackupFailed):
            check_file(bad, passphrase)
            pytest.fail(f"number {number} was taken")


def test_a_backup_is_never_written_over_another_and_half_of_one_is_none(
    home: tuple[Path, PrivateServer], empty: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = empty / "one.moorfog"
    back_up(home[1], home[0], file)
    with pytest.raises(BackupFailed, match="already"):
        back_up(home[1], home[0], file)
    full = empty / "full"
    full.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=4k", "tmpfs", str(full)], check=False, capture_output=True)
    if full.is_mount():  # a disk without room, where this machine lets us make one
        try:
            with pytest.raises(BackupFailed, match="nothing was changed"):
                back_up(home[1], home[0], full / "two.moorfog")
            assert list(full.iterdir()) == []
        finally:
            subprocess.run(["umount", str(full)], check=True)
    gone = PrivateServer(home[0] / "db", port=1)
    with pytest.raises(Exception, match=r"refused|connect|read"):
        back_up(gone, home[0], empty / "three.moorfog")
    assert not (empty / "three.moorfog").exists() and not list(empty.glob("*.part"))


@pytest.mark.parametrize(
    ("last", "now", "due"),
    [
        ("", "2026-11-26T12:00", True),
        ("2026-11-26T01:59", "2026-11-26T12:00", True),
        ("2026-11-26T02:10", "2026-11-26T12:00", False),
        ("2026-11-26T02:10", "2026-11-27T01:50", False),
        ("2026-11-26T02:10", "2026-11-27T02:00", True),
    ],
)
def test_one_backup_is_made_a_night(last: str, now: str, due: bool) -> None:
    at = datetime.fromisoformat(now).replace(tzinfo=UTC)
    state = BackupState(f"{last}+00:00" if last else "")
    assert is_due(state, at) is due
    assert is_late(state, at) is (not last)
    assert is_late(BackupState((at - timedelta(hours=37)).isoformat()), at)


def test_two_weeks_and_the_first_of_each_of_twelve_months_are_kept() -> None:
    days = [datetime(2025, 1, 1, tzinfo=UTC) + timedelta(days=one) for one in range(500)]
    names = [f"night-{one:%Y-%m-%d}-020000.moorfog" for one in days]
    kept = [one for one in names if one not in to_clear(names)]
    assert kept[-14:] == names[-14:] and len(kept) == 14 + 12 - sum(one[14:16] == "01" for one in names[-14:])
    assert all(one[14:16] == "01" for one in kept[:-14])
