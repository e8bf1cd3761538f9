"""The words that a program is really called with: those of its definition, with what its variables stand for."""

from __future__ import annotations

from collections.abc import Mapping

from hollow_chain.facts.service import Program
from hollow_chain.lazy import pattern

_ALONE = pattern(r"\$(?P<name>[A-Za-z_]\w{0,100})")
_WITHIN = pattern(r"\$\{(?P<name>[A-Za-z_]\w{0,100})\}")
"""A variable that is a word by itself is cut into words where its value has spaces; one in braces stands for just its value
(systemd.service(5), "Command Lines")."""
_SET = pattern(r"(?m)^[ \t]*(?P<name>[A-Za-z_]\w{0,100})=(?P<value>[^\n]{0,1000})$")
_MOST_WORDS = 400
"""Words that are made of a command line: definitions of ours have fifty at the most."""


def called_with(program: Program, files: Mapping[str, str]) -> list[str]:
    """The arguments of *program*; *files* are the texts of the files that its variables come from, of those that were read."""
    if not any("$" in word for word in program.arguments):
        return program.arguments
    values = dict(word.partition("=")[::2] for word in program.environment)
    for path in (*program.environment_files, *(program.optional_files or ())):
        values |= {match["name"]: match["value"].strip().strip("\"'") for match in _SET.finditer(files.get(path, ""))}
    words: list[str] = []
    for word in program.arguments:
        alone = _ALONE.fullmatch(word)
        if alone is not None:
            words += values.get(alone["name"], "").split()
        else:
            words.append(_WITHIN.sub(lambda match: values.get(match["name"], ""), word))
    return words[:_MOST_WORDS]
