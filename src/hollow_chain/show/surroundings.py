"""The neighborhood of a service as all views of ``links`` share it."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property

import msgspec

from hollow_chain.causes import Facts, Standing
from hollow_chain.chain import Edge, Node
from hollow_chain.show.signs import HOLLOW, Sign, missed_word, sign_of, state_word, word_of

Levels = list[tuple[Edge, int]]
Key = tuple[str, str]


class Surroundings(msgspec.Struct, frozen=True, dict=True):
    """A target with the edges to what it needs and from what needs it, each with its level.

    ``is_hollow`` tells of an edge whether what it points at is needed, and not up.
    """

    facts: Facts
    target: Node
    needs: Levels
    needed_by: Levels
    is_hollow: Callable[[Edge], bool]

    @cached_property
    def edges(self) -> list[Edge]:
        """Every edge once."""
        return list({(e.tail.key, e.head.key, e.link.kind): e for e, _ in (*self.needs, *self.needed_by)}.values())

    @cached_property
    def nodes(self) -> list[Node]:
        """Every node at an end of an edge, the target first."""
        found = {self.target.key: self.target}
        for edge in self.edges:
            found.setdefault(edge.tail.key, edge.tail)
            found.setdefault(edge.head.key, edge.head)
        return list(found.values())

    @cached_property
    def hollow(self) -> frozenset[Key]:
        """Nodes that something here needs, and that are not up."""
        return frozenset(edge.head.key for edge in self.edges if self.is_hollow(edge))

    def is_well(self, node: Node) -> bool:
        """Whether nothing is wrong with *node*, by itself or for what needs it here."""
        if node.service is None:
            return node.key not in self.hollow
        return node.key not in self.hollow and self.facts.standing(node).well

    def sign(self, node: Node) -> Sign:
        """The sign of *node*."""
        return HOLLOW if node.key in self.hollow else sign_of(self.standing(node))

    def standing(self, node: Node) -> Standing:
        """How *node* stands; a name that nothing is registered under and that nothing needs is idle."""
        return Standing.IDLE if node.service is None and node.key not in self.hollow else self.facts.standing(node)

    def word(self, node: Node) -> str:
        """The word that stands beside the sign."""
        if node.key in self.hollow and self.facts.standing(node).well:
            return missed_word(self.facts.standing(node))
        return word_of(self.standing(node))

    def state(self, node: Node) -> str:
        """The state of *node* as it is said."""
        return state_word(node.service.kind, node.service.state) if node.service else "not registered"
