"""The rule by which a hurried browser test is done once more: only after a failure on a machine that stood still."""

from __future__ import annotations

import pytest

from tests.browser import stalls
from tests.browser.stalls import on_a_running_machine


@pytest.mark.parametrize(("stood_ms", "fails", "calls"), [(900, 1, 2), (900, 0, 1), (10, 1, 1), (900, 2, 2)])
def test_only_a_failure_while_the_machine_stood_is_tried_again_and_once(
    monkeypatch: pytest.MonkeyPatch, stood_ms: int, fails: int, calls: int
) -> None:
    class Stood(stalls.Stalls):
        def _watch(self) -> None:
            self.longest_ms = stood_ms

    monkeypatch.setattr(stalls, "Stalls", Stood)
    made: list[int] = []

    @on_a_running_machine
    def hurried() -> None:
        made.append(1)
        assert len(made) > fails

    if fails >= calls:
        with pytest.raises(AssertionError):
            hurried()
    elif calls > 1:
        with pytest.warns(UserWarning, match="stood still for 900 ms"):
            hurried()
    else:
        hurried()
    assert len(made) == calls
