"""A part of a program that its interpreter does not find."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, HINT, SAID, Finding, Mend
from hollow_chain.causes.standing import failed_last
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines
from hollow_chain.wording.forms import read, says


def missing_module(case: Case) -> Iterator[Finding]:
    """A part that its interpreter did not find: by its words, for where such parts are sought is known to the interpreter alone."""
    if not failed_last(case.service):
        return
    for event in lines.saying(case.own_events(), "module missing")[::-1]:
        module = next(iter(read(event.text).named("module missing", "module")), "")
        if module and not module.startswith("/") and not says(event.text, "kernel mismatch"):
            ended = case.service.last.ended_at if case.service.last is not None else None
            bears = SAID if _BY_INTERPRETER.search(event.text) else FITS
            yield Finding(
                says=f"The program of {case.service.name} needs {module}, which its interpreter does not find.",
                evidence=(case.quoted(event, bears), case.seen("its last run ended with an error right after that", at=ended, bears=HINT)),
                mends=(
                    Mend(f"Install {module} where the interpreter of {case.service.name} looks for it."),
                    Mend(f"Or correct the environment or the interpreter in the definition of {case.service.name}.", AFTER_RELOAD, instead=True),
                ),
                explains=("config-rejected", "exits-with-error", "exits-at-once", "crash-loop"),
            )  # fmt: skip
            return


_BY_INTERPRETER = pattern(
    r"(?i)ModuleNotFound|No module named|Cannot find (?:module|package)|locate \S{1,200} in @INC|load such file|find gem|java\.library\.path|"
    r"ClassNotFound|NoClassDef|main class|"
    r"\bassembly\b|\blua\b|install or update"
)
"""How interpreters themselves say it: a program may have modules of its own, which it names in its settings."""
