"""A conversation with a message bus goes on for as long as answers come, and no longer; in a time that only the clock of its loop knows."""

from __future__ import annotations

import asyncio
import selectors
from collections.abc import Callable
from typing import Any

import pytest

from hollow_chain.reach.conversation import BusIsSilent, spoken

SILENCE = 20.0


class _Hurried(selectors.SelectSelector):
    """Waits for nothing: it says how long it would have waited."""

    passed = 0.0

    def select(self, timeout: float | None = None) -> list[Any]:
        self.passed += timeout or 0.0
        return super().select(0)


class _HurriedLoop(asyncio.SelectorEventLoop):
    """A loop whose time passes only where everybody waits."""

    def __init__(self) -> None:
        self.hurried = _Hurried()
        super().__init__(self.hurried)

    def time(self) -> float:
        return self.hurried.passed


class _SlowBus:
    """A bus that answers each question after so many seconds."""

    def __init__(self, each: float, connects: float = 0.0) -> None:
        self.each, self.connects = each, connects
        self.is_open = False
        self._heard: Callable[[object], None] = lambda _: None

    async def connect(self) -> None:
        await asyncio.sleep(self.connects)
        self.is_open = True

    def disconnect(self) -> None:
        self.is_open = False

    def add_message_handler(self, handler: Callable[[object], None]) -> None:
        self._heard = handler

    async def ask(self) -> None:
        await asyncio.sleep(self.each)
        self._heard(object())


@pytest.fixture(autouse=True)
def loops(monkeypatch: pytest.MonkeyPatch) -> list[_HurriedLoop]:
    made: list[_HurriedLoop] = []

    def new() -> _HurriedLoop:
        made.append(_HurriedLoop())
        return made[-1]

    monkeypatch.setattr(asyncio, "new_event_loop", new)
    return made


def _asked(times: int) -> Callable[[Any], Any]:
    async def talk(bus: _SlowBus) -> int:
        for _ in range(times):
            await bus.ask()
        return times

    return talk


def test_a_slow_host_is_heard_to_its_end(loops: list[_HurriedLoop]) -> None:
    bus = _SlowBus(each=SILENCE - 1)
    assert spoken(lambda: bus, _asked(5), SILENCE) == 5
    assert loops[0].time() == pytest.approx(5 * (SILENCE - 1)) and not bus.is_open


@pytest.mark.parametrize(
    "bus", [_SlowBus(each=10_000), _SlowBus(each=0, connects=10_000)], ids=["no answer", "no connection"]
)
def test_one_that_says_nothing_is_given_up_after_one_silence(bus: _SlowBus, loops: list[_HurriedLoop]) -> None:
    with pytest.raises(BusIsSilent, match="no answer within 20 s"):
        spoken(lambda: bus, _asked(1), SILENCE)
    assert loops[0].time() == pytest.approx(SILENCE) and not bus.is_open


def test_one_that_never_comes_to_an_end_is_given_up(loops: list[_HurriedLoop]) -> None:
    bus = _SlowBus(each=1)
    with pytest.raises(BusIsSilent, match="not all was answered within 180 s"):
        spoken(lambda: bus, _asked(100_000), SILENCE)
    assert loops[0].time() == pytest.approx(9 * SILENCE) and not bus.is_open


def test_what_it_meets_on_the_way_goes_through() -> None:
    async def talk(_: _SlowBus) -> None:
        raise EOFError

    bus = _SlowBus(each=1)
    with pytest.raises(EOFError):
        spoken(lambda: bus, talk, SILENCE)
    assert not bus.is_open
