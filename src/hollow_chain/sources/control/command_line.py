"""Command lines as the system takes them apart: by the documented rules for quotes and backslashes ("Parsing C command-line
arguments", CommandLineToArgvW), for programs without quotes (CreateProcessW, ``lpApplicationName``), and for variables
(ExpandEnvironmentStringsW)."""

from __future__ import annotations

from collections.abc import Mapping

from hollow_chain.lazy import pattern

LONGEST = 32_767
"""Characters of a command line at the most (CreateProcessW)."""
_MOST_CANDIDATES = 20
"""Places at which a line without quotes is taken apart: as many spaces as any path has."""
_VARIABLE = pattern(r"%([^%\\/:*?\"<>|]{1,255})%")
_PROGRAM_ENDS = (".exe", ".com", ".bat", ".cmd", ".sys", ".dll")


def expand(text: str, variables: Mapping[str, str]) -> str:
    """*text* with the values of its variables, of which names are told apart without regard to case; one that is not known stays."""
    known = {name.casefold(): value for name, value in variables.items()}
    return _VARIABLE.sub(lambda found: known.get(found[1].casefold(), found[0]), text[:LONGEST])


def words(text: str) -> list[str]:
    """The words of what follows the program on a command line."""
    return _words(text[:LONGEST])


def _words(text: str) -> list[str]:
    """Words behind the program: a quotation mark begins or ends a part that spaces belong to; before one, two backslashes stand for
    one, and an odd one makes the mark a sign like any other."""
    words: list[str] = []
    word: list[str] = []
    begun = quoted = False
    slashes = 0
    for sign in f"{text} ":
        if sign == "\\":
            slashes, begun = slashes + 1, True
            continue
        if sign == '"':
            word.append("\\" * (slashes // 2))
            begun = True
            if slashes % 2:
                word.append(sign)
            else:
                quoted = not quoted
        else:
            word.append("\\" * slashes)
            if sign in " \t" and not quoted:
                if begun:
                    words.append("".join(word))
                word, begun = [], False
            else:
                word.append(sign)
                begun = True
        slashes = 0
    if begun or word:
        words.append("".join(word).rstrip(" ") if quoted else "".join(word))
    return words


def candidates(line: str) -> list[tuple[str, str]]:
    """The programs that a command line may mean, in the order in which the system tries them, each with what follows it: the quoted
    one alone, or what stands before each space, with the end of a program's name where it has none."""
    line = line[:LONGEST].strip()
    if line.startswith('"'):
        program, _, rest = line[1:].partition('"')
        return [(_with_end(program), rest)] if program else []
    found: dict[str, str] = {}
    at = line.find(" ") if " " in line else len(line)
    while len(found) < _MOST_CANDIDATES:
        found.setdefault(_with_end(line[:at].rstrip()), line[at:])
        if at >= len(line):
            break
        behind = line.find(" ", at + 1)
        at = behind if behind >= 0 else len(line)
    return [(program, rest) for program, rest in found.items() if program != ".exe"]


def _with_end(program: str) -> str:
    return program if "." in program.replace("/", "\\").rpartition("\\")[2] else f"{program}.exe"


def names_program(head: str) -> bool:
    """Whether *head* ends like the name of a program."""
    return head.lower().endswith(_PROGRAM_ENDS)


def driver_path(path: str, root: str) -> str:
    """The path of a driver or program as files know it: the system's own forms begin at its root folder, or at that of names of objects
    (the documentation of ``ImagePath`` for drivers)."""
    for head in ("\\??\\", "\\\\?\\"):
        path = path.removeprefix(head)
    lowered = path.lower()
    if lowered.startswith("\\systemroot\\"):
        return root + path[len("\\systemroot") :]
    if lowered.startswith(("system32\\", "syswow64\\")):
        return f"{root}\\{path}"
    return path
