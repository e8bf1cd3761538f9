"""Snapshots to and from bytes. No disk here: see :mod:`hollow_chain.sources.files`.

The bytes are hostile: they may be of any size, shape and encoding. Whatever is wrong with them becomes one
:class:`SnapshotError` with a line that says what and where.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import msgspec

from hollow_chain import decoding
from hollow_chain.facts.host import FORMAT, VERSION, Snapshot
from hollow_chain.facts.order_groups import resolve
from hollow_chain.trouble import Trouble

MAX_BYTES = 1 << 30
"""A gibibyte: six times what 100,000 services take."""
MAX_YAML_BYTES = 16 << 20
MAX_YAML_DEPTH = 40
"""YAML is for what people write by hand: a parser of it takes many times the size of a dense text, and recurses by depth."""
MAX_YAML_NODES = 400_000
"""A node of YAML takes some 700 bytes until it is an object of ours."""
MAX_TEXT = 4000
"""Characters of one record that are kept: the longest lines that say why something failed have some hundred."""


class SnapshotError(Trouble):
    """The bytes are not a snapshot that this version can read (exit status 3)."""


class _Header(msgspec.Struct):
    format: Any = None
    version: Any = None


def decode(data: bytes) -> Snapshot:
    """Read one snapshot document, JSON or YAML.

    Raises :class:`SnapshotError` with a reason fit for the end of "cannot read FILE: ...".
    """
    text = _as_utf8(data)
    is_json = text.lstrip()[:1] == b"{"
    parse = decoding.of_json if is_json else _decode_yaml
    try:
        with decoding.no_collection():
            found = parse(text, type=Snapshot)
    except (msgspec.MsgspecError, RecursionError, ValueError, OverflowError) as error:
        raise _explained(text, parse, error) from None
    _check_header(found.format, found.version)
    _check_hosts(found)
    _settle_events(found)
    for host in found.hosts:
        resolve(host)
    return found


_MANAGER_AS_SOURCE = "journal (systemd)"
"""By this source alone the records of the manager were told from others before they had a field for it."""


def _settle_events(found: Snapshot) -> None:
    """Cut records that are longer than any that was ever of use: rules read each of them many times. Tell those of the manager
    in snapshots that are older than the field for it."""
    for host in found.hosts:
        for event in host.events:
            if len(event.text) > MAX_TEXT:
                event.text = event.text[:MAX_TEXT]
            if event.source == _MANAGER_AS_SOURCE:
                event.by_manager = True


def encode(document: Snapshot) -> bytes:
    """Write one snapshot document as JSON, indented, with a newline at its end."""
    return msgspec.json.format(msgspec.json.encode(document), indent=1) + b"\n"


def schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of the format, made from the types."""
    made = msgspec.json.schema(Snapshot)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"{FORMAT}, version {VERSION}",
        **made,
    }


def _as_utf8(data: bytes) -> bytes:
    if len(data) > MAX_BYTES:
        raise SnapshotError(f"it has {len(data) >> 20} MiB, more than the {MAX_BYTES >> 20} MiB that are read")
    if data.startswith((b"\xff\xfe", b"\xfe\xff")):
        raise SnapshotError("it is UTF-16; save it as UTF-8")
    if not data.strip():
        raise SnapshotError("it is empty; expected one JSON or YAML document")
    if b"\0" in data[:4096]:
        raise SnapshotError("it is a binary file, not a JSON or YAML document")
    return data.removeprefix(b"\xef\xbb\xbf")


def _decode_yaml(data: bytes, type: Any) -> Any:
    import yaml

    if len(data) > MAX_YAML_BYTES:
        raise SnapshotError(f"YAML is read up to {MAX_YAML_BYTES >> 20} MiB; save it as JSON")
    loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
    try:
        text = data.decode("utf-8")
        depth = 0
        # Looked at as a stream of events first: composing a deep or self-quoting document would
        # exhaust the stack or multiply it without bound.
        for nodes, event in enumerate(yaml.parse(text, Loader=loader)):
            if isinstance(event, yaml.AliasEvent):
                raise SnapshotError(f"line {_line(event)}: YAML aliases are not read")
            if nodes > MAX_YAML_NODES:
                raise SnapshotError(f"line {_line(event)}: more than {MAX_YAML_NODES} entries; save it as JSON")
            if isinstance(event, yaml.CollectionStartEvent):
                depth += 1
                if depth > MAX_YAML_DEPTH:
                    raise SnapshotError(f"line {_line(event)}: nested too deeply")
            elif isinstance(event, yaml.CollectionEndEvent):
                depth -= 1
        return decoding.of_plain(yaml.load(text, Loader=loader), type, strict=True)
    except UnicodeDecodeError as error:
        raise SnapshotError(f"it is not UTF-8 (byte {error.start})") from None
    except yaml.YAMLError as error:
        raise SnapshotError(_yaml_reason(error)) from None


def _line(event: Any) -> int:
    return int(event.start_mark.line) + 1


def _yaml_reason(error: Exception) -> str:
    mark = getattr(error, "problem_mark", None)
    problem = getattr(error, "problem", None) or getattr(error, "reason", None) or "cannot be parsed"
    where = f"line {mark.line + 1}, column {mark.column + 1}: " if mark else ""
    return f"{where}not valid JSON or YAML ({problem})"


def _explained(text: bytes, parse: Callable[..., Any], error: Exception) -> SnapshotError:
    if isinstance(error, RecursionError):
        return SnapshotError("nested too deeply")
    if isinstance(error, UnicodeDecodeError) or "utf-8" in str(error).lower():
        return SnapshotError("it is not UTF-8")
    try:
        header = parse(text, type=_Header)
    except (msgspec.MsgspecError, RecursionError, ValueError, OverflowError, SnapshotError):
        header = None
    if header is not None:
        try:
            _check_header(header.format, header.version)
        except SnapshotError as better:
            return better
    if isinstance(error, msgspec.ValidationError):
        return SnapshotError(_located(str(error)))
    return SnapshotError(_malformed(text, str(error)))


def _located(reason: str) -> str:
    """Turn ``Expected `str`, got `int` - at `$.hosts[0].name``` into a sentence that starts with the place."""
    says, at, place = reason.rpartition(" - at `")
    if not at:
        return reason.replace("`", "'")
    place = place.removesuffix("`").removeprefix("key in ").removeprefix("$").removeprefix(".")
    return f"{place}: {says}".replace("`", "'")


def _malformed(text: bytes, reason: str) -> str:
    found = re.search(r"\(byte (\d+)\)", reason)
    if found:
        before = text[: int(found[1])]
        line = before.count(b"\n") + 1
        column = len(before) - (before.rfind(b"\n") + 1) + 1
        cause = reason.removeprefix("JSON is malformed: ").split(" (byte")[0]
        return f"line {line}, column {column}: not valid JSON ({cause})"
    if "truncated" in reason:
        lines = text.count(b"\n") + 1
        return f"not valid JSON: it ends too early, at line {lines}"
    return f"not valid JSON ({reason})"


def _check_header(name: Any, version: Any) -> None:
    if name is None:
        raise SnapshotError(f"it has no 'format' key; a snapshot says format: {FORMAT}")
    if name != FORMAT:
        raise SnapshotError(f"its format is {str(name)[:60]!r}, not {FORMAT!r}")
    if version is None:
        raise SnapshotError(f"it has no 'version' key; this program reads version {VERSION}")
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise SnapshotError(f"its version is {str(version)[:60]!r}; expected the number {VERSION}")
    if version > VERSION:
        raise SnapshotError(
            f"it is of version {str(version)[:60]}; this program reads up to version {VERSION}: update it"
        )


def _check_hosts(found: Snapshot) -> None:
    if not found.hosts:
        raise SnapshotError("it holds no host")
    for index, host in enumerate(found.hosts):
        if not host.name.strip():
            raise SnapshotError(f"hosts[{index}].name: a host needs a name")
        for number, service in enumerate(host.services):
            if not service.name:
                raise SnapshotError(f"hosts[{index}].services[{number}].name: a service needs a name")
