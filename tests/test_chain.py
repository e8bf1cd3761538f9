"""The graph: reach, loops, order, stops, across hosts."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from hollow_chain.chain import ALL_KINDS, Graph, best, deepest_first, knots, loop_through, reach, search, stop_takes
from hollow_chain.facts import Host, Link, Service, snapshot


def graph_of(links: dict[str, list[Link]], host: str = "h", manager: str = "systemd") -> Graph:
    services = [Service(name=name, links=found) for name, found in links.items()]
    return Graph(snapshot([Host(name=host, manager=manager, services=services)]))  # type: ignore[arg-type]


def hard(*names: str) -> list[Link]:
    return [Link(to=name) for name in names]


def heads(graph: Graph, name: str) -> list[str]:
    return [edge.head.name for edge in graph.needs(graph.node("h", name))]


def test_needs_and_needed_by_are_each_others_mirror() -> None:
    graph = graph_of({"a": hard("b", "c"), "b": hard("c"), "c": []})
    assert heads(graph, "a") == ["b", "c"]
    assert {edge.tail.name for edge in graph.needed_by(graph.node("h", "c"))} == {"a", "b"}


def test_a_link_to_nowhere_is_a_node_without_a_service() -> None:
    graph = graph_of({"a": hard("ghost")})
    (edge,) = graph.needs(graph.node("h", "a"))
    assert edge.head.service is None
    assert edge.head.name == "ghost"


def test_links_lead_across_hosts_and_find_a_host_without_its_domain() -> None:
    upper = Host(name="gate", services=[Service(name="a", links=[Link(to="b", host="Mole")])])
    graph = Graph(snapshot([upper, Host(name="mole.example", services=[Service(name="b")])]))
    (edge,) = graph.needs(graph.node("gate", "a"))
    assert edge.crosses
    assert edge.head.host == "mole.example"
    assert edge.head.service is not None


def test_only_the_control_manager_family_ignores_the_case_of_names() -> None:
    links = {"Desk": [], "a": hard("DESK")}
    assert graph_of(links, manager="control-manager").find("h", "desk") is not None
    assert graph_of(links).find("h", "desk") is None


def test_reach_counts_levels_and_ends_in_loops() -> None:
    graph = graph_of({"a": hard("b"), "b": hard("c"), "c": hard("a")})
    step = lambda node: [edge.head for edge in graph.needs(node)]  # noqa: E731
    assert [(n.name, d) for n, d in reach(graph.node("h", "a"), step)] == [("b", 1), ("c", 2)]
    assert [n.name for n in loop_through(graph.node("h", "a"), step)] == ["a", "b", "c"]


def test_a_stop_takes_along_what_hard_needs_it_but_not_what_only_wants_it() -> None:
    links = {
        "db": [], "app": hard("db"), "web": hard("app"), "log": [Link(to="db", kind="soft")],
        "part": [Link(to="db", kind="soft", pulls=False, stops=True)],
    }  # fmt: skip
    graph = graph_of(links)
    assert {n.name for n in stop_takes(graph, graph.node("h", "db"))} == {"app", "web", "part"}


def test_a_chain_of_any_length_is_walked_without_recursion() -> None:
    size = 20_000
    graph = graph_of({f"s{i}": hard(f"s{i + 1}") for i in range(size)} | {f"s{size}": []})
    order = deepest_first(graph.node("h", "s0"), lambda n: [e.head for e in graph.needs(n)])
    assert [n.name for n in (order[0], order[-1])] == [f"s{size}", "s0"]


NAMES = "abcdef"
LINKS = st.dictionaries(st.sampled_from(NAMES), st.lists(st.sampled_from(NAMES), max_size=3), max_size=6)


@given(LINKS)
def test_nothing_stands_before_what_it_needs_unless_they_share_a_loop(links: dict[str, list[str]]) -> None:
    graph = graph_of({name: hard(*links.get(name, [])) for name in NAMES})
    step = lambda node: [edge.head for edge in graph.needs(node)]  # noqa: E731
    parts = knots(list(graph.nodes()), step)
    place = {node.name: index for index, part in enumerate(parts) for node in part}
    assert sorted(place) == list(NAMES)
    below = {n.name: {f.name for f, _ in reach(n, step)} for n in graph.nodes()}
    for upper, lower in ((u, w) for u, ws in below.items() for w in ws):
        in_loop = upper in below[lower]
        assert (place[upper] == place[lower]) if in_loop else (place[upper] > place[lower])
    for node in graph.nodes():
        assert bool(loop_through(node, step)) == (
            node.name in set(links.get(node.name, []))
            or node.name in {f for w in links.get(node.name, []) for f in {w} | below[w]}
        )


@given(LINKS)
def test_peeling_never_loses_a_loop(links: dict[str, list[str]]) -> None:
    graph = graph_of({name: hard(*links.get(name, [])) for name in NAMES})
    step = lambda node: [edge.head for edge in graph.needs(node, ALL_KINDS)]  # noqa: E731
    looped = {node.name for node in graph.nodes() if loop_through(node, step)}
    assert looped <= graph.tangled("h", "hard")
    assert bool(looped) == bool(graph.tangled("h", "hard"))


def test_services_are_found_by_what_one_remembers() -> None:
    services = [
        Service(name="berth-plan-server.service", description="Plans the berths of the harbor"),
        Service(name="berth-plan-server.socket", kind="socket"),
        Service(name="BPX", display_name="Boarding Pass Exchange"),
        Service(name="desk@.service", template=True),
        Service(name="desk@north.service", template_of="desk@.service", instance="north"),
    ]
    graph = Graph(snapshot([Host(name="h", services=services)]))

    def found(words: str) -> list[str]:
        return [m.node.name for m in search(graph, words)]

    assert best(search(graph, "berth-plan-server"))[0].node.name == "berth-plan-server.service"
    assert found("bps")[0] == "berth-plan-server.service"
    assert found("boarding pass exchange") == ["BPX"]
    assert found("exchange") == ["BPX"]
    assert "berth-plan-server.service" in found("plan-serv")
    assert found("berths")[0] == "berth-plan-server.service"
    assert found("harbor berths")[0] == "berth-plan-server.service"
    assert found("desk@north") == ["desk@north.service"]
    assert next(m.reason for m in search(graph, "berth-paln-servr")) == "near miss"
    assert best(search(graph, "berth-paln-servr")) == []
    assert found("zzzzzz") == []
