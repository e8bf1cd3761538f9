"""What speaks against a service before it is registered: by what was seen of its program, account, files, needs, ports and name.

What the rules of the catalogue find on the service as it would be is an objection as it stands; what they can only tell after a failed
start is looked at here.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from hollow_chain.causes import Facts, Finding, rule_of
from hollow_chain.causes.case import Case
from hollow_chain.causes.rights import ALL_RIGHTS_ACCOUNTS, barrier
from hollow_chain.chain import Node, knots
from hollow_chain.facts.endpoints import of_claim, of_listener, overlap
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Claim, Service
from hollow_chain.families import family_of
from hollow_chain.families.entries import WISHED
from hollow_chain.registering import events
from hollow_chain.registering.supposed import SUPPOSED
from hollow_chain.registering.twins import twins_of
from hollow_chain.registering.wish import OWN, Wish
from hollow_chain.verdict import diagnose

if TYPE_CHECKING:
    from hollow_chain.registering.editing import Edit

SURE = 0.5
"""From this probability on, what a rule finds speaks against it."""
_UNIT_NAME = re.compile(r"[A-Za-z0-9:_.\\-]+(@[A-Za-z0-9:_.\\-]+)?")
_MOST_NAME = {"systemd": 255 - len(".service"), "control-manager": 256}
"""Letters of a name (systemd.unit(5); the documentation of ``CreateService``)."""
_ALL_RIGHTS = (*(account for account in ALL_RIGHTS_ACCOUNTS if account), "LocalSystem")


def objections(facts: Facts, host: Host, wish: Wish, new: Service, another: bool = False) -> list[str]:
    """Everything that speaks against registering *new*, which stands in the facts as if it were registered; each a sentence that says
    what to do. *another*: a twin of what is there is wanted."""
    return list(dict.fromkeys(_all(facts, host, wish, new, another)))


def of_change(facts: Facts, host: Host, edit: Edit) -> list[str]:
    """What speaks against a change: what is found on the service as it would be, and not on it as it is."""
    trial = facts.graph.node(host.name, edit.trial_name)
    assert trial.service is not None
    case = Case(facts, trial)
    found = [*_needs(facts, trial, edit.given), *_account(host, trial.service), *_files(case)]
    found += [text for text in port_objections(host, trial.service) if edit.name not in text]
    found += _found(facts, trial)
    now = set(_found(facts, facts.graph.node(host.name, edit.name)))
    return [said for text in dict.fromkeys(found) if (said := text.replace(edit.trial_name, edit.name)) not in now]


def name_objections(host: Host, name: str) -> Iterator[str]:
    """What speaks against a name."""
    family = family_of(host)
    stem = name.removesuffix(".service") if family.names_tell_kinds else name
    most = _MOST_NAME[host.manager]
    if not stem:
        yield "name: it has none; write --name"
    elif len(stem) > most:
        yield f"name: {stem[:40]}... has {len(stem)} letters, and {most} is the most"
    elif family.names_tell_kinds and stem.endswith(
        (".socket", ".timer", ".path", ".mount", ".target", ".device", ".slice", ".scope", ".swap")
    ):
        yield f"name: {stem} is the name of another kind of unit; a service ends in .service, or in nothing"
    elif family.names_tell_kinds and not _UNIT_NAME.fullmatch(stem):
        yield f"name: {stem!r} has a letter that no unit's name may have; letters, digits and : _ . - are taken"
    elif family.names_tell_kinds and stem.endswith("@"):
        yield f"name: {stem} is the name of a template; name the service, as {stem}1, or write --instance-of"
    elif not family.names_tell_kinds and any(letter in stem for letter in "/\\"):
        yield f"name: {stem!r} has a slash, which no service's name may have"


def _all(facts: Facts, host: Host, wish: Wish, new: Service, another: bool) -> Iterator[str]:
    found = facts.graph.find(host.name, new.name)
    if found is None or found.detail != SUPPOSED:
        yield f"name: {new.name} is taken already; to change it: hollow-chain register --edit {new.name}"
        return
    node = facts.graph.node(host.name, new.name)
    yield from _needs(facts, node, wish)
    case = Case(facts, node)
    yield from _account(host, new)
    yield from _files(case)
    yield from port_objections(host, new)
    yield from _found(facts, node)
    for twin in () if another else twins_of(host, new):
        how = f"correct that one with 'hollow-chain register --edit {twin.name}', or write --another to have both"
        yield f"there is {twin.name} already, {twin.why}: {how}"


def _found(facts: Facts, node: Node) -> Iterator[str]:
    """What the rules find on it: all but that it was not started yet, and what is wrong elsewhere on its chain."""
    verdict = diagnose(facts, node)
    for cause in verdict.causes:
        finding = cause.finding
        own = finding.service == node.name and finding.host == node.host
        if cause.confidence < SURE or rule_of(finding.cause).lacks_only_a_start:
            continue
        if own:
            yield f"{finding.says} {_does(finding)}".strip()


def _does(finding: Finding) -> str:
    return next((mend.does for mend in finding.mends), "")


def _needs(facts: Facts, node: Node, wish: Wish) -> Iterator[str]:
    for name in (*wish.needs, *wish.after):
        need = facts.graph.find(node.host, name)
        if name == node.name:
            yield f"needs: {name} cannot need itself"
        elif need is None:
            continue  # said by the rule for what is not registered, with near names; an order after nothing waits for nothing
        elif need.template:
            yield f"needs: {name} is a template; name an instance of it"
        elif need.startup == "disabled" and name in wish.needs:
            yield f"needs: {name} is kept from being started by anybody; let it be started first: hollow-chain mend {name}"
    for ring in _rings(facts, node):
        yield f"needs: that makes a ring: {' -> '.join(ring)}"


def _rings(facts: Facts, node: Node) -> Iterator[list[str]]:
    over = (family_of(facts.graph.hosts[node.host]).loops_over,)

    def step(one: Node) -> list[Node]:
        return [edge.head for edge in facts.graph.needs(one, over) if not edge.crosses]

    for part in knots([node], step):
        names = [one.name for one in part]
        if len(part) > 1 and node.name in names:
            yield [*names, names[0]]


def _account(host: Host, new: Service) -> Iterator[str]:
    user = new.account.user if new.account is not None else ""
    known = next((one for one in host.accounts if one.kind == "user" and _same(one.name, user)), None)
    if not user or user == OWN or known is None:
        return
    if not known.exists:
        near = _near(user, [one.name for one in host.accounts if one.exists])
        yield f"account: there is no account {user}{near}"
    elif known.expires_at and host.read_at and known.expires_at < host.read_at:
        yield f"account: {user} expired at {known.expires_at:%Y-%m-%d}"
    elif known.locked and family_of(host).locked_accounts_barred:
        yield f"account: {user} is locked"
    elif known.may_run_services is False:
        yield f"account: {user} lacks the right to run as a service"


def _same(one: str, other: str) -> bool:
    return one.casefold().rpartition("\\")[2] == other.casefold().rpartition("\\")[2]


def _near(name: str, known: list[str]) -> str:
    from hollow_chain.wording.near import nearest

    found = nearest(name, list(known), 1, 80)
    return f"; near: {found[0].name}" if found else ""


def _files(case: Case) -> Iterator[str]:
    program = case.service.program
    assert program is not None
    if not program.path and case.service.template_of:
        return  # the template says what it runs
    if not _is_full(program.path):
        yield f"program: {program.path} is no full path; write it from the root on"
        return
    file = case.file(program.path)
    if file is not None and file.exists and (found := barrier(case, program.path, False, runs=True)) is not None:
        yield f"program: {_who(case)} cannot run {program.path}: {found.why}"
    folder = case.file(program.folder) if program.folder else None
    if folder is not None and folder.exists and folder.kind != "folder":
        yield f"folder: {program.folder} is a {folder.kind}, and no folder"
    elif folder is not None and folder.exists and (found := barrier(case, program.folder, False)) is not None:
        yield f"folder: {_who(case)} cannot enter {program.folder}: {found.why}"
    for path in program.environment_files:
        env = case.file(path)
        if env is not None and not env.exists:
            yield f"env-file: {path} is not there"
        elif env is not None and env.kind != "file":
            yield f"env-file: {path} is a {env.kind}, and no file"
    for path in program.paths:
        named = case.file(path)
        if named is not None and named.exists and (found := barrier(case, path, False)) is not None:
            yield f"{_who(case)} cannot read {path}, which its arguments name: {found.why}"


def _who(case: Case) -> str:
    account = case.service.account
    return (account.user if account is not None else "") or "its own account"


def _is_full(path: str) -> bool:
    return path.startswith("/") or bool(re.match(r"^[A-Za-z]:[\\/]", path))


def port_objections(host: Host, new: Service) -> list[str]:
    """Who holds its ports now, and who else is set to have them at the next boot."""
    found = []
    for claim in (one for one in new.claims if not one.unsure):
        wanted = of_claim(claim)
        holders = {
            one.service or one.program or "somebody" for one in host.listeners if overlap(wanted, of_listener(one))
        }
        if holders:
            found.append(f"port: {wanted} is held by {', '.join(sorted(holders))}; choose another, or stop that one")
            continue
        for other in host.services:
            automatic = other.startup in ("automatic", "delayed") and other.name != new.name
            if automatic and any(c.counts and overlap(wanted, of_claim(c)) for c in other.claims):
                found.append(
                    f"port: {wanted} is what {other.name} is set to listen on, which starts at boot; choose another"
                )
                break
    return found


def counted_claims(new: Service) -> list[Claim]:
    """The claims that speak for themselves: those that are wished; where none is, those of its arguments and of files that these name.
    What merely lies where its settings are by habit may be meant for another."""
    wished = [claim for claim in new.claims if claim.source == WISHED]
    named = ("arguments", *(f"configuration {path}" for path in (new.program.paths if new.program is not None else ())))
    return wished or [one for one in new.claims if one.counts and one.source.startswith(named)]


def remarks(facts: Facts, host: Host, wish: Wish, new: Service) -> list[str]:
    """What does not speak against it, and whoever registers it has to know."""
    return list(_remarks(facts, host, wish, new))


def _remarks(facts: Facts, host: Host, wish: Wish, new: Service) -> Iterator[str]:
    user = new.account.user if new.account is not None else ""
    dynamic = new.account is not None and new.account.dynamic
    case = Case(facts, facts.graph.node(host.name, new.name))
    program = new.program.path if new.program is not None else ""
    as_root = not user and not dynamic and not wish.instance_of and family_of(host).defined_in_files
    if as_root or user in _ALL_RIGHTS:
        ports = [claim.port for claim in new.claims]
        low = host.limits.unprivileged_port if host.limits is not None else None
        needs_low = [port for port in ports if low is not None and port < low]
        smaller = f"; for port {needs_low[0]} a plain account with that one right is enough" if needs_low else ""
        yield f"As {user or 'root'} it may do anything on this host, and so may whoever finds a hole in it{smaller}: write --account."
        file = case.file(program)
        if file is not None and file.exists and (file.owner not in ALL_RIGHTS_ACCOUNTS or _others_write(file.mode)):
            yield f"{program} belongs to {file.owner} (mode {file.mode}): who may write there becomes {user or 'root'} with it."
    for event in events.starts_of(wish.start).events:
        file = case.file(event.what) if event.kind == events.DEVICE else None
        if file is not None and not file.exists:
            yield f"{event.what} is not there now: the service starts when it comes."
    if program and case.file(program) is None:
        yield f"{program} was not looked at: these facts say nothing of it."


def _others_write(mode: str) -> bool:
    return bool(mode) and bool(int(mode, 8) & 0o022)
