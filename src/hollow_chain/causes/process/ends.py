"""Process: the program was started, and did not stay. Mostly symptoms, named when no other cause explains them."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes import looked
from hollow_chain.causes.acts import start
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import FITS, PROOF, SAID, TELLS, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, Shown, When
from hollow_chain.causes.reached import unanswered
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import GAVE_UP_OVER, Standing, failed_last, hangs
from hollow_chain.causes.words import clock, ended_up, run_seconds, span, stop_was_asked
from hollow_chain.facts.host import Event
from hollow_chain.facts.service import Service, is_deserted
from hollow_chain.families.messages import EXITED
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines
from hollow_chain.wording.forms import says
from hollow_chain.wording.system_errors import signals

_CALM_LEVELS = ("info", "debug")
_AT_ONCE = 10.0
"""Seconds within which a program that ends without an error cannot have done the work of a service."""
_FAILED_STATES = ("running", *NOT_UP)


def _last_words(case: Case) -> tuple[Evidence, ...]:
    return tuple(case.quoted(event) for event in lines.telling(case.told_events()))


def _in_its_words(case: Case, words: tuple[Evidence, ...]) -> str:
    """The last words, as the reason, or as what they are where the program itself does not call them a trouble."""
    if not words:
        return "; its log says nothing about it"
    last = lines.telling(case.told_events())[-1]
    calm = last.level in _CALM_LEVELS and not says(last.text, *looked.TELLING)
    return f"; the last that it says is {words[-1].fact}" if calm else f": {words[-1].fact}"


def _ran(service: Service) -> str:
    ran = run_seconds(service)
    return f" after {span(ran)}" if ran is not None else ""


def ending(service: Service) -> str:
    """The number or word that the last run ended with."""
    last = service.last
    if last is None:
        return "nothing recorded"
    if last.exit_status not in (None, 0):
        return f"exit status {last.exit_status}" + (f" in {last.step}" if last.step else "")
    if last.error_number not in (None, 0):
        return f"error {last.error_number}"
    if last.signal is not None:
        return f"signal {signal_name(last.signal)}"
    return f"result {last.result or 'success'}"


def signal_name(number: int) -> str:
    """The name of a signal (signal(7)), or its number where it has none."""
    known = signals().get(number)
    return known.name if known is not None else str(number)


@cause(
    "exits-with-error",
    Boot.STAYS,
    states=_FAILED_STATES,
    when=When.FAILED,
    shown=Shown(1067, "exit-code", "{name} ended unexpectedly", 3),
)
def exits_with_error(case: Case) -> Iterator[Finding]:
    """It ends with a number or an error, and no other cause explains it.

    Looks at: exit status, error number, last words.
    Convinced by: a status that is not 0 and that the manager calls a failure.
    Against: any cause that explains the same end; then this one is only its symptom.
    Mend: act on its last words.
    """
    service = case.service
    last = service.last
    if last is None or not failed_last(service) or case.standing.well:
        return
    if last.result == "success" and last.exit_status in (None, 0):
        return
    if last.result in ("timeout", "oom-kill", "watchdog", "signal", "core-dump", "protocol"):
        return
    if (
        last.exit_status in (None, 0)
        and last.error_number in (None, 0)
        and last.result not in ("exit-code", "resources")
    ):
        return
    words = _last_words(case)
    alone = unanswered(case)
    if alone is not None:
        words = (*words, alone.evidence)
    what = f": it {alone.says}" if alone else _in_its_words(case, words)
    yield Finding(
        says=f"{service.name} ends with {ending(service)}{_ran(service)}{what}.",
        evidence=(
            case.seen(
                f"last run ended with {ending(service)}, result {last.result or 'failed'}",
                MANAGER,
                last.ended_at,
                FITS,
            ),
            *words,
        ),
        mends=(Mend(alone.does if alone else f"Act on the last words of {service.name}, then start it."),),
        residual=True,
        # Given up after several tries, with words of its own: then these are the reason, and the tries its symptom.
        explains=("crash-loop",) if case.gave_up_speaking else (),
    )


def _deserted(case: Case) -> Finding:
    """It counts as up, and nothing of it runs."""
    service = case.service
    words = _last_words(case)
    made_from = service.definition.made_from if service.definition else ""
    starts = f"its start, {made_from}," if made_from else "its start"
    up = service.last.up_at if service.last else None
    counts = "up" if service.state == "running" else service.state
    number = service.program.process if service.program else 0
    left = f": process {number} is gone" if number else f": {starts} was to leave one behind"
    return Finding(
        says=f"{service.name} counts as {counts}{f' since {clock(up)}' if up else ''}, but no process of it is left{left}"
        + (f"; {words[-1].fact}." if words else "."),
        evidence=(
            case.seen(
                f"state of {service.name}: {service.detail or service.state}: {counts}, and none of its processes is left",
                MANAGER,
                bears=SAID,
            ),
            *words,
        ),
        mends=(
            Mend(
                f"Run the program of {service.name} as its start does, and read what it says; then restart {service.name}."
            ),
        ),
        residual=True,
        explains=("start-timeout", "stopped"),
    )


@cause("exits-at-once", Boot.STAYS, states=_FAILED_STATES)
def exits_at_once(case: Case) -> Iterator[Finding]:
    """It ends at once without an error, so nothing is left running.

    Looks at: how long the last run took, its status, whether a stop was asked for.
    Convinced by: a clean end within seconds of the start that nobody asked for; a program that ended before it
    reported that it was up.
    Against: a service that is meant to end (oneshot); a requested stop.
    Mend: make the program stay in the foreground, or declare how it runs.
    """
    service = case.service
    last = service.last
    if is_deserted(service) or hangs(service, case.host) == "gone":
        yield _deserted(case)
        return
    if last is None or service.kind != "service" or (service.program and service.program.style == "oneshot"):
        return
    protocol = last.result == "protocol"
    ran = run_seconds(service)
    clean = not failed_last(service) and last.exit_status in (None, 0) and service.state != "running"
    if not protocol and not (clean and ran is not None and ran < _AT_ONCE and not stop_was_asked(case)):
        return
    style = service.program.style if service.program else ""
    words = _last_words(case)
    if protocol and words:
        yield Finding(
            says=f"{service.name} ends{_ran(service)} before it reported that it was up: {words[-1].fact}.",
            evidence=(case.seen(f"last run ended with {ending(service)}", MANAGER, last.ended_at, FITS), *words),
            mends=(Mend(f"Act on the last words of {service.name}, then start it."),),
            residual=True,
            explains=("crash-loop", "exits-with-error"),
        )
        return
    why = f"before it reported that it was up (start type {style})" if protocol else "so nothing is left running"
    yield Finding(
        says=f"{service.name} ends{_ran(service)} without an error, {why}.",
        evidence=(
            case.seen(f"last run ended with {ending(service)}{_ran(service)}", MANAGER, last.ended_at, SAID),
            *_last_words(case),
        ),
        mends=(
            Mend(
                f"Make the program of {service.name} stay in the foreground, or declare a start type that fits it.",
                "after a reload",
            ),
        ),
        residual=True,
        explains=("crash-loop",),
    )


_CRASHES = frozenset({4, 5, 6, 7, 8, 11, 31})
"""Signals that a program brings on itself (signal(7)); others come from somebody."""


def _crashed(service: Service) -> bool:
    return service.last is not None and service.last.signal in _CRASHES


@cause("killed", Boot.OVER, lacks_only_a_start=True, stays_if=_crashed, states=_FAILED_STATES, when=When.UNWELL)
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
    watchdog = last.result == "watchdog"
    number = last.signal if last.signal is not None else _signal_before_restart(case)
    told = _told_crash(case) if number is None and not watchdog else None
    if told is not None:
        yield _crashed_by_its_words(case, told)
        return
    if not watchdog and (number is None or not failed_last(service)):
        return
    name = signal_name(number) if number is not None else "the watchdog"
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
        says=f"{service.name} {how}{_ran(service)}, at {clock(last.ended_at or last.left_up_at)}.",
        evidence=(
            # Who ends itself has a reason, and has not told it.
            case.seen(
                f"result {last.result or 'signal'}, {name}",
                MANAGER,
                last.ended_at,
                FITS if name == "SIGABRT" and looked.is_silent(case) else SAID,
            ),
            *_last_words(case),
        ),
        mends=(
            Mend(
                f"See the last words of {service.name} and update or repair its program."
                if crashed
                else f"Find who sent {name}; then start {service.name}.",
                acts=(start(service.name),) if number in _FROM_OUTSIDE and not crashed and not watchdog else (),
            ),
        ),
        # The manager itself says that its watchdog ended it: whatever it had complained of, it went on.
        residual=not watchdog,
        explains=("crash-loop", "exits-with-error", *(_COMPLAINTS if number in _FROM_OUTSIDE or watchdog else ())),
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
                says=f"{name} was ended by {found[1]}, which the manager sent at somebody's request{_ran(case.service)}.",
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
        says=f"{service.name} crashed with {signal}{_ran(service)}, by its own words.",
        evidence=(case.quoted(told, SAID), case.seen(f"last run ended with {ending(service)}", MANAGER, ended)),
        mends=(
            Mend(f"See the last words of {service.name}; update or repair its program, or find who sent {signal}."),
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


@cause("killed-for-memory", Boot.STAYS, states=_FAILED_STATES, when=When.UNWELL)
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
    said = [e for e in case.last_events() if "oom-kill" in e.text.lower() or "out of memory" in e.text.lower()]
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


def _triggers_a_failed_one(case: Case) -> bool:
    return any(s.state == "failed" and any(t.name == case.node.name for t in s.triggers) for s in case.host.services)


@cause("unexplained", Boot.STAYS, last_resort=True, states=_FAILED_STATES, when=When.DOWN)
def unexplained(case: Case) -> Iterator[Finding]:
    """It is not well, and no fact that was read says why. Named so that it is not passed over.

    Looks at: the state.
    Convinced by: a service that is not well.
    Against: every other cause.
    Mend: none; where to look next is told.
    """
    service = case.service
    if service.last is not None and service.last.result in GAVE_UP_OVER and _triggers_a_failed_one(case):
        return  # it ended because what it starts failed again and again: that one tells why
    untold = case.asked and service.startup == "unknown" and not service.template
    if case.standing in (Standing.UP, Standing.NOT_YET):
        return
    if case.standing is Standing.IDLE and not failed_last(service) and not untold:
        return
    yield Finding(
        says=f"{service.name} is {service.state}, and nothing that was read says why.",
        evidence=(
            case.seen(f"state of {service.name}: {service.detail or service.state}, {ending(service)}"),
            *_last_words(case),
        ),
        mends=(Mend(f"Start {service.name} once more and read its log at that moment."),),
        residual=True,
    )
