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
    r"stopping|stopped)(?: [\w.'\"@\-]{1,40}){0,4}(?:,? see (?:the )?(?:logs?|above|below)(?: above| below)?)?"
    r"|\b(?:exit(?:ed)?|status|code|errno|error)(?: with)?(?: an?)?(?: error)?(?: status| code)?:? ?\d{1,3}"
    r"|\bsignal:? \w{1,20}"
    r"|\bterminated unexpectedly\.\s{1,3}It has done this [^\n]{0,160}"
    r"|\b(?:errno|last error)\b[\w ]{0,30}[:=] ?0"
    r")(?: ?\([^()]{1,80}\))?[\s.!\u2026]{0,5}$"
)
"""How a program, or what runs it, closes: by saying that it could not start, or ends, and nothing of why."""
_CANNOT = pattern(
    r"(?i)\b(?:cannot|can't|could ?n[o']t|couldn't|unable|fail(?:ed|s|ure|ing)?|not (?:be )?(?:loaded|started|opened|initiali[sz]ed|available)|"
    r"errors? (?:in|while|during|when|loading|reading|opening|creating|starting)|problems?|see (?:above|below|log|the log)|previous errors?)\b"
)
"""How a line speaks that tells what came of something: that a thing could not be done, and not why."""


_ADVISES = pattern(
    r"(?i)^(?:[\w.\-\[\]()]{1,40}: ){0,2}(?:"
    r"(?:hint|tip|note|help|suggestion)s?:"
    r"|(?:for (?:more|further|additional|detailed|help|details|usage)|refer to|consult|visit|more (?:info|information|details)|read more)\b"
    r"|(?:a |the )?(?:complete|full|detailed) (?:log|trace|report)\b"
    r"|see (?:also |https?:|['\"`]|the (?:documentation|docs|manual|logs?|readme)|(?:above|below)\b|[\w.\-]{1,40}\(\d\))"
    r"|please (?:contact|see|report|file|check|try|refer|consult|visit|run|make sure|ensure|verify|read|install|upgrade|update|fix|correct|set|"
    r"specify|provide|review|open|send|restart)\b"
    r"|if (?:you|this|the|it|\w{1,20} is)\b[^\n]{0,120}?(?:\byou (?:may|can|should|might|will)|please|contact|report|file an?|open an?)\b"
    r"|you (?:can|may|might|could|should)\b"
    r"|(?:try|consider|run|type|use) (?:['\"`]|--|with\b|again\b|\w{2,20}ing\b)"
    r")"
)
"""How a line begins that tells what could be done, and nothing of what was the matter."""


def closes(text: str) -> bool:
    """Whether a line only closes a run: that it could not start or ends, or what could be done, and nothing of why."""
    told = _CLOSES.search(text[-200:]) is not None and not paths_in(text) and not _says_why_before(text)
    return advises(text) or (told and not says(text, *REASONS))


_BEHIND = pattern(
    r"(?i)(?: -|[,;]) (?:aborting|exiting|quitting|giving up|terminating|shutting down|bailing out|stopping)[\s.!\u2026]{0,5}$"
)
_DENIES = pattern(
    r"(?i)\b(?:no|none|not|never|nothing|without|missing|invalid|unknown|empty|illegal|unsupported|expired|wrong|too|cannot|can't|isn't|doesn't)\b"
)
"""How the part of a sentence speaks that gives a reason."""


def _says_why_before(text: str) -> bool:
    """Whether a line gives a reason before it says that the program ends."""
    end = _BEHIND.search(text[-60:])
    before = text[: len(text) - len(end[0])][-200:] if end is not None else ""
    return _DENIES.search(before) is not None and _CLOSES.search(before) is None


def advises(text: str) -> bool:
    """Whether a line only tells what could be done."""
    return _ADVISES.match(text[:300]) is not None and not says(text, *REASONS)


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
