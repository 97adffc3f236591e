"""Who answers at an address: a simulated instrument of each kind, somebody else, nobody."""

from __future__ import annotations

import socket
import subprocess
import sys
import threading
import time

import pytest

from moorfog.instruments.ports import ask, serial_ports
from moorfog.serving.ports import free_port


@pytest.mark.parametrize(("kind", "mode"), [("counter", "counts"), ("pressure", "pressure")])
def test_an_instrument_says_its_kind_and_serial_number(kind: str, mode: str) -> None:
    port = str(free_port())
    command = [sys.executable, "-m", "moorfog.instruments.simulated", "--port", port, "--kind", kind]
    command += ["--serial", "SIM-0007"]
    child = subprocess.Popen(command, stderr=subprocess.DEVNULL)
    try:
        found = ask(f"socket://127.0.0.1:{port}")
        for _ in range(100):
            if not found.problem:
                break
            time.sleep(0.1)
            found = ask(f"socket://127.0.0.1:{port}")
        assert (found.mode, found.serial, found.problem) == (mode, "SIM-0007", "")
    finally:
        child.terminate()
        child.wait(10)


def test_nobody_there_and_somebody_else_are_told_apart() -> None:
    assert "Is it switched on" in ask(f"socket://127.0.0.1:{free_port()}").problem
    with socket.create_server(("127.0.0.1", 0)) as stranger:

        def mutter() -> None:
            caller, _ = stranger.accept()
            caller.sendall(b"220 hello there\r\n")
            time.sleep(3)
            caller.close()

        threading.Thread(target=mutter, daemon=True).start()
        assert "did not answer" in ask(f"socket://127.0.0.1:{stranger.getsockname()[1]}").problem


def test_serial_ports_come_by_name() -> None:
    found = [one.device for one in serial_ports()]
    assert found == sorted(found)
