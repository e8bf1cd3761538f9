"""Many verdicts by their causes: each cause once, with all that it takes along."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from hollow_chain.verdict.judge import Cause, Verdict


class CauseGroup(msgspec.Struct):
    """One cause, and the verdicts that name it."""

    cause: Cause
    verdicts: list[Verdict]

    @property
    def takes_along(self) -> list[str]:
        """What is not well for it, beside the place of the cause itself."""
        place = self.cause.place.key
        return [f"{one.target.name} on {one.target.host}" for one in self.verdicts if one.target.key != place]


def by_cause(verdicts: Iterable[Verdict]) -> list[CauseGroup]:
    """The causes, those first that take most along, then the surest. A loop counts once, whichever of its members told it."""
    found: dict[tuple[str, str, str], CauseGroup] = {}
    for verdict in verdicts:
        for cause in verdict.causes:
            place = " ".join(sorted(cause.finding.loop)) or cause.finding.service
            key = (cause.finding.host, place, cause.finding.cause)
            found.setdefault(key, CauseGroup(cause, [])).verdicts.append(verdict)
    ranked = sorted(found.items(), key=lambda item: (-len(item[1].verdicts), -item[1].cause.confidence, item[0]))
    return [group for _, group in ranked]
