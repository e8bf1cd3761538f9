"""Rows of the index from facts: what stands in it of a host, and of each of its services."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any, NamedTuple

from hollow_chain.causes import Case, Facts, rules_for
from hollow_chain.causes.rule import Rule
from hollow_chain.chain import Node
from hollow_chain.facts.host import File, Host, UnreachedHost
from hollow_chain.facts.service import Service
from hollow_chain.sources.readings import hangs_on
from hollow_chain.verdict import Verdict, diagnose_all
from hollow_chain.verdict.changed import clues_of

Row = dict[str, Any]
_MOST_CAUSES, _MOST_SAID = 5, 300
"""Causes of one service that are told, and characters of a sentence: the rest is in the snapshot."""
_DIGITS = 16
"""Of a digest: 64 bits, by which a million versions are told apart with certainty enough."""


class Rows(NamedTuple):
    """Rows of both tables."""

    hosts: list[Row]
    services: list[Row]
    packages: dict[str, list[str]]
    """Sets of installed packages by their digests."""


class RoundOf(NamedTuple):
    """What rows have of the round that they belong to."""

    number: str = ""
    kept_at: datetime | None = None
    files: dict[str, str] = {}  # noqa: RUF012 - never changed
    groups: dict[str, list[str]] = {}  # noqa: RUF012 - as before


def rows_of(facts: Facts, hosts: Iterable[str], about: RoundOf) -> Rows:
    """The rows of *hosts*, all of which are in the facts, diagnosed."""
    wanted = list(hosts)
    verdicts: dict[tuple[str, str], Verdict] = {verdict.target.key: verdict for verdict in diagnose_all(facts)}
    found = Rows([], [], {})
    for name in wanted:
        host = facts.graph.hosts[name]
        services = _services(facts, host, verdicts, about)
        found.services.extend(services)
        packages = [f"{one.name} {one.version}".rstrip() for one in host.packages]
        name = _digest(*packages) if packages else ""
        if packages:
            found.packages[name] = packages
        found.hosts.append(_host(host, services, name, about))
    return found


def unreached_rows(unreached: Iterable[UnreachedHost], about: RoundOf) -> list[Row]:
    """The rows of hosts that were asked and could not be read."""
    return [
        {
            "round": about.number,
            "kept_at": about.kept_at,
            "host": one.name,
            "read": False,
            "why": one.why[:_MOST_SAID],
            "read_at": one.tried_at,
            "groups": about.groups.get(one.name, []),
        }
        for one in unreached
    ]


def _host(host: Host, services: Sequence[Row], packages: str, about: RoundOf) -> Row:
    unwell = [row for row in services if row["causes"]]
    since = [row["failing_since"] for row in unwell if row["failing_since"] is not None]
    return {
        "round": about.number,
        "kept_at": about.kept_at,
        "host": host.name,
        "read": True,
        "why": "",
        "file": about.files.get(host.name, ""),
        "read_at": host.read_at,
        "boot_at": host.boot_at,
        "family": host.manager,
        "system": host.system,
        "architecture": host.architecture,
        "cores": _whole(host.cores, 31),
        "memory_bytes": _whole(host.memory_bytes, 63),
        "container": host.container,
        "clock_offset": host.clock_offset,
        "default_target": host.default_target,
        "reboot_due": host.reboot_due,
        "machine": host.machine,
        "groups": about.groups.get(host.name, []),
        "packages": packages,
        "hangs_on": hangs_on(host),
        "services": len(services),
        "unwell": len(unwell),
        "down_after_boot": sum(row["down_after_boot"] for row in services),
        "failing_since": min(since, default=None),
        "unread": [item.what for item in host.unread][:_MOST_CAUSES],
    }


def _services(facts: Facts, host: Host, verdicts: dict[tuple[str, str], Verdict], about: RoundOf) -> list[Row]:
    files = {file.path: file for file in host.files}
    ports: dict[str, set[str]] = {}
    for one in host.listeners:
        ports.setdefault(one.service, set()).add(f"{one.port}/{one.protocol[:3]}")
    rows = []
    for service in host.services:
        if not service.template:
            row = _service(facts, host, service, files)
            row["round"] = about.number
            row["ports"] = sorted(ports.get(service.name, ()))
            verdict = verdicts.get((host.name, service.name))
            row["causes"] = _causes(verdict) if verdict is not None else []
            row["failing_since"] = _failing_since(facts, host, service) if verdict is not None else None
            rows.append(row)
    return rows


def _service(facts: Facts, host: Host, service: Service, files: dict[str, File]) -> Row:
    node = Node(host.name, service.name, service)
    last, limits, program = service.last, service.limits, service.program
    file = files.get(program.path) if program is not None else None
    hard = [link for link in service.links if link.kind == "hard"]
    return {
        "host": host.name,
        "service": service.name,
        "read_at": host.read_at,
        "family": host.manager,
        "kind": service.kind,
        "title": (service.display_name or service.description)[:_MOST_SAID],
        "state": service.state,
        "startup": service.startup,
        "standing": facts.standing(node).value,
        "result": last.result if last is not None else "",
        "definition": definition_version(service, files),
        "configuration": configuration_version(service, files),
        "program": program.path if program is not None else "",
        "program_size": _whole(file.size, 63) if file is not None else None,
        "program_changed_at": file.changed_at if file is not None else None,
        "account": service.account.user if service.account is not None else "",
        "needs": [link.to if not link.host else f"{link.to} on {link.host}" for link in hard],
        "start_limit": limits.start_seconds if limits is not None else None,
        "stop_limit": limits.stop_seconds if limits is not None else None,
        "memory_limit": _whole(limits.memory_bytes, 63) if limits is not None else None,
        "restart": limits.restart if limits is not None else "",
        "begun_after": _after(host.boot_at, last.started_at) if last is not None else None,
        "up_after": _after(host.boot_at, last.up_at) if last is not None else None,
        "down_after_boot": _is_down_after_boot(facts, node),
    }


def _whole(number: int | None, bits: int) -> int | None:
    """A number that a column of so many bits can hold; None for one that no host has."""
    return number if number is not None and abs(number) < 1 << bits else None


def _after(boot: datetime | None, moment: datetime | None) -> float | None:
    if boot is None or moment is None or moment < boot:
        return None
    return (moment - boot).total_seconds()


def _failing_since(facts: Facts, host: Host, service: Service) -> datetime | None:
    clues, last = clues_of(facts, host.name), service.last
    since = clues.failing_since(service) if clues is not None else None
    if last is not None and since == last.started_at and last.left_up_at is None and last.ended_at is not None:
        return last.ended_at  # it may have been up for long before
    return since


def _causes(verdict: Verdict) -> list[Row]:
    return [
        {
            "cause": one.finding.cause,
            "host": one.finding.host,
            "service": one.finding.service,
            "confidence": one.confidence,
            "says": one.finding.says[:_MOST_SAID],
        }
        for one in verdict.causes[:_MOST_CAUSES]
    ]


def _is_down_after_boot(facts: Facts, node: Node) -> bool:
    """Whether it runs, and will not be there after the next boot."""
    service = node.service
    if service is None or service.state != "running" or service.kind != "service":
        return False
    case = Case(facts, node, True, None)
    return any(any(True for _ in rule.findings(case)) for rule in _of_the_next_boot(case))


def _of_the_next_boot(case: Case) -> list[Rule]:
    return [rule for rule in rules_for(case.state, case.true) if rule.of_the_next_boot]


def definition_version(service: Service, files: dict[str, File]) -> str:
    """What tells this definition from others: the digests of its files; where those are not known, of what it sets."""
    definition = service.definition
    paths = (definition.file, *definition.drop_ins) if definition is not None else ()
    known = [files[path].digest for path in paths if path in files and files[path].digest]
    if known:
        return _digest(*known) if len(known) > 1 else known[0]
    program, account = service.program, service.account
    said = [f"{link.kind} {link.host} {link.to}" for link in service.links]
    said += [f"{trigger.kind} {trigger.name}" for trigger in service.triggers]
    said += program.arguments if program is not None else []
    said += [account.user if account is not None else "", *service.failure_actions]
    return _digest(*sorted(said)) if program is not None else ""


def configuration_version(service: Service, files: dict[str, File]) -> str:
    """What tells these settings from others: the digests of the files that it names as such; empty where none is known."""
    program = service.program
    paths = dict.fromkeys((*program.paths, *program.environment_files)) if program is not None else ()
    known = [f"{path} {files[path].digest}" for path in paths if path in files and files[path].digest]
    return _digest(*known) if known else ""


def _digest(*texts: str) -> str:
    return hashlib.sha256("\n".join(texts).encode("utf-8", "replace")).hexdigest()[:_DIGITS]
