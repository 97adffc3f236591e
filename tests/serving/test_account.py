"""Run by an account of its own that only reads the program, as the unit and the container have it."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import sysconfig
from collections.abc import Iterator
from pathlib import Path

import pytest

from moorfog import bootstrap
from moorfog.platform.db.accounts import SCHEMA, WORK
from moorfog.serving.database import FAST_FLAGS, PrivateServer
from tests.browser.test_demo import Demo, as_account

ROOT = Path(__file__).parents[2]


@pytest.fixture
def account() -> Iterator[str]:
    """The account that the unit names, on this machine."""
    name = re.findall(r"^User=(\w+)$", (ROOT / "deploy" / "moorfog.service").read_text("utf-8"), re.M)[0]
    assert f"USER {name}\n" in (ROOT / "deploy" / "Containerfile").read_text("utf-8")
    if os.geteuid() != 0:
        pytest.skip("only root makes accounts")
    made = subprocess.run(["useradd", "--system", name], capture_output=True, check=False).returncode == 0
    try:
        if subprocess.run(as_account(name, "test", "-x", ROOT / "moorfog"), check=False).returncode:
            pytest.skip(f"other accounts do not come to {ROOT}")
        yield name
    finally:
        if made:
            subprocess.run(["userdel", name], capture_output=True, check=False)


def environment(place: Path, account: str) -> str:
    """Make a Python environment that the account can run: this one's, or this one's packages under Debian's Python."""
    if not subprocess.run(as_account(account, "test", "-x", sys.executable), check=False).returncode:
        return str(Path(sys.executable).parents[1])
    theirs = f"/usr/bin/python{sys.version_info.major}.{sys.version_info.minor}"
    if not Path(theirs).exists():
        pytest.skip(f"{account} can run no Python {theirs} on this machine")
    venv = place / "venv"
    subprocess.run([theirs, "-m", "venv", "--without-pip", venv], check=True)
    purelib = next(venv.glob("lib/python3*/site-packages"))
    (purelib / "ours.pth").write_text(sysconfig.get_path("purelib") + "\n")
    shutil.copy(Path(sys.executable).parents[1] / ".moorfog", venv / ".moorfog")
    return str(venv)


def test_the_account_of_the_unit_runs_it_and_writes_nothing_beside_its_data(account: str, place: Path) -> None:
    home = place / "home"
    home.mkdir()
    shutil.chown(home, account, account)
    venv = environment(place, account)
    before = {one: one.stat().st_mtime_ns for one in [ROOT / "src", ROOT / "web" / "dist", Path(venv)]}
    running = Demo(home, command="run", account=account, venv=venv)
    try:
        assert running.health() and re.search(r"[Cc]ode", running.said)
        assert {one.owner() for one in home.rglob("*") if not one.is_symlink()} == {account}
    finally:
        assert running.stop() == 0
    assert {one: one.stat().st_mtime_ns for one in before} == before


def test_a_home_of_an_earlier_program_gets_the_new_account_and_loses_the_old(place: Path) -> None:
    server = PrivateServer(place / "db", flags=FAST_FLAGS)
    server.install()
    server.start()
    try:
        (server.home / "password").write_text("of before")
        server._tell("CREATE USER 'moorfog'@'localhost' IDENTIFIED BY 'of before'")
        server.ensure_accounts()
        names = server._ask("SELECT user FROM mysql.user").stdout.split()
        assert "moorfog" not in names and not (server.home / "password").exists()
        assert names.count(WORK) == names.count(SCHEMA) == 2
        server.ensure_accounts()  # once more: what is there stays
        assert server._ask("SELECT user FROM mysql.user").stdout.split() == names
    finally:
        server.stop()


def test_what_this_account_may_not_write_is_said_with_what_to_do(account: str, place: Path) -> None:
    for name in ("moorfog", "requirements.txt", "requirements-dev.txt", "requirements-uv.txt"):
        shutil.copy(ROOT / name, place / name)
    command = as_account(account, place / "moorfog", "--version")
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 2
    assert f"{place}/.venv is missing" in done.stderr and "run: ./moorfog prepare" in done.stderr


def test_a_front_end_that_may_not_be_built_is_said_too(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    (tmp_path / "web" / "src").mkdir(parents=True)
    for name in ("package-lock.json", "vite.config.ts", "index.html", "docs.html", "stories.html"):
        (tmp_path / "web" / name).write_text(name)
    monkeypatch.setenv("MOORFOG_ROOT", str(tmp_path))
    monkeypatch.delenv("MOORFOG_WEB", raising=False)
    monkeypatch.setattr(bootstrap.os, "access", lambda path, mode: False)
    with pytest.raises(bootstrap.StepFailed, match=r"may not write there.*\./moorfog prepare"):
        bootstrap.ensure_web()


@pytest.mark.parametrize(
    ("version", "fault"), [("v18.20.4", "this machine has v18"), ("v20.19.2", None), ("", "start")]
)
def test_a_node_that_is_too_old_is_named(
    version: str, fault: str | None, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    for name in ("node", "npm"):
        (tmp_path / name).write_text(f"#!/bin/sh\necho {version}\n")
        (tmp_path / name).chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}:{os.environ['PATH']}")
    found = bootstrap.node_fault()
    assert found == fault or (fault is not None and found is not None and fault in found)
