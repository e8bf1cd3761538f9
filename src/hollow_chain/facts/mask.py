"""Secrets are masked before facts leave their host: in arguments, environments, URLs and log lines.

Masking errs on the side of masking: a word that *names* a secret hides what stands behind it.
"""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from hollow_chain.lazy import pattern

if TYPE_CHECKING:
    from hollow_chain.facts.host import Snapshot

MASK = "[masked]"

_SECRET = (
    r"(?:pass(?:wor[dt]|wd|phrase|code)?|pwd|secret|token|api[-_.]?key|access[-_.]?key|private[-_.]?key|"
    r"secret[-_.]?key|encryption[-_.]?key|signing[-_.]?key|credentials?|requirepass|masterauth|auth|bearer|cookie|"
    r"session[-_.]?id|client[-_.]?secret|salt|pin)"
)
# A name of a secret: the whole of it, or a part of a longer name set off by a mark or a change of case.
_NAME = rf"(?:[A-Za-z0-9_.\-]{{0,64}}[_.\-])?{_SECRET}(?:[_.\-][A-Za-z0-9_.\-]{{0,64}})?"
_JOINED = r"(?:[A-Za-z0-9]{1,20}(?:pass(?:word|wd|phrase)?|pwd|token|secret|apikey))"
_VALUE = r"(?:\"(?:[^\"\\]|\\.){0,4096}\"?|'(?:[^'\\]|\\.){0,4096}'?|[^\s\"'&,;}\])]+)"

_KEY_VALUE = pattern(
    rf"(?i)(?<![A-Za-z0-9])(?:(?<!/)|(?=[^:\s]{{0,200}}=))(?P<key>[\"']?(?:{_NAME}|{_JOINED})[\"']?\s*(?:=>|:=|=|:)\s*)(?P<value>{_VALUE})"
)
_FLAG = pattern(rf"(?i)(?P<key>(?<!\S)--?(?:{_NAME}|{_JOINED})\s+)(?P<value>(?!-){_VALUE})")
_SPOKEN = pattern(
    r"(?i)(?P<key>\b(?:password|passphrase|secret|token|requirepass|masterauth|api key)\s+(?:is|was|of)?\s*)"
    r"(?P<value>\"[^\"]+\"|'[^']+')"
)
_DIRECTIVE = pattern(r"(?i)(?P<key>\b(?:requirepass|masterauth|identified\s+by)\s+)(?P<value>\S+)")
_SCHEME = pattern(
    r"(?i)(?P<key>\b(?:proxy-)?authorization\s*[:=]\s*[\"']?(?:bearer|basic|digest|token|negotiate)?\s*|\bbearer\s+)"
    r"(?P<value>[A-Za-z0-9+/=._~\-]{6,})"
)
_URL_USER = pattern(r"(?P<key>[A-Za-z][A-Za-z0-9+.\-]{1,30}://[^\s/:@\"']{0,256}:)(?P<value>[^\s/\"']{1,512})(?=@)")
_PEM = pattern(r"(?s)(?P<key>-----BEGIN [A-Z ]*PRIVATE KEY-----)(?P<value>.*?)(?=-----END|\Z)")
_WEB_TOKEN = pattern(r"(?P<key>\b)(?P<value>eyJ[A-Za-z0-9_\-]{8,}\.[A-Za-z0-9_\-]{4,}\.?[A-Za-z0-9_\-]*)")
_RULES = (_PEM, _URL_USER, _SCHEME, _WEB_TOKEN, _KEY_VALUE, _FLAG, _DIRECTIVE, _SPOKEN)

_NAMES_SECRET = pattern(rf"(?i)^-{{0,2}}(?:{_NAME}|{_JOINED})$")
_HINT = pattern(r"(?i)pass|pwd|secret|token|key|credential|auth|bearer|cookie|session|salt|pin|://|eyJ|identified")


def mask_text(text: str) -> str:
    """*text* with the values of all secrets in it replaced by ``[masked]``."""
    if not _HINT.search(text):
        return text
    for rule in _RULES:
        text = rule.sub(_hide, text)
    return text


def _hide(found: re.Match[str]) -> str:
    value = found["value"]
    if value.startswith(MASK[:7]):
        return found[0]
    quote = value[0] if value[:1] in "\"'" else ""
    return f"{found['key']}{quote}{MASK}{quote}"


def mask_arguments(arguments: list[str]) -> list[str]:
    """A command line with its secrets masked; a flag that names a secret hides the argument behind it."""
    masked: list[str] = []
    hide_next = False
    for argument in arguments:
        if hide_next and not argument.startswith("--"):
            masked.append(MASK)
            hide_next = False
            continue
        hide_next = argument.startswith("-") and bool(_NAMES_SECRET.match(argument))
        masked.append(mask_text(argument))
    return masked


def mask_environment(pairs: list[str]) -> list[str]:
    """``NAME=value`` pairs; the value of a name that means a secret is hidden whole."""
    return [_mask_pair(pair) for pair in pairs]


def _mask_pair(pair: str) -> str:
    name, equals, value = pair.partition("=")
    if equals and value and _NAMES_SECRET.match(name):
        return f"{name}={MASK}"
    return f"{name}{equals}{mask_text(value)}"


def mask_snapshot(document: Snapshot) -> None:
    """Mask everything in *document* that may hold a secret, in place; for facts that others have written."""
    for host in document.hosts:
        for service in host.services:
            service.description = mask_text(service.description)
            if service.definition is not None:
                for settings in (service.definition.on_disk, service.definition.loaded):
                    settings.update({name: mask_text(value) for name, value in settings.items()})
            if service.program is not None:
                service.program.arguments = mask_arguments(service.program.arguments)
                service.program.environment = mask_environment(service.program.environment)
            if service.last is not None:
                service.last.status_text = mask_text(service.last.status_text)
        for process in host.processes:
            process.arguments = mask_arguments(process.arguments)
        for event in host.events:
            event.text = mask_text(event.text)
        for server in host.license_servers:
            server.log = [mask_text(line) for line in server.log]
