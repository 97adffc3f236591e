"""Fixtures of the tests of faults: the house of the API's tests."""

from tests.rooms.conftest import alone, catalogue, cheap_hashes, house

__all__ = ["alone", "catalogue", "cheap_hashes", "house"]
