"""``observe`` on a stand-in host, its refusals, and what a kept observation means to the rules."""

from __future__ import annotations

import contextlib
import os
import signal
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from hollow_chain.causes import Facts
from hollow_chain.chain import Graph
from hollow_chain.cli.observing import interrupts_kept
from hollow_chain.facts.host import Event, File, Host, snapshot
from hollow_chain.facts.observed import Observation, ObservedCall, ObservedWait
from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import Account, Definition, Limits, Program, Service
from hollow_chain.verdict import Verdict, diagnose
from hollow_chain.wording.observed import LIKELY, SURE, records_of
from tests.conftest import Run
from tests.test_mend_lab import host, services

__all__ = ["host"]
AT = datetime(2031, 3, 4, 6, 12, tzinfo=UTC)


@pytest.mark.skipif(os.name != "posix", reason="the signal of a terminal (termios(3))")
def test_a_ctrl_c_that_was_dropped_is_raised_again() -> None:
    before = signal.getsignal(signal.SIGINT)
    with interrupts_kept() as again:
        again()
        with contextlib.suppress(KeyboardInterrupt):  # as a finalizer drops it
            os.kill(os.getpid(), signal.SIGINT)
            time.sleep(5)
        with pytest.raises(KeyboardInterrupt):
            again()
    assert signal.getsignal(signal.SIGINT) is before


def test_a_good_start_on_a_stand_in_host(run: Run, host: Path) -> None:
    run("lab", "stop", "host", "BoardWeb")
    done = run("observe", "BoardWeb", "--from", "host", "--yes")
    assert done.status == 0 and "BoardWeb: it starts" in done.out and "systemd hosts only" in done.out
    assert "state   running" in done.err and "says    BoardWeb is up" in done.err
    assert services(host)["BoardWeb"]["state"] == "running"


def test_json_has_what_was_observed_and_nothing_else(run: Run, host: Path) -> None:
    run("lab", "stop", "host", "BoardWeb")
    found = run("observe", "BoardWeb", "--from", "host", "--yes", "--json").json
    assert found["format"] == "hollow-chain/verdict" and found["healthy"]
    seen = found["observed"]
    assert seen["outcome"] == "up" and not seen["traced"] and seen["parts"][0]["what"] == "until it was up"
    assert set(seen) == {
        "at", "seconds", "outcome", "traced", "why_not_traced", "parts", "calls", "waits", "known_good", "read_last", "along",
    }  # fmt: skip
    assert run("why", "BoardWeb", "--from", "host", "--json").json["observed"] is None


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["BoardWeb", "--from", "host"], "--restart stops it first"),
        (["NoSuchThing", "--from", "host", "--yes"], "no service"),
        (["BoardWeb", "--from", "host", "--yes", "--attach"], "for systemd hosts"),
        (["BoardWeb", "--from", "host", "--attach", "--restart"], "exclude one another"),
        (["BoardWeb", "--from", "host", "--restart"], "add --yes"),
        (["BoardWeb", "--from", "nowhere", "--yes"], "nowhere"),
    ],
)
def test_what_is_refused_is_refused_in_one_line(run: Run, host: Path, words: list[str], said: str) -> None:
    before = services(host)
    done = run("observe", *words)
    assert done.status in (2, 3) and said in done.err and done.err.count("\n") == 1, done.err
    assert services(host) == before


def verdict(seen: Observation, files: list[File], **more: object) -> Verdict:
    """What is said of a silent service that was watched."""
    last = LastRun(result="exit-code", exit_status=1, started_at=AT, ended_at=AT + timedelta(seconds=1))
    service = Service(
        name="mute.service", state="failed", startup="automatic", definition=Definition(file="/etc/systemd/system/mute.service"),
        program=Program(path="/opt/mute", style="simple"), account=Account(user="daemon"), last=last, limits=Limits(),
    )  # fmt: skip
    for name, value in more.items():
        setattr(service, name, value)
    facts = Host(name="quay-01", services=[service], files=files, observed=[seen], read_at=AT + timedelta(seconds=5))
    built = Facts(Graph(snapshot([facts])))
    return diagnose(built, built.graph.node("quay-01", "mute.service"))


def failing(**call: object) -> Observation:
    values = {"name": "openat", "kind": "open", "thing": "/srv/chart", "error": "ENOENT", "weight": 0.8} | call
    one = ObservedCall(at=AT + timedelta(seconds=0.5), process=7, program="/opt/mute", **values)  # type: ignore[arg-type]
    return Observation("mute.service", AT, outcome="failed", traced=True, calls=[one])


def test_a_call_that_stands_alone_proves_its_cause() -> None:
    found = verdict(
        failing(), [File("/srv/chart", exists=False), File("/srv", kind="folder", mode="0755", owner="root")]
    )
    first = found.causes[0]
    assert first.finding.cause == "path-missing" and "/srv/chart" in first.finding.says and first.confidence > 0.9
    assert [piece.source for piece in first.finding.evidence if piece.bears == "proof"] == ["observed"]


def test_a_call_that_is_one_among_others_only_suggests() -> None:
    found = verdict(failing(weight=SURE - 0.1), [File("/srv/chart", exists=False)])
    named = [cause for cause in found.causes if cause.finding.cause == "path-missing"]
    assert all(cause.confidence < 0.8 for cause in named)
    assert not records_of(failing(weight=LIKELY - 0.1))


def test_what_is_there_by_now_is_no_cause() -> None:
    there = File("/srv/chart", kind="file", mode="0644", owner="daemon")
    found = verdict(failing(), [there])
    assert not [cause for cause in found.causes if cause.finding.cause == "path-missing" and cause.confidence > 0.5]


def test_a_path_with_a_space_is_one_path() -> None:
    thing = "/srv/the old chart"
    found = verdict(failing(thing=thing), [File(thing, exists=False)])
    assert found.causes[0].finding.cause == "path-missing" and f"needs {thing}, which" in found.causes[0].finding.says


def test_once_watched_it_is_not_offered_again() -> None:
    nothing = verdict(Observation("mute.service", AT, outcome="failed", traced=True), [])
    assert nothing.next_look is None or "hollow-chain observe" not in nothing.next_look.does


def test_a_start_that_ran_out_of_time_is_told_by_what_it_waits_in() -> None:
    wait = ObservedWait("openat", "open", "/run/pipe", process=7, program="/opt/mute", seconds=9.0)
    seen = Observation("mute.service", AT, outcome="failed", traced=True, waits=[wait])
    last = LastRun(result="timeout", started_at=AT, ended_at=AT + timedelta(seconds=10), signal=15)
    found = verdict(
        seen, [], last=last, limits=Limits(start_seconds=10.0), program=Program(path="/opt/mute", style="notify")
    )
    first = found.causes[0].finding
    assert first.cause == "start-timeout" and "it waits in openat of /run/pipe" in first.says
    assert any(piece.source == "observed" for piece in first.evidence)


def test_records_of_its_log_and_of_the_start_stand_beside_each_other() -> None:
    log = Event(
        at=AT, text="cannot open /srv/chart: No such file or directory", service="mute.service", source="journal (mute)"
    )
    facts = Host(name="quay-01", services=[], events=[log], observed=[failing()])
    index = Facts(Graph(snapshot([facts]))).index("quay-01")
    assert [event.source for event in index.events["mute.service"]] == ["journal (mute)", "observed"]


@pytest.mark.parametrize("words", [("--observe", "--json"), ("--observe",), ("--json",)])
def test_where_a_mend_does_not_hold_one_more_start_is_watched(
    run: Run, tmp_path: Path, host: Path, words: tuple[str, ...]
) -> None:
    run("lab", "stop", "host", "LaneCount")
    run("lab", "fault", "host", "crash", "LaneCount", "2s")  # nothing of it shows before it is started
    done = run("mend", "LaneCount", "--from", "host", "--apply", "--yes", "--store", str(tmp_path / "cases.db"), *words)
    assert done.status == 4
    if "--json" not in words:
        assert "LaneCount: it did not start" in done.out
    elif "--observe" in words:
        assert done.json["held"] is False and done.json["observed"]["format"] == "hollow-chain/verdict"
        assert done.json["observed"]["observed"]["outcome"] != "up"
    else:
        assert "observed" not in done.json
