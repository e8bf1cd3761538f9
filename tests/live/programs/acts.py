"""Acts on a host of the control-manager family, from within, through its own interfaces: a list of them in a JSON file, one answer each."""

from __future__ import annotations

import json
import sys
import time
import winreg

import pywintypes
import win32service as api

SERVICES = r"SYSTEM\CurrentControlSet\Services"
ALL = api.SERVICE_ALL_ACCESS


def manager():
    return api.OpenSCManager(None, None, api.SC_MANAGER_ALL_ACCESS)


def create(name, command, start=3, needs=(), shown_as="", account=None, kind=16, group=None):
    handle = api.CreateService(
        manager(), name, shown_as or name, ALL, kind, start, 1, command, group, 0, list(needs) or None, account, None
    )
    api.CloseServiceHandle(handle)


def change(name, start=api.SERVICE_NO_CHANGE, command=None, needs=None):
    handle = api.OpenService(manager(), name, ALL)
    api.ChangeServiceConfig(
        handle, api.SERVICE_NO_CHANGE, start, api.SERVICE_NO_CHANGE, command, None, 0, needs, None, None, None
    )
    api.CloseServiceHandle(handle)


def start(name, wait=True):
    handle = api.OpenService(manager(), name, ALL)
    try:
        api.StartService(handle, None)
    except pywintypes.error as error:
        return error.winerror
    for _ in range(100 if wait else 0):
        if api.QueryServiceStatus(handle)[1] != api.SERVICE_START_PENDING:
            break
        time.sleep(0.05)
    return 0


def send(name, code):
    handle = api.OpenService(manager(), name, ALL)
    try:
        api.ControlService(handle, code)
    except pywintypes.error as error:
        return error.winerror
    for _ in range(60):
        if api.QueryServiceStatus(handle)[1] in (1, 4, 7):
            break
        time.sleep(0.05)
    return 0


def stop(name):
    return send(name, api.SERVICE_CONTROL_STOP)


def pause(name):
    return send(name, api.SERVICE_CONTROL_PAUSE)


def remove(name):
    api.DeleteService(api.OpenService(manager(), name, ALL))


def status(name):
    return list(api.QueryServiceStatusEx(api.OpenService(manager(), name, ALL)).values())[1:]


def states():
    found = api.EnumServicesStatusEx(manager(), api.SERVICE_WIN32, api.SERVICE_STATE_ALL)
    return {one["ServiceName"]: one["CurrentState"] for one in found}


def put(path, name, data, kind):
    with winreg.CreateKeyEx(winreg.HKEY_LOCAL_MACHINE, path, 0, winreg.KEY_ALL_ACCESS) as key:
        winreg.SetValueEx(key, name, 0, kind, bytes.fromhex(data) if kind == winreg.REG_BINARY else data)


def drop(path, name):
    with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, path, 0, winreg.KEY_ALL_ACCESS) as key:
        winreg.DeleteValue(key, name)


def kill(name):
    import win32api

    process = api.QueryServiceStatusEx(api.OpenService(manager(), name, ALL))["ProcessId"]
    win32api.TerminateProcess(win32api.OpenProcess(1, False, process), 9)
    time.sleep(0.3)


def below(path=SERVICES):
    """Every value below a key, with its type: what has to be the same after everything was taken back."""
    found = {}
    with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, path) as key:
        keys, values, _ = winreg.QueryInfoKey(key)
        for at in range(values):
            name, data, kind = winreg.EnumValue(key, at)
            found[f"{path}:{name}"] = [data.hex() if isinstance(data, bytes) else data, kind]
        names = [winreg.EnumKey(key, at) for at in range(keys)]
    for name in names:
        found |= below(rf"{path}\{name}")
    return found


def main():
    with open(sys.argv[1], encoding="utf-8") as file:
        acts = json.load(file)
    answers = []
    for name, *words in acts:
        given = words.pop() if words and isinstance(words[-1], dict) else {}
        try:
            answers.append(globals()[name](*words, **given))
        except (pywintypes.error, OSError) as error:
            answers.append({"error": getattr(error, "winerror", 0), "says": str(error)})
    print(json.dumps(answers))


if __name__ == "__main__":
    main()
