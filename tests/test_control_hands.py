"""Hands for the control-manager family, on a made-up manager that does what it is told and nothing along with it."""

from __future__ import annotations

import copy
from pathlib import Path
from typing import Any

import pytest

from hollow_chain.causes.acts import Act
from hollow_chain.mend.control_hands import ControlHands
from hollow_chain.mend.hands import NotDone
from hollow_chain.mend.plan import Step
from hollow_chain.reach.control import CONTROL, PAUSED, RUNNING, SERVICES, STOPPED, Declined, Raw, ServiceStatus
from tests.made_control import MadeControlHost

STATE, NUMBER_AT = 1, 3
"""Where a status has its state, and its number."""


class MadeManager(MadeControlHost):
    """A host whose manager takes orders."""

    def __init__(self, needs: dict[str, list[str]], folder: Path, up: tuple[str, ...] = ()) -> None:
        configs = {
            name: [16, 3, rf"C:\{name}.exe", "", list(below), "LocalSystem", name] for name, below in needs.items()
        }
        statuses = {name: [16, RUNNING if name in up else STOPPED, 1, 0, 0, 0, 0, 0] for name in needs}
        super().__init__(
            {
                "statuses": statuses, "configs": configs, "descriptions": {}, "logs": {}, "accounts": {}, "sockets": [], "processes": {},
                "files": {rf"C:\{name}.exe": "pe" for name in needs},
                "registry": {rf"{SERVICES}\{name}": {"Start": [3, 4], "Type": [16, 4]} for name in needs},
            }
        )  # fmt: skip
        self.exact_values = self
        self.raw: dict[str, dict[str, Raw]] = {
            rf"{SERVICES}\{name}": {
                "Start": (4, b"\3\0\0\0"),
                "Type": (4, b"\x10\0\0\0"),
                "DependOnService": (7, _texts(below)),
            }
            for name, below in needs.items()
        }
        self.raw[CONTROL] = {"Other": (1, b"x\0\0\0")}
        self.fails: dict[str, int] = {}
        self.folder = folder

    def private_folder(self) -> str:
        return str(self.folder)

    def _set(self, name: str, state: int, number: int = 0) -> ServiceStatus:
        numbers = self.answers["statuses"][name]
        numbers[STATE], numbers[NUMBER_AT] = state, number
        return self.status(name)

    def start(self, name: str) -> ServiceStatus:
        self.done.append(f"start {name}")
        down = [one for one in self.answers["configs"][name][4] if self.answers["statuses"][one][STATE] != RUNNING]
        if name in self.fails or down:
            return self._set(name, STOPPED, self.fails.get(name, 1068))
        return self._set(name, RUNNING)

    def stop(self, name: str) -> ServiceStatus:
        self.done.append(f"stop {name}")
        above = [one for one, config in self.answers["configs"].items() if name in config[4]]
        if any(self.answers["statuses"][one][STATE] == RUNNING for one in above):
            raise Declined(1051, "needed by others that run")
        return self._set(name, STOPPED)

    def resume(self, name: str) -> ServiceStatus:
        self.done.append(f"continue {name}")
        return self._set(name, RUNNING)

    def pause(self, name: str) -> ServiceStatus:
        self.done.append(f"pause {name}")
        return self._set(name, PAUSED)

    def set_startup(self, name: str, kind: str) -> bool:
        number = {"automatic": 2, "delayed": 2, "manual": 3}[kind]
        self.set_start_number(name, number)
        # This manager writes a value of its own along, and another in its own form.
        self.raw[rf"{SERVICES}\{name}"] |= {"ErrorControl": (4, b"\1\0\0\0"), "Type": (4, b"\x10\0\0\0")}
        return False

    def set_start_number(self, name: str, number: int) -> None:
        self.answers["configs"][name][1] = number
        self.raw[rf"{SERVICES}\{name}"]["Start"] = 4, number.to_bytes(4, "little")

    def set_needs(self, name: str, needs: list[str]) -> None:
        self.answers["configs"][name][4] = list(needs)
        self.raw[rf"{SERVICES}\{name}"]["DependOnService"] = 7, _texts(needs)

    def set_account(self, name: str, account: str) -> None:
        self.answers["configs"][name][5] = account
        self.raw[rf"{SERVICES}\{name}"]["ObjectName"] = 1, account.encode("utf-16-le")

    def set_failure_actions(self, name: str, actions: list[tuple[int, int]], forgotten_after: int) -> None:
        self.raw[rf"{SERVICES}\{name}"]["FailureActions"] = 3, repr((actions, forgotten_after)).encode()

    def all_of(self, path: str) -> dict[str, Raw]:
        return dict(self.raw.get(path, {}))

    def put(self, path: str, name: str, value: Raw | None) -> None:
        if value is None:
            self.raw[path].pop(name, None)
        else:
            self.raw[path][name] = value


def _texts(texts: list[str]) -> bytes:
    return ("".join(f"{text}\0" for text in texts) + "\0").encode("utf-16-le")


def step(verb: str, service: str = "", value: str = "") -> Step:
    """A step of a plan."""
    act = Act(verb, service, value=value)
    return Step("quay", f"{verb} {service}", act)


CHAIN = {"Top": ["Middle"], "Middle": ["Bottom"], "Bottom": [], "Beside": []}


def hands_on(
    tmp_path: Path, up: tuple[str, ...] = (), needs: dict[str, list[str]] = CHAIN
) -> tuple[MadeManager, ControlHands]:
    """A host, and hands on it."""
    host = MadeManager(copy.deepcopy(needs), tmp_path, up)
    return host, ControlHands(host)  # type: ignore[arg-type]


def test_needs_are_started_first_the_deepest_one_before_all(tmp_path: Path) -> None:
    host, hands = hands_on(tmp_path)
    kept = hands.keep(step("start", "Top"), "m", "1")
    hands.do(step("start", "Top"), kept)
    assert host.done == ["start Bottom", "start Middle", "start Top"]
    hands.take_back(step("start", "Top"), kept)
    assert host.done[3:] == ["stop Top", "stop Middle", "stop Bottom"]


def test_what_hangs_on_a_service_is_stopped_before_it_and_comes_back(tmp_path: Path) -> None:
    host, hands = hands_on(tmp_path, up=("Top", "Middle", "Bottom", "Beside"))
    kept = hands.keep(step("stop", "Bottom"), "m", "1")
    hands.do(step("stop", "Bottom"), kept)
    assert host.done == ["stop Top", "stop Middle", "stop Bottom"]
    hands.take_back(step("stop", "Bottom"), kept)
    assert all(host.answers["statuses"][name][STATE] == RUNNING for name in CHAIN)


def test_a_restart_brings_back_what_it_took_along(tmp_path: Path) -> None:
    host, hands = hands_on(tmp_path, up=("Top", "Middle", "Bottom"))
    hands.do(step("restart", "Bottom"), hands.keep(step("restart", "Bottom"), "m", "1"))
    assert all(host.answers["statuses"][name][STATE] == RUNNING for name in ("Top", "Middle", "Bottom"))


@pytest.mark.parametrize("value", ["automatic", "delayed"])
def test_values_come_back_to_the_byte_and_absent_ones_go_again(tmp_path: Path, value: str) -> None:
    host, hands = hands_on(tmp_path)
    key = rf"{SERVICES}\Top"
    before = dict(host.raw[key])
    kept = hands.keep(step("startup", "Top", value), "m", "1")
    hands.do(step("startup", "Top", value), kept)
    assert host.raw[key]["Start"] == (4, b"\2\0\0\0")
    assert ("DelayedAutostart" in host.raw[key]) == (value == "delayed")
    hands.take_back(step("startup", "Top", value), kept)
    assert host.raw[key] == before and host.answers["configs"]["Top"][1] == 3


def test_what_somebody_else_set_meanwhile_stays(tmp_path: Path) -> None:
    host, hands = hands_on(tmp_path)
    kept = hands.keep(step("startup", "Top", "automatic"), "m", "1")
    hands.do(step("startup", "Top", "automatic"), kept)
    host.raw[rf"{SERVICES}\Top"]["Type"] = 4, b"\x20\0\0\0"
    hands.take_back(step("startup", "Top", "automatic"), kept)
    assert host.raw[rf"{SERVICES}\Top"]["Type"] == (4, b"\x20\0\0\0")


def test_a_need_is_added_to_those_that_are_there(tmp_path: Path) -> None:
    host, hands = hands_on(tmp_path)
    kept = hands.keep(step("wait", "Top", "Beside"), "m", "1")
    hands.do(step("wait", "Top", "Beside"), kept)
    assert host.answers["configs"]["Top"][4] == ["Middle", "Beside"]
    hands.take_back(step("wait", "Top", "Beside"), kept)
    assert host.answers["configs"]["Top"][4] == ["Middle"] and host.raw[rf"{SERVICES}\Top"]["DependOnService"] == (
        7,
        _texts(["Middle"]),
    )


def test_the_one_limit_goes_again_where_there_was_none(tmp_path: Path) -> None:
    host, hands = hands_on(tmp_path)
    kept = hands.keep(step("limit", value="45"), "m", "1")
    hands.do(step("limit", value="45"), kept)
    assert host.raw[CONTROL]["ServicesPipeTimeout"] == (4, (45_000).to_bytes(4, "little"))
    hands.take_back(step("limit", value="45"), kept)
    assert host.raw[CONTROL] == {"Other": (1, b"x\0\0\0")}
    with pytest.raises(NotDone, match="no start limit of its own"):
        hands.do(step("limit", "Top", "45"), {})


def test_a_service_that_was_paused_is_paused_again(tmp_path: Path) -> None:
    host, hands = hands_on(tmp_path, up=("Beside",))
    host.pause("Beside")
    kept = hands.keep(step("continue", "Beside"), "m", "1")
    hands.do(step("continue", "Beside"), kept)
    assert host.answers["statuses"]["Beside"][STATE] == RUNNING
    hands.take_back(step("continue", "Beside"), kept)
    assert host.answers["statuses"]["Beside"][STATE] == PAUSED


def test_the_account_is_one_that_needs_no_password_and_comes_back(tmp_path: Path) -> None:
    host, hands = hands_on(tmp_path)
    key = rf"{SERVICES}\Top"
    host.raw[key]["ObjectName"] = 1, "LocalSystem\0".encode("utf-16-le")
    before = dict(host.raw[key])
    kept = hands.keep(step("account", "Top", "LocalService"), "m", "1")
    hands.do(step("account", "Top", "LocalService"), kept)
    assert host.answers["configs"]["Top"][5] == "LocalService"
    hands.take_back(step("account", "Top", "LocalService"), kept)
    assert host.raw[key] == before and host.answers["configs"]["Top"][5] == "LocalSystem"
    with pytest.raises(NotDone, match="password"):
        hands.do(step("account", "Top", ".\\mate"), {})


def test_actions_after_failures_are_set_and_go_again(tmp_path: Path) -> None:
    host, hands = hands_on(tmp_path)
    key = rf"{SERVICES}\Top"
    before = dict(host.raw[key])
    one = step("recovery", "Top", "restart after 60 s; restart after 1.5 s; none")
    kept = hands.keep(one, "m", "1")
    hands.do(one, kept)
    assert host.raw[key]["FailureActions"] == (3, b"([(1, 60000), (1, 1500), (0, 0)], 86400)")
    hands.take_back(one, kept)
    assert host.raw[key] == before
    with pytest.raises(NotDone, match="no action"):
        hands.do(step("recovery", "Top", "run after 60 s"), {})


def test_a_service_is_paused_and_goes_on_again(tmp_path: Path) -> None:
    host, hands = hands_on(tmp_path, up=("Beside",))
    kept = hands.keep(step("pause", "Beside"), "m", "1")
    hands.do(step("pause", "Beside"), kept)
    assert host.answers["statuses"]["Beside"][STATE] == PAUSED
    hands.take_back(step("pause", "Beside"), kept)
    assert host.answers["statuses"]["Beside"][STATE] == RUNNING


def test_a_start_that_fails_says_which_one_and_why(tmp_path: Path) -> None:
    host, hands = hands_on(tmp_path)
    host.fails["Middle"] = 1069
    with pytest.raises(NotDone, match="Middle did not start: error 1069"):
        hands.do(step("start", "Top"), {})


def test_an_order_that_is_declined_is_told_with_its_number(tmp_path: Path) -> None:
    host, hands = hands_on(tmp_path, up=("Top", "Middle", "Bottom"))

    def declines(name: str) -> Any:
        raise Declined(5, "access is denied")

    host.stop = declines  # type: ignore[method-assign]
    with pytest.raises(NotDone, match="error 5, access is denied"):
        hands.do(step("stop", "Top"), {})


def test_without_rights_all_that_is_lacking_is_told_before_the_first_step(tmp_path: Path) -> None:
    host, hands = hands_on(tmp_path)
    host.all_rights = False
    told = hands.lacks([step("startup", "Top", "automatic"), step("start", "Top"), step("limit", value="9")])
    assert len(told) == 4 and all("administrator" in one for one in told)
    assert hands.lacks([step("reboot")]) != []
