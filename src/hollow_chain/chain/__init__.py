"""The dependency graph over the facts: reach, order, loops, and what a stop takes down."""

from hollow_chain.chain.find import Match, best, search
from hollow_chain.chain.graph import ALL_KINDS, HARD, NEEDS, Edge, Graph, Node, reach
from hollow_chain.chain.loops import deepest_first, knots, loop_through
from hollow_chain.chain.stops import starves, stop_takes

__all__ = [
    "ALL_KINDS",
    "HARD",
    "NEEDS",
    "Edge",
    "Graph",
    "Match",
    "Node",
    "best",
    "deepest_first",
    "knots",
    "loop_through",
    "reach",
    "search",
    "starves",
    "stop_takes",
]
