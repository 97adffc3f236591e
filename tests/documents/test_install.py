"""The page on installing is followed to the letter: every command in it, in its order, on an empty folder."""

from __future__ import annotations

import os
import re
import subprocess
import time
from pathlib import Path

import pytest

from tests.browser.test_demo import Demo

ROOT = Path(__file__).parents[2]


def commands(page: Path) -> list[str]:
    """Every line of the page's shell blocks."""
    blocks = re.findall(r"```sh\n(.*?)```", page.read_text("utf-8"), re.S)
    return [line for block in blocks for line in block.splitlines() if line]


def test_the_page_on_installing_is_true_to_the_letter(place: Path) -> None:
    env, running = dict(os.environ), list[Demo]()
    lines = commands(ROOT / "docs" / "install.md")
    assert [one.split()[1] for one in lines if one.startswith("./moorfog")] == [
        "run",
        "doctor",
        "verify",
        "recovery-key",
        "backup",
        "restore",
        "verify",
    ]
    (place / "stick").mkdir()
    try:
        for line in lines:
            line = line.replace("/srv/", f"{place}/").replace("/mnt/", f"{place}/")
            if line.startswith("export "):
                name, value = line.removeprefix("export ").split("=")
                env[name] = value
                continue
            if line == "./moorfog run":
                running.append(Demo(Path(env["MOORFOG_HOME"]), command="run"))
                state, until = Path(env["MOORFOG_HOME"]) / "backups" / "state.json", time.monotonic() + 60
                while not state.exists() and time.monotonic() < until:
                    time.sleep(0.2)
                continue
            done = subprocess.run(line, shell=True, cwd=ROOT, env=env, capture_output=True, text=True, check=False)
            assert done.returncode == 0, f"{line}\n{done.stdout}{done.stderr}"
    finally:
        for one in running:
            one.stop()


@pytest.mark.parametrize("page", ["moorfog.service", "moorfog-link@.service", "Containerfile"])
def test_what_runs_it_as_a_service_says_only_what_the_program_knows(page: str) -> None:
    text = (ROOT / "deploy" / page).read_text("utf-8")
    help_of = {
        one: subprocess.run([ROOT / "moorfog", one, "--help"], capture_output=True, text=True, check=True).stdout
        for one in ("run", "link")
    }
    command = "link" if "moorfog link" in text else "run"
    flags = set(re.findall(r"--(?:host|port|name|certificate|key|server|instrument|spool)\b", text))
    assert flags and all(one in help_of[command] for one in flags)
