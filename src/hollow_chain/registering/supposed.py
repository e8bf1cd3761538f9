"""The service as it would be: facts of something that is not there yet, so that all that reads, judges and rehearses facts can be asked
about it."""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from hollow_chain.boot.changes import seconds
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Account, Claim, Confinement, Definition, Limits, Link, Program, Service, Trigger
from hollow_chain.families import CONTROL, SYSTEMD, family_of
from hollow_chain.families.entries import WISHED, service_of_entry
from hollow_chain.registering import events, systemd_form
from hollow_chain.registering.control_form import entry_of
from hollow_chain.registering.systemd_form import Chosen, device_unit
from hollow_chain.registering.wish import OWN, Wish

SUPPOSED = "supposed"
"""The detail of a state by which such a service is known."""
_STYLES = {**systemd_form.TYPES, "": "exec"}
_WITH_UNIT = (events.TIME, events.PATH, events.SOCKET)
"""Events that a unit of their own stands for: systemd hangs a service on a device, or on the network, as it does on the boot."""
_PATH_LIKE = 2
"""Letters from which on an argument that begins like a path is one."""


def service_of(wish: Wish, chosen: Chosen, manager: str) -> Service:
    """The service that *wish* describes, registered and not yet started."""
    return _OF[manager](wish, chosen)


def _on_systemd(wish: Wish, chosen: Chosen) -> Service:
    starts, stops = events.starts_of(wish.start), events.stops_of(wish.stop_on)
    restarts = events.restarts_of(wish.restart)
    name = systemd_form.unit_name(wish)
    devices = [device_unit(event.what) for event in (*starts.events, *stops) if event.kind == events.DEVICE]
    bound = [device_unit(event.what) for event in stops if event.kind == events.DEVICE]
    links = [Link(to=need, word="Requires") for need in wish.needs]
    links += [Link(to=one, word="BindsTo") for one in bound]
    after = [*wish.needs, *wish.after, *devices, "sysinit.target", "basic.target"]
    if any(event.kind == events.NETWORK for event in starts.events):
        links.append(Link(to="network-online.target", kind="soft", word="Wants"))
        after.append("network-online.target")
    links += [Link(to=one, kind="order", word="After", pulls=False) for one in dict.fromkeys(after)]
    by_boot = starts.kind == events.AUTOMATIC or any(event.kind == events.NETWORK for event in starts.events)
    user = "" if chosen.account == "root" else chosen.account
    return Service(
        name=name,
        description=wish.shown_as or wish.describe or wish.name,
        state="stopped",
        detail=SUPPOSED,
        startup="event" if any(event.kind in _WITH_UNIT for event in starts.events) and not by_boot else "manual",
        template_of=wish.instance_of,
        instance=wish.name if wish.instance_of else "",
        wanted_by=[systemd_form.BOOT_TARGET] if by_boot else [],
        links=links,
        triggers=[_trigger(event, name) for event in starts.events if event.kind in _WITH_UNIT],
        definition=Definition(file=f"{systemd_form.PLACE}/{name}"),
        program=_program(wish, chosen, _STYLES[wish.up_when]),
        account=Account(dynamic=True) if user == OWN else Account(user=user),
        limits=Limits(
            start_seconds=seconds(wish.limit) if wish.limit else None,
            rate_count=restarts.most,
            rate_seconds=restarts.within,
            restart="no" if restarts.when == "never" else restarts.when,
            restart_seconds=restarts.after,
        ),
        confinement=Confinement(granted=["CAP_NET_BIND_SERVICE"] if chosen.low_port else []),
        claims=_claims(wish),
    )


def _trigger(event: events.EventWish, name: str) -> Trigger:
    kind = {events.TIME: "timer"}.get(event.kind, event.kind)
    after_boot = event.seconds if event.kind == events.TIME and event.seconds else None
    return Trigger(kind=kind, name=f"{name.removesuffix('.service')}.{kind}", after_boot=after_boot)


def _on_control(wish: Wish, chosen: Chosen) -> Service:
    return msgspec.structs.replace(service_of_entry(entry_of(wish, chosen)[0]), detail=SUPPOSED)


_OF: dict[str, Callable[[Wish, Chosen], Service]] = {SYSTEMD.name: _on_systemd, CONTROL.name: _on_control}


def _program(wish: Wish, chosen: Chosen, style: str) -> Program:
    paths = [word for word in wish.arguments if word.startswith("/") and len(word) > _PATH_LIKE]
    return Program(
        path=wish.program,
        arguments=[wish.program, *wish.arguments],
        folder=chosen.folder,
        style=style,
        paths=paths,
        environment_files=[wish.env_file] if wish.env_file else [],
    )


def _claims(wish: Wish) -> list[Claim]:
    return [Claim(port=port, source=WISHED) for port in dict.fromkeys(wish.port)]


def with_supposed(host: Host, new: Service) -> Host:
    """*host* with the service on it, unless the name is taken."""
    letters = family_of(host).letters_alike
    taken = {name.casefold() if letters else name for s in host.services for name in (s.name, *s.aliases)}
    if (new.name.casefold() if letters else new.name) in taken:
        return host
    return msgspec.structs.replace(host, services=[*host.services, new])
