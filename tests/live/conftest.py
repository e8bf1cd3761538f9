"""The throwaway host of the live tests. Where none can be booted they are skipped, and in CI they fail."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.live.realhost import RealHost, why_not

REQUIRED = os.environ.get("HOLLOW_CHAIN_LIVE") == "required"
PROGRAM = Path(sys.executable).parent / "hollow-chain"
DAEMONS = ("nginx", "redis-server", "memcached")


@pytest.hookimpl(trylast=True)
def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Stop where groups are asked for and not kept: each worker would build hosts of its own, and all would starve."""
    grouped = [item for item in items if item.get_closest_marker("xdist_group") is not None]
    if getattr(config.option, "loadgroup", False) and any("@" not in item.nodeid for item in grouped):
        raise pytest.UsageError(
            "this pytest-xdist keeps no groups together with this pytest; pyproject.toml names one that does"
        )


def needs_a_host() -> None:
    """Skip (or, where live tests are required, fail) if no host can be booted."""
    reason = why_not() or next(
        (f"{name} is not installed" for name in DAEMONS if not Path(f"/lib/systemd/system/{name}.service").exists()),
        "",
    )
    if reason and REQUIRED:
        pytest.fail(f"live tests are required here, but: {reason}")
    if reason:
        pytest.skip(f"no throwaway host: {reason}")


@pytest.fixture()
def second_try(request: pytest.FixtureRequest) -> Callable[[str], None]:
    """Says that something is tried a second time, on a new host, and why: such tries are counted, and told at the end of the run."""
    return lambda why: request.node.user_properties.append(("second try", why))


@pytest.fixture(scope="session")
def healthy_host() -> Iterator[RealHost]:
    """A host that nothing is done to."""
    needs_a_host()
    with RealHost("anchor") as host:
        yield host


@pytest.fixture()
def fresh_host() -> Iterator[RealHost]:
    """A host of one's own, to break."""
    needs_a_host()
    with RealHost("pier") as host:
        yield host
