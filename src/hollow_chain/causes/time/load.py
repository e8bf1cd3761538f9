"""Boots where everything starts at once: in time alone, late among the others."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.acts import limit as set_limit
from hollow_chain.causes.acts import start, startup
from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import AFTER_REBOOT, FITS, SAID, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.time.limits import longer_limit, sum_of, timed_out
from hollow_chain.causes.time.pace import limit_of, needed_by
from hollow_chain.causes.words import between, clock, span
from hollow_chain.facts.runs import Start
from hollow_chain.families.times import AT_BOOT_SECONDS

_SLOWER = 1.5
"""How many times longer starts at boot take on record before the boot is blamed for it."""


@cause("boot-contention", Boot.OVER, lacks_only_a_start=True, states=("running", *NOT_UP), when=When.UNWELL)
def boot_contention(case: Case) -> Iterator[Finding]:
    """In time by itself, too late among everything that starts at boot.

    Looks at: the records of several starts, those at boot and those by hand; the limit; when the last try was.
    Convinced by: tries at boot that ran out of time, and good starts by hand that were well within the limit.
    Against: a start by hand that was as slow; a single boot on record.
    Mend: start it later (delayed, or after what loads the host), or let others start later; a longer limit helps too.
    """
    limit, last = limit_of(case), case.service.last
    boot = case.host.boot_at
    if limit is None or last is None or boot is None or last.started_at is None or not timed_out(case):
        return
    if (last.started_at - boot).total_seconds() > AT_BOOT_SECONDS:
        return
    by_hand = [s.seconds for s in case.service.starts if s.outcome == "up" and not s.at_boot and s.seconds > 0]
    at_boot = [s for s in case.service.starts if s.at_boot and abs((s.at - last.started_at).total_seconds()) > 1]
    late = [s for s in at_boot if s.outcome == "timeout" or (s.outcome == "up" and s.seconds > limit.seconds)]
    if (
        not by_hand
        or max(by_hand) >= limit.seconds
        or not at_boot
        or not _boots_are_slow(at_boot, by_hand, limit.seconds)
    ):
        return
    others = _started_together(case)
    evidence = [
        case.seen(
            f"the try at {clock(last.started_at)} was part of the boot at {clock(boot)} and ran out of time", bears=FITS
        ),
        case.seen(
            f"{len(by_hand)} starts by hand took {between(min(by_hand), max(by_hand))}; {span(limit.seconds)} are allowed",
            "recorded starts",
            bears=SAID,
        ),
        case.seen(
            f"{len(at_boot)} earlier boots on record: {len(late)} too late, the others {_took(at_boot)}",
            "recorded starts",
            bears=FITS,
        ),
    ]
    if others:
        evidence.append(case.seen(f"{others} other services were being started at the same time"))
    name = case.service.name
    needed = needed_by(case)
    longer = longer_limit(limit, needed)
    yield Finding(
        says=f"{name} is in time by itself ({span(max(by_hand))} at most) and too late among everything that starts at boot "
        f"({span(limit.seconds)} allowed; {len(at_boot) + 1} boots speak for it).",
        evidence=tuple(evidence),
        mends=(
            Mend(f"Start {name} by hand now.", acts=(start(name),)),
            Mend(
                f"Let {name} start delayed, or after what it really needs, so that it does not compete.",
                AFTER_REBOOT,
                (startup(name, "delayed"),) if case.family.has_delayed_group else (),
            ),
            *(
                (
                    Mend(
                        f"Or give {'all starts' if limit.for_all else name} a limit of {longer} s: {sum_of(needed, longer)}.",
                        AFTER_REBOOT,
                        (set_limit("" if limit.for_all else name, longer),),
                        instead=True,
                        because=f"Its boots are slow: {sum_of(needed, longer)}.",
                    ),
                )
                if longer is not None and needed is not None
                else ()
            ),
        ),
        explains=("start-timeout", "killed", "exits-with-error", "crash-loop"),
    )


def _boots_are_slow(at_boot: list[Start], by_hand: list[float], limit: float) -> bool:
    from statistics import median

    took = [limit if start.outcome == "timeout" else start.seconds for start in at_boot if start.outcome != "failed"]
    return bool(took) and median([*took, limit]) > _SLOWER * median(by_hand)


def _took(at_boot: list[Start]) -> str:
    good = [start.seconds for start in at_boot if start.outcome == "up"]
    return between(min(good), max(good)) if good else "none in time"


def _started_together(case: Case) -> int:
    """How many other services were begun while this one was starting."""
    last = case.service.last
    if last is None or last.started_at is None:
        return 0
    end = last.ended_at or case.host.read_at or last.started_at
    runs = (s.last for s in case.host.services if s.kind == "service" and s.name != case.node.name and s.last)
    return sum(1 for run in runs if run.started_at is not None and last.started_at <= run.started_at <= end)
