"""What confirmed cases say of how usual each cause is here.

The causes of cases are taken as draws of one multinomial, and the documented priors as a Dirichlet distribution over it that
counts for :data:`STRENGTH` cases: with few cases the documented numbers hold, with many those of this place (Gelman et al.,
"Bayesian Data Analysis", 3.4; Johnson, Kotz and Balakrishnan, "Discrete Multivariate Distributions", 35.13).
"""

from __future__ import annotations

from functools import cached_property

import msgspec

from hollow_chain.verdict.weigh import prior_of, weights

STRENGTH = 50.0
"""For how many cases the documented priors count together."""
HIGHEST = 0.8
"""No cause is that usual before anything is read."""

WORTH_TELLING = 0.1
"""Confirmed cases are spoken of where they move a chance by a tenth: less is no reason for anything."""


class Experience(msgspec.Struct, frozen=True, dict=True):
    """Confirmed cases, by cause."""

    confirmed: dict[str, int]

    @property
    def cases(self) -> int:
        """How many cases there are."""
        return sum(self.confirmed.values())

    @cached_property
    def _whole(self) -> float:
        documented = weights().priors
        unlisted = [cause for cause in self.confirmed if cause not in documented]
        return sum(one.prior for one in documented.values()) + sum(prior_of(cause) for cause in unlisted)

    def prior_of(self, cause: str) -> float:
        """How likely a cause is before anything is read: the documented prior, moved by the cases.

        The mean of the posterior Dirichlet is (alpha + n) / (S + N); a prior is moved by as much as its share is.
        """
        documented = prior_of(cause)
        share = documented / self._whole
        posterior = (STRENGTH * share + self.confirmed.get(cause, 0)) / (STRENGTH + self.cases)
        return min(documented * posterior / share, HIGHEST)

    def told(self, cause: str) -> str:
        """What the cases say of a cause, where they move it by more than a tenth of what is documented."""
        before, after = prior_of(cause), self.prior_of(cause)
        if abs(after - before) <= WORTH_TELLING * before:
            return ""
        many = self.confirmed.get(cause, 0)
        how = "likelier" if after > before else "less likely"
        return (
            f"{many} of {self.cases} confirmed cases name {cause}: taken as {how} than documented "
            f"({before:.1%} -> {after:.1%} before anything is read)"
        )
