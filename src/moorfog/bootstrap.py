"""Installs what is missing on a Debian machine and builds the front end, saying what it does in a line a step."""

from __future__ import annotations

import ctypes.util
import fcntl
import hashlib
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

DEBIAN_RUN = {"mariadbd": "mariadb-server", "mariadb-install-db": "mariadb-server"}
DEBIAN_LIBRARIES = {
    "pango-1.0": "libpango-1.0-0",
    "pangoft2-1.0": "libpangoft2-1.0-0",
    "harfbuzz-subset": "libharfbuzz-subset0",
}
DEBIAN_DOOR = {"nginx": "nginx-light"}
BROWSER = "chromium-headless-shell"
"""Debian's Chromium without windows: a third of the work of the whole, and all of it but the pages of a PDF."""
DEBIAN_TEST = {BROWSER: BROWSER, "faketime": "faketime", **DEBIAN_DOOR}
NODE = (20, 19)
"""The oldest Node that the packages which build the front end run on."""
NO_STARTS = Path("/usr/sbin/policy-rc.d")
"""While it says so, Debian starts no service of a package that is installed: we start our own."""


class StepFailed(RuntimeError):
    """A step failed. Says what, where its log is, and what to do."""


def root() -> Path:
    """Return the folder of the checkout."""
    return Path(os.environ.get("MOORFOG_ROOT", Path(__file__).resolve().parents[2]))


def say(text: str) -> None:
    """Print a step."""
    sys.stdout.write(f"· {text}\n")
    sys.stdout.flush()


def missing_packages(commands: dict[str, str], libraries: dict[str, str]) -> list[str]:
    """Return the Debian packages whose commands or libraries are not here."""
    lacking = [package for command, package in commands.items() if shutil.which(command) is None]
    lacking += [package for library, package in libraries.items() if ctypes.util.find_library(library) is None]
    return sorted(set(lacking))


def ensure_packages(with_browser: bool = False) -> None:
    """Install missing Debian packages, or say exactly which command does. Raises :class:`StepFailed`."""
    _install(missing_packages({**DEBIAN_RUN, **(DEBIAN_TEST if with_browser else {})}, DEBIAN_LIBRARIES))


def ensure_proxy() -> None:
    """Install the proxy that stands before the web server, as :func:`ensure_packages`."""
    _install(missing_packages(DEBIAN_DOOR, {}))


@contextmanager
def _no_services() -> Iterator[None]:
    """Have Debian start no service meanwhile, unless somebody has said already what it may start."""
    if NO_STARTS.exists() or not NO_STARTS.parent.is_dir():
        yield
        return
    NO_STARTS.write_text("#!/bin/sh\nexit 101\n")
    NO_STARTS.chmod(0o755)
    try:
        yield
    finally:
        NO_STARTS.unlink(missing_ok=True)


def _install(packages: list[str]) -> None:
    if not packages:
        return
    command = "apt-get install -y --no-install-recommends " + " ".join(packages)
    if os.geteuid() != 0 or shutil.which("apt-get") is None:
        raise StepFailed(f"these packages are missing; as root run: {command}")
    say(f"Debian packages: {', '.join(packages)}")
    env = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
    with _no_services():
        for one in ("apt-get update -qq", command):
            done = subprocess.run(
                one.split(), env=env, capture_output=True, text=True, check=False, stdin=subprocess.DEVNULL
            )
            if done.returncode:
                raise StepFailed(f"{one} failed: {(done.stdout + done.stderr)[-600:]}")
    every = {**DEBIAN_RUN, **DEBIAN_TEST}
    still = set(missing_packages(every, DEBIAN_LIBRARIES)) & set(packages)
    if still:
        raise StepFailed(f"{', '.join(sorted(still))} did not come with what was installed; install it by hand")


def _digest(paths: Iterable[Path]) -> str:
    sha = hashlib.sha256()
    for path in sorted(paths):
        sha.update(path.name.encode() + b"\0" + path.read_bytes())
    return sha.hexdigest()


def node_fault() -> str | None:
    """Return what is wrong with this machine's Node for building the front end, or None."""
    wanted = f"Node {'.'.join(map(str, NODE))} or newer with npm is needed (Debian 13: apt-get install nodejs npm)"
    if shutil.which("npm") is None or shutil.which("node") is None:
        return wanted
    found = subprocess.run(["node", "--version"], capture_output=True, text=True, check=False).stdout.strip()
    numbers = tuple(int(one) for one in re.findall(r"\d+", found)[:2])
    return None if numbers >= NODE else f"{wanted}; this machine has {found or 'one that does not start'}"


def _npm(folder: Path, *words: str) -> None:
    if fault := node_fault():
        raise StepFailed(fault)
    done = subprocess.run(
        ["npm", *words], cwd=folder, capture_output=True, text=True, check=False, stdin=subprocess.DEVNULL
    )
    if done.returncode:
        raise StepFailed(f"npm {' '.join(words)} failed in {folder}: {(done.stdout + done.stderr)[-1200:]}")


@contextmanager
def _alone() -> Iterator[None]:
    """Let one command at a time install or build in this checkout. Raises :class:`StepFailed` where it is not ours."""
    lock = root() / ".lock"
    if not os.access(lock if lock.exists() else root(), os.W_OK):
        raise StepFailed(
            f"the front end in {root()} is missing or another version's, and this account may not write there; "
            "as the owner of that folder run: ./moorfog prepare"
        )
    with lock.open("w") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        yield


def ensure_node_modules() -> None:
    """Install the front end's packages when the lock file has changed."""
    with _alone():
        _install_node_modules()


def _install_node_modules() -> None:
    web = root() / "web"
    want = _digest([web / "package-lock.json"])
    if _has(web / "node_modules", want):
        return
    say("front-end packages")
    _npm(web, "ci", "--no-audit", "--no-fund", "--ignore-scripts")
    (web / "node_modules" / ".moorfog").write_text(want)


def ensure_web() -> Path:
    """Build the front end when its sources have changed; return its folder."""
    given = os.environ.get("MOORFOG_WEB")
    if given:
        return Path(given)
    dist, want = root() / "web" / "dist", _wanted_web()
    if not _has(dist, want):
        with _alone():
            if not _has(dist, want):  # another command may have built it while this one waited
                _build_web(want)
    return dist


def _has(folder: Path, want: str) -> bool:
    stamp = folder / ".moorfog"
    return stamp.exists() and stamp.read_text() == want


def _wanted_web() -> str:
    web = root() / "web"
    sources = [one for one in (web / "src").rglob("*") if one.is_file()]
    pages = ("index.html", "docs.html", "stories.html")
    sources += [web / name for name in ("package-lock.json", "vite.config.ts", *pages)]
    return _digest(sources)


def _build_web(want: str) -> None:
    _install_node_modules()
    say("front end is built")
    web = root() / "web"
    _npm(web, "run", "build")
    (web / "dist" / ".moorfog").write_text(want)


def prepare() -> None:
    """Make all that others run here without a right to write: packages, proxy, front end, compiled Python."""
    ensure_packages()
    ensure_proxy()
    ensure_web()
    say("Python is compiled")
    sources = [root() / "src", Path(sys.prefix), Path(os.__file__).parent]
    # what a package ships for another Python does not compile, and is not used either
    command = [sys.executable, "-m", "compileall", "-q", "-j", "0", *map(str, sources)]
    subprocess.run(command, check=False, capture_output=True)
