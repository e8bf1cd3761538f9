"""Secrets are masked before facts leave their host: in arguments, environments, addresses and log lines.

Masking errs on the side of masking: a word that *names* a secret hides what stands behind it. Which words those are, and which
forms a secret has by itself, is data: ``secrets.json``. All of it takes time that grows with the length of the text and no faster:
every repetition in a pattern has a bound, and a key is looked at once, from its first letter.
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Iterator, Sequence, Set
from functools import cache, lru_cache
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import msgspec

from hollow_chain import decoding
from hollow_chain.lazy import pattern
from hollow_chain.wording.system_errors import errors

if TYPE_CHECKING:
    from hollow_chain.facts.host import Snapshot

MASK = "[masked]"
MAX_TEXT = 1 << 16
"""Characters of one text that are looked at; what is longer is masked from there on."""
_PASSES = 4
"""What is hidden may bring two words together that name a secret; a pass that hides nothing more is the last one."""

Look = Literal["", "random", "named", "base64"]
Naming = Literal["", "plain", "faint"]


class _Names(msgspec.Struct):
    plain: list[str]
    pairs: list[str]
    endings: list[str]
    faint: list[str]
    tails: list[str]


class SecretForm(msgspec.Struct):
    """A form that a secret has by itself."""

    name: str
    pattern: str
    announced_by: list[str] = []
    """Words, in lower case, of which one has to stand in a text before it is worth a look."""
    look: Look = ""
    run: int = 0
    """Letters, digits, dots, hyphens and underscores that it has in a row at least."""
    masks: list[str] = []
    leaves: list[str] = []


class _Data(msgspec.Struct):
    names: _Names
    not_secret: list[str]
    forms: list[SecretForm]


@cache
def _data() -> _Data:
    return decoding.of_json(Path(__file__).with_suffix(".json").read_bytes(), _Data)


def forms() -> list[SecretForm]:
    """All forms, with the lines that each has to mask and to leave."""
    return _data().forms


# What a name says.

_WORDS = pattern(r"[A-Z]{2,}(?![a-z])|[A-Z]?[a-z]+|[A-Z]")


@cache
def _name_sets() -> tuple[frozenset[str], frozenset[str], frozenset[str], frozenset[str], tuple[str, ...]]:
    names = _data().names
    return (
        frozenset(names.plain), frozenset(names.pairs), frozenset(names.faint), frozenset(names.tails), tuple(names.endings),
    )  # fmt: skip


@lru_cache(maxsize=4096)
def naming(name: str) -> Naming:
    """Whether *name*, of a setting or an option, is the name of a secret: plainly, or only if what it names looks like one."""
    plain, pairs, faint, tails, endings = _name_sets()
    words = [word.lower() for word in _WORDS.findall(name)][:12]
    whole = re.sub(r"[^a-z]", "", name.lower())
    if not words or (len(words) > 1 and words[-1] in tails):
        return ""
    paired = any(f"{one} {other}" in pairs for one, other in pairwise(words))
    if paired or not plain.isdisjoint(words) or whole in plain or any(word.endswith(endings) for word in words):
        return "plain"
    return "faint" if not faint.isdisjoint(words) else ""


# What a value looks like.

_PLAIN_THINGS = pattern(
    r"\A(?:[/\\~.].*|[A-Za-z]:[\\/].*|[A-Za-z]+|[+\-]?\d[\d.,:_\-/]*[A-Za-z%]{0,4}|\d+(?:\.\d+)+[\-_a-z0-9]{0,12}|0x[0-9A-Fa-f]{1,16}|"
    r"[\w.\-]+:\d{1,5}|[\w.\-]+\.(?:conf|cfg|cnf|ini|json|ya?ml|toml|xml|pem|crt|key|service|socket|target|mount|sock|log|"
    r"txt|local|lan|example|com|org|net)|\[?[0-9A-Fa-f]{0,4}(?::[0-9A-Fa-f]{0,4}){2,7}\]?(?:[:/]\d+)?|[a-z]+(?:[-_.][a-z]+)*)\Z"
)
_LONGEST_PLAIN = 200
"""Characters; what is longer is no plain thing."""
_BITS_AT_LEAST = 2.4
"""Bits a character (Shannon, 1948) below which a value is no draw at random: a repeated letter, a row of marks."""
_KEY_BITS = 3.6
"""Of a line of 56 characters and more in base 64, where a draw at random has about 5.3, and a heading with many zeros 3.8."""


def entropy(text: str) -> float:
    """Bits a character by the frequencies in *text* (Shannon, "A mathematical theory of communication", 1948)."""
    counts = Counter(text)
    return -sum(n / len(text) * math.log2(n / len(text)) for n in counts.values()) if text else 0.0


def looks_random(value: str) -> bool:
    """Whether a value looks like a secret: no path, number, address or word, and of letters and digits or marks mixed."""
    bare = value.strip("\"'")
    if len(bare) < 6 or MASK in bare or (len(bare) <= _LONGEST_PLAIN and _PLAIN_THINGS.match(bare)):
        return False
    kinds = (any(c.isdigit() for c in bare), any(c.islower() for c in bare), any(c.isupper() for c in bare))
    return (kinds[0] and sum(kinds) > 1 and entropy(bare) >= _BITS_AT_LEAST) or (
        len(bare) >= 20 and entropy(bare) >= 3.5 and sum(kinds) > 1
    )


def _is_key_line(value: str) -> bool:
    """Whether a long run of base 64 is material of a key, and no path or word: letters of both cases and digits all along it."""
    quarters = [value[at : at + 14] for at in range(0, len(value) - 13, 14)]
    mixed = [any(c.isupper() for c in q) and any(c.islower() for c in q) for q in quarters]
    return sum(mixed) * 2 > len(mixed) and any(c.isdigit() for c in value) and entropy(value) >= _KEY_BITS


@cache
def _not_secret() -> frozenset[str]:
    return frozenset(_data().not_secret)


@cache
def _error_texts() -> tuple[str, ...]:
    """What the system says of its errors: behind a word that names a secret it tells how that was refused, and is none."""
    return tuple(one.text for one in errors().values())


_FILED = pattern(
    r"\A/(?:etc|var|srv|opt|run|usr|home|root|mnt|media|tmp|boot|lib|dev|data)(?:/[\w.@+][\w.@+\-]{0,60}){1,20}/?\Z"
)
"""A path below a folder that every host has (hier(7)): where the secret is kept, and not the secret. None that is drawn at random begins so."""


def _hides(value: str, named: Naming) -> bool:
    """Whether *value*, behind a name that is taken for that of a secret, is hidden."""
    if not value or value.startswith(MASK[:7]) or value.lower().rstrip(".") in _not_secret():
        return False
    if _FILED.match(value):
        return False
    return named == "plain" or looks_random(value)


# Where secrets stand in a text.

_KEY = pattern(
    r"(?<![A-Za-z0-9_.\-])(?P<name>[A-Za-z0-9_.\-]{2,80})(?:\\?[\"'])?[ \t]{0,4}(?P<sign>=>|:=|==?|:|%3[Dd])[ \t]{0,16}(?!//)"
)
_OPTION = pattern(r"(?<!\S)--?(?P<name>[A-Za-z][A-Za-z0-9_.\-]{1,60})[ \t]{1,8}(?=[^\s\-])")
_VALUE = pattern(
    r"\\?\"(?P<double>(?:[^\"\\]|\\[^\"]){0,4096})|'(?P<single>(?:[^'\\]|\\.){0,4096})|(?P<bare>[^\s\"'&,;}\])<>\\]{1,4096})"
)
Span = tuple[int, int]


def _value_at(text: str, at: int) -> Span | None:
    found = _VALUE.match(text, at)
    return found.span(found.lastgroup or 0) if found else None


def _behind_names(text: str) -> Iterator[Span]:
    """Values behind keys and long options that name a secret."""
    for found in _KEY.finditer(text) if "=" in text or ":" in text or "%3" in text else ():
        named = naming(found["name"])
        in_path = found.start() > 0 and text[found.start() - 1] in "/\\" and found["sign"] == ":"
        if named and not in_path:
            span = _value_at(text, found.end())
            told = text.startswith(_error_texts(), found.end())
            if span is not None and not told and _hides(text[slice(*span)], named):
                yield span
    for found in _OPTION.finditer(text) if text.startswith("-") or " -" in text or "\t-" in text else ():
        named = naming(found["name"])
        span = _value_at(text, found.end()) if named else None
        if span is not None and _hides(text[slice(*span)], named):
            yield span


@cache
def _compiled() -> list[tuple[SecretForm, re.Pattern[str]]]:
    return [(form, pattern(form.pattern)) for form in _data().forms]


@cache
def _announcing() -> frozenset[str]:
    """All words that announce a form."""
    return frozenset(word for form in _data().forms for word in form.announced_by)


def _announced(lowered: str, words: Set[str]) -> Set[str]:
    """Those of *words* that stand in a text: most lines are done with this one look."""
    # Plain searches, one a word: quicker here than one pattern of all words.
    return {word for word in words if word in lowered}


_RUN = pattern(r"[A-Za-z0-9_.\-]{12,}")


@cache
def _unannounced() -> list[tuple[SecretForm, re.Pattern[str]]]:
    """The forms that no word announces."""
    return [one for one in _compiled() if not one[0].announced_by]


def _by_form(text: str, words: Set[str]) -> Iterator[Span]:
    """Values of a known form; *words* are those that could announce one in it."""
    announced = _announced(text.lower(), words) if words else words
    forms = [one for one in _compiled() if not announced.isdisjoint(one[0].announced_by)] if announced else []
    run = max(map(len, _RUN.findall(text)), default=0)
    for form, its in (*_unannounced(), *forms):
        if form.run > run:
            continue
        for found in its.finditer(text):
            value = found["value"]
            if value and not value.startswith(MASK[:7]) and _fits(form, found, value):
                yield found.span("value")


def _fits(form: SecretForm, found: re.Match[str], value: str) -> bool:
    if form.look == "named":
        return _hides(value, naming(found["name"]))
    if form.look == "base64":
        return _is_key_line(value)
    return value.strip("\"'").lower() not in _not_secret() and (not form.look or looks_random(value))


def _hidden(text: str, spans: list[Span]) -> str:
    """*text* with each of *spans* replaced, those that meet by one mask; quotes around a value stay."""
    pieces, done = [], 0
    for begin, end in sorted(spans):
        if end > begin and text[begin] in "\"'" and text[begin] == text[end - 1] and end - begin > 1:
            begin, end = begin + 1, end - 1
        if end <= done:
            continue
        if begin >= done:
            pieces += [text[done:begin], MASK]
        done = end
    return "".join((*pieces, text[done:]))


def mask_text(text: str) -> str:
    """*text* with the values of all secrets in it replaced by ``[masked]``."""
    return _masked(text, _announcing())


def mask_texts(texts: Sequence[str]) -> list[str]:
    """Each of *texts* masked, as :func:`mask_text` does it: what stands in none of them is looked for once and not in each."""
    words = _announced("\n".join(texts).lower(), _announcing())
    return [_masked(text, words) for text in texts]


def _masked(text: str, words: Set[str]) -> str:
    if len(text) > MAX_TEXT:
        return _masked(text[:MAX_TEXT], words) + MASK
    for _ in range(_PASSES):
        spans = [*_behind_names(text), *_by_form(text, words)]
        if not spans:
            break
        masked = _hidden(text, spans)
        if masked == text:
            break
        text = masked
    return text


# Arguments and environments.

_SHORT = ("-p", "-a", "-w", "-P", "-W", "-k")
"""Options of one letter that by habit bring a password or key; what looks like one behind them is hidden."""
_PASSWORD_WORD = 8
"""Letters from which on a word behind ``-p`` is taken for a password: a name of a protocol is shorter."""
_CALLER = ("-u", "-U", "--user", "--userpwd", "--login", "--proxy-user", "--basic-auth")
"""Options that by habit bring a name and a secret, as ``name:secret``."""


def mask_arguments(arguments: list[str]) -> list[str]:
    """A command line with its secrets masked; an option that names a secret hides the argument behind it, if that is not
    the path of where the secret is kept."""
    masked: list[str] = []
    before = ""
    for argument in arguments:
        masked.append(_mask_argument(argument, before))
        before = argument
    return masked


def _mask_argument(argument: str, before: str) -> str:
    option, equals, value = argument.partition("=")
    if argument.startswith("-") and equals:
        named = naming(option.lstrip("-"))
        if value and _hides_argument(value, named):
            return f"{option}={MASK}"
        return f"{option}={_mask_caller(value) if option in _CALLER else mask_text(value)}"
    if before.startswith("-") and "=" not in before and not argument.startswith("--") and argument:
        word = before == "-p" and len(argument) >= _PASSWORD_WORD and argument.isalpha()
        if (
            _hides_argument(argument, naming(before.lstrip("-")))
            or (before in _SHORT and looks_random(argument))
            or word
        ):
            return MASK
        if before in _CALLER:
            return _mask_caller(argument)
    if argument.startswith(_SHORT) and not argument.startswith("--") and looks_random(argument[2:]):
        return argument[:2] + MASK
    return mask_text(argument)


def _hides_argument(value: str, named: Naming) -> bool:
    if not named or value.lower() in _not_secret() or value.startswith(MASK) or _FILED.match(value):
        return False
    return named == "plain" or not _HARMLESS_VALUE.fullmatch(value)


def _mask_caller(value: str) -> str:
    name, colon, secret = value.partition(":")
    if not colon or not secret or secret.isdigit() or secret == name or "/" in value:
        return mask_text(value)
    return f"{name}:{MASK}"


def mask_environment(pairs: list[str]) -> list[str]:
    """``NAME=value`` pairs; the value of a name that means a secret is hidden whole."""
    return [_mask_pair(pair) for pair in pairs]


_HARMLESS_VALUE = pattern(r"(?:[/.~].{0,4096}|\d{1,5}|[\w.\-]{1,200}\.(?:pem|key|crt|pub|conf|json|txt|toml))")
"""What behind a faint name (``--key``, ``*_KEY``) is no secret: a path, a file, a small number."""


def _mask_pair(pair: str) -> str:
    name, equals, value = pair.partition("=")
    if equals and value and _hides_argument(value, naming(name)):
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
        for change in host.changes:
            change.what, change.before, change.after = map(mask_text, (change.what, change.before, change.after))
        for server in host.license_servers:
            server.log = [mask_text(line) for line in server.log]


def count_masks(data: bytes) -> int:
    """How many secrets are masked in a written document."""
    return data.count(MASK.encode())
