"""Services that have to report that they are up, and never do."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import FILES, MANAGER, Case
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, HINT, PROOF, SAID, Evidence, Finding, Mend
from hollow_chain.causes.nature import TIMES, Boot, When
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.time.limits import timed_out
from hollow_chain.causes.time.pace import gets_on, given_up, limit_of, spoken_by, went_quiet
from hollow_chain.causes.time.stuck import stuck_in
from hollow_chain.causes.words import clock, numbered, span, was_up_before
from hollow_chain.facts.host import Event
from hollow_chain.facts.runs import Start
from hollow_chain.lazy import pattern
from hollow_chain.wording.forms import says
from hollow_chain.wording.lines import SEVERE_LEVELS
from hollow_chain.wording.things import endpoints_of

_REPORTS = {
    "notify": "a message of its own (Type=notify)",
    "notify-reload": "a message of its own (Type=notify-reload)",
    "forking": "its first process ending while others stay (Type=forking)",
    "dbus": "its name on the bus (Type=dbus)",
}
"""What systemd waits for, by the start type (systemd.service(5), "Type=")."""
_TIMES = 2
"""Starts that were given up before "never" is said: one may have had a bad moment."""
_BATCH_FILES = (".bat", ".cmd")
_CALM = 0.2
"""Share of the time that it was waited for, below which a program that used so much of a processor was not busy with starting."""
_ENOUGH_TO_REPORT = 1.0
"""Seconds within which a program that has nothing to do but to report has done so: with less, it is the limit that is too short."""
_MANY_TIMES = 3.0
"""A limit so many times as long as the slowest good start is not what was too short."""
_NO_PID_FILE = pattern(
    r"(?:Can't|can't|cannot) (?:open|convert) PID file|PID file \S+ not readable|references an (?:unsafe|invalid)"
)
_OTHERS_MESSAGE = pattern(r"(?i)notification message from PID \d{1,10}")


@cause("never-reports", Boot.STAYS, put_right=(TIMES,), states=("running", *NOT_UP), when=When.UNWELL)
def never_reports(case: Case) -> Iterator[Finding]:
    """It must report that it is up and never did, in any recorded start: wrong start type, reports switched off or sent by a child,
    PID file elsewhere, a batch file in place of a program.

    Looks at: the start type, the kind of its program, the manager's result, records about the PID file and about reports of others;
    what the program said while it was waited for, and how little it did; good starts since the definition was changed.
    Convinced by: the manager finding no PID file where the definition has it, or a report of another process; a program that says
    that it listens, and does nothing more, until the limit runs out.
    Against: a good start since the definition was changed; a program that was busy until the end, or still before its main step.
    Mend: correct the type or the path, not the limit.
    """
    if case.family.numbers_failures:
        yield from _of_script(case)
    service, last = case.service, case.service.last
    style = service.program.style if service.program else ""
    if style not in _REPORTS or last is None or last.step or not timed_out(case) or _step_before(case):
        return
    if _good_since_change(case) or stuck_in(case) is not None:
        return
    evidence = [*_of_manager(case), *_of_program(case), *_of_past(case), *_of_look(case, style), *_of_all(case)]
    # A name on the bus is asked for at once, or never.
    if not any(piece.bears in (SAID, FITS) for piece in evidence) and not (
        style == "dbus" and _was_calm(case) is not None
    ):
        return
    limit = limit_of(case)
    allowed = f" within {span(limit.seconds)}" if limit else ""
    yield Finding(
        says=f"{service.name} never reported that it was up{allowed}: the manager waits for {_awaited(case, style)}.",
        evidence=(
            case.seen(
                f"last start ended with {last.result or 'no report'}",
                MANAGER,
                last.ended_at,
                HINT if style == "dbus" else FITS,
            ),
            case.seen(f"no good start on record with the start type {style}", "recorded starts", bears=HINT),
            *evidence,
        ),
        mends=(
            Mend(
                f"Correct {_what(case, style)} in the definition of {service.name}; a longer limit would not help.",
                AFTER_RELOAD,
            ),
        ),
        explains=("start-timeout", "limit-unit-slip", "killed", "crash-loop", "exits-with-error", "start-rate-limited"),
    )


def _awaited(case: Case, style: str) -> str:
    """What the manager waits for: a PID file where the definition names one and the program has left its first process."""
    pid_file = case.service.program.pid_file if case.service.program is not None else ""
    if style == "forking" and pid_file and any(_NO_PID_FILE.search(e.text) for e in case.last_events() if e.by_manager):
        return f"{pid_file} to name its process (PIDFile=)"
    return _REPORTS[style]


def _of_script(case: Case) -> Iterator[Finding]:
    """What the manager runs is a batch file: no line of one can connect to the manager (StartServiceCtrlDispatcher, "Remarks")."""
    program = case.service.program
    path = program.path if program is not None else ""
    if not path.lower().endswith(_BATCH_FILES):
        return
    file = case.file(path)
    if file is None or not file.exists:
        return
    yield Finding(
        says=f"{case.service.name} can never report that it is up: what it runs, {path}, is a batch file, and no program of a service.",
        evidence=(
            case.seen(f"{path} is run by the command interpreter, which does not answer the manager", FILES, bears=PROOF),
            *numbered(case, 1053, bears=SAID),
        ),
        mends=(Mend(f"Have {case.service.name} run a program that is made to be a service, and that one the batch file."),),
        explains=("start-timeout", "never-started", "exits-with-error", "exits-at-once", "manual-not-started"),
    )  # fmt: skip


def _what(case: Case, style: str) -> str:
    pid_file = case.service.program.pid_file if case.service.program else ""
    if style == "forking" and pid_file:
        return f"the path of the PID file ({pid_file}), or the start type (forking),"
    return f"the start type ({style})" + (
        ", or let the process that reports do so (NotifyAccess=)," if style == "notify" else ""
    )


def _step_before(case: Case) -> bool:
    """Whether the limit ran out in a step before the main program: then that step is slow."""
    return any("start-pre operation timed out" in e.text for e in case.last_events() if e.by_manager)


def _good_since_change(case: Case) -> list[Start]:
    changed = case.service.definition.changed_at if case.service.definition else None
    return [
        s for s in case.service.starts if s.outcome == "up" and s.seconds > 0 and (changed is None or s.at >= changed)
    ]


def _of_manager(case: Case) -> Iterator[Evidence]:
    """What the manager says of reports that it got or did not find."""
    told = [e for e in case.last_events() if e.by_manager]
    style = case.service.program.style if case.service.program else ""
    asked = [e for e in told if _NO_PID_FILE.search(e.text)] if style == "forking" else []
    sent = [e for e in told if _OTHERS_MESSAGE.search(e.text)] if style.startswith("notify") else []
    yield from (case.quoted(e, SAID) for e in (*asked[-1:], *sent[-1:]))


def _of_program(case: Case) -> Iterator[Evidence]:
    """A program that says that it listens, and is not busy any more."""
    own_ports = {claim.port for claim in case.service.claims if not claim.switched_off}
    spoken = spoken_by(case, given_up(case))
    ready: list[Event] = [e for e in spoken if says(e.text, "ready") or _tells_where(e, own_ports)]
    calm = _was_calm(case)
    if ready:
        yield case.quoted(ready[-1], FITS)
    if calm is not None:
        yield case.seen(f"it used {span(calm)} of computing time in all", bears=HINT)


def _tells_where(event: Event, ports: set[int]) -> bool:
    """Whether a line only tells at which of its own endpoints the program is to be reached, as most do when they are up."""
    named = {port for _, port in endpoints_of(event.text)}
    return not ports.isdisjoint(named) and event.level not in SEVERE_LEVELS and not says(event.text, *_IN_THE_WAY)


_IN_THE_WAY = (
    "in use",
    "no address",
    "no endpoint",
    "denied",
    "unreached",
    "host away",
    "rejected",
    "severe",
    "listening",
)
"""What a line that names an endpoint may say besides where it is."""


def _of_look(case: Case, style: str) -> Iterator[Evidence]:
    """That nothing in the program speaks of such a report."""
    path = case.service.program.path if case.service.program else ""
    file = case.file(path)
    limit = limit_of(case)
    had_time = limit is not None and limit.seconds >= _ENOUGH_TO_REPORT
    if style.startswith("notify") and had_time and file is not None and file.speaks_of_reports is False:
        yield case.seen(
            f"nothing in {path} speaks of reporting to the manager (sd_notify, NOTIFY_SOCKET)", FILES, bears=FITS
        )


def _of_all(case: Case) -> Iterator[Evidence]:
    """That it was given up time and again, was not at work meanwhile, and has never come up."""
    starts = case.service.starts
    in_vain = [start for start in starts if start.outcome == "timeout"]
    if len(in_vain) < _TIMES or any(start.outcome == "up" for start in starts):
        return
    limit = limit_of(case)
    if limit is None or limit.seconds < _ENOUGH_TO_REPORT or gets_on(case, limit, None):
        return
    fact = f"all {len(in_vain)} starts on record ran into the limit, and none came up"
    yield case.seen(fact, "recorded starts", in_vain[-1].at, FITS)


def _was_calm(case: Case) -> float | None:
    """Its seconds of computing time, where they are few against the time that it was waited for."""
    last, limit = case.service.last, limit_of(case)
    used = last.cpu_seconds if last else None
    if used is None or limit is None:
        return None
    return used if used < _CALM * limit.seconds or went_quiet(case) else None


def _of_past(case: Case) -> Iterator[Evidence]:
    """That it was up before its definition was changed, and took far less than the limit allows."""
    limit = limit_of(case)
    changed = case.service.definition.changed_at if case.service.definition else None
    slowest = max((s.seconds for s in case.service.starts if s.outcome == "up"), default=0.0)
    busy = case.service.last is not None and case.service.last.cpu_seconds is not None and _was_calm(case) is None
    if (
        changed is None
        or limit is None
        or limit.seconds < max(1.0, _MANY_TIMES * slowest)
        or busy
        or not was_up_before(case, changed)
    ):
        return
    took = f", after at most {span(slowest)}" if slowest else ""
    yield case.seen(
        f"it came up{took} before its definition was changed at {clock(changed)}", "recorded starts", changed, FITS
    )
