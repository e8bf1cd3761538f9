"""Ends by a signal: from outside, by a fault of its own, by a limit, for memory."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes import looked, meanings
from hollow_chain.causes.acts import start
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import FITS, PROOF, SAID, TELLS, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.process.telling import FAILED_STATES, after_how_long, ending, last_words, signal_name
from hollow_chain.causes.rule import cause
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import clock, ended_up, span
from hollow_chain.facts.host import Event
from hollow_chain.facts.service import Service
from hollow_chain.families.messages import EXITED
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines
from hollow_chain.wording.forms import says

_CRASHES = frozenset({4, 5, 6, 7, 8, 11, 31})
"""Signals that a program brings on itself (signal(7)); others come from somebody."""


def _crashed(service: Service) -> bool:
    return service.last is not None and (service.last.signal in _CRASHES or _crash_of(service) is not None)


def _crash_of(service: Service) -> meanings.Reading | None:
    """What a status of 32 bits says, with which a process of the control-manager family ends by no exit of its own."""
    status = service.last.exit_status if service.last is not None else None
    number = meanings.number_of_status(status) if status is not None and meanings.is_wide(status) else None
    meant = meanings.control(number) if number is not None else None
    return meant if meant is not None and meant.causes[:1] == ("killed",) else None


@cause("killed", Boot.OVER, lacks_only_a_start=True, stays_if=_crashed, states=FAILED_STATES, when=When.UNWELL)
def killed(case: Case) -> Iterator[Finding]:
    """It was ended by a signal.

    Looks at: the signal, the manager's result.
    Convinced by: a signal that the manager did not send to stop it.
    Against: a requested stop; the memory limit (then ``killed-for-memory``); the limit of its start (then ``start-timeout``).
    Mend: find who sent it; for a crash, its last words.
    """
    service = case.service
    last = service.last
    if last is None or case.standing.well or last.result == "oom-kill":
        return
    if last.result == "timeout":
        yield from _out_of_time(case)
        return
    sent = _sent_on_request(case)
    if sent is not None:
        yield sent
        return
    crash = _crash_of(service)
    if crash is not None:
        yield _crashed_by_its_status(case, crash)
        return
    watchdog = last.result == "watchdog"
    number = last.signal if last.signal is not None else _signal_before_restart(case)
    told = _told_crash(case) if number is None and not watchdog else None
    if told is not None:
        yield _crashed_by_its_words(case, told)
        return
    by_signal = number is not None or last.result in ("signal", "core-dump")
    if not watchdog and not (by_signal and failed_last(service)):
        return
    name = signal_name(number) if number is not None else "the watchdog" if watchdog else "a signal that is not told"
    crashed = last.result == "core-dump" or name in (
        "SIGSEGV",
        "SIGABRT",
        "SIGBUS",
        "SIGILL",
        "SIGFPE",
        "SIGSYS",
    )
    how = (
        "did not answer its watchdog in time and was ended"
        if watchdog
        else f"{'crashed with' if crashed else 'was ended by'} {name}"
    )
    yield Finding(
        says=f"{service.name} {how}{after_how_long(service)}, at {clock(last.ended_at or last.left_up_at)}.",
        evidence=(
            # Who ends itself has a reason, and has not told it.
            case.seen(
                f"result {last.result or 'signal'}, {name}",
                MANAGER,
                last.ended_at,
                FITS if crashed and looked.is_silent(case) else SAID,
            ),
            *last_words(case),
        ),
        mends=(
            Mend(
                f"Find out what {service.name} was at when its watchdog ran out ({name} ended it then, on purpose): its log before "
                "that says it. Where its work takes that long, give it a longer WatchdogSec=."
                if watchdog
                else f"Update or repair the program of {service.name}: it crashed with {name}."
                if crashed
                else f"Find who sent {name}; then start {service.name}.",
                acts=(start(service.name),) if number in _FROM_OUTSIDE and not crashed and not watchdog else (),
            ),
        ),
        # The manager itself says that its watchdog ended it: whatever it had complained of, it went on.
        residual=not watchdog,
        explains=("crash-loop", "exits-with-error", *(_COMPLAINTS if number in _FROM_OUTSIDE or watchdog else ())),
    )


def _crashed_by_its_status(case: Case, crash: meanings.Reading) -> Finding:
    name, last = case.service.name, case.service.last
    return Finding(
        says=f"{name} crashed{after_how_long(case.service)}, with {crash.what}: {crash.within}.",
        evidence=(
            case.seen(
                f"its process ended with {crash.what}", MANAGER, last.ended_at if last is not None else None, SAID
            ),
            *last_words(case),
        ),
        mends=(Mend(f"Update or repair the program of {name}, or what it loads: it crashed.", seeks=True),),
        residual=True,
        explains=("crash-loop", "exits-with-error"),
    )


_SENT = pattern(r"Sent signal (SIG[A-Z0-9+]{2,12}) to main process \d{1,10} .{0,200}on client request")
"""How the manager records that it sent a signal because somebody told it to (``unit_kill``)."""


def _sent_on_request(case: Case) -> Finding | None:
    """Somebody had the manager send its main process a signal that ends programs, and it ended with that."""
    last, name = case.service.last, case.service.name
    if last is None or last.ended_at is None or not failed_last(case.service):
        return None
    for event in reversed(case.last_events()):
        found = _SENT.search(event.text) if event.by_manager else None
        if found is not None and abs((last.ended_at - event.at).total_seconds()) < _WITH_ITS_SIGNAL:
            return Finding(
                says=f"{name} was ended by {found[1]}, which the manager sent at somebody's request{after_how_long(case.service)}.",
                evidence=(case.quoted(event, SAID), case.seen(f"last run ended with {ending(case.service)}", MANAGER, last.ended_at, FITS)),
                mends=(Mend(f"Start {name}; ask who sent {found[1]}, and why.", acts=(start(name),)),),
                explains=("crash-loop", "exits-with-error", "exits-at-once", *_COMPLAINTS),
            )  # fmt: skip
    return None


_WITH_ITS_SIGNAL = 1.0
"""Seconds after a signal within which a program that it ends has ended, a dump of what it was doing included."""
_BY_NAME = pattern(r"\bSIG(ABRT|SEGV|BUS|ILL|FPE|QUIT|TRAP|SYS)\b")


def _told_crash(case: Case) -> Event | None:
    """The line in which the run-time system of its language says that a signal ended it; it ends with a status of its own then."""
    said = lines.saying(case.own_events(), "crashed") if failed_last(case.service) else []
    return said[0] if said else None


def _crashed_by_its_words(case: Case, told: Event) -> Finding:
    service, named = case.service, _BY_NAME.search(told.text)
    signal = f"SIG{named[1]}" if named else "a fault"
    ended = service.last.ended_at if service.last else None
    return Finding(
        says=f"{service.name} crashed with {signal}{after_how_long(service)}, by its own words.",
        evidence=(case.quoted(told, SAID), case.seen(f"last run ended with {ending(service)}", MANAGER, ended)),
        mends=(
            Mend(
                f"Update or repair the program of {service.name}, or find who sent it {signal}.",
                seeks=True,
            ),
        ),
        residual=True,
        explains=("crash-loop", "exits-with-error"),
    )


_RUN_SLACK = 2.0
"""Seconds that a run may outlast its limit: the manager may be late, and the program takes its time to end."""


def _out_of_time(case: Case) -> Iterator[Finding]:
    """A run that was ended by the limit that the definition sets to its length (systemd.service(5), ``RuntimeMaxSec=``)."""
    service, last = case.service, case.service.last
    allowed = service.limits.run_seconds if service.limits else None
    if allowed is None or last is None or last.up_at is None or last.left_up_at is None or not ended_up(service):
        return
    ran = (last.left_up_at - last.up_at).total_seconds()
    if ran < allowed - 0.1 or ran > allowed * 1.1 + _RUN_SLACK:
        return
    yield Finding(
        says=f"{service.name} was ended by its run-time limit: it may be up for {span(allowed)} and was up for {span(ran)}.",
        evidence=(
            case.seen(f"result {last.result}, after {span(ran)} of being up", MANAGER, last.left_up_at, SAID),
            case.seen(f"run-time limit of its definition (RuntimeMaxSec=): {span(allowed)}", "definition", bears=SAID),
        ),
        mends=(
            Mend(
                f"Take the run-time limit out of the definition of {service.name}, or raise it.",
                "after a reload and a restart",
            ),
        ),
        explains=("crash-loop", "exits-with-error", "start-timeout", *_COMPLAINTS),
    )


_FROM_OUTSIDE = (1, 2, 9, 15)
"""Signals by which a person or the manager ends a program (signal(7))."""
_COMPLAINTS = (
    "access-denied",
    "path-missing",
    "config-rejected",
    "address-missing",
    "host-unreachable",
    "lock-held",
    "start-race",
)
"""What a program may say in its log and go on: where somebody else ended it, that was not the reason."""
_KILLED = pattern(r"code=(?:killed|dumped), status=(\d+)")


def _signal_before_restart(case: Case) -> int | None:
    """The signal that ended the run before the one under way, by the manager's record of it."""
    last = case.service.last
    if last is None or not last.restarts or case.service.state not in ("running", "starting"):
        return None
    told = [e for e in case.events() if e.code == EXITED]
    found = _KILLED.search(told[-1].text) if told else None
    return int(found[1]) if found else None


@cause("killed-for-memory", Boot.STAYS, states=FAILED_STATES, when=When.UNWELL)
def killed_for_memory(case: Case) -> Iterator[Finding]:
    """It was ended because memory ran out, its own limit's or the host's.

    Looks at: the manager's result, the memory limit, records of the kernel.
    Convinced by: the manager's result ``oom-kill``, or a record that says so.
    Against: a plain signal without such a record.
    Mend: a higher limit with a reason, or less use.
    """
    service = case.service
    last = service.last
    if last is None or case.standing.well:
        return
    told = [e for e in case.last_events() if not case.went_on_after(e)]
    said = [e for e in told if "oom-kill" in e.text.lower() or "out of memory" in e.text.lower()]
    said = [e for e in said if not says(e.text, "bounded tasks")]
    if last.result != "oom-kill" and not (said and failed_last(service)):
        return
    limit = service.limits.memory_bytes if service.limits else None
    yield Finding(
        says=f"{service.name} was ended because memory ran out{f' (its limit is {limit >> 20} MiB)' if limit else ''}.",
        evidence=(
            case.seen(f"result {last.result}", MANAGER, last.ended_at, PROOF if last.result == "oom-kill" else TELLS),
            *(case.quoted(e, SAID) for e in said[-1:]),
        ),
        mends=(
            Mend(
                f"Raise the memory limit of {service.name}, or make it use less.",
                "after a reload and a restart",
            ),
        ),
        explains=("killed", "crash-loop", "exits-with-error"),
    )
