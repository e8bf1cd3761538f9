"""Asks a host over RPC through the interfaces that readers and hands use, and says in JSON what came of it."""

import json
import sys
from pathlib import Path

from hollow_chain.reach.address import Address
from hollow_chain.reach.control import Declined
from hollow_chain.reach.far_control import text_at
from hollow_chain.reach.login import Login, password_of
from hollow_chain.reach.rpc.machine import RpcMachine

KEY = r"SOFTWARE\hollow-chain trial"
found = {}


def number(function, *given):
    try:
        function(*given)
    except Declined as declined:
        return declined.number
    return 0


with RpcMachine(Address("rpc", sys.argv[1], "root"), Login("", "root", password_of(Path(sys.argv[2])))) as host:
    found["stopped"] = host.orders.stop("Spooler").state
    found["started"] = host.orders.start("Spooler").state
    found["again"] = host.orders.start("Spooler").state
    values = host.exact_values
    values.make(KEY)
    values.put(KEY, "Berth", (1, "ferry\0".encode("utf-16-le")))
    kind, data = values.all_of(KEY)["Berth"]
    found["put"] = [kind, data.hex()]
    values.put(KEY, "Berth", None)
    found["gone"] = values.all_of(KEY)
    found["missing"] = number(host.registry.key, r"SOFTWARE\nowhere at all")
    found["unknown"] = number(host.orders.status, "Nowhere")
    services = r"SYSTEM\CurrentControlSet\Services"
    expected = [rf"{services}\{name}" for name in ("Spooler", "NETLOGON", "WINS", *(f"None{n}" for n in range(40)))]
    host.registry.expect(expected)
    found["expected"] = [text_at(host.registry.key(path), "displayname") for path in expected[:3]]
    found["unexpected"] = {number(host.registry.key, path) for path in expected[3:]}
    walker = host.files.walker()
    found["names"] = walker.names("C:\\")
    found["text"] = walker.read(r"C:\Ferry\desk.ini", 100).data.decode()
    found["end"] = walker.read(r"C:\Ferry\desk.ini", 2, from_end=True).data.decode()
    try:
        walker.read(r"C:\Nowhere\desk.ini", 100)
    except OSError as error:
        found["absent"] = type(error).__name__
    found["drives"] = {letter: host.drive_kind(f"{letter}:\\") for letter in "CQ"}
found["unexpected"] = sorted(found["unexpected"])
print(json.dumps(found))
