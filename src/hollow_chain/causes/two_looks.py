"""What two looks at a start or stop that is under way have shown."""

from __future__ import annotations

from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import SAID, Evidence
from hollow_chain.causes.words import span
from hollow_chain.facts.runs import Progress


def two_looks(case: Case, progress: Progress) -> Evidence:
    """That its count stood still for longer than it had said that it would need."""
    return case.seen(
        f"checkpoint {progress.checkpoint} of {case.node.name} at two looks {span(progress.looked_for)} apart; it had said that it would "
        f"need {span(progress.wait_hint)}",
        MANAGER,
        bears=SAID,
    )
