"""The mark that a mend leaves on each host over the network while it is under way there: as long as it stands, no other mend begins."""

from __future__ import annotations

import contextlib
import getpass
import json
import socket
from datetime import UTC, datetime


def _chair() -> str:
    return f"{socket.gethostname()}, user {getpass.getuser()}"


def text_of_mark(mend: str) -> bytes:
    """The mark that a *mend* from this chair leaves on a host, in JSON."""
    text = {
        "format": "hollow-chain/mark",
        "version": 1,
        "mend": mend,
        "chair": _chair(),
        "at": f"{datetime.now(UTC):%Y-%m-%dT%H:%M:%SZ}",
    }
    return json.dumps(text).encode() + b"\n"


def read_mark(text: bytes) -> dict[str, str]:
    """What a mark says; nothing where it is none."""
    with contextlib.suppress(ValueError, RecursionError):
        found = json.loads(text)
        if isinstance(found, dict):
            return {str(key)[:40]: str(value)[:80] for key, value in found.items() if str(value).isprintable()}
    return {}


def is_own(mark: dict[str, str], mend: str) -> bool:
    """Whether a mark is that of the *mend*, from this chair."""
    return mark.get("mend") == mend and mark.get("chair") == _chair()


def marked_by(host: str, mark: dict[str, str], place: str) -> str:
    """That another mend is under way on a host, in words."""
    return (
        f"a mend {mark.get('mend', 'of an unknown name')} from {mark.get('chair', 'another machine')} is under way on {host} since"
        f" {mark.get('at', 'some time')}: first resume or undo it there; or, where nobody will, take {place} away"
    )
