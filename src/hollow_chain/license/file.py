"""The license file: its parts, its canonical form, what is signed and what may be edited by hand.

The format is described in ``docs/license.md``. Each entitlement is signed by its publisher with Ed25519 (RFC 8032) over a
canonical form: JSON with sorted keys and no spaces, in UTF-8 (after RFC 8785). The host IDs and everything that is granted
are in that form; host name, ports and program paths are not, so that they may be edited.
"""

from __future__ import annotations

import base64
import hashlib
from datetime import date, datetime
from typing import Any

import msgspec

from hollow_chain import decoding
from hollow_chain.license.compare import plain_id
from hollow_chain.trouble import Trouble

FORMAT = "hollow-chain/license"
VERSION = 1
MAX_BYTES = 1 << 20
"""Version of the format, and bytes of a file: a thousand entitlements take less."""
SUFFIX = ".toml"
FLOATING, TO_HOST = "floating", "host"
ANY_PORT = "any"


class Server(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """The server that the file is made out for."""

    host: str
    """Its host name. May be edited."""
    host_ids: list[str]
    """Hardware addresses; one of them has to be of an adapter of the host. Signed with each entitlement."""
    port: int
    """Port of the front process. May be edited."""
    copies: list[str] = []
    """Other places where the same file has to lie. May be edited."""


class Daemon(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A license daemon."""

    name: str
    program: str
    """Path of its program. May be edited."""
    key: str
    """The publisher's public key: 32 bytes in base64."""
    port: int | str = ANY_PORT
    """A fixed port, or ``any`` for whatever is free. May be edited."""


class SignedEntitlement(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A right to use, as in ISO/IEC 19770-3. All of it is signed."""

    daemon: str
    product: str
    seats: int
    signature: str
    feature: str = ""
    version: str = ""
    """The newest version that may be used; empty: any."""
    starts: date | None = msgspec.field(default=None, name="from")
    """The first day on which it holds."""
    ends: date | None = msgspec.field(default=None, name="until")
    """The last day on which it holds."""
    bound: str = msgspec.field(default=FLOATING, name="bound_to")
    """``floating``: for any host; ``host``: for the server's own host only."""
    issued: date | None = None


class License(msgspec.Struct, kw_only=True, forbid_unknown_fields=True):
    """A whole license file."""

    format: str
    version: int
    server: Server
    daemon: list[Daemon]
    entitlement: list[SignedEntitlement]


def digest(data: bytes) -> str:
    """The digest by which two copies, or a file and what a server serves, are compared."""
    return hashlib.sha256(data).hexdigest()


def text_of(data: bytes) -> str:
    """The text of a license file in whatever encoding it was saved.

    Raises :class:`UnicodeDecodeError` where it is no text.
    """
    if data.startswith((b"\xff\xfe", b"\xfe\xff")):
        return data.decode("utf-16")
    return data.decode("utf-8-sig")


def canonical(entitlement: dict[str, Any], host_ids: list[str]) -> bytes:
    """What is signed of an entitlement (a table of the file): all its keys but the signature, with the host IDs."""
    said = {key: _plain(value) for key, value in entitlement.items() if key != "signature" and value not in (None, "")}
    said.setdefault("bound_to", FLOATING)
    whole = {
        "format": FORMAT,
        "version": VERSION,
        "host_ids": sorted(plain_id(i) for i in host_ids),
        "entitlement": said,
    }
    return msgspec.json.encode(_sorted(whole))


def _plain(value: Any) -> Any:
    return value.isoformat() if isinstance(value, (date, datetime)) else value


def _sorted(value: Any) -> Any:
    return {key: _sorted(value[key]) for key in sorted(value)} if isinstance(value, dict) else value


def sign(entitlement: dict[str, Any], host_ids: list[str], private_key: bytes) -> str:
    """The signature of an entitlement, in base64; *private_key* are the 32 bytes of an Ed25519 key."""
    Ed25519PrivateKey = _keys().Ed25519PrivateKey

    key = Ed25519PrivateKey.from_private_bytes(private_key)
    return base64.b64encode(key.sign(canonical(entitlement, host_ids))).decode()


def public_key(private_key: bytes) -> str:
    """The public key to a private one, in base64."""
    Ed25519PrivateKey = _keys().Ed25519PrivateKey

    return base64.b64encode(Ed25519PrivateKey.from_private_bytes(private_key).public_key().public_bytes_raw()).decode()


def _keys() -> Any:
    """What knows the keys (RFC 8032). Raises :class:`Trouble` (3) where the package for them cannot be loaded here."""
    try:
        from cryptography.hazmat.primitives.asymmetric import ed25519
    except ImportError as error:
        raise Trouble(
            f"signatures cannot be checked or made here: the package cryptography cannot be loaded ({error}); "
            "pip install 'hollow-chain[license]'"
        ) from None
    return ed25519


def holds(entitlement: dict[str, Any], host_ids: list[str], key: str) -> bool:
    """Whether the signature of an entitlement is the publisher's, over what stands there now.

    Raises :class:`Trouble` where nothing here can check one.
    """
    kind = _keys().Ed25519PublicKey
    from cryptography.exceptions import InvalidSignature

    try:
        public = kind.from_public_bytes(base64.b64decode(key, validate=True))
        public.verify(
            base64.b64decode(str(entitlement.get("signature")), validate=True), canonical(entitlement, host_ids)
        )
    except (ValueError, InvalidSignature):
        return False
    return True


def read(data: bytes) -> License:
    """A license file that is right in form. Raises :class:`ValueError` with what is not (``check`` tells all of it)."""
    import tomllib

    try:
        found = decoding.of_plain(tomllib.loads(text_of(data)), License)
    except (UnicodeDecodeError, RecursionError) as error:
        raise ValueError(f"it is no text: {error}") from None
    if (found.format, found.version) != (FORMAT, VERSION):
        raise ValueError(f"it is {found.format!r}, version {found.version}; {FORMAT!r}, version {VERSION} is read")
    return found


def is_license(data: bytes) -> bool:
    """Whether the first lines say that this is a license file, right or not."""
    try:
        return FORMAT in text_of(data[:4096])
    except UnicodeDecodeError:
        return False


def schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of the file, as its TOML is read."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"{FORMAT}, version {VERSION}",
        **msgspec.json.schema(License),
    }
