"""Programs become services on a throwaway host of the control-manager family, and come off again."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from typing import Any

import pytest

from tests.live.test_win32 import RUNNING, needs_win32
from tests.live.test_win32_mends import up
from tests.live.winhost import PROGRAMS, RUNTIME, WinHost, windows
from tests.power_cut import CUT, PASSED

__all__ = ["needs_win32"]
pytestmark = [pytest.mark.live, pytest.mark.win32]
B = r"C:\opt\berth.exe"
WISHES: dict[str, list[str]] = {
    "Tide": [],
    "TideLog": ["--needs", "Tide", "--describe", "Keeps what the tide was"],
    "Ramp": ["--account", "NetworkService", "--shown-as", "Ramp of berth 2"],
    "Chain Locker": ["--restart", "after 10s, at most 3 in 10min"],
    "Fender": ["--start", "manual"],
    "Bollard": ["--start", "delayed", "--port", "7611"],
    "Gauge": ["--account", "LocalSystem"],
    "Gauge log": ["--account", "LocalSystem", "--needs", "Gauge", "--restart", "never"],
    "Pilot": ["--shown-as", "Pilot (says it is up after a while)"],
    "Winch": ["--account", "LocalService", "--needs", "Ramp", "--needs", "Tide"],
    "Buoy": ["--account", "LocalSystem", "--describe", 'Lies 50% "deep", and more'],
    "Kiosk": ["--port", "7612"],
}
WORDS = {"Bollard": ["--port", "7611"], "Kiosk": ["--port", "7612"], "Pilot": ["--starts-in", "1200"]}
IN_PYTHON = ("Gauge", "Gauge log", "Buoy")
PYTHON = windows(RUNTIME / "py" / "python.exe")
"""A program of another language: CPython itself, with a script that is a service."""


@pytest.fixture(scope="module")
def host(needs_win32: None) -> Iterator[WinHost]:
    """A host with nothing on it but its own."""
    with WinHost("wharf") as wharf:
        yield wharf


def definitions(host: WinHost) -> dict[str, Any]:
    """Everything that the registry has below the services."""
    found: dict[str, Any] = host.acts(["below"])[0]
    return found


def register(host: WinHost, name: str, *more: str) -> Any:
    words = [name, *WORDS.get(name, [])]
    if name in IN_PYTHON:
        words = [windows(PROGRAMS / "tide_service.py"), *words]
    return host.hollow_chain(
        "register",
        PYTHON if name in IN_PYTHON else B,
        "--name",
        name,
        *WISHES.get(name, []),
        "--apply",
        "--yes",
        "--watch",
        "0.5",
        "--another",
        *more,
        "--",
        *words,
    )


def test_programs_become_services_run_over_a_boot_and_come_off(host: WinHost) -> None:
    before = definitions(host)
    for name in WISHES:
        done = register(host, name)
        assert done.status == 0, f"{name}\n{done.out[-1500:]}\n{done.err}"
        assert ("may do anything" in " ".join(done.out.split())) == ("LocalSystem" in WISHES[name]), name
    started = set(WISHES) - {"Fender"}
    assert started <= up(host)
    host.reboot()
    assert started - {"Bollard"} <= up(host)  # the delayed ones are minutes away
    for name in reversed(WISHES):
        done = host.hollow_chain("unregister", name, "--apply", "--yes")
        assert done.status == 0, f"{name}\n{done.out[-1500:]}\n{done.err}"
    assert definitions(host) == before


def test_what_is_taken_back_is_as_it_was_to_the_byte(host: WinHost) -> None:
    before = definitions(host)
    assert register(host, "Tide").status == 0
    made = definitions(host)
    changed = host.hollow_chain(
        "register",
        "--edit",
        "Tide",
        "--describe",
        "Says how high it stands",
        "--restart",
        "after 5s",
        "--apply",
        "--yes",
    )
    assert changed.status == 0, (changed.out[-1500:], changed.err)
    assert definitions(host) != made
    undone = host.hollow_chain("register", "--undo", "--yes")
    assert undone.status == 0, (undone.out[-800:], undone.err)
    assert definitions(host) == made
    off = host.hollow_chain("unregister", "Tide", "--apply", "--yes")
    assert off.status == 0, (off.out[-1500:], off.err)
    back = host.hollow_chain("unregister", "--undo", "--yes")
    assert back.status == 0, (back.out[-800:], back.err)
    assert definitions(host) == made
    assert "Tide" in up(host)
    assert host.hollow_chain("register", "--undo", "--yes").status == 0
    assert definitions(host) == before


def test_what_does_not_come_up_leaves_nothing_behind(host: WinHost) -> None:
    before = definitions(host)
    done = host.hollow_chain(
        "register", B, "--name", "Lost", "--apply", "--yes", "--watch", "0.5", "--", "Lost", "--ends", "5"
    )
    assert done.status == 4, (done.out[-5000:], done.err)
    assert "nothing is left registered" in " ".join(done.out.split())
    assert definitions(host) == before
    assert RUNNING not in [host.acts(["states"])[0].get("Lost")]


def test_events_are_kept_or_the_registration_is_taken_back(host: WinHost) -> None:
    """The manager of this system has no events; that it has none has to be said, and nothing may be left."""
    before = definitions(host)
    done = host.hollow_chain(
        "register",
        B,
        "--name",
        "Ebb",
        "--start",
        "on network up",
        "--stop-on",
        "network down",
        "--apply",
        "--yes",
        "--",
        "Ebb",
    )
    if done.status == 0:
        assert any("TriggerInfo" in key for key in definitions(host))
        assert host.hollow_chain("register", "--undo", "--yes").status == 0
    else:
        assert done.status == 4 and "did not hold" in done.out, (done.out[-800:], done.err)
    assert definitions(host) == before


WRONG: dict[str, tuple[list[str], str]] = {
    "no such program": ([r"C:\opt\none.exe", "--name", "A"], "is not there"),
    "no full path": (["berth.exe", "--name", "A"], "no full path"),
    "a folder": ([r"C:\opt", "--name", "A"], "folder"),
    "no such need": ([B, "--name", "A", "--needs", "Nowhere"], "no service 'Nowhere'"),
    "no such account": ([B, "--name", "A", "--account", r".\nobody-here"], "account"),
    "a slash in its name": ([B, "--name", "A/B"], "slash"),
    "a working folder": ([B, "--name", "A", "--folder", r"C:\opt"], "no working folder"),
    "a limit of its own": ([B, "--name", "A", "--limit", "60s"], "no start limit of its own"),
    "a file with its environment": ([B, "--name", "A", "--env-file", r"C:\opt\env"], "reads no such file"),
    "a time": ([B, "--name", "A", "--start", "on time daily 04:00"], "no event for a time"),
    "only an order": ([B, "--name", "A", "--after", "EventLog"], "means to need it"),
}


@pytest.mark.parametrize("what", WRONG)
def test_wrong_ones_are_refused_before_anything_is_written(host: WinHost, what: str) -> None:
    words, said = WRONG[what]
    before = definitions(host)
    done = host.hollow_chain("register", *words, "--apply", "--yes")
    assert done.status == 2, (done.out[-800:], done.err)
    assert said in done.err and done.err.count("\n") == 1
    assert definitions(host) == before


def test_at_every_moment_of_a_power_cut_nothing_is_left_half_made(host: WinHost) -> None:
    before = definitions(host)
    off = ("unregister", "Ramp", "--apply", "--yes", "--json")
    on = ("register", B, "--name", "Ramp", "--restart", "after 10s", "--apply", "--yes", "--watch", "0", "--json")
    cuts = 0
    for call, well in (((*on, "--", "Ramp"), before), (off, None)):
        if well is None:
            well = definitions(host)
        shutil.rmtree(host.disk / "ProgramData/hollow-chain", ignore_errors=True)  # nothing older is to be taken back
        for moment in range(60):
            status = host.python("-m", "tests.power_cut", str(moment), *call).status
            if status == PASSED:
                break
            cuts += 1
            assert status == CUT, (call, moment, status)
            undone = host.hollow_chain("mend", "--undo", "--yes")
            assert undone.status == 0 or "no mend" in undone.err or "nothing" in undone.err, (moment, undone.err)
            assert definitions(host) == well, (call, moment)
            assert ("Ramp" in up(host)) == (call is off), (call, moment)
    assert cuts >= 20
    assert definitions(host) == before


def test_a_start_is_watched(host: WinHost) -> None:
    before = definitions(host)
    for name, words in (("Ebb", ["Ebb", "--starts-in", "2500", "--counts", "500"]), ("Lost", ["Lost", "--ends", "5"])):
        call = ["--name", name, "--start", "manual", "--another", "--apply", "--yes", "--", *words]
        done = host.hollow_chain("register", B, *call)
        assert done.status == 0, (done.out[-800:], done.err)
    good = host.hollow_chain("observe", "Ebb", "--yes")
    assert good.status == 0 and "Ebb: it starts" in good.out and "systemd hosts only" in good.out, (good.out, good.err)
    assert "starting, step" in good.err and "state   running" in good.err, good.err
    bad = host.hollow_chain("observe", "Lost", "--yes", "--json")
    assert bad.status == 1 and bad.json["causes"] and bad.json["observed"]["outcome"] == "failed", (
        bad.out[-800:],
        bad.err,
    )
    for name in ("Ebb", "Lost"):
        assert host.hollow_chain("unregister", name, "--apply", "--yes").status == 0
    assert definitions(host) == before
