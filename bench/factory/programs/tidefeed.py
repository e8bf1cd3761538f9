#!/usr/bin/python3
"""Feeds tide tables; fails with a trace of calls, as many small programs do."""

import argparse
import fcntl
import http.server
import logging
import sqlite3


def settings(path):
    known = {"listen", "data", "log", "lock", "workers", "mode"}
    found = {}
    with open(path) as lines:
        for number, line in enumerate(lines, 1):
            line = line.split("#")[0].strip()
            if not line:
                continue
            key, sign, value = line.partition("=")
            if not sign or key.strip() not in known:
                raise ValueError(f"{path}, line {number}: unknown setting {key.strip()!r}")
            found[key.strip()] = value.strip()
    found["workers"] = int(found["workers"])
    if found["workers"] > 64:
        raise ValueError(f"{path}: workers must be between 1 and 64")
    return found


options = argparse.ArgumentParser()
options.add_argument("--config", required=True)
conf = settings(options.parse_args().config)
logging.basicConfig(filename=conf["log"], level=logging.INFO, format="%(asctime)s %(levelname)s %(message)s")
lock = open(conf["lock"], "w")
fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
store = sqlite3.connect(conf["data"])
store.execute("create table if not exists tide (at text, height real)")
store.commit()
host, _, port = conf["listen"].rpartition(":")
server = http.server.ThreadingHTTPServer((host, int(port)), http.server.SimpleHTTPRequestHandler)
logging.info("ready on %s", conf["listen"])
server.serve_forever()
