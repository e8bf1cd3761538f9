"""What is more open than the program accepts."""

from __future__ import annotations

import re
from collections.abc import Iterator

from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import FITS, SAID, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.facts.host import Event, File
from hollow_chain.wording import lines

_OTHERS = 0o077
"""What group and others may do (inode(7))."""


@cause("too-open", Boot.STAYS, states=("running", *NOT_UP), when=When.FAILED)
def too_open(case: Case) -> Iterator[Finding]:
    """The program refuses to use what others may read or write.

    Looks at: log lines that say so; the mode of the path that they name, and of what lies on the way to it.
    Convinced by: such a line, and a path that group or others may use.
    Against: a mode that leaves others nothing; a path that is closed to the account.
    Mend: narrow it to what the program asks for.
    """
    for event, path, file in _complaints(case):
        may = f"mode {file.mode}, owner {file.owner}:{file.group}"
        named = file.path if file.path == path else f"{path} lies in {file.path}, which"
        yield Finding(
            says=f"{case.service.name} refuses to use {path}, because others may read or write it: {may}.",
            evidence=(case.quoted(event, SAID), case.seen(f"{named}: {may}", FILES, bears=FITS)),
            mends=(
                Mend(
                    f"Narrow {file.path} to what {case.service.name} asks for, such as mode {_narrowed(file):04o}; then start it."
                ),
            ),
            explains=(
                "exits-with-error",
                "crash-loop",
                "access-denied",
                "config-rejected",
                "path-missing",
                "start-rate-limited",
            ),
        )
        return


def _complaints(case: Case) -> Iterator[tuple[Event, str, File]]:
    """Lines that call a path too open, with what of it others may use: the path itself, or else the folder that it lies in."""
    events = case.own_events()
    for index, event in enumerate(events):
        if not lines.saying([event], "too open"):
            continue
        for path in lines.paths_near(events, index):
            found = [
                file
                for place in (path, path.rpartition("/")[0])
                if (file := case.file(place)) is not None and _is_open(file)
            ]
            if found:
                yield event, path, found[0]


def _is_open(file: File) -> bool:
    return file.exists and bool(re.fullmatch("[0-7]{3,4}", file.mode)) and bool(int(file.mode, 8) & _OTHERS)


def _narrowed(file: File) -> int:
    """The mode without any right of others, and without that of the group to write."""
    return int(file.mode, 8) & 0o750 if file.kind == "folder" else int(file.mode, 8) & 0o640
