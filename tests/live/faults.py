"""Faults put into a real host: what is done, what is asked, what has to be named, and where."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

UNITS = "/etc/systemd/system"


@dataclass(frozen=True)
class Fault:
    """One fault (or a pair): a script that puts it in, and the answer that is right."""

    name: str
    script: str
    target: str
    cause: str
    place: str
    also: tuple[tuple[str, str], ...] = ()
    """Further causes with their places that have to be named too."""
    boots: tuple[str, ...] = ("nginx", "redis-server", "memcached")
    """Daemons that start at boot, of all that are installed."""


def unit(name: str, body: str, head: str = "", install: bool = True) -> str:
    """Shell words that write a unit file. *body* is the [Service] section, *head* the [Unit] section."""
    text = f"[Unit]\nDescription=Ferry desk {name}\n{head}\n"
    if body:
        text += f"[Service]\n{body}\n"
    if install:
        text += "[Install]\nWantedBy=multi-user.target\n"
    return f"cat > {UNITS}/{name} <<'UNIT'\n{text}UNIT\n"


SLEEP = "ExecStart=/bin/sleep infinity"
RELOAD = "systemctl daemon-reload\n"


def start(*names: str) -> str:
    """Shell words that try to start units and do not mind if that fails."""
    return "".join(f"systemctl start {name} 2>/dev/null || true\n" for name in names)


def chain(*names: str) -> str:
    """Units that each hard-need the next and start after it; the last is a service that exists already."""
    text = ""
    for upper, lower in itertools.pairwise(names):
        text += unit(upper, SLEEP, f"Requires={lower}\nAfter={lower}")
    return text + RELOAD


FAULTS = [
    Fault(
        "masked, asked directly",
        "systemctl stop redis-server; systemctl mask redis-server",
        "redis-server", "disabled", "redis-server.service",
    ),
    Fault(
        "masked, one link down",
        chain("boarding-a.service", "redis-server.service") + "systemctl stop redis-server; systemctl mask redis-server\n"
        + start("boarding-a"),
        "boarding-a", "disabled", "redis-server.service",
    ),
    Fault(
        "masked, three links down",
        chain("gate-a.service", "gate-b.service", "gate-c.service", "memcached.service")
        + "systemctl stop memcached; systemctl mask memcached\n" + start("gate-a"),
        "gate-a", "disabled", "memcached.service",
    ),
    Fault(
        "a need that is not registered",
        unit("lamp.service", SLEEP, "Requires=beacon-light.service\nAfter=beacon-light.service") + RELOAD + start("lamp"),
        "lamp", "not-registered", "beacon-light.service",
    ),
    Fault(
        "a need that is not registered, two links down",
        unit("horn.service", SLEEP, "Requires=ngnix.service\nAfter=ngnix.service")
        + chain("horn-top.service", "horn.service") + start("horn-top"),
        "horn-top", "not-registered", "ngnix.service",
    ),
    Fault(
        "a loop of needs and order",
        unit("tide-a.service", SLEEP, "Requires=tide-b.service\nAfter=tide-b.service")
        + unit("tide-b.service", SLEEP, "Requires=tide-c.service\nAfter=tide-c.service")
        + unit("tide-c.service", SLEEP, "Requires=tide-a.service\nAfter=tide-a.service") + RELOAD + start("tide-a"),
        "tide-a", "dependency-cycle", "*",
    ),
    Fault(
        "a clash between two services",
        unit("ramp-day.service", SLEEP, "Conflicts=ramp-night.service") + unit("ramp-night.service", SLEEP) + RELOAD
        + "systemctl start ramp-day; sleep 0.2; systemctl start ramp-night",
        "ramp-day", "stopped-by-conflict", "ramp-day.service",
    ),
    Fault(
        "a clash that the other side declares",
        unit("quay-e.service", SLEEP) + unit("quay-w.service", SLEEP, "Conflicts=quay-e.service") + RELOAD
        + "systemctl start quay-e; sleep 0.2; systemctl start quay-w",
        "quay-e", "stopped-by-conflict", "quay-e.service",
    ),
    Fault("stopped by hand", "systemctl stop nginx", "nginx", "stopped", "nginx.service"),
    Fault(
        "stopped by hand, two links down",
        chain("desk-a.service", "desk-b.service", "memcached.service")
        + "systemctl start desk-a; sleep 0.3; systemctl stop memcached",
        "desk-a", "stopped", "memcached.service",
    ),
    Fault(
        "not enabled and never started",
        unit("ticket.service", SLEEP) + RELOAD,
        "ticket", "manual-not-started", "ticket.service",
    ),
    Fault(
        "enabled after boot, never started",
        unit("ticket-new.service", SLEEP) + RELOAD + "systemctl enable ticket-new",
        "ticket-new", "never-started", "ticket-new.service",
    ),
    Fault(
        "program missing",
        unit("crew.service", "ExecStart=/opt/crew/bin/crewd --serve") + RELOAD + start("crew"),
        "crew", "program-missing", "crew.service",
    ),
    Fault(
        "program missing, one link down, with restarts",
        unit("crew-low.service", "ExecStart=/opt/crew/bin/crewd\nRestart=always\nRestartSec=200ms")
        + chain("crew-top.service", "crew-low.service") + start("crew-top") + "sleep 2",
        "crew-top", "program-missing", "crew-low.service",
    ),
    Fault(
        "a real daemon's program gone",
        "mkdir -p /etc/systemd/system/memcached.service.d\n"
        "printf '[Service]\\nExecStart=\\nExecStart=/usr/lib/memcached/memcachedd -p 11211\\n' "
        "> /etc/systemd/system/memcached.service.d/x.conf\n" + RELOAD + "systemctl restart memcached || true\nsleep 0.5",
        "memcached", "program-missing", "memcached.service",
    ),
    Fault(
        "program without the right to be run",
        "printf '#!/bin/sh\\nsleep 100\\n' > /usr/local/bin/wharf; chmod 0644 /usr/local/bin/wharf\n"
        + unit("wharf.service", "ExecStart=/usr/local/bin/wharf") + RELOAD + start("wharf"),
        "wharf", "program-not-executable", "wharf.service",
    ),
    Fault(
        "program of another machine",
        "cp /bin/sleep /usr/local/bin/winch; printf '\\xb7' | dd of=/usr/local/bin/winch bs=1 seek=18 conv=notrunc 2>/dev/null\n"
        + unit("winch.service", "ExecStart=/usr/local/bin/winch 100") + RELOAD + start("winch"),
        "winch", "wrong-program-format", "winch.service",
    ),
    Fault(
        "interpreter missing",
        "printf '#!/opt/none/python\\n' > /usr/local/bin/crane; chmod 0755 /usr/local/bin/crane\n"
        + unit("crane.service", "ExecStart=/usr/local/bin/crane") + RELOAD + start("crane"),
        "crane", "program-missing", "crane.service",
    ),
    Fault(
        "account missing",
        unit("purser.service", SLEEP + "\nUser=purserd") + RELOAD + start("purser"),
        "purser", "account-missing", "purser.service",
    ),
    Fault(
        "group missing, two links down",
        unit("mate-low.service", SLEEP + "\nGroup=nogrp") + chain("mate-top.service", "mate-mid.service", "mate-low.service")
        + start("mate-top"),
        "mate-top", "account-missing", "mate-low.service",
    ),
    Fault(
        "a real daemon's account gone",
        "systemctl stop redis-server; userdel redis\nsystemctl start redis-server || true",
        "redis-server", "account-missing", "redis-server.service",
    ),
    Fault(
        "working folder missing",
        unit("cargo.service", SLEEP + "\nWorkingDirectory=/srv/cargo/today") + RELOAD + start("cargo"),
        "cargo", "workdir-missing", "cargo.service",
    ),
    Fault(
        "start condition not met",
        unit("radar.service", SLEEP, "ConditionPathExists=/etc/radar/enabled") + RELOAD
        + "systemctl enable radar\n" + start("radar"),
        "radar", "condition-unmet", "radar.service",
    ),
    Fault(
        "start condition not met, not enabled, so that the manager forgets the try",
        unit("sounder.service", SLEEP, "ConditionPathExists=/etc/sounder.on") + RELOAD + start("sounder"),
        "sounder", "condition-unmet", "sounder.service",
    ),
    Fault(
        "an assertion not met, one link down",
        unit("plumb.service", SLEEP, "AssertPathIsDirectory=/srv/plumb") + chain("plumb-top.service", "plumb.service") + start("plumb-top"),
        "plumb-top", "condition-unmet", "plumb.service",
    ),
    Fault(
        "disabled and stopped",
        "systemctl disable --now memcached", "memcached", "manual-not-started", "memcached.service",
    ),
    Fault(
        "the program before the main one is missing",
        unit("prep.service", "ExecStartPre=/opt/prep/check\n" + SLEEP) + RELOAD + start("prep"),
        "prep", "program-missing", "prep.service",
    ),
    Fault(
        "a step that tests for what is not there, and definitions read anew since, over which the manager forgets how it ended",
        unit("sound.service", "ExecStartPre=/usr/bin/test -d /srv/sound/depths\n" + SLEEP) + RELOAD + start("sound") + RELOAD,
        "sound", "path-missing", "sound.service",
    ),
    Fault(
        "its own PID file left over, and words that tell only the number in it",
        "mkdir -p /opt/dory; printf '#!/bin/sh\nread n < /run/dory.pid && echo \"already running as process $n\" && exit 1\n"
        "exec sleep infinity\n' > /opt/dory/run; chmod 0755 /opt/dory/run; (sh -c 'echo $$ > /run/dory.pid')\n"
        + unit("dory.service", "ExecStart=/opt/dory/run") + RELOAD + start("dory"),
        "dory", "stale-lock", "dory.service",
    ),
    Fault(
        "a flag keeps everybody from changing its file",
        "mkdir -p /var/lib/ballast; touch /var/lib/ballast/state; chattr +i /var/lib/ballast/state\n"
        + unit("ballast.service", "ExecStart=/bin/sh -c 'echo 1 >> /var/lib/ballast/state && exec sleep infinity'") + RELOAD + start("ballast"),
        "ballast", "access-denied", "ballast.service",
    ),
    Fault(
        "a folder stands where its settings are to be",
        "mkdir -p /etc/hawser.conf\n"
        + unit("hawser.service", "ExecStart=/bin/sh -c 'cat /etc/hawser.conf && exec sleep infinity'") + RELOAD + start("hawser"),
        "hawser", "path-missing", "hawser.service",
    ),
    Fault(
        "an instance whose condition names its own file",
        unit("berth@.service", SLEEP, "ConditionPathExists=/etc/berth/%i.conf") + RELOAD + "mkdir /etc/berth; touch /etc/berth/1.conf\n"
        + start("berth@2"),
        "berth@2", "instance-config-missing", "berth@2.service",
    ),
    Fault(
        "a running daemon goes by an old definition",
        "mkdir -p /etc/systemd/system/memcached.service.d\n"
        "printf '[Service]\\nNice=5\\n' > /etc/systemd/system/memcached.service.d/nice.conf\nsleep 0.2",
        "memcached", "stale-definition", "memcached.service",
    ),
    Fault(
        "definition changed on disk, not reloaded",
        unit("log.service", "ExecStart=/opt/none/logbook") + RELOAD + start("log")
        + "sleep 1.1\n" + unit("log.service", SLEEP),
        "log", "stale-definition", "log.service",
    ),
    Fault(
        "definition refused",
        unit("fog.service", "Type=simple\nUser=nobody") + RELOAD + start("fog"),
        "fog", "bad-definition", "fog.service",
    ),
    Fault(
        "definition refused, one link down",
        unit("mist.service", "ExecStart=relative/path") + chain("mist-top.service", "mist.service") + start("mist-top"),
        "mist-top", "bad-definition", "mist.service",
    ),
    Fault(
        "instance without its file",
        "mkdir -p /etc/redis; cp /etc/redis/redis.conf /etc/redis/redis-north.conf\n" + start("redis-server@south"),
        "redis-server@south", "instance-config-missing", "redis-server@south.service",
    ),
    Fault(
        "a template without its argument",
        "true", "redis-server@", "not-registered", "redis-server@.service",
    ),
    Fault(
        "an environment file missing",
        unit("stow.service", SLEEP + "\nEnvironmentFile=/etc/stow/env") + RELOAD + start("stow"),
        "stow", "path-missing", "stow.service",
    ),
    Fault(
        "a configuration file missing, named by the log",
        "mv /etc/nginx/mime.types /etc/nginx/mime.types.old; systemctl restart nginx || true",
        "nginx", "path-missing", "nginx.service",
    ),
    Fault(
        "configuration refused",
        "echo 'berth_color blue;' >> /etc/nginx/nginx.conf; systemctl restart nginx || true",
        "nginx", "config-rejected", "nginx.service",
    ),
    Fault(
        "restart loop without a known reason",
        unit("pump.service", "ExecStart=/bin/sh -c 'sleep 0.3; exit 7'\nRestart=always\nRestartSec=100ms",
             "StartLimitIntervalSec=0") + RELOAD + start("pump") + "sleep 3",
        "pump", "crash-loop", "pump.service",
    ),
    Fault(
        "restart loop that is barred in the end",
        unit("pump-b.service", "ExecStart=/bin/sh -c 'exit 9'\nRestart=on-failure\nRestartSec=50ms") + RELOAD
        + start("pump-b") + "sleep 2",
        "pump-b", "crash-loop", "pump-b.service",
    ),
    Fault(
        "a file system that cannot be mounted",
        f"cat > {UNITS}/srv-hold.mount <<'UNIT'\n[Mount]\nWhat=/var/lib/hold.img\nWhere=/srv/hold\nType=ext4\nUNIT\n"
        + unit("hold.service", SLEEP, "RequiresMountsFor=/srv/hold") + RELOAD + start("hold"),
        "hold", "mount-failed", "srv-hold.mount",
    ),
    Fault(
        "a device that is not there",
        unit("sonar.service", SLEEP, "BindsTo=dev-sonar0.device\nAfter=dev-sonar0.device\nJobTimeoutSec=1") + RELOAD
        + "timeout 5 systemctl start sonar || true",
        "sonar", "device-missing", "dev-sonar0.device",
    ),
    Fault(
        "a socket that is not started",
        unit("chart.service", SLEEP, install=False)
        + f"printf '[Socket]\\nListenStream=/run/chart.sock\\n[Install]\\nWantedBy=sockets.target\\n' > {UNITS}/chart.socket\n"
        + RELOAD,
        "chart.service", "manual-not-started", "chart.socket",
    ),
    Fault(
        "two independent causes",
        unit("twin-a.service", "ExecStart=/opt/none/a") + unit("twin-b.service", SLEEP + "\nUser=nobody2")
        + unit("twin.service", SLEEP, "Requires=twin-a.service twin-b.service\nAfter=twin-a.service twin-b.service")
        + RELOAD + start("twin-a", "twin-b", "twin"),
        "twin", "program-missing", "twin-a.service", (("account-missing", "twin-b.service"),),
    ),
    Fault(
        "killed by a signal",
        unit("bell.service", SLEEP) + RELOAD + "systemctl start bell; sleep 0.2; systemctl kill -s KILL bell; sleep 0.3",
        "bell", "killed", "bell.service",
    ),
    Fault(
        "ends at once",
        unit("flare.service", "ExecStart=/bin/true") + RELOAD + "systemctl start flare; sleep 0.3",
        "flare", "exits-at-once", "flare.service",
    ),
    Fault(
        "start takes longer than its limit",
        unit("slow.service", "Type=notify\nNotifyAccess=all\nTimeoutStartSec=1s\n"
             "ExecStart=/bin/sh -c 'sleep 5; systemd-notify --ready; exec sleep infinity'") + RELOAD + start("slow"),
        "slow", "start-timeout", "slow.service",
    ),
    Fault(
        "a program that cannot report that it is up",
        unit("mute.service", "Type=notify\nTimeoutStartSec=2s\nExecStart=/bin/sleep 1000") + RELOAD + start("mute"),
        "mute", "never-reports", "mute.service",
    ),
    Fault(
        "started again after a try that took too long",
        unit("mutter.service", "Type=notify\nExecStart=/bin/sleep 1000\nTimeoutStartSec=8\nRestart=on-failure\nRestartSec=100ms") + RELOAD
        + "systemctl start --no-block mutter; sleep 9",
        "mutter", "never-reports", "mutter.service",
    ),
    Fault(
        "a web server's port is held by another service",
        "systemctl stop nginx\n" + unit("squatter.service", "ExecStart=/usr/bin/python3 -m http.server 80") + RELOAD
        + "systemctl start squatter; sleep 0.7; systemctl start nginx || true",
        "nginx", "port-held", "nginx.service",
    ),
    Fault(
        "a cache's port is held by a stranger's process",
        "systemctl stop redis-server; (setsid /usr/bin/python3 -m http.server 6379 >/dev/null 2>&1 &) ; sleep 0.7\n"
        "systemctl start redis-server || true; sleep 0.5",
        "redis-server", "port-held", "redis-server.service",
    ),
    Fault(
        "port held, one link down",
        "systemctl stop memcached; (setsid /usr/bin/python3 -m http.server 11211 >/dev/null 2>&1 &) ; sleep 0.7\n"
        + chain("desk-p.service", "memcached.service") + start("desk-p") + "sleep 1; systemctl start desk-p; sleep 0.5",
        "memcached", "port-held", "memcached.service",
    ),
    Fault(
        "an address that no adapter has, said in the program's own log only",
        "sed -i 's/^bind .*/bind 10.9.8.7/' /etc/redis/redis.conf; systemctl restart redis-server || true; sleep 0.5",
        "redis-server", "address-missing", "redis-server.service",
    ),
    Fault(
        "an address that no adapter has",
        "sed -i 's/listen 80 default_server/listen 10.9.8.7:80 default_server/' /etc/nginx/sites-enabled/default\n"
        "systemctl restart nginx || true",
        "nginx", "address-missing", "nginx.service",
    ),
    Fault(
        "a port that the account may not take",
        unit("lowport.service", "ExecStart=/usr/bin/python3 -c \"import socket,sys; s=socket.socket()\\ntry: s.bind(('0.0.0.0', 443))"
             "\\nexcept OSError as e: sys.exit('cannot bind 0.0.0.0:443: ' + e.strerror)\"\nUser=nobody") + RELOAD + start("lowport") + "sleep 0.4",
        "lowport", "port-forbidden", "lowport.service",
    ),
    Fault(
        "data folder that the account may not write",
        "systemctl stop redis-server; chown root:root /var/lib/redis; chmod 0700 /var/lib/redis; systemctl start redis-server || true; sleep 0.5",
        "redis-server", "access-denied", "redis-server.service",
    ),
    Fault(
        "configuration that the account may not read",
        "install -m 0600 /dev/null /etc/manifest.conf\n"
        + unit("manifest.service", "ExecStart=/bin/cat /etc/manifest.conf\nUser=nobody") + RELOAD + start("manifest") + "sleep 0.3",
        "manifest", "access-denied", "manifest.service",
    ),
    Fault(
        "a folder on the way keeps the account out, one link down",
        "mkdir -p /srv/deck/low; echo x > /srv/deck/low/plan; chmod 0700 /srv/deck\n"
        + unit("deck.service", "Type=oneshot\nRemainAfterExit=yes\nExecStart=/bin/cat /srv/deck/low/plan\nReadWritePaths=/srv/deck\nUser=nobody")
        + chain("deck-top.service", "deck.service") + start("deck-top"),
        "deck-top", "access-denied", "deck.service",
    ),
    Fault(
        "confined so that it cannot write",
        unit("scribe.service", "ExecStart=/bin/sh -c 'echo x > /var/lib/scribe.log || exit 4'\nProtectSystem=strict") + RELOAD
        + start("scribe") + "sleep 0.3",
        "scribe", "access-denied", "scribe.service",
    ),
    Fault(
        "disk full",
        "mkdir -p /srv/small; mount -t tmpfs -o size=64k tmpfs /srv/small; dd if=/dev/zero of=/srv/small/fill bs=1k count=100 2>/dev/null\n"
        + unit("stowage.service", "ExecStart=/bin/dd if=/dev/zero of=/srv/small/log bs=1k count=10") + RELOAD + start("stowage") + "sleep 0.3",
        "stowage", "disk-full", "stowage.service",
    ),
    Fault(
        "lock held by another service",
        unit("keeper.service", "ExecStart=/usr/bin/flock /run/bridge.lock /bin/sleep infinity")
        + unit("bridge.service", "ExecStart=/bin/sh -c 'flock -n /run/bridge.lock true || { echo /run/bridge.lock: already running; exit 1; }'")
        + RELOAD + "systemctl start keeper; sleep 0.4\n" + start("bridge") + "sleep 0.3",
        "bridge", "lock-held", "bridge.service",
    ),
    Fault(
        "a PID file left behind",
        "echo 999999 > /run/oar.pid\n"
        + unit("oar.service", "ExecStart=/bin/sh -c 'test -e /run/oar.pid && { echo PID file /run/oar.pid exists, already running; exit 1; }'")
        + RELOAD + start("oar") + "sleep 0.3",
        "oar", "stale-lock", "oar.service",
    ),
    Fault(
        "an undeclared need: it only waits for what is masked, and cannot reach it",
        "systemctl disable --now memcached; systemctl mask memcached\n"
        + unit("lean.service", "ExecStart=/bin/sh -c 'echo connect to 127.0.0.1:11211 failed: Connection refused; exit 1'",
               "Wants=memcached.service\nAfter=memcached.service") + RELOAD + start("lean") + "sleep 0.3",
        "lean", "disabled", "memcached.service",
    ),
    Fault(
        "a shared library missing",
        "cp /usr/bin/memcached /usr/local/bin/mc; cd /usr/lib/x86_64-linux-gnu && mv libevent-2.1.so.7 /root/\n"
        "systemctl restart memcached || true; sleep 0.3",
        "memcached", "path-missing", "memcached.service",
    ),
]  # fmt: skip
