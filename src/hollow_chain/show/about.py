"""All of one service on one page, for a person and as a document."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from hollow_chain.causes import Facts
from hollow_chain.causes.words import clock, span
from hollow_chain.chain import NEEDS, Edge, Node
from hollow_chain.facts.change import LONGEST_AGO
from hollow_chain.facts.endpoints import Endpoint, of_claim, of_listener, said
from hollow_chain.facts.host import Event, File, Host, Listener
from hollow_chain.facts.runs import Start
from hollow_chain.facts.service import Limits, Service
from hollow_chain.families.base_system import is_base
from hollow_chain.families.times import NO_LIMIT, start_limit
from hollow_chain.lately.gather import changes_of
from hollow_chain.show.changes import rows_of
from hollow_chain.show.confinement import confinement_words
from hollow_chain.show.documents import Document, change_entry, verdict_document, when
from hollow_chain.show.own_words import own_words
from hollow_chain.show.sheet import Sheet, SheetLine
from hollow_chain.show.signs import TONES, sign_of, state_word, word_of
from hollow_chain.verdict import Verdict
from hollow_chain.wording.counts import counted, size

_MOST_RECORDS, _MOST_STARTS, _MOST_FILES, _MOST_LINKS, _MOST_CHANGES = 20, 10, 40, 25, 15
"""Lines of each part: what is more is not read on a page."""


class Portrait(msgspec.Struct, frozen=True):
    """A service with all that the facts hold of it."""

    facts: Facts
    node: Node
    verdict: Verdict

    @property
    def service(self) -> Service:
        """The service itself."""
        return self.node.service or Service(name=self.node.name)

    @property
    def host(self) -> Host:
        """Its host."""
        return self.facts.graph.hosts[self.node.host]

    @property
    def records(self) -> list[Event]:
        """What its log says, oldest first."""
        mine = [event for event in self.host.events if event.service == self.node.name]
        return sorted(mine, key=lambda event: event.at)

    @property
    def listeners(self) -> list[Listener]:
        """The sockets that it holds."""
        name = self.node.name
        return [one for one in self.host.listeners if one.service == name or name in one.shared_with]

    @property
    def files(self) -> list[File]:
        """What it names and what was looked at: files and folders, in the order in which it names them."""
        program, definition = self.service.program, self.service.definition
        named = [definition.file, *definition.drop_ins] if definition is not None else []
        if program is not None:
            named += [program.path, program.folder, *program.paths, *program.environment_files, program.pid_file]
            named += [*program.log_files, *program.settings_paths, *program.own_folders, *(program.used_places or ())]
        seen = {file.path: file for file in self.host.files}
        return [seen[path] for path in dict.fromkeys(named) if path in seen]

    def neighbors(self, edges: list[Edge], heads: bool) -> list[Edge]:
        """One edge to each neighbor that is none of the base system, unless that one is not well; what is not well first."""
        found: dict[tuple[str, str], Edge] = {}
        for edge in edges:
            node = edge.head if heads else edge.tail
            is_plain = node.service is None or not is_base(node.service)
            if is_plain or not self.facts.standing(node).well:
                found.setdefault(node.key, edge)
        ends = {key: (edge.head if heads else edge.tail) for key, edge in found.items()}
        return [found[key] for key in sorted(found, key=lambda key: (self.facts.standing(ends[key]).well, key))]


def about_sheet(portrait: Portrait) -> Sheet:
    """The page about a service."""
    service, host = portrait.service, portrait.host
    title = service.display_name or service.description
    sheet = Sheet(
        title=f"{service.name} on {host.name}{f': {title}' if title else ''}",
        lead=portrait.verdict.summary,
        host=host.name,
        read_at=host.read_at,
    )
    sheet.add("How it stands", list(_standing(portrait)), "facts")
    sheet.add("What it is", list(_nature(portrait)), "facts")
    sheet.add("Limits and restarts", list(_limits(service, host)), "facts")
    sheet.add("Confinement", [SheetLine(text) for text in confinement_words(service)])
    sheet.add("Ports", list(_ports(portrait)))
    needs = portrait.neighbors(portrait.facts.graph.needs(portrait.node), True)
    sheet.add("Needs", [_neighbor(portrait, edge, edge.head) for edge in needs], most=_MOST_LINKS)
    needed_by = portrait.neighbors(portrait.facts.graph.needed_by(portrait.node, NEEDS), False)
    sheet.add("Needed by", [_neighbor(portrait, edge, edge.tail) for edge in needed_by], most=_MOST_LINKS)
    sheet.add("Files", [_file(file) for file in portrait.files], folded=True, most=_MOST_FILES)
    changes = changes_of(host, service.name, host.read_at - LONGEST_AGO if host.read_at else None)
    lines = [SheetLine(row.text, clock(row.at), row.source) for row in rows_of(changes, everything=False)]
    sheet.add("Changed lately", lines, most=_MOST_CHANGES)
    starts = [_start(one) for one in reversed(service.starts[-_MOST_STARTS:])]
    sheet.add("Recorded starts", starts, folded=True)
    records = [SheetLine(event.text, clock(event.at), event.source) for event in portrait.records[-_MOST_RECORDS:]]
    sheet.add("Last log lines", records, "log", folded=True)
    sheet.add("Not read, so not judged", [SheetLine(text) for text in portrait.verdict.unread])
    return sheet


def _standing(portrait: Portrait) -> Iterator[SheetLine]:
    service, host = portrait.service, portrait.host
    standing = portrait.facts.standing(portrait.node)
    theirs = own_words(service, host)
    state = state_word(service.kind, service.state)
    words = ", ".join(one for one in (service.detail, theirs) if one)
    yield SheetLine(f"{state}, {word_of(standing, service)}", "state", words and f"its manager says: {words}")
    last = service.last
    if last is not None:
        runs = service.state in ("running", "done")
        moment = (last.up_at or last.started_at) if runs else (last.ended_at or last.left_up_at)
        if moment is not None:
            ago = f", {span((host.read_at - moment).total_seconds())} before the reading" if host.read_at else ""
            yield SheetLine(f"{clock(moment)}{ago}", "since")
        if how := _how_it_ended(service):
            yield SheetLine(how, "last end")
        if last.restarts:
            yield SheetLine(f"{last.restarts} by the manager since it was last started by somebody else", "restarts")
        if last.cpu_seconds:
            yield SheetLine(span(last.cpu_seconds), "computing time")
        if last.status_text:
            yield SheetLine(last.status_text, "says of itself")
    if service.program is not None and service.program.process:
        yield SheetLine(str(service.program.process), "process")
    yield from _usage(service)


def _usage(service: Service) -> Iterator[SheetLine]:
    usage = service.usage
    if usage is None:
        return
    if usage.memory_bytes is not None:
        most = service.limits.memory_bytes if service.limits is not None else None
        yield SheetLine(size(usage.memory_bytes) + (f" of at most {size(most)}" if most and most > 0 else ""), "memory")
    if usage.tasks is not None:
        yield SheetLine(counted(usage.tasks, "task"), "tasks")
    if usage.open_files is not None:
        most = usage.most_open_files
        yield SheetLine(f"{usage.open_files} open{f' of at most {most:,}' if most and most > 0 else ''}", "descriptors")


def _how_it_ended(service: Service) -> str:
    last = service.last
    if last is None or service.state in ("running", "starting"):
        return ""
    parts = [last.result] if last.result else []
    parts += [f"status {last.exit_status}"] if last.exit_status is not None else []
    parts += [f"signal {last.signal}"] if last.signal is not None else []
    parts += [f"error {last.error_number}"] if last.error_number else []
    parts += [f"at {last.step}"] if last.step else []
    return ", ".join(parts)


def _nature(portrait: Portrait) -> Iterator[SheetLine]:
    service = portrait.service
    definition, program, account = service.definition, service.program, service.account
    if service.kind != "service":
        yield SheetLine(service.kind, "kind")
    if service.aliases:
        yield SheetLine(", ".join(service.aliases), "also named")
    if definition is not None:
        state = "" if definition.load == "loaded" else definition.load
        about = ", ".join(one for one in (state, definition.error) if one)
        if definition.file or about:
            yield SheetLine(definition.file or "none", "definition", about)
        for path in definition.drop_ins:
            yield SheetLine(path, "laid over it")
        if definition.made_from:
            yield SheetLine(definition.made_from, "generated from")
        if definition.needs_reload:
            yield SheetLine("the files differ from what is loaded", "reload due")
    started = ", ".join(service.wanted_by) or ", ".join(one.name or one.kind for one in service.triggers)
    yield SheetLine(service.startup, "startup type", f"by {started}" if started else "")
    if program is not None:
        yield SheetLine(program.path or "none", "program", program.style)
        if program.arguments[1:]:
            yield SheetLine(" ".join(program.arguments[1:]), "arguments")
        if program.library:
            yield SheetLine(program.library, "library")
        if program.folder:
            yield SheetLine(program.folder, "working folder")
        if program.environment:
            yield SheetLine(" ".join(program.environment), "environment")
    if account is not None:
        name = "one that is made at each start" if account.dynamic else account.user or "root"
        groups = [one for one in (account.group, *account.groups) if one]
        yield SheetLine(name, "account", f"groups {', '.join(groups)}" if groups else "")
    for one in service.conditions:
        yield SheetLine(f"{one.kind}={'!' if one.negated else ''}{one.parameter}", "condition", one.outcome)


def _limits(service: Service, host: Host) -> Iterator[SheetLine]:
    held = service.limits or Limits()
    limit = start_limit(service, host)
    if limit is not None:
        seconds = "none" if limit.seconds == NO_LIMIT else span(limit.seconds)
        yield SheetLine(seconds, "start limit", "of all services" if limit.for_all else "")
    for value, label in (
        (held.stop_seconds, "stop limit"),
        (held.watchdog_seconds, "watchdog"),
        (held.run_seconds, "may run"),
    ):
        if value is not None and value > 0:
            yield SheetLine(span(value), label)
    if held.restart:
        pause = (
            f" after {span(held.restart_seconds)}" if held.restart != "no" and held.restart_seconds is not None else ""
        )
        yield SheetLine(f"{held.restart}{pause}", "restart")
    if held.rate_count and held.rate_seconds:
        yield SheetLine(f"{counted(held.rate_count, 'start')} in {span(held.rate_seconds)}", "at most")
    if service.failure_actions:
        yield SheetLine(", ".join(service.failure_actions), "after failures")
    if held.memory_bytes is not None and held.memory_bytes > 0:
        yield SheetLine(size(held.memory_bytes), "memory limit")
    for name, value in (held.lowered or {}).items():
        yield SheetLine(f"{value:,}", name)


def _ports(portrait: Portrait) -> Iterator[SheetLine]:
    held = {_endpoint(of_listener(one)) for one in portrait.listeners}
    for text in sorted(held):
        yield SheetLine(text, "holds", tone="well")
    for claim in portrait.service.claims:
        if claim.port and not claim.switched_off and _endpoint(of_claim(claim)) not in held:
            yield SheetLine(_endpoint(of_claim(claim)), "may be set to" if claim.unsure else "is set to", claim.source)


def _neighbor(portrait: Portrait, edge: Edge, node: Node) -> SheetLine:
    standing = portrait.facts.standing(node)
    state = state_word(node.service.kind, node.service.state) if node.service else "not registered"
    where = f" on {node.host}" if node.host != portrait.node.host else ""
    kind = f"{edge.link.kind}, {edge.link.word}" if edge.link.word else edge.link.kind
    startup = f", {node.service.startup}" if node.service else ""
    unwell = "" if standing.well else f"  {word_of(standing, node.service)}"
    return SheetLine(f"{node.name}{where}  {state}{startup}{unwell}", aside=kind, tone=TONES[sign_of(standing)])


def _file(file: File) -> SheetLine:
    if not file.exists:
        return SheetLine(
            file.path,
            aside=f"a link to {file.link_to}, which is not there" if file.link_to else "not there",
            tone="unwell",
        )
    owner = ":".join(one for one in (file.owner, file.group) if one)
    at = file.altered_at or file.changed_at
    parts = (file.kind, owner, file.mode, size(file.size) if file.size is not None and file.kind == "file" else "",
             f"changed {clock(at)}" if at is not None else "", f"package {file.package}" if file.package else "")  # fmt: skip
    return SheetLine(file.path, aside=", ".join(one for one in parts if one))


def _start(start: Start) -> SheetLine:
    took = f" after {span(start.seconds)}" if start.seconds else ""
    word = {"up": "up", "failed": "failed", "timeout": "ran out of time"}[start.outcome]
    tone = "well" if start.outcome == "up" else "unwell"
    return SheetLine(f"{word}{took}", clock(start.at), "at boot" if start.at_boot else "", tone)


def about_document(portrait: Portrait) -> Document:
    """``hollow-chain/about``, version 1: the service as the snapshot has it, and what it takes to judge it."""
    service, host = portrait.service, portrait.host
    since = host.read_at - LONGEST_AGO if host.read_at else None
    graph = portrait.facts.graph
    return {
        "format": "hollow-chain/about",
        "version": 1,
        "read_at": when(host.read_at),
        "host": host.name,
        "service": msgspec.to_builtins(service),
        "own_words": own_words(service, host) or None,
        "confinement": confinement_words(service),
        "listens": [_endpoint(of_listener(one)) for one in portrait.listeners],
        "needs": [_edge(portrait, one, one.head) for one in portrait.neighbors(graph.needs(portrait.node), True)],
        "needed_by": [
            _edge(portrait, one, one.tail) for one in portrait.neighbors(graph.needed_by(portrait.node, NEEDS), False)
        ],
        "files": [msgspec.to_builtins(file) for file in portrait.files],
        "log": [msgspec.to_builtins(event) for event in portrait.records[-_MOST_RECORDS:]],
        "changes": [change_entry(one, host.name) for one in changes_of(host, service.name, since)],
        "verdict": verdict_document(portrait.verdict),
    }


def _edge(portrait: Portrait, edge: Edge, node: Node) -> Document:
    return {
        "service": node.name,
        "host": node.host,
        "kind": edge.link.kind,
        "word": edge.link.word or None,
        "state": node.service.state if node.service else "not registered",
        "startup": node.service.startup if node.service else None,
        "well": portrait.facts.standing(node).well,
    }


def _endpoint(endpoint: Endpoint) -> str:
    return said(endpoint.address, endpoint.port, endpoint.protocol)
