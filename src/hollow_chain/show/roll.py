"""How services stand in the eyes of their host: by themselves, for those that need them, and by what they only start."""

from __future__ import annotations

from functools import cached_property

from hollow_chain.causes import Facts, Standing
from hollow_chain.chain import Node
from hollow_chain.show.signs import HOLLOW, Sign, missed_word, sign_of, word_of
from hollow_chain.verdict import is_missed, let_down

Keys = frozenset[tuple[str, str]]
LET_DOWN = "its members are down"


class Roll:
    """What the services of some hosts come to."""

    def __init__(self, facts: Facts) -> None:
        self.facts = facts
        self._standings: dict[tuple[str, str], Standing] = {}

    @cached_property
    def missed(self) -> Keys:
        """Those that others need, and that are not up."""
        return frozenset(
            node.key
            for node in self.facts.graph.nodes()
            if self.facts.standing(node) is not Standing.UP and is_missed(self.facts, node)
        )

    @cached_property
    def let_down(self) -> Keys:
        """Those that only start others, which are not well."""
        return frozenset(node.key for node in let_down(self.facts))

    def is_well(self, node: Node) -> bool:
        """Whether nothing is wrong with it, by itself or for others."""
        return self.standing(node).well

    def standing(self, node: Node) -> Standing:
        """How it stands: down, too, where others go without it."""
        key = node.key
        found = self._standings.get(key)
        if found is None:
            found = Standing.DOWN if key in self.missed or key in self.let_down else self.facts.standing(node)
            self._standings[key] = found
        return found

    def word(self, node: Node) -> str:
        """The word for that."""
        own = self.facts.standing(node)
        if own.well and node.key in self.missed:
            return missed_word(own)
        return LET_DOWN if own.well and node.key in self.let_down else word_of(own, node.service)

    def sign(self, node: Node) -> Sign:
        """The sign of that."""
        return HOLLOW if node.key in self.missed else sign_of(self.standing(node))
