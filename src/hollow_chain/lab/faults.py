"""Faults that can be put into a stand-in host: what each does to its starts, and what of it can be seen on the host."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta

import msgspec

from hollow_chain.boot.making import Expected
from hollow_chain.boot.plan import Fault, Work
from hollow_chain.causes import named
from hollow_chain.facts.host import Event, File, Host, HostAccount, Listener
from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import Service
from hollow_chain.lab.state import HostFolder, LabFault
from hollow_chain.lab.words import SOURCE
from hollow_chain.trouble import wrong_call

STRANGER = 9100
"""First number of processes that belong to no service."""
_UPDATE_SECONDS = 40.0
"""How long the made-up update takes: as an update of a few packages does."""


@dataclass(frozen=True)
class Kind:
    """One kind of fault."""

    form: str
    says: str
    expects: Callable[[Expected, LabFault], None] = lambda expected, fault: None
    shows: Callable[[HostFolder, Service, LabFault], None] = lambda folder, service, fault: None


def _slow(expected: Expected, fault: LabFault) -> None:
    expected.works[fault.service] = Work(fault.seconds, 0.05, 0.1, 0.1)


def _crash(expected: Expected, fault: LabFault) -> None:
    expected.faults[fault.service] = Fault(named.EXITS_WITH_ERROR, 1.0, fault.seconds or None)


def _of(cause: str) -> Callable[[Expected, LabFault], None]:
    return lambda expected, fault: expected.faults.__setitem__(fault.service, Fault(cause))


def _peer(expected: Expected, fault: LabFault) -> None:
    expected.rivals.append((fault.service, fault.other, named.HELD_BY_PEER))


def _hidden(expected: Expected, fault: LabFault) -> None:
    expected.uses.setdefault(fault.service, []).append(fault.other)


def _take_port(folder: HostFolder, service: Service, fault: LabFault) -> None:
    ports = [claim for claim in service.claims if claim.counts]
    if not ports:
        raise wrong_call(f"{service.name} claims no port, so none can be taken from it")
    number = STRANGER + len(folder.lab.faults)
    listener = Listener(port=ports[0].port, protocol=ports[0].protocol, process=number, program="D:/guest/stray.exe")
    folder.host.listeners = [*(s for s in folder.host.listeners if s.service != service.name), listener]
    folder.host.sockets_read = True


def _bar_account(folder: HostFolder, service: Service, fault: LabFault) -> None:
    user = service.account.user if service.account else "LocalSystem"
    others = [account for account in folder.host.accounts if account.name != user]
    folder.host.accounts = [*others, HostAccount(name=user, may_run_services=False)]


def _remove_program(folder: HostFolder, service: Service, fault: LabFault) -> None:
    path = service.program.path if service.program else ""
    if not path:
        raise wrong_call(f"the program of {service.name} is not known, so it cannot be taken away")
    folder.host.files = [*(f for f in folder.host.files if f.path != path), File(path=path, exists=False)]


def _needs_claim(folder: HostFolder, service: Service, fault: LabFault) -> None:
    other = next((s for s in folder.host.services if s.name == fault.other), None)
    if other is None or not any(claim.port for claim in other.claims):
        raise wrong_call(f"{fault.other} claims no port that {service.name} could use")


def _update(folder: HostFolder, service: Service, fault: LabFault) -> None:
    """An update stops the service and forgets to start it."""
    begun, ended = folder.clock, folder.clock + timedelta(seconds=_UPDATE_SECONDS)
    title = service.display_name or service.name
    folder.host.events += [
        Event(at=begun, source=SOURCE, level="info", text=f"Update of {title} begun; its service is stopped"),
        Event(at=ended, source=SOURCE, level="info", text=f"Update of {title} ended"),
    ]
    last = msgspec.structs.replace(service.last or LastRun(), result="success", ended_at=begun, left_up_at=begun,
                                   error_number=None, exit_status=None)  # fmt: skip
    folder.host.services = [
        msgspec.structs.replace(one, state="stopped", last=last) if one is service else one
        for one in folder.host.services
    ]
    folder.host.listeners = [one for one in folder.host.listeners if one.service != service.name]
    folder.host.read_at = ended


KINDS: dict[str, Kind] = {
    "slow": Kind("slow SERVICE SECONDS", "each start takes that long", _slow),
    "crash": Kind("crash SERVICE [SECONDS]", "it ends with an error, at its start or so long after", _crash),
    "port": Kind("port SERVICE", "a stray program takes its port", _of(named.PORT_HELD), _take_port),
    "peer": Kind("peer SERVICE OTHER", "OTHER holds something that SERVICE wants, while it runs", _peer),
    "hidden": Kind("hidden SERVICE OTHER", "SERVICE uses OTHER without saying so", _hidden, _needs_claim),
    "account": Kind("account SERVICE", "its account may not run services", _of(named.ACCOUNT_BARRED), _bar_account),
    "gone": Kind("gone SERVICE", "its program is taken away", _of(named.PROGRAM_MISSING), _remove_program),
    "update": Kind("update SERVICE", "an update stops it and does not start it again", shows=_update),
}


def expected_of(host: Host, faults: list[LabFault]) -> Expected:
    """What the faults that were put in do to starts."""
    expected = Expected()
    for fault in faults:
        KINDS[fault.kind].expects(expected, fault)
    return expected
