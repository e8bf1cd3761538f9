"""Host: not the service but the machine, or what was done to it, is the matter."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import timedelta

from hollow_chain.causes.acts import reboot, start
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import AFTER_REBOOT, FITS, HINT, PROOF, SAID, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import failed_last, skipped
from hollow_chain.causes.words import clock, ended_by_request, numbered, span, started_since_boot, stop_was_asked
from hollow_chain.facts.host import TOLD, Event, UnreachedHost
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines
from hollow_chain.wording.bound import call_to_listen
from hollow_chain.wording.complaints import config_errors
from hollow_chain.wording.forms import says


@cause("host-unreachable", Boot.STAYS, states=("running", "absent", *NOT_UP), when=When.FAILED)
def host_unreachable(case: Case) -> Iterator[Finding]:
    """Another machine that it uses does not answer as such, or its name is not found.

    Looks at: log lines and error numbers (10060, 10065, 11001) that say so, with the machine that they name.
    Convinced by: such a line in a run that failed.
    Against: a refused connection: then the machine answers, and only the service on it does not.
    Mend: bring the machine or the network up, or correct the name or address.
    """
    own = case.own_events()
    said = [
        e
        for e in lines.saying(own, "host away")
        if not _is_local(case, e.text) and not _only_warns(case, e) and call_to_listen(own, e) is None
    ]
    told = numbered(case, 10060, 10065, 10051, 11001, bears=SAID)
    away = _needed_and_silent(case)
    if not said and not told and away is None:
        return
    name = next((found for event in reversed(said) if (found := lines.host_in(event.text))), "")
    tried = _tried(case, name) if name else away
    known = case.graph.host_named(name) if name else None
    # A program that names a line of its configuration refuses that; whether the host is away is not so sure then.
    over = bool(said) and case.outlived(said[-1]) == "further"
    bears = HINT if over or (said and config_errors(said[-1:])) else SAID
    evidence: list[Evidence] = [case.quoted(said[-1], bears)] if said else told
    if tried is not None:
        name = name or tried.name
        # It may be only the way of whoever reads that does not lead there: without a word of the service's own that is a hint.
        evidence.append(_of_the_try(case, tried, SAID if said else HINT))
    if known is not None and known.read_at is not None and case.host.read_at is not None:
        if abs((known.read_at - case.host.read_at).total_seconds()) < 3600:
            evidence.append(
                case.seen(f"{known.name} was read at {clock(known.read_at)}, so it was up by itself", "snapshot")
            )
    elif name and tried is None:
        evidence.append(case.seen(f"no facts of {name} are here", "snapshot"))
    asks_for_names = bool(said) and said[-1].call is not None and said[-1].call.thing.endswith(_NAME_SERVER)
    who = f"the {'name server' if asks_for_names else 'host'} {name}" if name else "a host that it uses"
    yield Finding(
        says=f"{case.node.name} cannot reach {who}.",
        evidence=tuple(evidence),
        mends=(
            Mend(f"See whether {name or 'that host'} is up and answers from {case.node.host}; bring it or the network up.", seeks=True),
            Mend(f"Or correct its name or address in the configuration of {case.node.name}.", "at the next start", instead=True),
        ),
        holder=name,
        # A number alone says that something did not answer: what is found below says more. So does what it said when it had gone on.
        residual=not said or over,
        explains=() if over else ("exits-with-error", "crash-loop", "exits-at-once", "start-timeout", "killed"),
    )  # fmt: skip


_NAME_SERVER = ":53"
"""The end of an endpoint at which names are asked for (RFC 1035, section 4.2)."""


def _tried(case: Case, name: str) -> UnreachedHost | None:
    """The host of that name or address, where whoever asks now did not reach it either."""
    folded = name.casefold()
    return next(
        (one for one in case.graph.document.unreached if folded in (one.name.casefold(), one.address.casefold())), None
    )


def _needed_and_silent(case: Case) -> UnreachedHost | None:
    """A host on which a service is that it cannot do without, and of which nothing answers."""
    hosts = (
        {link.host.casefold() for link in case.service.links if link.host and link.kind == "hard"}
        if case.registered
        else ()
    )
    return next((one for one in case.graph.document.unreached if one.silent and one.name.casefold() in hosts), None)


def _of_the_try(case: Case, tried: UnreachedHost, bears: str) -> Evidence:
    """What it means that the host was asked for this reading, and did not answer."""
    at = f" at {clock(tried.tried_at)}" if tried.tried_at else ""
    if tried.silent:
        return case.seen(
            f"{tried.name} did not answer whoever reads these facts{at}: {tried.why}", "reading", bears=bears
        )
    return case.seen(f"{tried.name} answered{at}, but could not be read: {tried.why}", "reading", bears="doubt")


def _is_local(case: Case, text: str) -> bool:
    named = lines.host_in(text)
    return named.startswith("127.") or named in ("localhost", "::1", *case.host.addresses)


def _only_warns(case: Case, event: Event) -> bool:
    """Whether it could not look up the name of its own host, and said more after that: many say so, and go on."""
    own = case.host.name.partition(".")[0].casefold()
    spoken = [one for one in case.own_events() if not one.by_manager]
    return lines.host_in(event.text).partition(".")[0].casefold() == own and event is not spoken[-1]


@cause("clock-wrong", Boot.STAYS, states=("running", *NOT_UP), when=When.FAILED)
def clock_wrong(case: Case) -> Iterator[Finding]:
    """The clock of its host is wrong, and it refuses to work by it.

    Looks at: log lines about clocks, tickets and certificates that are not valid yet; the host's clock against a trusted
    one; files that were changed in the future.
    Convinced by: such a line, and a clock that is off.
    Against: a clock that is right.
    Mend: set the clock, and keep it set.
    """
    own = case.own_events()
    over = lines.certificates_over(own)
    said = [e for e in lines.saying(own, "clock") if e not in over] or [
        e for e in case.last_events() if e.number in (1398,)
    ]
    if not said:
        return
    offset = case.host.clock_offset
    now = case.host.read_at
    ahead = [f for f in case.host.files if f.changed_at and now and f.changed_at > now + timedelta(minutes=2)]
    evidence = [case.quoted(said[-1], FITS)]
    if offset is not None:
        off = abs(offset) >= 60
        words = f"the clock of {case.node.host} is {span(abs(offset))} {'ahead of' if offset > 0 else 'behind'} a trusted one"
        evidence.append(case.seen(words, "clock", bears=PROOF if off else "doubt"))
    if ahead:
        evidence.append(
            case.seen(
                f"{ahead[0].path} was changed at {clock(ahead[0].changed_at)}, in the future", "file system", bears=SAID
            )
        )
    how = f" by {span(abs(offset))}" if offset is not None and abs(offset) >= 60 else ""
    yield Finding(
        says=f"{case.node.name} refuses to work by the clock of {case.node.host}, which is off{how}.",
        evidence=tuple(evidence),
        mends=(
            Mend(f"Set the clock of {case.node.host} and keep it set by a time service; then start {case.node.name}."),
        ),
        explains=("exits-with-error", "crash-loop", "config-rejected", "exits-at-once"),
    )


@cause("reboot-due", Boot.OVER, states=("running", *NOT_UP), when=When.FAILED)
def reboot_due(case: Case) -> Iterator[Finding]:
    """The host waits for a reboot, and the service cannot do without it.

    Looks at: why a reboot is due; error numbers that only a reboot clears (1072); log lines that ask for one, or that miss
    a part of the running kernel.
    Convinced by: such a number or line on a host where a reboot is due.
    Against: no such line: then a reboot that is due is only noted.
    Mend: reboot, when it costs least.
    """
    service = case.service
    numbers = numbered(case, 1072, 3010, 1641, bears=SAID)
    said = lines.saying(case.last_events(), "asks for reboot")
    kernel = lines.saying(case.last_events(), "kernel mismatch")
    due = case.host.reboot_due
    if not due and not numbers and not said:
        return
    evidence = [*numbers, *(case.quoted(e, FITS) for e in (*said[-1:], *kernel[-1:]))]
    if due:
        evidence.append(case.seen(f"a reboot of {case.node.host} is due: {due}", bears=FITS if evidence else "tells"))
    yield Finding(
        says=f"{case.node.host} waits for a reboot{f' ({due})' if due else ''}"
        + (f", and {service.name} cannot start before it." if numbers or said or kernel else "."),
        evidence=tuple(evidence),
        mends=(
            Mend(
                f"Reboot {case.node.host}, when it costs least; all its services are interrupted.",
                AFTER_REBOOT,
                means=(reboot(),),
            ),
        ),
        note=not (numbers or said or kernel),
        explains=("exits-with-error", "crash-loop") if numbers or kernel else (),
    )


_AROUND = timedelta(minutes=5)
"""How near to a stop maintenance has to be that names the service, and that does not: an update of many packages takes minutes,
and what names nothing is believed only where it is at the very moment."""
_CLOSE = timedelta(seconds=30)
"""How near to a stop maintenance has to be that names the service, and that does not."""


@cause("maintenance-left-stopped", Boot.OVER, lacks_only_a_start=True, states=("stopped", "failed"))
def maintenance_left_stopped(case: Case) -> Iterator[Finding]:
    """An update or a backup stopped it and did not start it again.

    Looks at: when it was stopped on request; records of updates, installers and backups around that moment.
    Convinced by: a record that names the service, or maintenance under way at the moment of the stop.
    Against: an end with an error; no maintenance on record (then ``stopped``); records that others than root may write.
    Mend: see that the maintenance is over, then start it.
    """
    service, last = case.service, case.service.last
    if last is None or service.startup not in ("automatic", "delayed", "manual") or skipped(service):
        return
    ended = last.left_up_at or last.ended_at
    if (
        ended is None
        or not started_since_boot(service, case.host.boot_at)
        or (failed_last(service) and not ended_by_request(case))
    ):
        return
    own = [
        e
        for e in case.events()
        if e.trust not in TOLD
        and abs(e.at - ended) < _AROUND
        and says(e.text, "stop")
        and _tells_of_maintenance(e, case)
    ]
    boot = case.host.boot_at
    around = [
        e
        for e in case.index.events.get("", ())
        if e.trust not in TOLD and says(e.text, "maintenance") and (boot is None or e.at >= boot)
    ]
    named = [e for e in around if -_AROUND < e.at - ended < _AROUND and _names(e, case)]
    close = [e for e in around if abs(e.at - ended) < _CLOSE]
    if not own and not named and not (close and stop_was_asked(case)):
        return
    said = (own or named or close)[-1]
    yield Finding(
        says=f"{service.name} was stopped at {clock(ended)} during maintenance, and has not been started again.",
        evidence=(
            case.quoted(said, SAID if own or named else HINT),
            case.seen(
                f"{service.name} ended with result {last.result or 'success'}",
                MANAGER,
                ended,
                FITS if own or named else HINT,
            ),
        ),
        mends=(Mend(f"See that the maintenance is over, then start {service.name}.", acts=(start(service.name),)),),
        explains=("stopped", "manual-not-started", "exits-with-error", "killed") if own or named else (),
        residual=not (own or named),
    )


_BEHIND_ITS_NAME = pattern(r" - .{1,400}$|(?:Start|Stopp)(?:ed|ing) .{1,400}$")
"""Where the manager's records of starts and stops have what the unit calls itself."""


def _tells_of_maintenance(event: Event, case: Case) -> bool:
    """Whether a record about the service speaks of maintenance, and not only what the service is called: many are there for updates
    and backups."""
    text = _BEHIND_ITS_NAME.sub("", event.text) if event.by_manager else event.text
    for name in (case.service.description, case.service.display_name, case.node.name.rpartition(".")[0]):
        text = re.sub(rf"(?<!\w){re.escape(name)}(?!\w)", "it", text) if name else text
    return says(text, "maintenance")


def _names(event: Event, case: Case) -> bool:
    stem = case.node.name.rpartition(".")[0] or case.node.name
    program = case.service.program.path.rpartition("/")[2] if case.service.program else ""
    words = [w for w in (stem.partition("@")[0], case.service.display_name, program) if len(w) > 2]
    return any(re.search(rf"(?i)(?<!\w){re.escape(word)}(?!\w)", event.text) for word in words)
