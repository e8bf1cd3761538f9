"""What arguments and configuration files say by their general form: files that are logs, locks and sockets, places of settings."""

from __future__ import annotations

import stat
from collections.abc import Iterable, Iterator
from pathlib import PurePath

from hollow_chain.facts.service import Named
from hollow_chain.lazy import pattern
from hollow_chain.reach.handles import Walker
from hollow_chain.sources.outline import settings_of
from hollow_chain.wording.near import is_slip_of
from hollow_chain.wording.secrets import mask_text
from hollow_chain.wording.things import has_word, key_of

MOST_FILES = 80
"""Files below a folder of settings that are read: some daemons bring a file for each module."""
_DEPTH = 3
"""Folders below that of the service: as deep as packages lay out their settings."""
_SUFFIXES = ("", ".conf", ".cnf", ".cfg", ".ini", ".yaml", ".yml", ".toml", ".json", ".config")
_OWN = pattern(
    r"(?im)^[ \t]{0,40}-{0,2}(?:[\w.\-]{0,40}(?:pid|lock|sock)[\w.\-]{0,40}[ \t]{0,8}[:=]?[ \t]{0,8}[\"']?(?P<path>/[^\s\"';,]{2,300})|"
    r"[\w.\-]{1,60}[ \t]{0,8}[:= \t][ \t]{0,8}[\"']?(?P<named>/[^\s\"';,]{2,300}(?:pid|lock|sock)\b))"
)
_LOG = pattern(
    r"(?im)^[ \t]{0,40}[\w.\-]{0,60}log[\w.\-]{0,60}[ \t]{0,40}[:= \t][ \t]{0,40}[\"']?(?P<path>(?:/|[A-Za-z]:[\\/])[^\s\"';,]{2,300})"
)


def log_paths_of_text(text: str) -> list[str]:
    """Files that a configuration text names as logs."""
    return list(dict.fromkeys(m["path"] for m in _LOG.finditer(text)))[:8]


def own_paths_of_text(text: str) -> list[str]:
    """Files that a configuration text names as locks, PID files or sockets, by the key or by the name."""
    return list(dict.fromkeys(m["path"] or m["named"] for m in _OWN.finditer(text)))[:16]


def named_in_text(text: str, source: str) -> list[Named]:
    """Files and folders that a configuration text names, one to a setting."""
    found = (
        _NAMED.match(setting.value) and Named(setting.value.strip("\"'"), f"{setting.key} in {source}")
        for setting in settings_of(text)
    )
    return [one for one in found if one][:_MOST_NAMED]


_NAMED = pattern(r"^(?P<quote>[\"']?)/[^\s\"',;:$%*?]{1,300}(?P=quote)$")
_MOST_NAMED = 24
"""Places of one text that are kept: more are data, and of a daemon of a hundred modules none is the one that it means."""


def places_of(name: str) -> tuple[str, str, str]:
    """The files, and the folder, in which the configuration of a program of that *name* lies by habit."""
    return f"/etc/{name}.conf", f"/etc/default/{name}", f"/etc/{name}"


def configuration_of(names: Iterable[str], walker: Walker) -> list[str]:
    """Where the configuration of a program lies by the habit of file systems (hier(7)): below /etc, by its names."""
    found: list[str] = []
    for name in dict.fromkeys(n for n in names if n and "/" not in n and not n.startswith(".")):
        *files, folder = places_of(name)
        found += [*files, *_below(walker, folder, _DEPTH)]
    return list(dict.fromkeys(found))[:MOST_FILES]


def _below(walker: Walker, folder: str, depth: int) -> Iterator[str]:
    """Files of a folder that look like configuration in force: not those that only lie ready."""
    kinds: dict[str, int] = {}
    within: dict[str, list[str]] = {}
    level = [folder]
    for _ in range(depth):  # level by level, so that a far host is asked once for each
        walker.expect((), level)
        within |= {
            place: [f"{place}/{name}" for name in walker.names(place, 200) if _is_in_force(name)] for place in level
        }
        paths = [path for place in level for path in within[place]]
        walker.expect(paths)
        kinds |= {path: _kind(walker, path) for path in paths}
        level = [path for path in paths if kinds[path] == stat.S_IFDIR]
    yield from _in_order(folder, within, kinds)


def _in_order(folder: str, within: dict[str, list[str]], kinds: dict[str, int]) -> Iterator[str]:
    for path in within.get(folder, ()):
        if kinds[path] == stat.S_IFREG and PurePath(path).suffix in _SUFFIXES:
            yield path
        elif kinds[path] == stat.S_IFDIR:
            yield from _in_order(path, within, kinds)


def _is_in_force(name: str) -> bool:
    return not (name.startswith(".") or name.endswith(("-available", "~")))


def _kind(walker: Walker, path: str) -> int:
    try:
        about = walker.find(path).about
    except OSError:
        return 0
    return stat.S_IFMT(about.st_mode) if about is not None else 0


def line_of(text: str, number: int) -> str:
    """One line of a configuration text, cut to a bearable length; empty where there is none."""
    lines = text.splitlines()
    return lines[number - 1].strip()[:500] if 0 < number <= len(lines) else ""


def lines_with(text: str, word: str) -> list[int]:
    """The numbers of the lines of a configuration text, comments aside, in which *word* stands by itself."""
    numbered = enumerate(text.splitlines() if word in text else (), 1)
    return [number for number, line in numbered if has_word(line, word) and not line.lstrip().startswith(_COMMENT)]


def lines_with_slip(text: str, word: str) -> list[int]:
    """The numbers of the lines, comments aside, that begin with a key which is *word* misspelled."""
    numbered = enumerate(text.splitlines()[:_MOST_LINES_COMPARED], 1)
    return [number for number, line in numbered if (key := key_of(line)) and is_slip_of(key, word)]


_MOST_LINES_COMPARED = 2_000
"""Lines of one file whose keys are held against a word."""


_GENERATED = pattern(r"(?i)do(?: not|n't) (?:edit|change|modify)|generated (?:by|from|automatically)|auto(?:matically)?[ -]?generated|managed by|"
                     r"(?:changes|edits) will be (?:lost|overwritten)")  # fmt: skip
_COMMENT = ("#", ";", "//", "/*", "*", "<!--", "--", "!")
_HEAD_LINES = 12
"""Lines at the head of a file in which it would say so."""
_MAX_SAID = 160
"""Characters of that line that are kept: it is quoted within a sentence."""


def generated(texts: dict[str, str]) -> dict[str, str]:
    """Which of some files say in a comment at their head that they are generated, and the line that does."""
    found = {}
    for path, text in texts.items():
        lines = (line.strip() for line in text[:4096].splitlines()[:_HEAD_LINES])
        said = next((line for line in lines if line.startswith(_COMMENT) and _GENERATED.search(line)), "")
        if said:
            found[path] = mask_text(said.strip("#;/*!<>- ")[:_MAX_SAID])
    return found
