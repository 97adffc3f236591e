"""The bill of materials: every package that ships with the program, by version and digest, as CycloneDX 1.5.

Made from the lock files alone, so that the same locks give the same bill.
"""

from __future__ import annotations

import base64
import json
import re
from pathlib import Path
from typing import Any

from moorfog import __version__
from moorfog.bootstrap import DEBIAN_DOOR, DEBIAN_LIBRARIES, DEBIAN_RUN

_PIN = re.compile(r"^([A-Za-z0-9_.-]+)(?:\[[^\]]*\])?==([^\s;\\]+)")
_HASH = re.compile(r"--hash=sha256:([0-9a-f]{64})")
DEBIAN = sorted({*DEBIAN_RUN.values(), *DEBIAN_LIBRARIES.values(), *DEBIAN_DOOR.values()})
"""What comes from the machine's own packages, in the version that it has."""


def python_packages(requirements: str) -> list[dict[str, Any]]:
    """Return the packages of a requirements file with hashes."""
    out: list[dict[str, Any]] = []
    for line in requirements.splitlines():
        pin = _PIN.match(line)
        if pin:
            name, version = pin[1].lower().replace("_", "-"), pin[2]
            out.append(_component(name, version, f"pkg:pypi/{name}@{version}"))
        found = _HASH.search(line)
        if found and out:
            out[-1].setdefault("hashes", []).append({"alg": "SHA-256", "content": found[1]})
    return out


def web_packages(lock: dict[str, Any]) -> list[dict[str, Any]]:
    """Return the packages of the page from npm's lock file, without those that only build or test it."""
    out = []
    for place, one in lock["packages"].items():
        if not place or one.get("dev") or one.get("devOptional"):
            continue
        name = place.rsplit("node_modules/", 1)[-1]
        made = _component(name, one["version"], f"pkg:npm/{name.replace('@', '%40')}@{one['version']}")
        kind, _, digest = one.get("integrity", "").partition("-")
        if kind == "sha512":
            made["hashes"] = [{"alg": "SHA-512", "content": base64.b64decode(digest).hex()}]
        if "license" in one:
            made["licenses"] = [{"expression": one["license"]}]
        out.append(made)
    return out


def _component(name: str, version: str, purl: str) -> dict[str, Any]:
    return {"type": "library", "name": name, "version": version, "purl": purl, "bom-ref": purl}


def bill(root: Path) -> str:
    """Return the bill of the checkout in ``root``, as JSON text. Raises OSError where a lock file is missing."""
    parts = python_packages((root / "requirements.txt").read_text())
    parts += web_packages(json.loads((root / "web" / "package-lock.json").read_text()))
    parts += [{"type": "application", "name": one, "purl": f"pkg:deb/debian/{one}", "bom-ref": one} for one in DEBIAN]
    unique = {str(one["bom-ref"]): one for one in parts}
    content = {
        "bomFormat": "CycloneDX",
        "specVersion": "1.5",
        "version": 1,
        "metadata": {"component": {"type": "application", "name": "moorfog", "version": __version__}},
        "components": [unique[key] for key in sorted(unique)],
    }
    return json.dumps(content, indent=1) + "\n"
