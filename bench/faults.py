"""How right the program is on injected faults, how well its confidence is calibrated, and how long an answer takes."""

from __future__ import annotations

import os
import statistics
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from pathlib import Path

from tests.live.asking import ALL_FAULTS, Answer, ask, not_installed
from tests.live.faults import Fault
from tests.live.realhost import RealHost, why_not
from tests.live.test_healthy import HEALTHY

from bench.proofs import Carried, failed, of_host, table

AT_ONCE = (os.cpu_count() or 2) + 1
EDGES = (0.0, 0.2, 0.4, 0.6, 0.8, 0.9, 0.95, 1.01)
Claim = tuple[float, bool]
"""The confidence that a cause was given, and whether it was right."""


def one_fault(numbered: tuple[int, Fault]) -> tuple[Answer, Carried | None] | None:
    """The answer about one fault, on a host of its own, and what came of the plan for it; None where a daemon for it is lacking."""
    number, fault = numbered
    if not_installed(fault):
        return None
    with RealHost(f"bench{number}", fault.boots) as host:
        return ask(host, fault, timed=True), of_host(host, f"live: {fault.name}", fault.target)


def one_healthy(numbered: tuple[int, str]) -> Answer:
    """The answer about one state in which nothing is wrong."""
    number, name = numbered
    script, target = HEALTHY[name]
    with RealHost(f"well{number}") as host:
        return ask(host, Fault(name, script, target, "", ""))


def right(answer: Answer) -> set[tuple[str, str]]:
    """The causes that are right for a fault."""
    return {(answer.fault.cause, answer.fault.place), *answer.fault.also}


def claims(answers: list[Answer]) -> list[Claim]:
    """Every cause that was named, with its confidence and whether it was right."""
    return [
        (cause["confidence"], (cause["cause"], cause["service"]) in right(a) or (cause["cause"], "*") in right(a))
        for a in answers
        for cause in a.verdict.get("causes", ())
    ]


def brier(found: list[Claim]) -> float:
    """The mean square of confidence against truth (Brier, "Verification of forecasts", 1950)."""
    return statistics.fmean((sure - was_right) ** 2 for sure, was_right in found)


def reliability(found: list[Claim]) -> Iterator[str]:
    """The table of said confidence against observed truth."""
    yield f"{'confidence':>12} {'claims':>7} {'said':>6} {'right':>6}"
    for low, high in pairwise(EDGES):
        bin_ = [(sure, was_right) for sure, was_right in found if low <= sure < high]
        if bin_:
            said = statistics.fmean(sure for sure, _ in bin_)
            share = statistics.fmean(was_right for _, was_right in bin_)
            yield f"{f'{low:.2f}-{min(high, 1):.2f}':>12} {len(bin_):>7} {said:>6.2f} {share:>6.2f}"


def measure(_: Path) -> Iterator[tuple[str, float, float]]:
    """Accuracy, false alarms, calibration and seconds, over all faults and healthy states of the live suite."""
    reason = why_not()
    if reason:
        print(f"faults on live hosts: not measured ({reason})")
        return
    with ThreadPoolExecutor(AT_ONCE) as pool:
        both = [one for one in pool.map(one_fault, enumerate(ALL_FAULTS)) if one is not None]
        well = list(pool.map(one_healthy, enumerate(HEALTHY)))
    answers, carried = [answer for answer, _ in both], [found for _, found in both if found is not None]
    print("plans of the live suite, by their proof and by what came of them:")
    print("\n".join(table(carried)))
    yield "simulated proofs that failed, live hosts", failed(carried), 0.0
    for answer in (a for a in answers if not a.right):
        print(f"wrong: {answer.fault.name}: {answer.found[:3] or answer.errors.strip()[:200]}")
    # A note beside an all-clear is no alarm: the live suite tells for each state which it may have.
    alarms = [a for a in well if a.verdict.get("causes") or a.status != 0]
    for answer in alarms:
        print(f"false alarm: {answer.fault.name}: {answer.found[:3]}")
    found = claims(answers) + claims(well)
    daemons = {name for a in answers for name in a.fault.boots}
    print(
        f"{len(answers)} faults on {len(daemons)} daemons, {len(ALL_FAULTS) - len(answers)} not tried for want of one"
    )
    print(
        f"top-1: {sum(a.right for a in answers) / len(answers):.3f}; false alarms: {len(alarms)} of {len(well)} healthy states"
    )
    print("\n".join(reliability(found)))
    print(f"Brier score over {len(found)} named causes: {brier(found):.4f}")
    seconds, captures = [a.seconds for a in answers], [a.capture_seconds for a in answers]
    print(
        f"median why on a broken host: {statistics.median(seconds):.2f} s; capture there: {statistics.median(captures):.2f} s"
    )
    yield "wrong top causes / faults", 1 - sum(a.right for a in answers) / len(answers), 0.05
    yield "false alarms / healthy states", len(alarms) / len(well), 0.0
    yield "median why / median capture, broken hosts", statistics.median(seconds) / statistics.median(captures), 1.5
