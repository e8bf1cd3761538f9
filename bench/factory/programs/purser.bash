#!/bin/bash
# Keeps the accounts aboard: a wrapper that starts the real program and adds a closing sentence of its own.
set -u
log() { echo "[$(date +%T)] purser: $*"; }
log "purser is getting ready"
python3 - "$@" <<'PY'
import fcntl, socket, sys
def main(path):
    conf = dict(map(str.strip, l.split("=", 1)) for l in open(path) if "=" in l)
    for key in conf:
        if key not in "listen data log lock workers mode".split():
            raise KeyError("unsupported setting " + key)
    assert 0 < int(conf["workers"]) <= 64, "workers out of bounds"
    print("purser aboard", file=open(conf["log"], "a"))
    lock = open(conf["lock"], "r+"); fcntl.lockf(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    open(conf["data"], "a").write("x")
    s = socket.socket(); s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    host, _, port = conf["listen"].rpartition(":")
    s.bind((host, int(port))); s.listen()
    while True: s.accept()
main(sys.argv[2])
PY
status=$?
log "purser stopped (status $status), good bye"
exit 1
