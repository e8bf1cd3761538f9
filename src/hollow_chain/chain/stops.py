"""What a stop takes along."""

from __future__ import annotations

from hollow_chain.chain.graph import Graph, Node, reach


def stop_takes(graph: Graph, node: Node) -> list[Node]:
    """Every service that ends when *node* is stopped, nearest first.

    Both families end the services that hard-need the stopped one, on the same host (systemd.unit(5), ``Requires=``;
    the control-manager family refuses the stop until they are stopped). A link that says ``stops`` does so too
    (``PartOf=``). Across hosts nothing is stopped, only starved.
    """

    def taken(stopped: Node) -> list[Node]:
        return [
            edge.tail
            for edge in graph.needed_by(stopped, ("hard", "soft", "order"))
            if not edge.crosses and (edge.link.kind == "hard" or edge.link.stops)
        ]

    return [found for found, _ in reach(node, taken)]


def starves(graph: Graph, stopped: Node) -> list[Node]:
    """What hard-needs *stopped*, or anything that ends with it, from another host: it runs on, and is no longer served."""
    gone = [stopped, *stop_takes(graph, stopped)]
    found = {edge.tail.key: edge.tail for node in gone for edge in graph.needed_by(node, ("hard",)) if edge.crosses}
    return list(found.values())
