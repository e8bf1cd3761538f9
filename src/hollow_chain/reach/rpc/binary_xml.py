"""Records of event logs in the binary form of XML in which they go over the network ([MS-EVEN6], 2.2.17).

The bytes are hostile: whatever does not fit raises :class:`Malformed`; depth, length and number of what is read are bounded.
"""

from __future__ import annotations

import struct
from datetime import UTC, datetime, timedelta
from typing import NamedTuple
from uuid import UUID

END, OPEN, CLOSE_START, CLOSE_EMPTY, END_ELEMENT, VALUE, ATTRIBUTE = range(7)
CDATA, CHARACTER, ENTITY, TARGET, INSTRUCTION, TEMPLATE, NORMAL, OPTIONAL, FRAGMENT = range(7, 16)
"""Tokens; a sixth bit says that more of the kind follows, and that an element has attributes (2.2.17, "Token Types")."""
_KIND, _MORE = 0x0F, 0x40
_STRING, _BINARY_XML, _LIST = 0x01, 0x21, 0x80
"""Types of values (2.2.17, "Value Types"): those that are texts, and those that are a document themselves; and the bit of a list."""
_MOST_DEPTH, _MOST_NODES, _MOST_VALUES = 24, 4000, 400
"""Of one record; those of systems have a tenth of that."""
_LONGEST = 32_768
"""Characters of a text that are kept: as many as a record of an event log may have at the most (ReportEventW)."""
_EPOCH = datetime(1601, 1, 1, tzinfo=UTC)
_ENTITIES = {"amp": "&", "lt": "<", "gt": ">", "quot": '"', "apos": "'"}
_WHOLE = {0x03: "<b", 0x04: "<B", 0x05: "<h", 0x06: "<H", 0x07: "<i", 0x08: "<I", 0x09: "<q", 0x0A: "<Q"}
_HEX = {0x14: 4, 0x15: 8}
_FLOATS = {0x0B: "<f", 0x0C: "<d"}


class Malformed(ValueError):
    """The bytes are no such document."""


class XmlElement:
    """An element: its name, its attributes, the elements in it and its text."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.attributes: dict[str, str] = {}
        self.children: list[XmlElement] = []
        self.text = ""

    def find(self, name: str) -> XmlElement | None:
        """The first element in it of that name."""
        return next((one for one in self.children if one.name == name), None)


class _Value(NamedTuple):
    kind: int
    data: bytes


def document(data: bytes) -> XmlElement:
    """The root element of a document. Raises :class:`Malformed`.

    Whether each element carries the number of what it depends on is not written anywhere (2.2.17, "DependencyID" may be absent): the form
    with it, which systems write, is tried first.
    """
    try:
        return _Reader(data, True).root()
    except Malformed:
        return _Reader(data, False).root()


class _Reader:
    def __init__(self, data: bytes, depends: bool, values: list[_Value] | None = None, depth: int = 0) -> None:
        self._data, self._depends, self._values, self._depth = data, depends, values, depth
        self._at = self._nodes = 0

    def _take(self, count: int) -> bytes:
        if count < 0 or count > len(self._data) - self._at:
            raise Malformed("it ends too early")
        self._at += count
        return self._data[self._at - count : self._at]

    def _number(self, size: int) -> int:
        return int.from_bytes(self._take(size), "little")

    def _token(self) -> int:
        if self._at >= len(self._data):
            return END
        return self._data[self._at]

    def root(self) -> XmlElement:
        """The one element that the document is."""
        while True:
            token = self._token()
            kind = token & _KIND
            if kind == FRAGMENT:
                self._take(4)
            elif kind == OPEN and token in (OPEN, OPEN | _MORE):
                return self._element(0)
            elif kind == TEMPLATE:
                return self._template()
            else:
                raise Malformed(f"token {token:#x} where an element begins")

    def _template(self) -> XmlElement:
        """A template, and the values that stand in it."""
        self._take(1)
        if self._take(1) != b"\0":
            raise Malformed("no template")
        self._take(16)
        length = self._number(4)
        body = self._take(length)
        count = self._number(4)
        if count > _MOST_VALUES:
            raise Malformed("too many values")
        heads = [(self._number(2), self._number(1), self._number(1)) for _ in range(count)]
        values = [_Value(kind, self._take(size)) for size, kind, _ in heads]
        if self._depth > _MOST_DEPTH:
            raise Malformed("too deep")
        return _Reader(body, self._depends, values, self._depth + 1).root()

    def _name(self) -> str:
        self._take(2)  # a hash of the name
        length = self._number(2)
        if length > 512:
            raise Malformed("a name is too long")
        text = self._take(2 * length).decode("utf-16-le", "replace")
        if self._take(2) != b"\0\0" or not text or not text.isprintable():
            raise Malformed("no name")
        return text

    def _element(self, depth: int) -> XmlElement:
        self._nodes += 1
        if depth > _MOST_DEPTH or self._nodes > _MOST_NODES:
            raise Malformed("too much of it")
        has_attributes = bool(self._number(1) & _MORE)
        if self._depends:
            self._take(2)
        self._number(4)
        found = XmlElement(self._name())
        if has_attributes:
            self._number(4)
            self._attributes(found)
        token = self._number(1)
        if token == CLOSE_EMPTY:
            return found
        if token != CLOSE_START:
            raise Malformed(f"token {token:#x} at the end of a start")
        self._content(found, depth)
        return found

    def _attributes(self, found: XmlElement) -> None:
        while self._token() & _KIND == ATTRIBUTE and self._token() in (ATTRIBUTE, ATTRIBUTE | _MORE):
            self._take(1)
            name, text = self._name(), ""
            while (piece := self._text()) is not None:
                text += piece
            found.attributes[name] = text[:_LONGEST]

    def _content(self, found: XmlElement, depth: int) -> None:
        while True:
            token = self._token()
            if token == END_ELEMENT:
                self._take(1)
                return
            if token in (OPEN, OPEN | _MORE):
                found.children.append(self._element(depth + 1))
            elif token == TEMPLATE:
                found.children.append(self._template())
            elif token in (TARGET, INSTRUCTION):
                self._take(1)
                self._name() if token == TARGET else self._take(2 * self._number(2))
            elif (inner := self._embedded()) is not None:
                found.children.append(inner)
            elif (piece := self._text()) is not None:
                found.text = (found.text + piece)[:_LONGEST]
            else:
                raise Malformed(f"token {token:#x} in an element")

    def _embedded(self) -> XmlElement | None:
        """The document that a value is, where that is what stands here."""
        if self._token() not in (NORMAL, OPTIONAL) or self._values is None:
            return None
        number = int.from_bytes(self._data[self._at + 1 : self._at + 3], "little")
        value = self._values[number] if number < len(self._values) else None
        if value is None or value.kind != _BINARY_XML or not value.data:
            return None
        if self._depth > _MOST_DEPTH:
            raise Malformed("too deep")
        self._take(4)
        return _Reader(value.data, self._depends, None, self._depth + 1).root()

    def _text(self) -> str | None:
        """A piece of text; None where something else stands here."""
        token = self._token()
        kind = token & _KIND
        if token & ~(_KIND | _MORE) or kind not in (VALUE, CDATA, CHARACTER, ENTITY, NORMAL, OPTIONAL):
            return None
        self._take(1)
        if kind == VALUE:
            if self._number(1) != _STRING:
                raise Malformed("a text that is none")
            return self._take(2 * self._number(2)).decode("utf-16-le", "replace")
        if kind == CDATA:
            return self._take(2 * self._number(2)).decode("utf-16-le", "replace")
        if kind == CHARACTER:
            return chr(self._number(2))
        if kind == ENTITY:
            return _ENTITIES.get(self._name(), "")
        number, _ = self._number(2), self._number(1)
        if self._values is None or number >= len(self._values):
            raise Malformed("a place without a value")
        return text_of(*self._values[number])


def text_of(kind: int, data: bytes) -> str:
    """A value as a text; empty where it is none, or its bytes do not fit its type."""
    if kind & _LIST:
        return (
            "; ".join(filter(None, data.decode("utf-16-le", "replace").split("\0"))) if kind & 0x7F == _STRING else ""
        )
    if kind == _STRING:
        return data.decode("utf-16-le", "replace").rstrip("\0")
    if kind == 0x02:
        return data.decode("cp1252", "replace").rstrip("\0")
    if kind in _WHOLE or kind in _FLOATS:
        form = _WHOLE.get(kind) or _FLOATS[kind]
        return str(struct.unpack(form, data)[0]) if len(data) == struct.calcsize(form) else ""
    if kind in _HEX:
        return f"{int.from_bytes(data, 'little'):#x}" if len(data) == _HEX[kind] else ""
    if kind == 0x0D:
        return "true" if any(data) else "false"
    if kind == 0x0E:
        return data.hex().upper()
    if kind == 0x0F:
        return f"{{{UUID(bytes_le=data)}}}" if len(data) == 16 else ""
    if kind == 0x11:
        return _moment(data)
    return ""


def _moment(data: bytes) -> str:
    try:
        moment = _EPOCH + timedelta(microseconds=int.from_bytes(data, "little") // 10)
    except OverflowError:
        return ""
    return f"{moment:%Y-%m-%dT%H:%M:%S.%f}Z" if len(data) == 8 else ""
