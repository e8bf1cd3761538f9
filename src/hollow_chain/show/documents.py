"""Results as JSON documents, with the keys that ``docs/json.md`` fixes."""

from __future__ import annotations

import itertools
from collections.abc import Collection, Iterator, Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

import msgspec

from hollow_chain.causes import Facts, Finding, Standing
from hollow_chain.chain import Edge, Graph, Match, Node, stop_takes
from hollow_chain.facts.change import Change
from hollow_chain.lately.telling import told
from hollow_chain.lazy import pattern
from hollow_chain.show.roll import Roll
from hollow_chain.show.surroundings import Surroundings
from hollow_chain.verdict import Cause, NextLook, Verdict
from hollow_chain.verdict.ports import PortRow

if TYPE_CHECKING:
    from hollow_chain.causes.meanings import Reading
    from hollow_chain.facts.host import Snapshot
    from hollow_chain.verdict.between_hosts import Crossing

Document = dict[str, Any]


def to_json(document: Document) -> str:
    """*document* as indented JSON. Characters of foreign names that cannot be seen leave it escaped."""
    text = msgspec.json.format(msgspec.json.encode(document), indent=2).decode()
    return _UNSEEN.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def to_json_line(document: Document) -> str:
    """*document* as JSON in one line (jsonlines.org)."""
    return _UNSEEN.sub(lambda found: f"\\u{ord(found[0]):04x}", msgspec.json.encode(document).decode())


_UNSEEN = pattern("[\x7f-\x9f\u061c\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb]")


def when(moment: datetime | None) -> str | None:
    """A moment as RFC 3339, in UTC."""
    if moment is None:
        return None
    try:
        return moment.astimezone(UTC).isoformat().replace("+00:00", "Z")
    except OverflowError:
        return moment.isoformat()


def verdict_document(verdict: Verdict) -> Document:
    """``hollow-chain/verdict``, version 1."""
    return {
        "format": "hollow-chain/verdict",
        "version": 1,
        "read_at": when(verdict.read_at),
        "target": {"host": verdict.target.host, "service": verdict.target.name},
        "state": verdict.state,
        "healthy": verdict.healthy,
        "summary": verdict.summary,
        "causes": [_cause(cause) for cause in verdict.causes],
        "notes": [_note(note) for note in verdict.notes],
        "unread": verdict.unread,
        "next_look": _next_look(verdict.next_look) if verdict.next_look else None,
        "observed": None,
        "contradicted": verdict.contradicted or None,
        "changed": [change_entry(change, node.host) for node, change in verdict.changed],
    }


def change_entry(change: Change, host: str) -> Document:
    """A change, as all documents have it."""
    return {
        "at": when(change.at),
        "kind": change.kind,
        "what": change.what,
        "did": change.did,
        "host": host,
        "services": list(change.services),
        "by": change.by or None,
        "before": change.before or None,
        "after": change.after or None,
        "source": change.source,
        "says": told(change),
    }


def _next_look(look: NextLook) -> Document:
    return {"look": look.does, "because": look.why, "outcomes": list(look.outcomes), "minutes": look.minutes}


MOST_LINKS = 24
"""Names of a chain that one verdict among many gives; from there on another verdict of the same document has it. Without that a
chain of n services would be named n times, in n*n names."""


def verdicts_json(facts: Facts, verdicts: Iterator[Verdict], hosts: Collection[str]) -> Iterator[str]:
    """``hollow-chain/verdicts``, version 1: every service of *hosts* that is not well. In pieces, one a verdict: no more than
    one of them is held at a time."""
    first = next(verdicts, None)
    head = to_json(
        {
            "format": "hollow-chain/verdicts",
            "version": 1,
            "healthy": first is None,
            "verdicts": [] if first is None else [0],
        }
    )
    if first is None:
        yield head
        return
    before, _, after = head.rpartition("0")
    before = before.rstrip(" ")
    yield before
    for number, verdict in enumerate(itertools.chain([first], verdicts)):
        document = verdict_document(verdict)
        for entry, cause in zip(document["causes"], verdict.causes, strict=True):
            _cut_chain(facts, entry, cause, hosts)
        text = to_json(document)
        yield (",\n" if number else "") + "\n".join(f"    {line}" for line in text.split("\n"))
    yield after


def _cut_chain(facts: Facts, told: Document, cause: Cause, hosts: Collection[str]) -> None:
    """Cut a long chain at the first link, far enough down, that has a verdict of its own in the document."""
    if cause.way.length <= MOST_LINKS:
        return
    for at, node in enumerate(cause.way.nodes()):
        own = node.service is not None and node.host in hosts and facts.standing(node) is not Standing.IDLE
        if at >= MOST_LINKS - 1 and own and node.key != cause.place.key:
            told["chain"], told["chain_hosts"] = told["chain"][: at + 1], told["chain_hosts"][: at + 1]
            told["chain_goes_on"] = {"host": node.host, "service": node.name, "links": cause.way.length - at - 1}
            return


def _cause(cause: Cause) -> Document:
    finding = cause.finding
    document: Document = {
        "cause": finding.cause,
        "host": finding.host,
        "service": finding.service,
        "confidence": cause.confidence,
        "chain": [node.name for node in cause.chain],
        "chain_hosts": [node.host for node in cause.chain],
        "says": finding.says,
        "evidence": [{"fact": e.fact, "source": e.source, "at": when(e.at), "told": e.told} for e in finding.evidence],
        "mends": [mend.does for mend in finding.mends],
        "effects": [mend.effect for mend in finding.mends],
    }
    if finding.holder:
        document["holder"] = finding.holder
    if finding.loop:
        document["loop"] = list(finding.loop)
    if finding.near:
        document["near"] = list(finding.near)
    return document


def _note(note: Finding) -> Document:
    return {"cause": note.cause, "host": note.host, "service": note.service, "says": note.says}


def roster_document(roll: Roll, matches: list[Match], words: str) -> Document:
    """``hollow-chain/roster``, version 1."""
    hosts = {name: when(host.read_at) for name, host in roll.facts.graph.hosts.items()}
    return {
        "format": "hollow-chain/roster",
        "version": 1,
        "words": words,
        "read_at": hosts,
        "services": [
            {
                "host": m.node.host,
                "service": m.node.name,
                "display_name": m.node.service.display_name,
                "description": m.node.service.description,
                "kind": m.node.service.kind,
                "state": m.node.service.state,
                "startup": m.node.service.startup,
                "standing": roll.facts.standing(m.node).value,
                "well": roll.is_well(m.node),
                "missed": m.node.key in roll.missed,
                "let_down": m.node.key in roll.let_down,
                "found_by": m.reason if words else None,
            }
            for m in matches
            if m.node.service is not None
        ],
    }


def ports_document(graph: Graph, rows: list[PortRow], between: Sequence[Crossing] = ()) -> Document:
    """``hollow-chain/ports``, version 1."""
    return {
        "format": "hollow-chain/ports",
        "version": 1,
        "read_at": {name: when(host.read_at) for name, host in graph.hosts.items()},
        "clashes": sum(1 for row in rows if row.clash),
        "ports": [_port(row) for row in rows],
        "between": [_crossing(one) for one in between],
    }


def _crossing(one: Crossing) -> Document:
    return {
        "service": one.client.name,
        "host": one.client.host,
        "needs": one.server.name,
        "at": one.server.host,
        "read": one.is_read,
        "well": one.well,
        "ports": [
            {
                "port": way.port,
                "listens_on": sorted({listener.address for listener in way.listens}),
                "open_to_others": way.open_to_others,
                "firewalls": list(way.walls),
                "blocked_by": way.blocked_by or None,
                "probes": [
                    {
                        "from": probe.source or "here",
                        "address": probe.address,
                        "came_to": probe.came_to,
                        "why": probe.why,
                        "seconds": probe.seconds,
                    }
                    for probe in way.probes
                ],
            }
            for way in one.ports
        ],
    }


def _port(row: PortRow) -> Document:
    return {
        "host": row.host,
        "port": row.port,
        "protocol": row.protocol,
        "claims": [
            {
                "service": service.name,
                "address": claim.address,
                "source": claim.source or "definition",
                "state": service.state,
                "startup": service.startup,
                "unsure": claim.unsure,
            }
            for service, claim in row.claims
        ],
        "holders": [
            {
                "address": s.address,
                "process": s.process,
                "program": s.program,
                "service": s.service,
                "shared_with": list(s.shared_with),
            }
            for s in row.holders
        ],
        "clash": row.clash or None,
        "says": row.says,
        "remarks": row.remarks,
        "free": row.free or None,
    }


def links_document(view: Surroundings) -> Document:
    """``hollow-chain/links``, version 1."""
    target, graph = view.target, view.facts.graph
    host = graph.hosts.get(target.host)
    return {
        "format": "hollow-chain/links",
        "version": 1,
        "read_at": when(host.read_at) if host else None,
        "target": {"host": target.host, "service": target.name},
        "needs": [_edge(view, edge, edge.head, depth) for edge, depth in view.needs],
        "needed_by": [_edge(view, edge, edge.tail, depth) for edge, depth in view.needed_by],
        "stop_takes": [{"host": node.host, "service": node.name} for node in stop_takes(graph, target)],
    }


def _edge(view: Surroundings, edge: Edge, far: Node, depth: int) -> Document:
    return {
        "from": {"host": edge.tail.host, "service": edge.tail.name},
        "to": {"host": edge.head.host, "service": edge.head.name},
        "kind": edge.link.kind,
        "word": edge.link.word,
        "depth": depth,
        "state": far.service.state if far.service else "not registered",
        "standing": view.word(far),
    }


def capture_document(snapshot: Snapshot, path: str, counts: dict[str, int], masked: int) -> Document:
    """``hollow-chain/capture``, version 1: what was written where."""
    unread = [f"{item.what}: {item.why}" for host in snapshot.hosts for item in host.unread]
    head = {"format": "hollow-chain/capture", "version": 1, "file": path}
    return {**head, **counts, "masked": masked, "unread": unread}


def decoded_document(words: str, readings: list[Reading]) -> Document:
    """``hollow-chain/decoded``, version 1: what a number or a message means."""
    known = [
        {
            "what": one.what, "family": one.family, "source": one.source, "means": one.means, "causes": list(one.causes),
            "mixed_up_with": one.mixed_up or None, "fits": round(one.likely, 2),
        }
        for one in readings
    ]  # fmt: skip
    return {"format": "hollow-chain/decoded", "version": 1, "words": words, "readings": known}
