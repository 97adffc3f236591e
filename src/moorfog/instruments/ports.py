"""What there is to plug a link into: serial ports, and whether an instrument answers at an address."""

from __future__ import annotations

from dataclasses import dataclass

from serial.tools import list_ports

from moorfog.instruments.driver import LineDriver, open_wire
from moorfog.plugged import DEVICE


@dataclass(frozen=True)
class Port:
    """A serial port of this machine, with what it says of itself."""

    device: str
    description: str


@dataclass(frozen=True)
class Answer:
    """What answered at an address: its kind of readings and serial number, or why nothing did."""

    address: str
    mode: str
    serial: str
    problem: str


def serial_ports() -> list[Port]:
    """Return the serial ports of this machine that an instrument may be plugged into, by name."""
    found = sorted(list_ports.comports(), key=lambda one: one.device)
    return [Port(one.device, one.description) for one in found if DEVICE.fullmatch(one.device)]


def ask(address: str) -> Answer:
    """Say hello at ``socket://host:port`` or a serial device, and return who answered. Never raises."""
    try:
        driver = LineDriver(open_wire(address))
    except OSError as error:
        return Answer(address, "", "", str(error))
    try:
        driver.greet()
        return Answer(address, driver.said.get("mode", ""), driver.said.get("serial", ""), "")
    except OSError as error:
        return Answer(address, "", "", str(error))
    finally:
        driver.close()
