"""What services that failed say in files of their own: logs, and the lines of their configuration that records complain of."""

from __future__ import annotations

from hollow_chain.facts.confined import CALLS, kept_from_sockets, may_not_listen
from hollow_chain.facts.habits import names_of
from hollow_chain.facts.host import Event
from hollow_chain.facts.service import Service, is_deserted
from hollow_chain.sources import called_endpoints, claims, logs, logs_unnamed, settings
from hollow_chain.sources.endpoint_settings import ARGUMENTS
from hollow_chain.sources.evidence_files import Text
from hollow_chain.sources.local_names import add_local_names
from hollow_chain.sources.reading import HostReading
from hollow_chain.wording import lines
from hollow_chain.wording.forms import says
from hollow_chain.wording.last_words import final
from hollow_chain.wording.ranges import bounds_in, lines_outside
from hollow_chain.wording.secrets import mask_text
from hollow_chain.wording.things import endpoints_of, paths_in, place_in, quoted_words

_MOST_FILES = 16
"""Logs, and files of settings, of one service that are remembered."""
_MOST_NAMED = 40
"""Places that the settings of one service name, of which each is looked at."""
_FEW = 2
"""Lines of settings with one word: a key, and what refers to it."""
_MOST_LINES = 5
"""Lines of configuration that are put beside the records that complain of them."""


def add(reading: HostReading) -> None:
    """Of services that failed: the endpoints that they are set to listen on, and the records of their own log files."""
    host, reader = reading.host, reading.evidence
    names = logs_unnamed.own_names(host.services)

    def own_events(service: Service) -> list[Event]:
        program = service.program
        down = service.state == "failed" or _has_restarted(service) or is_deserted(service)
        if program is None or service.kind != "service" or not (down or service.name in reading.closely):
            return []
        configured = claims.configuration(service, reader)
        if down or service.name in reading.chosen:
            claims.add(service, reader, configured)
        named = [*program.log_files, *(path for path in program.paths if "log" in path)]
        program.generated = (
            settings.generated({path: text.text for path, text in configured.items() if text.whole}) or None
        )
        for text in configured.values():
            named += settings.log_paths_of_text(text.text)
            if (
                text.trust == "trusted"
            ):  # of what the service may write itself nothing follows about which files are its own
                program.settings_paths += settings.own_paths_of_text(text.text)
        if down:
            named += logs_unnamed.written_in_last_run(service, names, reader)
        program.log_files = list(dict.fromkeys(named))[:_MOST_FILES]
        program.settings_paths = list(dict.fromkeys(program.settings_paths))[:_MOST_FILES]
        said = logs.own_records(service, named, reader)
        told = [*(e for e in host.events if e.service == service.name), *said]
        if not (down or service.name in reading.chosen):
            _add_claims_in_doubt(service, reading, configured, told)
        return [*said, *_lines_complained_of(told, configured)]

    def add_unspoken(service: Service) -> None:
        records = [event for event in host.events if event.service == service.name]
        called = any(not endpoints_of(event.text) for event in lines.saying(records, "unreached"))
        named = any(not paths_in(event.text) for event in lines.saying(records, "missing", "denied", "too open"))
        if service.program is None or not (called or named):
            return
        configured = claims.configuration(service, reader)
        texts = {path: one.text for path, one in configured.items() if one.trust == "trusted"}
        if called:
            service.program.calls = called_endpoints.calls_of(service.program, texts, names_of(service)) or None
        if named:
            given = {**texts, "its environment": "\n".join(service.program.environment)}
            found = [one for path, text in given.items() for one in settings.named_in_text(text, path)]
            service.program.named = found[:_MOST_NAMED] or None

    failed = [s for s in host.services if s.state == "failed" or _has_restarted(s)]
    claims.expect([s for s in host.services if s.state == "failed"], reading)
    for events in reading.reached.each(own_events, list(host.services)):
        host.events += events
    reading.reached.each(add_unspoken, failed)
    add_local_names(host, reading.reached.files)
    claims.add_to_needs(host, failed, reader)
    # Who was asked about may run, and call in vain as well.
    claims.add_to_sought(
        reading, [*failed, *(s for s in host.services if s.state == "running" and s.name in reading.closely)]
    )


def _add_claims_in_doubt(
    service: Service, reading: HostReading, configured: dict[str, Text], told: list[Event]
) -> None:
    """Of what a service that is up is set to listen on, only those ports that somebody else has: settings say more than what is meant
    now, and a port that nobody has may not be wanted. Where it has no socket at all, those too that it says it listens on, and all that is
    sure if its definition may be why."""
    others = {listener.port for listener in reading.host.listeners if listener.service != service.name}
    kept = list(service.claims)
    claims.add(service, reading.evidence, configured)
    deaf = reading.host.sockets_read and all(one.service != service.name for one in reading.host.listeners)
    by = kept_from_sockets(service) if deaf else ""
    surely = may_not_listen(service)
    barred = {
        claim.port
        for claim in service.claims
        if by and (surely or by != CALLS or (not claim.unsure and claim.source == ARGUMENTS))
    }
    started = service.last.started_at if service.last is not None else None
    spoken = [
        e
        for e in told
        if deaf and not e.by_manager and started is not None and e.at >= started and says(e.text, "listening")
    ]
    meant = others | barred | {port for event in spoken for _, port in endpoints_of(event.text)}
    service.claims = [claim for claim in service.claims if claim in kept or claim.port in meant]


def _lines_complained_of(events: list[Event], configured: dict[str, Text]) -> list[Event]:
    """The lines of a service's own configuration files that log records name by file and number, that give an account which they call
    unknown, or that have a word which the run ended on, as records of their own. What else a record names is not opened: its words decide
    nothing about which files are the service's."""
    found: dict[tuple[str, int], Event] = {}
    ending = final([event for event in events if not event.by_manager])[-1:]
    for event in events:
        places = [place for place in (place_in(event.text),) if place is not None and place[0] in configured]
        for _, name in lines.unknown_user([event]):
            places += _lines_with_account(name, configured)
        if any(event is one for one in ending):
            places += _lines_with_words(quoted_words(event.text), configured)
            places += _lines_out_of_bounds(event.text, configured)
        for path, number in places:
            text = settings.line_of(configured[path].text, number)
            if text and len(found) < _MOST_LINES:
                found[path, number] = Event(
                    at=event.at,
                    text=mask_text(text),
                    service=event.service,
                    source=f"{lines.CONFIGURATION}{path}",
                    line=number,
                    trust=configured[path].trust,
                )
    return list(found.values())


def _lines_with_words(words: list[str], configured: dict[str, Text]) -> list[tuple[str, int]]:
    """Where the settings have a word that the run ended on: what stands in many lines is none that a program would stumble over."""
    found: list[tuple[str, int]] = []
    for word in words[:_MOST_LINES]:
        places = [
            (path, number) for path, text in configured.items() for number in settings.lines_with(text.text, word)
        ]
        found += places if len(places) <= _FEW else []
        if not places:  # a key that is sought in vain may stand there misspelled
            slips = [
                (path, number)
                for path, text in configured.items()
                for number in settings.lines_with_slip(text.text, word)
            ]
            found += slips if len(slips) == 1 else []
    return found


def _lines_out_of_bounds(text: str, configured: dict[str, Text]) -> list[tuple[str, int]]:
    """Where the settings have a number that is not within the bounds which the run ended on."""
    bounds = bounds_in(text)
    if bounds is None:
        return []
    return [(path, number) for path, one in configured.items() for number in lines_outside(one.text, bounds)][:_FEW]


def _lines_with_account(name: str, configured: dict[str, Text]) -> list[tuple[str, int]]:
    """Where the settings give an account of that *name*."""
    return [
        (path, number)
        for path, text in configured.items()
        if name in text.text
        for number, line in enumerate(text.text.splitlines(), 1)
        if name in line and lines.names_account(line, name)
    ][:_MOST_LINES]


def _has_restarted(service: Service) -> bool:
    return service.state == "starting" or (service.last is not None and service.last.restarts > 0)
