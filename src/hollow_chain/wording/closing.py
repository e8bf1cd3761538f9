"""Sentences that close a run: that it could not start or ends, and nothing of why."""

from __future__ import annotations

from hollow_chain.lazy import pattern
from hollow_chain.wording.forms import says
from hollow_chain.wording.things import paths_in

REASONS = (
    "missing", "denied", "in use", "no address", "full", "locked", "busy", "rejected", "unreached", "host away", "account unknown",
    "group unknown", "account barred", "module missing", "library", "certificate", "clock", "mismatch", "too open", "read only", "no family",
    "bounded files", "bounded tasks", "bounded memory", "bounded locked", "bounded watches", "bounded sharing",
)  # fmt: skip
"""What a line may say that is a reason to end."""
_CLOSES = pattern(
    r"(?i)(?:"
    r"\b(?:failed|unable|cannot|can't|could ?n[o']t|couldn't|fails|did not|didn't)(?: to)?(?: be)? "
    r"(?:start|initiali[sz]e|init|boot|launch|run|continue|proceed|come up|set up|setup|bring up)(?:e?d)?(?: [\w.'\"@\-]{1,40}){0,4}"
    r"|\b(?:init(?:iali[sz]ation)?|start(?:-?up|ing)?|boot|launch|set-?up|bootstrap)(?: of(?: [\w.'\"@\-]{1,40}){1,3})? (?:has |was |is )?"
    r"(?:failed|failure|aborted|unsuccessful)"
    r"|\b(?:shutting down|exit(?:ing|ed|s)?|abort(?:ing|ed)?|giving up|gave up|quit(?:ting)?|terminat(?:ing|ed)|bailing out|crashing|"
    r"stopping|stopped)(?: [\w.'\"@\-]{1,40}){0,4}"
    r"|\b(?:exit(?:ed)?|status|code|errno|error)(?: with)?(?: an?)?(?: error)?(?: status| code)?:? ?\d{1,3}"
    r"|\bsignal:? \w{1,20}"
    r"|\b(?:errno|last error)\b[\w ]{0,30}[:=] ?0"
    r")(?: ?\([^()]{1,80}\))?[\s.!\u2026]{0,5}$"
)
"""How a program, or what runs it, closes: by saying that it could not start, or ends, and nothing of why."""
_CANNOT = pattern(
    r"(?i)\b(?:cannot|can't|could ?n[o']t|couldn't|unable|fail(?:ed|s|ure|ing)?|not (?:be )?(?:loaded|started|opened|initiali[sz]ed|available)|"
    r"errors? (?:in|while|during|when|loading|reading|opening|creating|starting)|problems?|see (?:above|below|log|the log)|previous errors?)\b"
)
"""How a line speaks that tells what came of something: that a thing could not be done, and not why."""


def closes(text: str) -> bool:
    """Whether a line only closes a run: that it could not start or ends, and nothing of why."""
    return _CLOSES.search(text[-200:]) is not None and not says(text, *REASONS) and not paths_in(text)


def is_matter_of_its_own(text: str) -> bool:
    """Whether a severe line tells a matter of its own: it neither closes the run nor tells what came of something before it."""
    return not closes(text) and _CANNOT.search(text) is None


_WORD = pattern(r"[^\W\d_]{3,40}")
_OF_ANY = frozenset((
    "alert", "and", "are", "because", "but", "crit", "critical", "debug", "directory", "emerg", "error", "fatal", "file", "for", "from", "had",
    "has", "have", "info", "into", "its", "level", "log", "message", "msg", "not", "notice", "panic", "permission", "denied", "severe", "source",
    "such", "that", "the", "there", "this", "time", "trace", "usr", "etc", "var", "lib", "run", "srv", "opt", "bin", "warn", "warning", "was",
    "were", "which", "will", "with", "you", "your",
))  # fmt: skip
"""Words that lines share whatever they are about: levels, joints of sentences, folders that every host has, errors of the system."""
_STEM = 4
"""Letters by which two forms of one word are told to be the same."""


def may_be_about(text: str, other: str) -> bool:
    """Whether two lines may be about one thing: they share a word that says something."""
    return not _stems(text).isdisjoint(_stems(other))


def _stems(text: str) -> set[str]:
    return {word.rstrip("s")[:_STEM] for word in _WORD.findall(text.lower()) if word not in _OF_ANY}
