"""What tells a machine from all others, however it is called."""

from __future__ import annotations

import hashlib
import hmac

ID_FILE = "/etc/machine-id"
_FOR = b"hollow-chain: which machine a plan is for"


def digest(machine_id: str, hostname: str) -> str:
    """A digest of the ID of a machine and its name; empty where it has no ID.

    The ID itself is no business of others (machine-id(5)): from a keyed digest nobody finds it, and no other program's is the same. The
    name is a part of it, since machines that were copied from one another share their ID.
    """
    number = machine_id.strip()
    if len(number) < 8:
        return ""
    return hmac.new(number.encode(), _FOR + b"\0" + hostname.encode(), hashlib.sha256).hexdigest()[:32]
