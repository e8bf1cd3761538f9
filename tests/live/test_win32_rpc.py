"""The real service manager of a host of the control-manager family, asked by remote calls: by a client of another make through a relay
of its pipe, and by the system's own client, which takes the name of a machine."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator
from contextlib import suppress
from typing import Any

import pytest

from tests.live.test_win32 import needs_win32  # noqa: F401 - a fixture
from tests.live.winhost import PROGRAMS, WinHost, windows

pytestmark = [pytest.mark.live, pytest.mark.win32]
PORT = 4455


@pytest.fixture(scope="module")
def host(needs_win32: None) -> Iterator[WinHost]:  # noqa: F811
    """A host that nothing is broken on."""
    with WinHost("pier") as built:
        yield built


def test_every_order_goes_through_to_the_manager(host: WinHost) -> None:
    script = PROGRAMS / "relay.py"
    with host.serving(windows(script), str(PORT), r"\\.\pipe\svcctl"):
        done = subprocess.run(
            host.beside(sys.executable, PROGRAMS / "ask_manager.py", PORT),
            capture_output=True,
            text=True,
            timeout=120,
            check=False,
        )
    assert done.returncode == 0, done.stderr
    found: dict[str, Any] = json.loads(done.stdout)
    assert found["all rights"] and found["listed"] == ["FerryDesk"] and found["processes"]
    kind, startup, command, _, _, account, shown_as = found["config"]
    assert (kind, startup, command) == (16, 3, r"C:\opt\berth.exe --name FerryDesk")
    assert (account, shown_as) == ("LocalSystem", "Ferry desk")
    assert found["started"]["state"] == 4 and found["started"]["process"] > 0
    assert found["stopped"] == 1 and found["startup"] == 2
    assert (found["disabled"], found["no need"]) == (1058, 4)
    assert found["account"].casefold() == r"nt authority\localservice"
    assert (found["absent"], found["events"], found["unknown"], found["deleted"]) == (2, 50, 1060, 1060)


def test_the_systems_own_client_takes_the_name_of_a_machine(host: WinHost) -> None:
    host.acts(["create", "Tide", r"C:\opt\berth.exe --name Tide"])
    near = {one["service"]: one for one in host.hollow_chain("roster", "--json").json["services"]}
    done = host.hollow_chain("roster", "--json", "--from", "rpc://pier")
    far = {one["service"]: one for one in done.json["services"]}
    assert set(far) == set(near) and far["Tide"]["startup"] == "manual", done.err
    assert {one["host"] for one in far.values()} == {"PIER"}
    done = host.hollow_chain("mend", "Tide", "--apply", "--yes", "--now-only", "--watch", "0", "--from", "rpc://pier")
    assert done.status == 0, done.out + done.err
    assert host.hollow_chain("why", "Tide", "--from", "rpc://pier").status == 0
    done = host.hollow_chain("mend", "--undo", "--yes", "--from", "rpc://pier")
    assert done.status == 0, done.out + done.err
    found = {one["service"]: one for one in host.hollow_chain("roster", "--json").json["services"]}
    assert found["Tide"]["state"] == "stopped"
    with suppress(AssertionError):
        host.acts(["delete", "Tide"])


def test_another_user_is_not_taken_from_an_address(host: WinHost) -> None:
    done = host.hollow_chain("roster", "--from", "rpc://clerk@pier")
    assert done.status == 3 and "whoever is logged on asks" in done.err
