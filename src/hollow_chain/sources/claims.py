"""Endpoints that services are set to listen on: by their definitions, arguments and configuration files."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from hollow_chain.facts.confined import FAMILIES, kept_from_sockets
from hollow_chain.facts.endpoints import is_loopback
from hollow_chain.facts.habits import names_of, own_names_of
from hollow_chain.facts.host import Event, Host
from hollow_chain.facts.service import Claim, Service
from hollow_chain.sources import endpoint_settings, settings
from hollow_chain.sources.called_endpoints import calls_of
from hollow_chain.sources.called_with import called_with
from hollow_chain.sources.evidence_files import EvidenceReader, Text, texts
from hollow_chain.sources.port_names import port_names
from hollow_chain.sources.reading import HostReading
from hollow_chain.wording import lines
from hollow_chain.wording.things import named_endpoints

_OF_THE_MANAGER = ("/lib/systemd/", "/usr/lib/systemd/")
"""Where the manager has its own helpers: what they listen on, its sockets say (file-hierarchy(7))."""
_OF_SETTINGS = (".conf", ".cfg", ".cnf", ".config", ".ini", ".toml", ".yaml", ".yml", ".json")
"""Ends of names that files of settings have."""


def configuration(service: Service, reader: EvidenceReader) -> dict[str, Text]:
    """The texts of the files that look like the configuration of *service*, by path."""
    program = service.program
    if program is None:
        return {}
    named = [path for path in program.paths if "/log/" not in path]
    named += [*program.environment_files, *(program.optional_files or ())]
    return texts(reader, service, [*named, *settings.configuration_of(names_of(service), reader.walker)])


def expect(services: Iterable[Service], reading: HostReading) -> None:
    """Say that the configuration of *services* will be read."""
    names = {name for service in services if service.kind == "service" for name in names_of(service)}
    folders = [f"/etc/{name}" for name in sorted(names)]
    reading.reached.files.expect([path for name in sorted(names) for path in settings.places_of(name)], folders)


def add(service: Service, reader: EvidenceReader, configured: dict[str, Text] | None = None) -> None:
    """Give *service* the endpoints that its arguments and its configuration (where read already: *configured*) claim."""
    if service.program is None or service.kind != "service":
        return
    texts_of = configuration(service, reader) if configured is None else configured
    given = {path: text.text for path, text in texts_of.items()}
    found = endpoint_settings.claims_of_arguments(called_with(service.program, given))
    names = names_of(service)
    named = {path: text for path, text in texts_of.items() if path in service.program.paths}
    for path, text in named.items():
        found += endpoint_settings.claims_of_text(text.text, path, text.trust != "trusted", names)
    # Whose arguments say where to listen, or name the file that does, goes by no settings that are there by habit: these may be another's.
    told = any(claim.counts for claim in found) or any(path.endswith(_OF_SETTINGS) for path in named)
    for path, text in texts_of.items():
        if path not in named and not told:
            found += endpoint_settings.claims_of_text(text.text, path, text.trust != "trusted", names)
    if kept_from_sockets(service) != FAMILIES:  # who may use no network calls nobody over one
        found = _without_calls(found, service, given)
    known = {(c.port, c.protocol, c.address, c.switched_off) for c in service.claims}
    for claim in sorted(found, key=lambda one: one.unsure):  # what one file leaves open, another may say
        about = (claim.port, claim.protocol, claim.address, claim.switched_off)
        if about not in known:
            known.add(about)
            service.claims.append(claim)


def _without_calls(found: list[Claim], service: Service, given: dict[str, str]) -> list[Claim]:
    """*found* without the ports that are told, by a machine beside them, to be of somebody whom it calls."""
    if service.program is None or not any(claim.unsure for claim in found):
        return found
    called = {one.port for one in calls_of(service.program, given, names_of(service))}
    return [claim for claim in found if not (claim.unsure and claim.port in called)]


def add_to_all(reading: HostReading) -> None:
    """The claims of every service that may come to run: also of those that nothing has started yet, for what clashes once they are
    is to be told before."""

    def add_claims(service: Service) -> None:
        program = service.program
        once = program is not None and program.style == "oneshot" and service.state not in ("running", "failed")
        # What starts on request only is the manager's own helper or has a socket unit, whose definition says where it listens.
        on_need = service.startup in ("on-need", "event") and service.state == "stopped"
        helper = program is not None and program.path.startswith(_OF_THE_MANAGER) and service.state == "stopped"
        if not (once or helper or on_need or service.template):
            add(service, reading.evidence)

    expect(reading.host.services, reading)
    reading.reached.each(add_claims, reading.host.services)


def add_to_asked(reading: HostReading) -> None:
    """The claims of what is asked about and is down: whether its start would meet somebody is told before it is tried."""
    for service in reading.host.services:
        if service.name in reading.asked.extra and service.state == "stopped" and not service.claims:
            add(service, reading.evidence)


def add_to_needs(host: Host, failed: Iterable[Service], reader: EvidenceReader) -> None:
    """The claims of what *failed* services could not reach, by their own words, and are linked to."""
    by_name = {service.name: service for service in host.services}
    for service in failed:
        if not lines.saying(_records(host, service), "unreached"):
            continue
        for link in service.links:
            need = by_name.get(link.to)
            if (
                need is not None
                and link.kind in ("hard", "soft", "order")
                and need.state == "running"
                and not need.claims
            ):
                add(need, reader)


def add_to_sought(reading: HostReading, callers: Iterable[Service]) -> None:
    """The claims of whoever is set to a port of this host that *callers* could not reach: most of these name no need for it."""
    host = reading.host
    held = {listener.port for listener in host.listeners}
    # What a service is sent to by its settings may look like a place where it listens itself.
    claimed = {claim.port for service in host.services for claim in service.claims if not claim.unsure}
    sought = {port for service in callers for port in _ports_sought(host, service)} - held - claimed
    if not sought:
        return

    def add_sought(service: Service) -> None:
        if service.kind == "service" and not service.claims and not service.template:
            add(service, reading.evidence)
            service.claims = [claim for claim in service.claims if claim.port in sought]

    expect(host.services, reading)
    reading.reached.each(add_sought, host.services)
    _add_by_name(
        reading, sought - {claim.port for service in host.services for claim in service.claims if not claim.unsure}
    )


def _add_by_name(reading: HostReading, ports: set[int]) -> None:
    """Of ports that nobody says to be his, those that bear the name of a service: many a daemon is set to no other than its usual one."""
    names = port_names(reading.reached.files) if ports else {}
    for port in sorted(ports & names.keys()):
        wanted = {f"{name}{end}" for name in names[port] for end in ("", "d")}
        for service in reading.host.services:
            if service.kind == "service" and not service.template and not wanted.isdisjoint(own_names_of(service)):
                service.claims.append(Claim(port=port, source="the name of that port (services(5))", unsure=True))


def _ports_sought(host: Host, service: Service) -> Iterator[int]:
    records = _records(host, service)
    local = {"", "localhost", *host.addresses, *host.local_names}
    said = lines.saying(records, "unreached")
    for _, address, port in lines.endpoints_in(said, records):
        if address in local or is_loopback(address):
            yield port
    for name, port in (place for event in said for place in named_endpoints(event.text)):
        if name in host.local_names:
            yield port
    for called in (service.program.calls if service.program is not None else None) or ():
        if called.address in local or is_loopback(called.address):
            yield called.port


def _records(host: Host, service: Service) -> list[Event]:
    return [event for event in host.events if event.service == service.name]
