"""What is more open than the program accepts."""

from __future__ import annotations

import re
from collections.abc import Iterator

from hollow_chain.causes.acts import mode as set_mode
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import FITS, HINT, SAID, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.places import given
from hollow_chain.causes.rights import ALL_RIGHTS_ACCOUNTS, account_of
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.facts.host import Event, File
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines
from hollow_chain.wording.things import paths_in

_MODE = pattern(r"(?<![\d./:-])(0?[0-7]{3})(?![\d./:-])")
_WORD = pattern(r"[a-z]{3,30}")
_OF_RIGHTS = pattern(r"(?i)permission|insecure|unsafe|mode\b|owner|accessible|readable|writable")
"""Words of a line that goes on in the next one, which then says what is too much."""
_OTHERS = 0o077
"""What group and others may do (inode(7))."""


@cause("too-open", Boot.STAYS, states=("running", *NOT_UP), when=When.SPOKE)
def too_open(case: Case) -> Iterator[Finding]:
    """The program refuses to use what others may read or write.

    Looks at: log lines that say so; the mode of the path that they name, and of what lies on the way to it.
    Convinced by: such a line, and a path that group or others may use: one that it names, else one that the settings name by a word of
    the line's; one that only another line names is a guess.
    Against: a mode that leaves others nothing; a path that is closed to the account.
    Mend: narrow it to what the program asks for.
    """
    for event, path, file, bears in _complaints(case):
        may = f"mode {file.mode}, owner {file.owner}:{file.group}"
        named = file.path if file.path == path else f"{path} lies in {file.path}, which"
        mode, own = _narrowed(case, event, file), _is_its_own(case, file)
        acts = (set_mode(file.path, mode),)
        does = f"Narrow {file.path} to what {case.service.name} asks for, such as mode {mode:04o}; then start it."
        yield Finding(
            says=f"{case.service.name} refuses to use {path}, because others may read or write it: {may}.",
            evidence=(
                case.quoted(event, SAID if bears == FITS else HINT),
                case.seen(f"{named}: {may}", FILES, bears=bears),
            ),
            mends=(Mend(does, acts=acts if own else (), means=() if own else acts),),
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


def _complaints(case: Case) -> Iterator[tuple[Event, str, File, str]]:
    """Lines that call a path too open, with what of it others may use, and how that bears the line out."""
    events = case.own_events()
    told = [index for index, event in enumerate(events) if lines.saying([event], "too open")]
    for event in (events[index] for index in told):
        for path in paths_in(event.text):
            # The path itself, or else the folder that it lies in.
            for place in (path, path.rpartition("/")[0]):
                if (file := _open(case, place)) is not None:
                    yield event, path, file, FITS
                    break
    for event in (events[index] for index in told if not paths_in(events[index].text)):
        yield from ((event, file.path, file, FITS) for file in _meant(case, event))
    for index in told:
        near = lines.paths_near(events, index) if not paths_in(events[index].text) else []
        before = [one.text for one in events[max(0, index - lines.BEFORE) : index] if _OF_RIGHTS.search(one.text)]
        for path in near:
            if (file := _open(case, path)) is not None:
                yield events[index], path, file, FITS if any(path in text for text in before) else HINT


def _meant(case: Case, event: Event) -> Iterator[File]:
    """What definition and settings name that bears a word of the line in its name, or is set by one: a "secret file", "the key"."""
    program = case.service.program
    said = set(_WORD.findall(event.text.lower()))
    if program is None:
        return
    set_by = {one.path: one.source.partition(" in ")[0] for one in program.named or ()}
    for path in dict.fromkeys((*program.paths, *program.settings_paths, *set_by)):
        words = _WORD.findall(f"{path.rpartition('/')[2]} {set_by.get(path, '')}".lower())
        file = _open(case, path) if said.intersection(words) else None
        if file is not None and file.kind == "file":
            yield file


def _open(case: Case, path: str) -> File | None:
    """What lies at *path*, where others may use it."""
    file = case.file(path)
    return file if file is not None and _is_open(file) else None


def _is_open(file: File) -> bool:
    return file.exists and bool(re.fullmatch("[0-7]{3,4}", file.mode)) and bool(int(file.mode, 8) & _OTHERS)


def _narrowed(case: Case, event: Event, file: File) -> int:
    """The mode that the program names, where it only takes rights away; else without any right of others, and of the group where the
    account owns it, or without that of the group to write."""
    bits = int(file.mode, 8)
    for word in _MODE.findall(event.text):
        wanted = int(word, 8)
        if wanted != bits and not wanted & ~bits and not wanted & 0o007:
            return wanted
    user = account_of(case)
    if file.owner == user or user in ALL_RIGHTS_ACCOUNTS:
        return bits & 0o700
    return bits & (0o750 if file.kind == "folder" else 0o640)


def _is_its_own(case: Case, file: File) -> bool:
    """Whether a machine may narrow it: a file or folder of the service's own by its definition, and no link."""
    plain = file.kind in ("file", "folder") and not file.link_to and not file.acl
    return plain and bool(given(case, file.path)) and not int(file.mode, 8) & 0o6000
