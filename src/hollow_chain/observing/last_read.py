"""The file that a program had read last when it ended, where nothing that it tried failed: what it did not like stands there, most likely."""

from __future__ import annotations

import re

from hollow_chain.observing.story import Life, Story

_OF_EVERY_PROGRAM = re.compile(
    r"^/(?:proc|sys|dev|lib\w*|bin|sbin|usr/(?:local/)?(?:lib\w*|share|bin|sbin))/|\.so(?:\.[\d.]+)?$|"
    r"^(?!/etc/).*\.(?:py[co]?|pl|pm|rb|[cm]?js|php|lua|jar|class|sh)$|/(?:node_modules|(?:site|dist)-packages|gems|pyvenv\.cfg$)/?|"
    r"^/etc/(?:passwd|group|shadow|gshadow|sub[ug]id|hosts?(?:name)?|host\.conf|resolv\.conf|nsswitch\.conf|gai\.conf|localtime|timezone|"
    r"machine-id|os-release|services|protocols|networks|mime\.types|login\.defs|environment|locale\.\w+|ld\.so\.\w+|"
    r"(?:ssl/openssl\.cnf|ssl/certs|pki|crypto-policies|ca-certificates|security|pam\.d|terminfo|alternatives|perl|python[\d.]*)(?:/.*)?)$"
)
"""What any program reads, and what it consists of: the libraries of the system, their settings, and sources; in /etc those are settings."""


def is_of_every_program(path: str) -> bool:
    """Whether a file is one that any program reads, or a part of a program."""
    return _OF_EVERY_PROGRAM.search(path) is not None


_AT_ONCE = 1.0
"""Seconds within which a program that does not like what it reads ends: traced, and in good order."""


def last_read(story: Story) -> str:
    """The path of that file; empty where it read none, or went on to something else after it."""
    ended = _that_ended_it(story)
    if not ended:
        return ""
    read = {path: at for life in ended for path, at in life.read.items() if not is_of_every_program(path)}
    last = max(read, key=lambda path: read[path], default="")
    programs = {life.program for life in ended}
    went_on = any(life.stepped > read[last] for life in ended) if last else True
    end = max((life.last for life in ended), default=0.0)
    return "" if went_on or last in programs or end - read[last] > _AT_ONCE else last


def _that_ended_it(story: Story) -> list[Life]:
    """The processes of the last command of the start that ended badly, or just ended."""
    tops = story.tops()
    bad = [one for one in tops if one.end is not None and one.end.status != 0 and one.program not in story.forgiven]
    top = bad[-1] if bad else tops[-1] if tops else None
    return [life for life in story.lives.values() if top is not None and story.top(life) is top]
