"""What the commands install, and what they say where they may not."""

from __future__ import annotations

import os
import threading
from pathlib import Path

import pytest

from moorfog import bootstrap


def test_a_missing_command_or_library_names_its_package() -> None:
    assert bootstrap.missing_packages({"sh": "dash"}, {"c": "libc6"}) == []
    found = bootstrap.missing_packages({"no-such-command": "one"}, {"no-such-library": "two", "nor-this": "two"})
    assert found == ["one", "two"]


def test_where_nothing_may_be_installed_the_exact_command_is_said(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(bootstrap, "DEBIAN_RUN", {"no-such-command": "mariadb-server"})
    monkeypatch.setattr(bootstrap, "DEBIAN_LIBRARIES", {})
    monkeypatch.setattr(os, "geteuid", lambda: 1000)
    with pytest.raises(bootstrap.StepFailed, match="apt-get install -y --no-install-recommends mariadb-server"):
        bootstrap.ensure_packages()


def test_the_front_end_is_built_anew_only_when_its_sources_changed(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    web = tmp_path / "web"
    (web / "src").mkdir(parents=True)
    (web / "dist").mkdir()
    for name in ("package-lock.json", "vite.config.ts", "index.html", "docs.html", "stories.html", "src/main.tsx"):
        (web / name).write_text(name)
    built: list[str] = []
    monkeypatch.setenv("MOORFOG_ROOT", str(tmp_path))
    monkeypatch.delenv("MOORFOG_WEB", raising=False)
    monkeypatch.setattr(bootstrap, "_install_node_modules", lambda: None)
    monkeypatch.setattr(bootstrap, "_npm", lambda folder, *words: built.append(words[-1]))
    bootstrap.ensure_web()
    bootstrap.ensure_web()
    assert built == ["build"]
    (web / "src" / "main.tsx").write_text("changed")
    bootstrap.ensure_web()
    assert built == ["build", "build"]


def test_two_commands_do_not_install_at_once(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("MOORFOG_ROOT", str(tmp_path))
    inside, most = [], []

    def install() -> None:
        with bootstrap._alone():
            inside.append(1)
            most.append(len(inside))
            threading.Event().wait(0.02)
            inside.pop()

    threads = [threading.Thread(target=install) for _ in range(5)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(5)
    assert most == [1] * 5
