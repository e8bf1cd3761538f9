#!/usr/bin/python3
"""Keeps the log of berths; logs in JSON, catches all errors, and says little."""

import json
import os
import socketserver
import sys
import time


def say(level, message, **more):
    print(json.dumps({"ts": time.time(), "level": level, "msg": message, **more}), flush=True)


def main(arguments):
    if len(arguments) != 2 or arguments[0] != "--config":
        say("fatal", "usage", args=arguments)
        return 64
    try:
        with open(arguments[1]) as lines:
            pairs = [line.split("=", 1) for line in lines if line.strip() and not line.startswith("#")]
        conf = {key.strip(): value.strip() for key, value in pairs}
        unknown = set(conf) - {"listen", "data", "log", "lock", "workers", "mode"}
        if unknown:
            say("fatal", "invalid configuration", file=arguments[1], error=f"unexpected key: {sorted(unknown)[0]}")
            return 78
        host, port = conf["listen"].rsplit(":", 1)
        if not 1 <= int(conf["workers"]) <= 64:
            say("fatal", "invalid configuration", file=arguments[1], error="workers: not in range 1-64")
            return 78
    except (OSError, ValueError, KeyError) as error:
        say("fatal", "cannot load configuration", file=arguments[1], error=str(error))
        return 78
    try:
        log = open(conf["log"], "a")
        held = os.open(conf["lock"], os.O_RDWR)
        os.lockf(held, os.F_TLOCK, 0)
        with open(conf["data"], "ab") as data:
            data.write(b".")
        server = socketserver.ThreadingTCPServer((host, int(port)), socketserver.StreamRequestHandler, False)
        server.allow_reuse_address = True
        server.server_bind()
        server.server_activate()
    except OSError as error:
        say("error", "startup failed", error=error.strerror, path=error.filename or "", errno=error.errno)
        return 1
    print("started", file=log, flush=True)
    say("info", "listening", addr=conf["listen"])
    server.serve_forever()


sys.exit(main(sys.argv[1:]))
