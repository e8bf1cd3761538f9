"""The neighborhood of a service as all views of ``links`` share it."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property

import msgspec

from hollow_chain.causes import Facts, Standing
from hollow_chain.chain import Edge, Node
from hollow_chain.chain.around import End, Levels, folded, leading_to
from hollow_chain.families.base_system import is_base
from hollow_chain.show.signs import HOLLOW, Sign, missed_word, sign_of, state_word, word_of

Key = tuple[str, str]


def _head(edge: Edge) -> Node:
    return edge.head


def _tail(edge: Edge) -> Node:
    return edge.tail


class Surroundings(msgspec.Struct, frozen=True, dict=True):
    """A target with the edges to what it needs and from what needs it, each with its level.

    ``is_hollow`` tells of an edge whether what it points at is needed, and not up.
    """

    facts: Facts
    target: Node
    needs: Levels
    needed_by: Levels
    is_hollow: Callable[[Edge], bool]
    folded: tuple[int, int] = (0, 0)
    """How many of the base system are left out: of what it needs, and of what needs it."""

    def without_base(self) -> Surroundings:
        """The same without the base system, unless the trouble is there, or the target is of it."""
        parts = [
            self._folded(self.needs, near=_tail, far=_head),
            self._folded(self.needed_by, near=_head, far=_tail),
        ]
        (needs, below), (needed_by, above) = parts
        return msgspec.structs.replace(self, needs=needs, needed_by=needed_by, folded=(below, above))

    def _folded(self, levels: Levels, near: End, far: End) -> tuple[Levels, int]:
        if self.target.service is not None and is_base(self.target.service):
            return levels, 0
        troubled = leading_to(levels, near, far, lambda node: not self.is_well(node))
        return folded(
            levels,
            self.target,
            near,
            far,
            lambda node: node.service is None or not is_base(node.service) or node.key in troubled,
        )

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
        return word_of(self.standing(node), node.service)

    def state(self, node: Node) -> str:
        """The state of *node* as it is said."""
        return state_word(node.service.kind, node.service.state) if node.service else "not registered"
