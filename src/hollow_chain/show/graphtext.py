"""Links as open graph text: DOT (the Graphviz language) and GraphML, and the way to the picture."""

from __future__ import annotations

from collections.abc import Callable
from xml.etree import ElementTree

from hollow_chain.chain import Node
from hollow_chain.show.clean import clean
from hollow_chain.show.surroundings import Surroundings

Writer = Callable[[Surroundings], bytes]
_GRAPHML = "http://graphml.graphdrawing.org/xmlns"
_STYLES = {"hard": "solid", "soft": "dashed", "order": "dotted", "clash": "bold"}


def dot(view: Surroundings) -> bytes:
    """The links in the DOT language; an arrow points at what is needed."""
    lines = ["digraph links {", "  rankdir=TB;", '  node [shape=box, fontname="sans-serif"];']
    for node in view.nodes:
        label = f"{clean(node.name, 80)}\\n{clean(node.host, 60)}: {view.state(node)}, {view.word(node)}"
        lines.append(
            f'  {_quoted(_id(node))} [label="{_escaped(label)}"{", penwidth=2" if node == view.target else ""}];'
        )
    for edge in view.edges:
        lines.append(
            f"  {_quoted(_id(edge.tail))} -> {_quoted(_id(edge.head))} "
            f"[style={_STYLES[edge.link.kind]}, tooltip={_quoted(clean(edge.link.word or edge.link.kind, 40))}];"
        )
    return ("\n".join([*lines, "}"]) + "\n").encode()


def _id(node: Node) -> str:
    return f"{clean(node.host, 200)}/{clean(node.name, 200)}"


def _escaped(text: str) -> str:
    return (
        text.replace('"', '\\"').replace("<", "&lt;") if "\\" not in text.replace("\\n", "") else text.replace('"', "'")
    )


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def graphml(view: Surroundings) -> bytes:
    """The links as GraphML; an edge points at what is needed."""
    root = ElementTree.Element("graphml", xmlns=_GRAPHML)
    for scope, name in (
        ("node", "host"),
        ("node", "state"),
        ("node", "standing"),
        ("edge", "kind"),
        ("edge", "word"),
    ):
        ElementTree.SubElement(root, "key", id=name, attrib={"for": scope, "attr.name": name, "attr.type": "string"})
    graph = ElementTree.SubElement(root, "graph", id="links", edgedefault="directed")
    for node in view.nodes:
        element = ElementTree.SubElement(graph, "node", id=_id(node))
        _data(element, {"host": clean(node.host), "state": view.state(node), "standing": view.word(node)})
    for edge in view.edges:
        element = ElementTree.SubElement(graph, "edge", source=_id(edge.tail), target=_id(edge.head))
        _data(element, {"kind": edge.link.kind, "word": clean(edge.link.word)})
    ElementTree.indent(root)
    return bytes(ElementTree.tostring(root, encoding="utf-8", xml_declaration=True)) + b"\n"


def _data(element: ElementTree.Element, values: dict[str, str]) -> None:
    for key, value in values.items():
        ElementTree.SubElement(element, "data", key=key).text = value


def _png(view: Surroundings) -> bytes:
    from hollow_chain.show.picture import draw

    return draw(view, "png")


def _svg(view: Surroundings) -> bytes:
    from hollow_chain.show.picture import draw

    return draw(view, "svg")


WRITERS: dict[str, Writer] = {".png": _png, ".svg": _svg, ".dot": dot, ".gv": dot, ".graphml": graphml}
"""The ending of a file, and what writes it."""
