"""Gives the service manager behind a TCP port all orders that hands know, and says in JSON what came of each."""

import json
import sys
import threading

from impacket.dcerpc.v5 import transport

from hollow_chain.reach.control import Declined, EntrySettings
from hollow_chain.reach.rpc.database import RpcDatabase
from hollow_chain.reach.rpc.manager import RpcManager
from hollow_chain.reach.rpc.session import Pipe, Session

PROGRAM = r"C:\opt\berth.exe"


class OverTcp(Session):
    """A session whose one pipe is a TCP connection."""

    def __init__(self, port):
        self._lock, self.asked, self.is_open, self.address = threading.RLock(), 0, True, "the relay"
        self._port = port

    def pipe(self, name, interface):
        talk = transport.DCERPCTransportFactory(f"ncacn_ip_tcp:127.0.0.1[{self._port}]").get_dce_rpc()
        talk.connect()
        talk.bind(interface)
        return Pipe(self, talk)


def number(function, *given):
    try:
        function(*given)
    except Declined as declined:
        return declined.number
    return 0


def entry(command, needs=(), startup="manual", account="LocalSystem"):
    return EntrySettings(command, "Ferry desk", "Sells tickets", account, startup, list(needs))


database = RpcDatabase(OverTcp(int(sys.argv[1])))
manager = RpcManager(database)
found = {"all rights": database.has_all_rights}
manager.create("FerryDesk", entry(f"{PROGRAM} --name FerryDesk", ["Eventlog"]))
found["listed"] = [one.name for one in database.statuses() if one.name == "FerryDesk"]
found["processes"] = {one.name for one in database.statuses() if one.process} != set()
found["config"] = list(database.config("FerryDesk"))
found["started"] = manager.start("FerryDesk")._asdict()
found["paused"] = number(manager.pause, "FerryDesk")
found["stopped"] = manager.stop("FerryDesk").state
manager.set_startup("FerryDesk", "automatic")
found["startup"] = database.config("FerryDesk").startup
manager.set_start_number("FerryDesk", 4)
found["disabled"] = number(manager.start, "FerryDesk")
manager.set_start_number("FerryDesk", 3)
manager.set_needs("FerryDesk", ["Eventlog", "RpcSs"])
manager.set_needs("FerryDesk", [])
found["no need"] = manager.start("FerryDesk").state
manager.stop("FerryDesk")
manager.set_account("FerryDesk", "LocalService")
manager.set_failure_actions("FerryDesk", [(1, 1000), (0, 0)], 86_400)
found["account"] = database.config("FerryDesk").account
manager.configure("FerryDesk", entry(r"C:\opt\nowhere.exe", account=""))
found["absent"] = number(manager.start, "FerryDesk")
found["events"] = number(manager.set_events, "FerryDesk", [])
found["unknown"] = number(manager.start, "Nowhere")
manager.delete("FerryDesk")
found["deleted"] = number(database.config, "FerryDesk")
print(json.dumps(found))
