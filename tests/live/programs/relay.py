"""Carries remote calls between TCP connections and a named pipe of this machine: ``relay.py PORT PIPE``.

Calls over a pipe and over TCP are the same bytes ([C706], 12.6.4): of each message the head says how long it is.
"""

from __future__ import annotations

import socket
import struct
import sys
import threading

import pywintypes
import win32file
import win32pipe

HEAD = 16
REQUEST, BIND, ALTER = 0, 11, 14
LAST = 2
MORE_DATA = 234


def exactly(caller, count):
    data = b""
    while len(data) < count:
        some = caller.recv(count - len(data))
        if not some:
            return None
        data += some
    return data


def length(data):
    return struct.unpack_from("<H", data, 8)[0] if len(data) >= HEAD else HEAD


def answer(pipe):
    data = b""
    while len(data) < length(data):
        try:
            data += win32file.ReadFile(pipe, 65_536)[1]
        except pywintypes.error as error:
            if error.winerror != MORE_DATA:
                raise
    return data


def carry(caller, name):
    both = win32file.GENERIC_READ | win32file.GENERIC_WRITE
    pipe = win32file.CreateFile(name, both, 0, None, win32file.OPEN_EXISTING, 0, None)
    win32pipe.SetNamedPipeHandleState(pipe, win32pipe.PIPE_READMODE_MESSAGE, None, None)
    while (head := exactly(caller, HEAD)) is not None:
        win32file.WriteFile(pipe, head + exactly(caller, length(head) - HEAD))
        if head[2] not in (REQUEST, BIND, ALTER) or not head[3] & LAST:
            continue
        while True:
            data = answer(pipe)
            caller.sendall(data)
            if data[3] & LAST:
                break
    pipe.Close()
    caller.close()


desk = socket.socket()
desk.bind(("127.0.0.1", int(sys.argv[1])))
desk.listen()
print("up", flush=True)
while True:
    threading.Thread(target=carry, args=(desk.accept()[0], sys.argv[2]), daemon=True).start()
