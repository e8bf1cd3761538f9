"""What a line names: paths, places in files, endpoints, addresses. Short patterns, each anchored where such a thing can begin, so
that a long text is gone through once."""

from __future__ import annotations

import posixpath
import re
from ipaddress import ip_address

from hollow_chain.lazy import pattern

PATH = r"(?:(?<![A-Za-z])[A-Za-z]:[\\/](?!/)|/)[^\s\"'`\u2018\u2019\u201c\u201d,;:()<>\[\]]{1,1000}"
"""An absolute path of either family; 1,000 characters, as no host of either goes far beyond (``PATH_MAX``, ``MAX_PATH``)."""
PATH_BEGINS = r"(?<![\w.\-:/\])])"
"""Where a path begins: not in the middle of one, nor in an address of the web."""
_PATH = pattern(rf"{PATH_BEGINS}(?P<path>{PATH})|(?<=file://)(?P<path2>{PATH})")
_SETTINGS_FILE = r"[\w.\-]{1,200}\.(?:ini|conf|cfg|cnf|config|xml|json|ya?ml|toml|properties)"
_FILE = pattern(rf"(?<![^\s\"'`,;:()<>\[\]=])(?P<path>{PATH})|(?<![\w/\\.\-])(?P<alone>{_SETTINGS_FILE})(?![\w/\\])")
"""A path, or the bare name of a settings file: where a program says in which file it stumbled, it often leaves the folder out."""
_LINE_AFTER = pattern(
    r"(?i)[\"'`]?(?::|,? ?\(?(?:on |at )?(?:line:? ?|:))(?P<line>\d{1,9})"
    # In brackets with a colon behind them, as compilers write it: without one it may be the section of a manual page.
    r"|[\"'`]?\((?P<bracketed>\d{1,9})(?:[,:]\d{1,5})?\):"
)
_LINE_BEFORE = pattern(
    r"(?i)\bline:? (?P<line>\d{1,9})\)?:? (?:of|in|from) (?:the )?(?:configuration |config )?(?:file )?[\"'`]?$"
)
_LINE_ALONE = pattern(r"(?i)\b(?:at|on|in)? ?line:? (?P<line>\d{1,9})\b")
_FARTHEST_BEFORE = 80
"""Characters before a path in which "line 7 of the configuration file" may stand."""
_ADDRESS = r"\d{1,3}(?:\.\d{1,3}){3}|\[[0-9A-Fa-f:]{2,45}\]|\*|localhost|\bany|::1?|0\.0\.0\.0"
_ENDPOINT = pattern(
    rf"(?:(?P<address>{_ADDRESS})[:#@])(?P<port>\d{{1,5}})\b"
    r"|(?i:\bport[ :=#'\"]+(?:number )?)(?P<port2>\d{1,5})\b"
    r"|(?<![\w\]:.*/\"])[:#](?P<port3>\d{2,5})(?![\w:.]\d|\d)"
    rf"|(?P<address4>{_ADDRESS})[\"')]{{0,2}},? port[: =]{{1,2}}(?P<port4>\d{{1,5}})\b"
    r"|\(?[\"'](?P<address5>[\w.:*%\-]{0,80})[\"'], ?(?P<port5>\d{1,5})\)"
    r"|\((?P<address6>[0-9A-Fa-f]{0,4}[:.*][0-9A-Fa-f:.*]{0,44}), ?(?P<port6>\d{1,5})\)"
    rf"|/dev/(?:tcp|udp)/(?P<address9>{_ADDRESS})/(?P<port9>\d{{1,5}})\b"
    rf"|(?i:\b(?:eaddrinuse|eaddrnotavail|bind|listen))[: ]{{1,2}}(?P<address10>{_ADDRESS}) (?P<port10>\d{{2,5}})\b"
    r"|\b(?:tcp|udp)/(?P<port7>\d{2,5})\b(?![./]\d)|(?<![\w.:/])(?P<port8>\d{2,5})/(?:tcp|udp)\b"
)
_ADDRESSES = ("address", "address4", "address5", "address6", "address9", "address10")
_PORTS = ("port", "port2", "port3", "port4", "port5", "port6", "port7", "port8", "port9", "port10")
_SINGLE_ADDRESS = pattern(
    r"(?<![\w.:])(?P<v4>\d{1,3}(?:\.\d{1,3}){3})(?![\w.]*\.\d)|(?<![\w:.])(?P<v6>[0-9A-Fa-f]{1,4}(?::[0-9A-Fa-f]{0,4}){2,7})(?![\w:])"
)
_NAMED_ENDPOINT = pattern(r"(?<![\w.\-])(?P<name>[A-Za-z][\w\-]{0,62}(?:\.[\w\-]{1,63}){0,20}):(?P<port>\d{2,5})\b")
_QUOTED_HOST = pattern(
    r"[\"'\u2018\u201c](?P<name>[A-Za-z0-9][A-Za-z0-9\-]{0,62}(?:\.[A-Za-z0-9\-]{1,63}){0,20})(?::\d+)?[\"'\u2019\u201d]"
)


def paths_in(text: str) -> list[str]:
    """The absolute paths that a line quotes, without the program that speaks before them."""
    found = [path for match in _PATH.finditer(text) if (path := match["path"] or match["path2"])]
    if len(found) > 1 and (speaker := _SPEAKER.match(text)) and found[0] == speaker["path"]:
        found = found[1:]
    # A language that quotes what it names writes each backslash twice.
    found = [path.replace("\\\\", "\\") if path[1:4] == ":\\\\" else path for path in found]
    # The manager speaks of what it mounts for a service by the place where it prepares it (systemd.exec(5)).
    return [_plain_path(path).removeprefix("/run/systemd/unit-root").rstrip("./") or "/" for path in found]


_SPEAKER = pattern(
    r"(?i)(?P<path>/[^\s:\[\]]{1,300})(?:\[\d{1,10}\])?: (?!(?:no such|not found|not a dir|is a dir|permission|access|operation|read-only|"
    r"file exists|no space|cannot execute|bad interp|error while|text file|exec format|too many|input/output|invalid|is not|does not|"
    r"line \d|\d))(?<!\.(?:ini|cnf|cfg|xml|yml|env): )(?<!\.(?:conf|json|yaml|toml): )"
    r"(?<!\.(?:config): )(?<!\.properties: )"
)
"""The program that says a line, as programs begin theirs that were called by a path (perror(3)): a path and a colon, with what it complains
of after it. An error that follows at once is of that path; and a file of settings with a colon is a place."""


def is_program_place(path: str) -> bool:
    """Whether a path is in a folder of programs (hier(7)): what is there is run, and not written to."""
    return path.rpartition("/")[0].rpartition("/")[2] in ("bin", "sbin", "libexec")


def _plain_path(path: str) -> str:
    """A path without the second slash that stands where two parts of one were put together."""
    return path if "//" not in path else _SLASHES.sub("/", path)


_SLASHES = pattern(r"(?<!^)/{2,}|^/{2,}(?=[a-z])")


_REL = r"(?:\.{1,2}/)?[A-Za-z_][\w.\-]{0,100}(?:/[\w.\-]{1,100}){1,20}"
_RELATIVE = pattern(
    rf"[\"'`](?P<quoted>{_REL})[\"'`]|(?<![\w/.\-:~@$\\\"'`])(?P<bare>{_REL})(?=: (?i:no such file|not found|not a directory|permission denied))"
)
_LONGEST_LINE = 2000
"""Characters of a line that are gone through for paths that begin in the working folder."""


def paths_below(folder: str, text: str) -> list[str]:
    """The paths that a line quotes, or calls absent, as they begin in the working *folder*, made absolute (path_resolution(7))."""
    if not folder.startswith("/"):
        return []
    return [below(folder, path) for path in relative_in(text)]


def below(folder: str, name: str) -> str:
    """A path that begins in a *folder*, made absolute."""
    return posixpath.normpath(f"{folder.rstrip('/')}/{name}")


def relative_in(text: str) -> list[str]:
    """The paths that a line quotes, or calls absent or refused, as they begin in the working folder; names of files without a folder among them,
    where it speaks of a file."""
    text = text[:_LONGEST_LINE]
    found = [match["quoted"] or match["bare"] for match in _RELATIVE.finditer(text)]
    names = _NAMED_FILE.finditer(text) if _OF_A_FILE.search(text) else ()
    named = [next(filter(None, match.groups())) for match in names]
    return list(dict.fromkeys([*found, *(name for name in named if not name.endswith(_UNITS))]))


_UNITS = (".service", ".socket", ".timer", ".mount", ".automount", ".target", ".path", ".slice")
"""What stands for a unit of the manager (systemd.unit(5)), whose file lies elsewhere."""


_NAME = r"[A-Za-z_][\w\-]{0,100}(?:\.[\w\-]{1,30}){0,3}\.[A-Za-z]\w{0,11}"
_NAMED_FILE = pattern(
    rf"(?<=directory: )'(?P<after>[\w.\-]{{1,200}})'|[\"'`\u2018\u201c](?:\./)?(?P<quoted>{_NAME})[\"'`\u2019\u201d]"
    rf"|(?<![\w/.\-:~@$\\\"'`])(?:\./)?(?P<bare>{_NAME})(?=:? \(?(?i:no such file|permission denied))"
    rf"|(?i:no such file or directory)[^/\"'\w][^/\"']{{1,30}} (?P<last>{_NAME})$"
)
_OF_A_FILE = pattern(
    r"(?i)no such file|permission denied|read-only file|eacces|file (?:was )?not found|find (?:the )?file|nosuchfile|enoent"
)


def place_in(text: str) -> tuple[str, int] | None:
    """The first file that a line names together with a number of a line in it; None where there is none."""
    alone = None
    text = text.replace("file:///", "/")  # a URL of a file of this host (RFC 8089)
    for match in _FILE.finditer(text):
        if match[0].startswith("//"):
            continue
        after = _LINE_AFTER.match(text, match.end())
        before = None if after else _LINE_BEFORE.search(text, max(0, match.start() - _FARTHEST_BEFORE), match.start())
        number = (after["line"] or after["bracketed"]) if after else before["line"] if before else None
        if number is not None and match["path"]:
            return match["path"], int(number)
        if number is not None and alone is None:
            alone = match["alone"], int(number)
    return alone


def line_in(text: str) -> int | None:
    """The number of a line that is named without its file."""
    found = _LINE_ALONE.search(text)
    return int(found["line"]) if found else None


def endpoints_of(text: str) -> list[tuple[str, int]]:
    """The endpoints (address, port) that a line names; an empty address where it names only the port."""
    found = [
        (next(filter(None, map(m.group, _ADDRESSES)), ""), int(next(filter(None, map(m.group, _PORTS)))))
        for m in _ENDPOINT.finditer(text)
    ]
    return [(address.strip("[]"), port) for address, port in found if 0 < port < 65536]


def named_endpoints(text: str) -> list[tuple[str, int]]:
    """Names of hosts, or what may be one, with the port behind the colon."""
    found = ((m["name"], int(m["port"])) for m in _NAMED_ENDPOINT.finditer(text))
    return [(name, port) for name, port in found if 0 < port < 65536]


def addresses_in(text: str) -> list[str]:
    """The single IP addresses that a line quotes."""
    found = (match["v4"] or match["v6"] for match in _SINGLE_ADDRESS.finditer(text))
    return [text for text in found if _is_address(text)]


def _is_address(text: str) -> bool:
    """Whether it is an address, and not a time of day or a version."""
    try:
        ip_address(text)
    except ValueError:
        return False
    return True


_QUOTED_WORD = pattern(r"(?<!\w)[\"'`\u2018\u201c](?P<word>\w[\w.:@+\-]{1,78}\w)[\"'`\u2019\u201d](?!\w)")


def quoted_words(text: str) -> list[str]:
    """The single words that a line puts in quotation marks, paths aside."""
    return [match["word"] for match in _QUOTED_WORD.finditer(text)]


def key_of(line: str) -> str:
    """The key that a line of settings begins with; empty where it begins with none."""
    found = _KEY.match(line[:200])
    return found["key"] if found is not None else ""


_KEY = pattern(r"^\s{0,80}[\"']?(?P<key>[A-Za-z_][\w.\-]{0,80})[\"']?(?:\s{0,20}[=:]|\s)")


def has_word(text: str, word: str) -> bool:
    """Whether *word* stands by itself in *text*, and not within a longer one."""
    return word in text and re.search(rf"(?<![\w\-]){re.escape(word)}(?![\w\-])", text) is not None


def quoted_hosts(text: str) -> list[str]:
    """What stands in quotation marks and could be the name of a host."""
    return [match["name"] for match in _QUOTED_HOST.finditer(text)]
