"""The program on a throwaway host of the control-manager family: what it reads, names, mends and takes back there."""

from __future__ import annotations

import os
from collections.abc import Iterator

import pytest

from tests.conftest import Done
from tests.live.win32_faults import FAULTS, HEALTHY, HEALTHY_FILES, OTHER_MACHINE, Win32Fault
from tests.live.winhost import WinHost, why_not

pytestmark = [pytest.mark.live, pytest.mark.win32]
STARTING, RUNNING = 2, 4


@pytest.fixture(scope="session")
def needs_win32() -> None:
    """Skip (or, where live tests are required, fail) if no such host can be booted."""
    reason = why_not()
    if reason and os.environ.get("HOLLOW_CHAIN_LIVE") == "required":
        pytest.fail(f"live tests are required here, but: {reason}")
    if reason:
        pytest.skip(f"no throwaway host of the other family: {reason}")


def lay_out(host: WinHost, files: dict[str, bytes]) -> None:
    """Make files below C:/opt."""
    opt = host.disk / "opt"
    for name, data in files.items():
        (opt / name).parent.mkdir(parents=True, exist_ok=True)
        program = (opt / "berth.exe").read_bytes()
        (opt / name).write_bytes({b"=": program, b"=arm": OTHER_MACHINE(program)}.get(data, data))


@pytest.fixture(scope="session")
def broken(needs_win32: None) -> Iterator[WinHost]:
    """A host with all faults on it, and with the healthy states beside them."""
    with WinHost("quay") as host:
        lay_out(host, {"logs/.keep": b"", **HEALTHY_FILES})
        acts = [act for many in HEALTHY.values() for act in many]
        for fault in FAULTS:
            lay_out(host, fault.files)
            acts += fault.acts
        answers = host.acts(*acts)
        wrong = [
            (act, answer) for act, answer in zip(acts, answers, strict=True) if act[0] in ("create", "put") and answer
        ]
        assert not wrong, wrong
        yield host


def first_causes(done: Done) -> list[tuple[str, str]]:
    """Causes with their places, in order."""
    return [(one["cause"], one["service"]) for one in done.json["causes"]]


@pytest.mark.parametrize("fault", FAULTS, ids=lambda fault: fault.name)
def test_the_hollow_link_is_named(broken: WinHost, fault: Win32Fault) -> None:
    done = broken.hollow_chain("why", fault.ask, "--json")
    found = first_causes(done)
    assert done.status == 1, done.json["summary"]
    if fault.both:
        assert set(found[: len(fault.right)]) == set(fault.right), done.json["summary"]
    else:
        assert found[0] in fault.right, (found, done.json["summary"])
    said = f"{done.json['causes'][0]['says']} {done.json['causes'][0]['evidence']} {done.json['causes'][0]['mends']}".replace(
        "\\\\", "\\"
    )
    assert fault.names.casefold() in said.casefold()


def test_healthy_states_are_well(broken: WinHost) -> None:
    roster = {one["service"]: one for one in broken.hollow_chain("roster", "--json").json["services"]}
    listed = {one["target"]["service"] for one in broken.hollow_chain("why", "--all", "--json").json["verdicts"]}
    system = {name for name, one in roster.items() if name not in HEALTHY and one.get("description")}
    for name in [*HEALTHY, *system]:
        assert name not in listed, name
        assert roster[name]["standing"] in ("up", "idle", "not yet"), roster[name]
    for name in ("Harbor", "HarborOffice", "NightFerry", "SlowBoat", "Long Pier", "Convoy", "Signal", "OnCall"):
        done = broken.hollow_chain("why", name, "--json")
        assert done.status == 0 and done.json["healthy"], (name, done.json["summary"])
