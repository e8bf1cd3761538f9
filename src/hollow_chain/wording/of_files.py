"""Whether a complaint that names no path can be about a file at all: much else is refused, or is not there."""

from __future__ import annotations

from hollow_chain.lazy import pattern
from hollow_chain.wording.system_errors import error_at_end

_FILES = pattern(
    r"(?i)\b(?:files?|director(?:y|ies)|dirs?|folders?|paths?|certificates?|(?:private|host|public) keys?|keytab|pid ?file|lock ?file)\b"
)
_OTHERS = pattern(
    r"(?i)\b(?:bind|listen|ports?|socket|connect(?:ed|ion)?|tables?|relations?|schemas?|databases?|users?|roles?|members?|passwords?|tokens?|"
    r"log ?in|log ?on|signals?|kill|ioctl|r?limits?|setr?limit|ptrace|sudo|su|unauthori[sz]ed|forbidden|40[134]|https?|quer(?:y|ies)|topics?|"
    r"queues?|api|remote|peers?|client|server|host|set\w{0,8}[ug]id|setgroups|priority|realtime|scheduler|netlink|adapter|interface|"
    r"modules?|capabilit(?:y|ies)|namespaces?|unshare|clone|mlock\w{0,5}|personality|device)\b"
)
"""Words of things that are refused, or sought, and are no files."""


def is_of_files(text: str) -> bool:
    """Whether a line that calls something absent speaks of a file or a folder."""
    return _FILES.search(text) is not None or error_at_end(text) == "ENOENT"


def may_be_of_files(text: str) -> bool:
    """Whether a line that calls something refused may speak of a file: what owner and mode refuse gives ``EACCES`` (open(2)), and what
    needs a right of root's gives ``EPERM`` (capabilities(7))."""
    if error_at_end(text) == "EPERM" or _NO_FILE.search(text[-_LONGEST:]):
        return False
    return _FILES.search(text) is not None or _OTHERS.search(text) is None


_NO_FILE = pattern(r"\[Errno \d{1,3}\] [A-Z][a-z ]{3,60}\s{0,9}$")
"""How an error of the system ends in Python, of a call that was about no file: else the file's name stands behind it (OSError)."""
_LONGEST = 100
"""Characters at the end of a line among which that stands."""
