"""Calls of the kernel that the definition keeps from the program."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from msgspec.structs import replace

from hollow_chain.causes import looked
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import AFTER_RELOAD, ENDS, FITS, HINT, SAID, TELLS, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.process.telling import signal_name
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.words import came_to_nothing, clock, was_up_before
from hollow_chain.facts.host import Event
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines
from hollow_chain.wording.system_errors import errors

_STATES = ("running", *NOT_UP)
_UP_AT_ONCE = ("simple", "exec", "idle")
"""Start types with which a service is up once its program runs (systemd.service(5), "Type=")."""
_NO_SUCH_CALL = 31
"""The signal of a call that a filter does not let pass (signal(7), ``SIGSYS``)."""
_PLAIN_REFUSALS = (1, 13)
"""Errors that many other things give too: ``EPERM``, ``EACCES``."""


@cause("call-forbidden", Boot.STAYS, states=_STATES, when=When.UNWELL)
def call_forbidden(case: Case) -> Iterator[Finding]:
    """Its definition keeps a call of the kernel from it that it needs: a filter of calls, or of kinds of sockets.

    Looks at: the signal that ended it, log lines that name the error which a refused call gives; the filters of the definition.
    Convinced by: an end by ``SIGSYS``, or such a line, under such a filter.
    Against: no filter.
    Mend: let that one call, or kind of socket, through.
    """
    confinement, last = case.service.confinement, case.service.last
    if confinement is None or last is None or not came_to_nothing(case):
        return
    if kept := _kept_from(case, confinement.keeps_from or []):
        yield _forbidden(case, kept[0], kept[1], [case.quoted(kept[2], SAID)], SAID)
        return
    if confinement.families is not None and (said := lines.saying(case.own_events(), "no family")):
        yield _forbidden(case, "RestrictAddressFamilies", "a kind of socket", [case.quoted(said[-1], FITS)], SAID)
    elif confinement.calls_by and last.signal == _NO_SUCH_CALL:
        end = case.seen(
            f"ended by {signal_name(_NO_SUCH_CALL)}: a call that a filter does not let pass",
            MANAGER,
            last.ended_at,
            SAID,
        )
        seen = [e for e in case.own_events() if e.call is not None and e.call.kind == "filter"][-1:]
        yield _forbidden(case, confinement.calls_by, _named_call(seen), [*map(case.quoted, seen), end], SAID)
    elif confinement.calls_by and confinement.calls_fail_with in errors():
        told = [
            e for e in case.own_events() if errors()[confinement.calls_fail_with or 0].text.lower() in e.text.lower()
        ]
        plain = confinement.calls_fail_with in _PLAIN_REFUSALS
        if told:
            bears = FITS if plain else SAID
            yield _forbidden(case, confinement.calls_by, _named_call(told[-1:]), [case.quoted(told[-1], FITS)], bears)
            return
    since = _changed_since_good(case)
    if since is not None and last.signal in _CRASHES and not last.step and _OF_MEMORY in (confinement.keeps_from or []):
        yield _crashed_without(case, since)
        return
    setting = confinement.calls_by or ("RestrictAddressFamilies" if confinement.families is not None else "")
    if setting and since is not None and not last.step and looked.is_silent(case):
        found = _forbidden(case, setting, "something", [looked.ended(case), _changed(case, since)], TELLS)
        yield replace(found, residual=True, explains=("exits-with-error", "exits-at-once", "crash-loop"))


_CRASHES = (4, 5, 6, 7, 11)
"""Signals of a fault within a program, or by which it ends itself over one (signal(7))."""
_OF_MEMORY = "MemoryDenyWriteExecute"


def _crashed_without(case: Case, since: datetime) -> Finding:
    """It crashed, and since its last good start its definition came to keep it from memory such as programs need that compile while they
    run: few of these say what they lack."""
    last = case.service.last
    number = last.signal if last is not None and last.signal is not None else 0
    end = case.seen(
        f"ended by {signal_name(number)}, a fault of its own",
        MANAGER,
        last.ended_at if last is not None else None,
        HINT,
    )
    found = _forbidden(case, _OF_MEMORY, _KEPT_FROM[_OF_MEMORY][1], [end, _changed(case, since)], TELLS)
    return replace(found, residual=True, explains=("killed", "exits-with-error", "exits-at-once", "crash-loop"))


def _changed(case: Case, since: datetime) -> Evidence:
    text = f"its definition was changed at {clock(since)}, after its last good start and before the one that failed"
    return case.seen(text, "definition", since, FITS)


_KEPT_FROM = {
    "MemoryDenyWriteExecute": (
        ("mmap", "mprotect", "pkey_mprotect", "shmat"),
        "memory that it may both write and execute",
    ),
    "RestrictRealtime": (("sched_setscheduler", "sched_setattr", "sched_setparam"), "real-time scheduling"),
    "RestrictSUIDSGID": (
        ("chmod", "fchmod", "fchmodat", "fchmodat2", "mknod", "mknodat"),
        "files that run as their owner",
    ),
    "LockPersonality": (("personality",), "another execution domain"),
    "RestrictNamespaces": (("unshare", "setns", "clone", "clone3"), "a name space of its own"),
}
"""What each of these settings refuses, with ``EPERM`` (systemd.exec(5), "Sandboxing")."""


def _kept_from(case: Case, settings: list[str]) -> tuple[str, str, Event] | None:
    """The setting that refused it a call, what that call is about, and the record that names the call."""
    for event in case.own_events()[::-1] if settings else ():
        words = [event.call.name] if event.call is not None else _WORD.findall(event.text[:_LONGEST].lower())
        given = [event.call.error] if event.call is not None else _refusals_in(event.text)
        for setting in settings:
            calls, what = _KEPT_FROM.get(setting, ((), ""))
            spoken_of = _SPOKEN_OF.get(setting)
            is_meant = any(call in words for call in calls) or (spoken_of is not None and spoken_of.issubset(words))
            if is_meant and any(error in given for error in _ERRORS_OF.get(setting, _NOT_PERMITTED)):
                return setting, what, event
    return None


def _refusals_in(text: str) -> list[str]:
    """The errors of a refusal whose text stands in a line."""
    return [errors()[number].name for number in _PLAIN_REFUSALS if errors()[number].text.lower() in text.lower()]


_NOT_PERMITTED = ("EPERM",)
"""The error that such a call gives (errno(3))."""
_ERRORS_OF = {"MemoryDenyWriteExecute": ("EPERM", "EACCES")}
"""The same where it is not always that one: newer managers leave it to the kernel itself (``PR_SET_MDWE``, prctl(2))."""
_SPOKEN_OF = {"MemoryDenyWriteExecute": {"executable", "memory"}}
"""Words that all stand in a line that is about such a call and does not name it."""
_WORD = pattern(r"[a-z_0-9]{3,30}")
_LONGEST = 2000
"""Characters of a line that are gone through for the name of a call."""


def _changed_since_good(case: Case) -> datetime | None:
    """When the definition was changed, if that was after the last good start and before the failed one."""
    definition, last = case.service.definition, case.service.last
    changed = definition.changed_at if definition is not None else None
    if changed is None or last is None or last.started_at is None or changed > last.started_at:
        return None
    # What counts as up as soon as it runs counts so in a try that fails too.
    at_once = case.service.program is not None and case.service.program.style in _UP_AT_ONCE
    later = [s for s in case.service.starts if s.outcome == "up" and s.at > changed] if not at_once else []
    return changed if was_up_before(case, changed) and not later else None


def _named_call(seen: list[Event]) -> str:
    """The call that was refused, where a start was watched; its name says more than any record does."""
    name = next((e.call.name for e in reversed(seen) if e.call is not None and e.call.name), "")
    return f"the call {name} of the kernel" if name else "a call of the kernel"


def _forbidden(case: Case, setting: str, what: str, said: list[Evidence], bears: str) -> Finding:
    name = case.service.name
    return Finding(
        says=f"{name} is kept from {what}, which it needs, by {setting}= of its definition.",
        evidence=(*said, case.seen(f"{setting}= is set for {name}", "definition", bears=bears)),
        mends=(
            Mend(
                f"Switch {setting}= off in the definition of {name}, if it is meant to have that."
                if setting in _KEPT_FROM
                else f"Let {name} make that call: widen {setting}= in its definition by what it needs, and no more.",
                AFTER_RELOAD,
            ),
        ),
        explains=(*ENDS, "access-denied", "port-forbidden"),
    )
