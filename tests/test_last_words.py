"""Which line of a run says why it ended: not the sentence that closes it, and not what was done without."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from hollow_chain.facts.host import Event
from hollow_chain.wording.last_words import closes, final, telling

NOON = datetime(2026, 3, 4, 12, tzinfo=UTC)


def run_of(text: str) -> list[Event]:
    lines = text.strip().splitlines()
    return [Event(at=NOON + timedelta(milliseconds=n), text=line, service="a.service") for n, line in enumerate(lines)]


@pytest.mark.parametrize(
    ("text", "reason"),
    [
        ("CHECK(opened) harbor.Bind(quay, 7): No such device\nABORTABORT\n/usr/sbin/tide(+0x6f3e) [0x5598c]\n"
         "Tide stopped after 3.6s: tide wait failed: signal: aborted\nTide ran for too little time, crashing to avoid a loop", "CHECK(opened)"),
        ("[11:04] INFO: desk begins\n[11:04] ERRR: No berth is set\n[11:04] ERRR: Failed to initialize desk (desk.c:34)\n[11:04] INFO: done",
         "[11:04] ERRR: No berth is set"),
        ("make_socket: Unable to create socket. Protocol not supported.\nmain: Couldn't start Ferry Port Mapper.", "make_socket"),
        ("Tables not found\nFerry init failed", "Tables not found"),
        ("[ERROR] quay 7 has depth 2.1 m, needs 4 m\n[ERROR] start of plug-in berth failed\n[ERROR] shutting down", "[ERROR] quay 7"),
        ("WARN no almanac given, tides are guessed\nERROR station 'mole' answered with an empty list\nmake: *** [Makefile:3: run] Error 1",
         "ERROR station"),
        ("fatal: almanac has no entries\nexit status 1", "fatal: almanac"),
        ("Tide table ends in 2024, and today is later\nPlease contact the harbor office.", "Tide table ends"),
        ("Tide table ends in 2024, and today is later\nFor more information, see https://quay.example/docs", "Tide table ends"),
        ("Tide table ends in 2024, and today is later\nRun `quay doctor` to diagnose\nA complete log of this run is in /root/x.log", "Tide table"),
        ("su: the flag for no new rights is set\nsu: If su is running in a box, you may need to change that box", "su: the flag"),
        ("ERROR: BERTH is not set\nPlease set BERTH in /etc/default/desk", "ERROR: BERTH"),
        ("[WARN] berths tide not there yet, starting...\n[ERROR] Error: No script of tides - aborting", "[ERROR] Error: No script"),
        ("ERROR: tides of 2027 are over\nfatal: could not start, exiting", "ERROR: tides of 2027"),
        ("no berth at quay 7\nAborting startup, see the log above", "no berth"),
        ("Please set BERTH in /etc/default/desk", "Please set BERTH"),
        ("ERROR: tides of 2027 are missing\nINFO closing", "ERROR: tides"),
        ("no almanac given, using the default\nERROR: failed to start", "ERROR: failed to start"),
        ("INFO: no quay is open yet\nERROR: failed to start", "ERROR: failed to start"),
        ("cannot read the almanac\nopened the desk\ntold the quays\nbegan to sell\nERROR: could not continue", "ERROR: could not continue"),
        ("ERROR: could not start: tides of 2027 are missing", "ERROR: could not start: tides"),
        ("desk 2.9\n2| FATAL|?|please set a pier and a quay\n2| FATAL|?|errno at that time: 0 (Success)\n2| Execution path:",
         "2| FATAL|?|please"),
        ("No quay was given.\nUsage: desk [OPTIONS]\n  -q --quay=<quay>  The quay.\n  -h --help  Display this.\nWrite to desk@harbor.example",
         "No quay was given."),
        ("usage: desk [-h] [--quay QUAY]\ndesk: error: unrecognized arguments: --berth 3", "desk: error"),
    ],
)  # fmt: skip
def test_the_line_that_says_why(text: str, reason: str) -> None:
    assert telling(run_of(text))[-1].text.startswith(reason)
    assert final(run_of(text))[-1].text.startswith(reason)


@pytest.mark.parametrize(
    ("text", "is_closing"),
    [
        ("ferry.service: failed to start", True), ("Application startup failed", True), ("exited with status 1", True), ("giving up", True),
        ("could not start: no berth", False), ("cannot open /srv/quay", False), ("failed to start the desk: permission denied", False),
        ("address already in use, exiting", False), ("listening on port 80", False),
    ],
)  # fmt: skip
def test_what_only_closes_a_run(text: str, is_closing: bool) -> None:
    assert closes(text) is is_closing


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("a.service: Scheduled restart job, restart counter is at 1.", False),
        ("a.service: Consumed 2.651s CPU time.", False),
        ("a.service: Deactivated successfully.", False),
        ("Started a.service - Ferry desk.", False),
        ("a.service: Found left-over process 99 (tided) in control group while starting unit. Ignoring.", True),
    ],
)
def test_what_the_manager_does_as_a_rule_is_no_last_word(text: str, told: bool) -> None:
    event = Event(at=NOON, text=text, service="a.service", by_manager=True)
    assert telling([event]) == [event] * told
