"""The host and the service that somebody means."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from hollow_chain.cli.common import UNIT_KINDS
from hollow_chain.lazy import pattern
from hollow_chain.trouble import CALL_IS_WRONG, Trouble, wrong_call

if TYPE_CHECKING:
    from hollow_chain.chain import Graph, Match, Node
    from hollow_chain.facts.host import Host

_MOST_LISTED = 8
"""Names in one line, and candidates below one: more are not read."""
_FULL_NAME = pattern(r"[A-Za-z0-9:_.\\@-]{1,255}\Z")
"""A valid name of a unit (systemd.unit(5), "Description")."""
_CLOSE = 60
"""How alike, of a hundred, a name of a host has to be to be offered."""


def hosts_named(graph: Graph, host: str) -> list[str]:
    """The names of the hosts to look on: the one that is meant, else all. Raises :class:`Trouble` (2) where none or several are."""
    if not host:
        return list(graph.hosts)
    exact = graph.host_named(host)
    if exact is not None:
        return [exact.name]
    folded = host.casefold()
    for fits in (str.startswith, str.__contains__):
        found = [name for name in graph.hosts if fits(name.casefold(), folded)]
        if len(found) == 1:
            return found
        if found:
            raise wrong_call(f"{host!r} fits {len(found)} hosts: {_listed(found)}")
    from hollow_chain.wording.near import nearest

    near = [one.name for one in nearest(host, list(graph.hosts), _MOST_LISTED, _CLOSE)]
    offered = f"the nearest: {_listed(near)}" if near else f"there are: {_listed(list(graph.hosts))}"
    raise wrong_call(f"no host {host!r} in the facts; {offered}")


def one_host(graph: Graph, host: str) -> Host:
    """The one host that is meant: the one that is named, else the only one of the facts."""
    names = hosts_named(graph, host)
    if len(names) != 1:
        raise wrong_call(f"the facts hold {len(names)} hosts: {_listed(names)}; choose one with --host")
    return graph.hosts[names[0]]


def find_target(graph: Graph, words: str, host: str, may_be_missing: bool = False) -> Node:
    """The one service that *words* mean, found as ``roster`` finds them.

    *may_be_missing*: a name that nothing is registered under is a node without a service (its cause is ``not-registered``), if it is
    one that somebody needs, or a full name of a unit. Raises :class:`Trouble` (2) where several fit equally well, and where none does,
    with the nearest names.
    """
    from hollow_chain.chain import best, search

    places = hosts_named(graph, host)
    if not words.strip():
        raise wrong_call("the target is empty; name a service, or list them with 'hollow-chain roster'")
    found = search(graph, words, places)
    matches = best(found)
    if may_be_missing and not (matches and matches[0].is_full):
        missing = list(_missing(graph, words.strip(), places, bool(matches)))
        if len(missing) == 1:
            return missing[0]
    if len(matches) == 1:
        return matches[0].node
    if matches:
        raise _ambiguous(graph, words, matches)
    raise _miss(graph, words, found, places)


def _missing(graph: Graph, words: str, places: list[str], fits_another: bool) -> Iterable[Node]:
    """Names as *words* have them that nothing is registered under."""
    from hollow_chain.chain import NEEDS

    if any(sign.isspace() for sign in words):
        return
    is_unit = words.endswith(UNIT_KINDS)
    for place in places:
        names = (words,) if is_unit else (words, f"{words}.service")
        nodes = [graph.node(place, name) for name in names]
        needed = [node for node in nodes if node.service is None and graph.needed_by(node, NEEDS)]
        is_asked = is_unit and not fits_another and len(places) == 1 and _knows_units(graph.hosts[place])
        if not needed and is_asked and _FULL_NAME.match(words) and words.partition(".")[0]:
            needed = nodes
        yield from needed


def _knows_units(host: Host) -> bool:
    return any(service.name.endswith(UNIT_KINDS) for service in host.services)


def _ambiguous(graph: Graph, words: str, matches: list[Match]) -> Trouble:
    """Which services these are, how each stands, the sick ones first."""
    from hollow_chain.causes import Facts
    from hollow_chain.show.signs import state_word, word_of

    facts = Facts(graph)
    several_hosts = len({m.node.host for m in matches}) > 1
    hint = "; add --host" if several_hosts and len({m.node.name for m in matches}) == 1 else "; name one of them"
    ranked = sorted(matches, key=lambda match: facts.standing(match.node).well)[:_MOST_LISTED]
    rows = []
    for node in (match.node for match in ranked):
        service = node.service
        state = "" if service is None else "template" if service.template else state_word(service.kind, service.state)
        name = f"{node.name} on {node.host}" if several_hosts else node.name
        about = "" if service is None else service.display_name or service.description
        rows.append((name, state, word_of(facts.standing(node), service), about))
    widths = [min(60, max(len(row[at]) for row in rows)) for at in range(3)]
    lines = ["  ".join((*map(str.ljust, row[:3], widths), row[3])).rstrip() for row in rows]
    if len(matches) > len(ranked):
        lines.append(f"and {len(matches) - len(ranked)} more; 'hollow-chain roster {words}' lists them")
    return Trouble(f"{words!r} fits {len(matches)} services{hint}:", CALL_IS_WRONG, lines)


def _miss(graph: Graph, words: str, found: list[Match], places: list[str]) -> Trouble:
    """Nothing fits *words*: what is near, which is all that *found* holds."""
    near = [match.node for match in found[:5]]
    several = len(places) > 1
    offered = (
        f"; the nearest: {_listed([f'{n.name} on {n.host}' if several else n.name for n in near])}" if near else ""
    )
    where = f"any of {len(places)} hosts" if several else graph.hosts[places[0]].name if places else "any host"
    return wrong_call(f"no service {words!r} on {where}{offered or '; list them with: hollow-chain roster'}")


def fitting(graph: Graph, words: list[str], host: str) -> list[str]:
    """All services of *host* that fit *words*: all of them together, as ``roster`` takes them, or else each of them."""
    from hollow_chain.chain import search
    from hollow_chain.chain.find import NEAR

    together = [match.node.name for match in search(graph, " ".join(words), [host]) if match.rank < NEAR]
    if together or len(words) == 1:
        if not together:
            raise _miss(graph, words[0], search(graph, words[0], [host]), [host])
        return together
    return list(dict.fromkeys(name for word in words for name in fitting(graph, [word], host)))


def _listed(names: list[str], most: int = _MOST_LISTED) -> str:
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")
