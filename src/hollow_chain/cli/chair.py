"""Hosts over the network as a call has to do with them: their connections, the way to each, and hands for them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hollow_chain.cli import common
from hollow_chain.trouble import wrong_call

if TYPE_CHECKING:
    from hollow_chain.facts import Snapshot
    from hollow_chain.mend.hands import Hands
    from hollow_chain.reach.far import FarWay, KeptOpen


class Chair:
    """What a call has to do with hosts over the network: their connections, kept open, and the way to each. Use as a context manager."""

    def __init__(self, source: common.Source, within: str = common.WITHIN) -> None:
        self.source = source
        self.within = within
        self._seconds = common.seconds_of(within, "--within")
        self.ways: dict[str, FarWay] = {}
        self._kept: KeptOpen | None = None

    def __enter__(self) -> Chair:
        if self.is_far:
            from hollow_chain.reach.far import KeptOpen

            self._kept = KeptOpen().__enter__()
        return self

    def __exit__(self, *_: object) -> None:
        if self._kept is not None:
            self._kept.__exit__()

    @property
    def is_far(self) -> bool:
        """Whether any host may be reached over the network."""
        return any("://" in one or one.lower().endswith(".toml") for one in self.source or ())

    def load(self, words: str, with_claims: bool = False, with_packages: bool = False) -> Snapshot:
        """The facts of all of it."""
        return common.load(
            self.source, words, with_claims, with_packages=with_packages, within=self.within, ways=self.ways
        )

    def hands(self, first: Snapshot, words: str) -> Hands:
        """Hands for all hosts over the network; *first* are the facts that are known of them."""
        if not self.ways:
            raise wrong_call(
                "none of the hosts was reached over the network: a plan is carried out where the service is"
            )
        from hollow_chain.mend.far_hands import FarHands
        from hollow_chain.sources.asked import Asked
        from hollow_chain.sources.places import Asking, facts_from

        kept: dict[str, Snapshot] = {}

        def read(with_claims: bool, with_packages: bool, only: str) -> Snapshot:
            asked = Asked(common.extra_names(words), with_claims, with_packages)
            asking = Asking(
                seconds=self._seconds, kept=kept, only=self.ways.get(only), ask=common.password, in_part=False
            )
            return facts_from(self.source, asked, common.author(), asking)

        assert self._kept is not None
        return FarHands(self.ways, read, first, tuple(self.source or ()), self._kept)
