"""Faults of the families that no packaged daemon shows by itself: order, time, accounts, locks, listeners, the host."""

from __future__ import annotations

from tests.live.faults import RELOAD, Fault, start, unit

_CALLS = (
    "import socket,sys\ntry:\n socket.create_connection((sys.argv[1], int(sys.argv[2])), 2)\n"
    "except OSError as error:\n sys.exit(f'connect to {sys.argv[1]}:{sys.argv[2]} failed: {error.strerror or error}')\n"
)
CALL = f"cat > /usr/local/bin/ferry-call <<'PY'\n{_CALLS}PY\n"


def client(address: str, port: int, head: str = "") -> str:
    """Shell words that make a unit which calls an endpoint and ends with an error where nobody answers."""
    body = f"Type=oneshot\nRemainAfterExit=yes\nExecStart=/usr/bin/python3 /usr/local/bin/ferry-call {address} {port}"
    return CALL + unit("caller.service", body, head) + RELOAD


def fault(name: str, script: str, cause: str, place: str, target: str = "", boots: tuple[str, ...] = ()) -> Fault:
    """A fault on a host where only *boots* start beside the system."""
    return Fault(name, script, target or place.partition(".")[0], cause, place, (), boots)


LOCKING = (
    "cat > /usr/local/bin/tide-lock <<'PY'\nimport fcntl,sys,time\nfile = open('/var/lib/tide/data.lock', 'a')\ntry:\n"
    " fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)\nexcept OSError as error:\n"
    " sys.exit(f'cannot lock /var/lib/tide/data.lock: {error.strerror}')\ntime.sleep(999)\nPY\nmkdir -p /var/lib/tide\n"
)
STALE = (
    "cat > /usr/local/bin/tide-pid <<'PY'\nimport os,sys,time\nplace = '/var/lib/tide/tide.pid'\nif os.path.exists(place):\n"
    " sys.exit(f'pid file {place} exists, another instance seems to be running')\nopen(place, 'w').write(str(os.getpid()))\n"
    "time.sleep(999)\nPY\nmkdir -p /var/lib/tide\n"
)

FAMILY_FAULTS = [
    # listeners
    fault("listener off: port 0, and a client beside it",
          "systemctl stop redis-server; sed -i 's/^port .*/port 0/' /etc/redis/redis.conf; echo 'unixsocket /run/redis/r.sock' >> "
          "/etc/redis/redis.conf; systemctl start redis-server; sleep 6\n"
          + client("127.0.0.1", 6379, "Requires=redis-server.service\nAfter=redis-server.service") + start("caller"),
          "listener-off", "redis-server.service", "caller", ("redis-server",)),
    fault("listener off: no network for the database, and a client that only waits for it",
          "printf '[mysqld]\\nskip-networking\\n' > /etc/mysql/mariadb.conf.d/99-x.cnf; systemctl restart mariadb; sleep 6\n"
          + client("127.0.0.1", 3306, "After=mariadb.service") + start("caller"),
          "listener-off", "mariadb.service", "caller", ("mariadb",)),
    fault("listener on loopback only, and a client that calls the host by its address",
          "ip addr add 10.71.0.9/24 dev lo; sleep 6\n"
          + client("10.71.0.9", 6379, "Wants=redis-server.service\nAfter=redis-server.service") + start("caller"),
          "listener-off", "redis-server.service", "caller", ("redis-server",)),
    # order
    fault("came first, and what it calls is up since",
          unit("slow-store.service", "ExecStart=/bin/sh -c 'sleep 2; exec python3 -m http.server 7440'")
          + client("127.0.0.1", 7440) + start("slow-store", "caller") + "sleep 3\n",
          "start-race", "caller.service"),
    fault("a device that another service has for itself alone",
          "cat > /usr/local/bin/tide-dev <<'PY'\nimport os,sys,time,errno\nif len(sys.argv) > 1:\n open('/dev/tide0','r+')\n time.sleep(999)\n"
          "sys.exit('cannot open /dev/tide0: ' + os.strerror(errno.EBUSY))\nPY\nmknod /dev/tide0 c 1 3\n"
          + unit("gauge-log.service", "ExecStart=/usr/bin/python3 -c \"import time; f = open('/dev/tide0'); time.sleep(999)\"")
          + unit("gauge.service", "ExecStart=/usr/bin/python3 /usr/local/bin/tide-dev") + RELOAD
          + start("gauge-log") + "sleep 0.5\n" + start("gauge"),
          "held-by-peer", "gauge.service"),
    # time
    fault("a limit in the wrong unit, shorter than all starts on record",
          unit("slow.service", "Type=oneshot\nRemainAfterExit=yes\nExecStart=/bin/sleep 1.2") + RELOAD
          + "systemctl restart slow; systemctl restart slow\n"
          "sed -i 's/^Type/TimeoutStartSec=30ms\\nType/' /etc/systemd/system/slow.service\n" + RELOAD + "systemctl restart slow\n",
          "limit-unit-slip", "slow.service"),
    fault("a limit that is a little too short",
          unit("slow.service", "Type=oneshot\nRemainAfterExit=yes\nTimeoutStartSec=2\nExecStart=/bin/sh -c 'sleep $(cat /srv/s)'")
          + "echo 1.5 > /srv/s\n" + RELOAD + "systemctl restart slow; systemctl restart slow; echo 4 > /srv/s; systemctl restart slow\n",
          "start-timeout", "slow.service"),
    # locks
    fault("a lock that a live stranger has",
          LOCKING + unit("tide.service", "ExecStart=/usr/bin/python3 /usr/local/bin/tide-lock") + RELOAD
          + "(setsid python3 /usr/local/bin/tide-lock >/dev/null 2>&1 &); sleep 0.5\n" + start("tide") + "sleep 0.5\n",
          "lock-held", "tide.service"),
    fault("a lock that another service has",
          LOCKING + unit("tide.service", "ExecStart=/usr/bin/python3 /usr/local/bin/tide-lock")
          + unit("tide-two.service", "ExecStart=/usr/bin/python3 /usr/local/bin/tide-lock") + RELOAD + start("tide") + "sleep 0.5\n"
          + start("tide-two") + "sleep 0.5\n",
          "lock-held", "tide-two.service"),
    fault("a PID file left by a crash",
          STALE + unit("tide.service", "ExecStart=/usr/bin/python3 /usr/local/bin/tide-pid") + RELOAD
          + "echo 99999 > /var/lib/tide/tide.pid\n" + start("tide") + "sleep 0.5\n",
          "stale-lock", "tide.service"),
    fault("a PID file whose number was given out anew",
          STALE + unit("tide.service", "ExecStart=/usr/bin/python3 /usr/local/bin/tide-pid") + RELOAD
          + "echo 1 > /var/lib/tide/tide.pid; touch -d '2020-01-01' /var/lib/tide/tide.pid\n" + start("tide") + "sleep 0.5\n",
          "stale-lock", "tide.service"),
    # accounts
    fault("an account that has expired",
          "useradd -m stoker; chage -E 2020-01-01 stoker\n"
          + unit("boiler.service", "User=stoker\nPAMName=login\nExecStart=/bin/sleep infinity") + RELOAD + start("boiler"),
          "account-barred", "boiler.service"),
    fault("an access list that leaves the account out",
          "useradd -m stoker; mkdir -p /var/lib/boiler; echo x > /var/lib/boiler/plan; chmod 600 /var/lib/boiler/plan\n"
          + unit("boiler.service", "User=stoker\nExecStart=/bin/sh -c 'cat /var/lib/boiler/plan && exec sleep infinity'") + RELOAD + start("boiler")
          + "sleep 0.4\n",
          "access-denied", "boiler.service"),
    # the host
    fault("another machine that does not answer",
          "ip route add unreachable 10.88.0.0/16\n" + client("10.88.3.4", 443) + start("caller"),
          "host-unreachable", "caller.service"),
    fault("a name that nobody knows",
          unit("caller.service", "Type=oneshot\nExecStart=/bin/sh -c 'echo \"could not resolve host: mole-99\" >&2; exit 6'") + RELOAD
          + start("caller"),
          "host-unreachable", "caller.service"),
    fault("stopped by an update and left so",
          "sleep 1; systemctl stop nginx; echo \"$(date '+%Y-%m-%d %H:%M:%S') upgrade nginx:amd64 1.22.1-9 1.22.1-9+deb12u1\" >> /var/log/dpkg.log",
          "maintenance-left-stopped", "nginx.service", "", ("nginx",)),
    fault("a certificate that is not valid yet",
          unit("seal.service", "ExecStart=/bin/sh -c 'echo \"error: certificate is not yet valid (check the clock)\" >&2; exit 1'") + RELOAD
          + start("seal") + "sleep 0.3\n",
          "clock-wrong", "seal.service"),
]  # fmt: skip
