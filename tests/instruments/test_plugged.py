"""An instrument's place is a typed choice: nothing that somebody writes there opens a file, a command or a database."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from moorfog.instruments.driver import open_wire
from moorfog.instruments.ports import ask
from moorfog.plugged import ALLOWED, NetworkPlace, NoPlace, SerialDevice, allowed_place, device_of, place_of

NO_PLACES = (
    "",
    "--help",
    "-v",
    "/etc/passwd",
    "/dev/null",
    "/dev/sda1",
    "/dev/ttyUSB",
    "/dev/ttyUSB0/../../etc/passwd",
    "/dev/ttyUSB0\n",
    " /dev/ttyUSB0",
    "/dev/serial/by-id/",
    "/dev/serial/by-id/..",
    "/dev/serial/by-id/../../null",
    "/dev/serial/by-id/a/b",
    "loop://",
    "alt:///dev/ttyUSB0?class=PosixPollSerial",
    "hwgrep://.",
    "rfc2217://127.0.0.1:9000",
    "cp2110:0",
    "SOCKET://127.0.0.1:9000",
    "socket://127.0.0.1",
    "socket://127.0.0.1:0",
    "socket://127.0.0.1:65536",
    "socket://127.0.0.1:9000?logging=debug",
    "socket://127.0.0.1:9000/",
    "socket://me@127.0.0.1:9000",
    "socket://127.0.0.1:9000#x",
    "socket://-x:9000",
    "socket://a b:9000",
)


@pytest.mark.parametrize("text", NO_PLACES)
def test_what_is_no_place_is_refused_and_opens_nothing(text: str) -> None:
    with pytest.raises(NoPlace):
        place_of(text)
    with pytest.raises(OSError, match="no place of an instrument"):
        open_wire(text)
    assert "no place of an instrument" in ask(text).problem


def test_a_scheme_that_writes_to_a_file_empties_none(tmp_path: Path) -> None:
    key = tmp_path / "key"
    key.write_text("secret")
    with pytest.raises(OSError, match="no place of an instrument"):
        open_wire(f"spy:///dev/null?file={key}")
    assert key.read_text() == "secret"


@given(st.text() | st.from_regex(r"[a-z0-9]{2,9}:/?/?[ -~]{0,30}", fullmatch=True))
def test_no_other_text_is_a_place(text: str) -> None:
    try:
        place = place_of(text)
    except NoPlace:
        return
    assert str(place) == text
    assert isinstance(place, NetworkPlace) or place.path.startswith(("/dev/tty", "/dev/serial/by-id/"))


@pytest.mark.parametrize("text", ["/dev/ttyUSB0", "/dev/ttyACM12", "/dev/ttyS1", "/dev/serial/by-id/usb-Fen_4711-if00"])
def test_a_serial_device_is_a_place(text: str) -> None:
    assert place_of(text) == SerialDevice(text)


def test_a_host_is_opened_only_where_the_operator_wrote_it_down(tmp_path: Path) -> None:
    with pytest.raises(NoPlace, match=ALLOWED):
        allowed_place("socket://127.0.0.1:3306", tmp_path)
    (tmp_path / ALLOWED).write_text("127.0.0.1:9000\n192.0.2.7:4001\n")
    with pytest.raises(NoPlace, match=ALLOWED):
        allowed_place("socket://127.0.0.1:3306", tmp_path)
    assert allowed_place("socket://192.0.2.7:4001", tmp_path) == NetworkPlace("192.0.2.7", 4001)


def test_a_link_that_leads_elsewhere_is_no_device(tmp_path: Path) -> None:
    (tmp_path / "elsewhere").write_text("not a device")
    link = tmp_path / "by-id"
    link.symlink_to(tmp_path / "elsewhere")
    with pytest.raises(NoPlace, match="no serial device"):
        device_of(SerialDevice(str(link)))
    with pytest.raises(NoPlace, match="plugged in"):
        device_of(SerialDevice("/dev/ttyUSB999"))
