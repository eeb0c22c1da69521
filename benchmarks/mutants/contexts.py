"""A plugin of pytest: lines that are reached are on the account of the test and its parameters."""

from __future__ import annotations

import coverage
import pytest


@pytest.hookimpl(tryfirst=True)
def pytest_runtest_setup(item: pytest.Item) -> None:
    """Begin a context with what a test needs."""
    current = coverage.Coverage.current()
    if current is not None:
        current.switch_context(item.nodeid)
