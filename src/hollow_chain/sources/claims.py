"""Endpoints that services are set to listen on: by their definitions, arguments and configuration files."""

from __future__ import annotations

from collections.abc import Iterable

from hollow_chain.facts.host import Event, Host
from hollow_chain.facts.service import Claim, Service
from hollow_chain.sources import settings, unit_file
from hollow_chain.sources.evidence_files import EvidenceReader, Text, names_of, texts
from hollow_chain.wording import lines

_PROTOCOLS = {"ListenStream": "tcp", "ListenDatagram": "udp"}
_TRUE = ("1", "yes", "true", "on")


def of_socket_unit(unit: Service) -> list[Claim]:
    """The endpoints of a socket unit (systemd.socket(5))."""
    if unit.kind != "socket" or unit.definition is None:
        return []
    found: list[Claim] = []
    given = unit_file.read([unit.definition.file, *unit.definition.drop_ins])
    words = {setting.name: setting.value for setting in given}
    for setting in given:
        protocol = _PROTOCOLS.get(setting.name)
        address, _, port = setting.value.rpartition(":")
        if protocol and not setting.value:
            found = [claim for claim in found if claim.protocol != protocol]
        elif protocol and port.isascii() and port.isdigit() and len(port) < 6 and int(port) < 65536:
            claim = Claim(
                port=int(port), protocol=protocol, address=address.strip("[]"), source=f"definition {setting.file}"
            )
            claim.reuse = words.get("ReusePort", "").lower() in _TRUE
            claim.v6_only = words.get("BindIPv6Only", "") == "ipv6-only"
            found.append(claim)
    return found


def configuration(service: Service, reader: EvidenceReader) -> dict[str, Text]:
    """The texts of the files that look like the configuration of *service*, by path."""
    program = service.program
    if program is None:
        return {}
    named = [path for path in program.paths if "/log/" not in path]
    return texts(reader, service, [*named, *settings.configuration_of(names_of(service), reader.walker)])


def add(service: Service, reader: EvidenceReader, configured: dict[str, Text] | None = None) -> None:
    """Give *service* the endpoints that its arguments and its configuration (where read already: *configured*) claim."""
    if service.program is None or service.kind != "service":
        return
    found = settings.claims_of_arguments(service.program.arguments)
    for path, text in (configuration(service, reader) if configured is None else configured).items():
        found += settings.claims_of_text(text.text, path, text.trust != "trusted")
    known = {(c.port, c.protocol, c.address, c.switched_off) for c in service.claims}
    for claim in found:
        about = (claim.port, claim.protocol, claim.address, claim.switched_off)
        if about not in known:
            known.add(about)
            service.claims.append(claim)


def add_to_all(host: Host, reader: EvidenceReader) -> None:
    """The claims of every service that runs, failed, or starts at boot, and of every socket unit."""
    for service in host.services:
        service.claims = service.claims or of_socket_unit(service)
        if service.state in ("running", "failed", "starting") or service.startup in ("automatic", "delayed"):
            add(service, reader)


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


def _records(host: Host, service: Service) -> list[Event]:
    return [event for event in host.events if event.service == service.name]
