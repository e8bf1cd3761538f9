"""Faults put into real daemons as the distribution packages them: nothing in the program knows any of them by name."""

from __future__ import annotations

from tests.live.faults import RELOAD, SLEEP, Fault, chain, start, unit

SQUAT = """(setsid python3 -m http.server {0} --bind {1} >/dev/null 2>&1 &)
for i in $(seq 100); do ss -Hltn 'sport = :{0}' | grep -qF '{2}' && break; sleep 0.1; done
"""


def squat(port: int, address: str = "0.0.0.0") -> str:
    """Shell words that put a stranger's process on a port, and wait until it is there."""
    return SQUAT.format(port, address, {"::": "*:", "::1": "[::1]:"}.get(address, f"{address}:"))


def again(name: str, wait: float = 0.5) -> str:
    """Shell words that restart a daemon and give it a moment."""
    return f"systemctl restart {name} || true\nsleep {wait}\n"


def drop_in(name: str, text: str) -> str:
    """Shell words that add to a daemon's definition."""
    folder = f"/etc/systemd/system/{name}.service.d"
    return f"mkdir -p {folder}; cat > {folder}/z.conf <<'UNIT'\n{text}\nUNIT\n" + RELOAD


def _fault(daemon: str, name: str, script: str, cause: str, place: str = "", target: str = "", also=(), boots=()):  # type: ignore[no-untyped-def]
    where = place or (daemon if "@" in daemon else f"{daemon}.service")
    return Fault(f"{daemon}: {name}", script, target or daemon, cause, where, also, (daemon.partition("@")[0], *boots))


PG = "postgresql@15-main"
PG_CONF = "/etc/postgresql/15/main/postgresql.conf"

DAEMON_FAULTS = [
    # web servers
    _fault("nginx", "certificate file missing",
           "printf 'server { listen 8443 ssl; ssl_certificate /etc/ssl/ferry.crt; ssl_certificate_key /etc/ssl/ferry.key; }' "
           "> /etc/nginx/conf.d/ferry.conf\n" + again("nginx"), "path-missing"),
    _fault("nginx", "log folder gone", "systemctl stop nginx; rm -rf /var/log/nginx\n" + again("nginx"), "path-missing"),
    _fault("nginx", "brace missing", "echo 'server { listen 8099;' > /etc/nginx/conf.d/x.conf\n" + again("nginx"), "config-rejected"),
    _fault("nginx", "host name in its configuration unknown",
           "printf 'server { listen 8099; location / { proxy_pass http://no-such-quay:80; } }' > /etc/nginx/conf.d/x.conf\n" + again("nginx"),
           "config-rejected"),
    _fault("nginx", "held on IPv6 only", "systemctl stop nginx\n" + squat(80, "::") + again("nginx"), "port-held"),
    _fault("apache2", "port held by another daemon", "systemctl stop apache2; systemctl start nginx; sleep 0.4\n" + again("apache2"), "port-held"),
    _fault("apache2", "unknown word in the configuration", "echo 'BerthColor blue' >> /etc/apache2/apache2.conf\n" + again("apache2"),
           "config-rejected"),
    _fault("apache2", "module file gone", "rm /usr/lib/apache2/modules/mod_authz_core.so\n" + again("apache2"), "path-missing"),
    _fault("apache2", "log folder gone", "systemctl stop apache2; rm -rf /var/log/apache2\n" + again("apache2"), "path-missing"),
    _fault("apache2", "address of no adapter", "echo 'Listen 10.9.8.7:8081' >> /etc/apache2/ports.conf\n" + again("apache2"),
           "address-missing"),
    _fault("lighttpd", "port held", "systemctl stop lighttpd\n" + squat(80) + again("lighttpd", 1), "port-held"),
    _fault("lighttpd", "configuration damaged", "echo 'server.port = = 81' >> /etc/lighttpd/lighttpd.conf\n" + again("lighttpd", 1),
           "config-rejected"),
    _fault("lighttpd", "log folder not writable", "systemctl stop lighttpd; chown root:root /var/log/lighttpd; chmod 700 /var/log/lighttpd\n"
           "sed -i 's|^server.errorlog.*|server.errorlog = \"/var/log/lighttpd/none/error.log\"|' /etc/lighttpd/lighttpd.conf\n"
           + again("lighttpd", 1), "access-denied"),
    # databases
    _fault("mariadb", "port held by a stranger", "systemctl stop mariadb\n" + squat(3306) + again("mariadb", 1), "port-held"),
    _fault("mariadb", "unknown setting", "printf '[mysqld]\\nberth_depth=7\\n' > /etc/mysql/mariadb.conf.d/99-x.cnf\n" + again("mariadb", 1),
           "config-rejected"),
    _fault("mariadb", "data folder of another owner", "systemctl stop mariadb; chown -R root:root /var/lib/mysql; chmod 700 /var/lib/mysql\n"
           + again("mariadb", 1), "access-denied"),
    _fault("mariadb", "data held by a second copy",
           "systemctl stop mariadb; install -d -o mysql /run/mysqld\n"
           "(setsid setpriv --reuid=mysql --clear-groups /usr/sbin/mariadbd --socket=/tmp/second.sock --port=3399 >/dev/null 2>&1 &); sleep 3\n"
           "timeout 60 systemctl start mariadb || true\n", "lock-held"),
    _fault("mariadb", "start limit in the wrong unit", drop_in("mariadb", "[Service]\nTimeoutStartSec=5ms") + again("mariadb", 1),
           "limit-unit-slip"),
    _fault("postgresql", "unknown setting", f"echo 'berth_depth = 7' >> {PG_CONF}\n" + again("postgresql", 1),
           "config-rejected", f"{PG}.service", f"{PG}.service"),
    _fault("postgresql", "port held", "systemctl stop postgresql\n" + squat(5432) + squat(5432, "::1") + again("postgresql", 2),
           "port-held", f"{PG}.service", f"{PG}.service"),
    _fault("postgresql", "data folder too open", "systemctl stop postgresql; chmod 0777 /var/lib/postgresql/15/main\n" + again("postgresql", 1),
           "too-open", f"{PG}.service", f"{PG}.service"),
    _fault("postgresql", "rules of access gone", f"echo \"hba_file = '/etc/postgresql/15/main/none.conf'\" >> {PG_CONF}\n" + again("postgresql", 1),
           "path-missing", f"{PG}.service", f"{PG}.service"),
    _fault("postgresql", "an application that needs the instance, two links down",
           f"echo 'shared_buffers = lots' >> {PG_CONF}\n" + again("postgresql", 1)
           + chain("berth-plan.service", "berth-store.service", f"{PG}.service") + start("berth-plan"),
           "config-rejected", f"{PG}.service", "berth-plan"),
    _fault("redis-server", "unknown setting", "echo 'berth-depth 7' >> /etc/redis/redis.conf\n" + again("redis-server"), "config-rejected"),
    _fault("redis-server", "log file not writable", "systemctl stop redis-server; chown root:root /var/log/redis /var/log/redis/*; "
           "chmod 700 /var/log/redis\n" + again("redis-server"), "access-denied"),
    _fault("redis-server", "configuration file gone", "systemctl stop redis-server; mv /etc/redis/redis.conf /root/\n" + again("redis-server"),
           "path-missing"),
    _fault("memcached", "account of its own configuration unknown", "sed -i 's/^-u .*/-u stoker/' /etc/memcached.conf\n" + again("memcached"),
           "account-missing"),
    _fault("memcached", "address of no adapter", "sed -i 's/^-l .*/-l 10.9.8.7/' /etc/memcached.conf\n" + again("memcached"), "address-missing"),
    # brokers
    _fault("mosquitto", "unknown word", "echo 'berth_depth 7' > /etc/mosquitto/conf.d/x.conf\n" + again("mosquitto"), "config-rejected"),
    _fault("mosquitto", "password file gone", "printf 'listener 1883\\npassword_file /etc/mosquitto/none\\n' > /etc/mosquitto/conf.d/x.conf\n"
           + again("mosquitto"), "path-missing"),
    _fault("mosquitto", "port held", "systemctl stop mosquitto\n" + squat(1883) + "printf 'listener 1883 0.0.0.0\\n' > /etc/mosquitto/conf.d/x.conf\n"
           + again("mosquitto"), "port-held"),
    # proxies
    _fault("haproxy", "unknown word", "echo '  berthdepth 7' >> /etc/haproxy/haproxy.cfg\n" + again("haproxy"), "config-rejected"),
    _fault("haproxy", "port held", "printf 'frontend f\\n  bind *:8088\\n' >> /etc/haproxy/haproxy.cfg\n" + squat(8088) + again("haproxy", 1),
           "port-held"),
    _fault("haproxy", "configuration gone", "rm /etc/haproxy/haproxy.cfg\n" + again("haproxy"), "path-missing"),
    _fault("squid", "unknown word", "sed -i 's/^http_port.*/http_port berth/' /etc/squid/squid.conf\n" + again("squid", 1), "config-rejected"),
    _fault("squid", "port held", "systemctl stop squid\n" + squat(3128, "::") + again("squid", 1), "port-held"),
    _fault("varnish", "program for its cache does not compile", "echo 'berth {' >> /etc/varnish/default.vcl\n" + again("varnish", 2),
           "config-rejected"),
    _fault("varnish", "port held", "systemctl stop varnish\n" + squat(6081) + squat(6081, "::") + again("varnish", 1), "port-held"),
    _fault("tinyproxy", "unknown account", "sed -i 's/^User .*/User stoker/' /etc/tinyproxy/tinyproxy.conf\n" + again("tinyproxy"),
           "account-missing"),
    _fault("tinyproxy", "port held", "systemctl stop tinyproxy\n" + squat(8888, "::") + again("tinyproxy"), "port-held"),
    # name servers
    _fault("named", "brace missing", "echo 'options {' >> /etc/bind/named.conf.local\n" + again("named"), "config-rejected"),
    _fault("named", "its configuration not readable", "systemctl stop named; chown root:root /etc/bind/named.conf.options; "
           "chmod 600 /etc/bind/named.conf.options\n" + again("named"), "access-denied"),
    _fault("dnsmasq", "port held by another name server", "systemctl stop dnsmasq; systemctl start named; sleep 1\n" + again("dnsmasq"), "port-held"),
    _fault("dnsmasq", "bad option", "echo 'berth-depth=7' >> /etc/dnsmasq.conf\n" + again("dnsmasq"), "config-rejected"),
    _fault("unbound", "unknown word", "printf 'server:\\n  berth-depth: 7\\n' > /etc/unbound/unbound.conf.d/x.conf\n" + again("unbound"),
           "config-rejected"),
    _fault("unbound", "port held", "systemctl stop unbound; systemctl start dnsmasq; sleep 0.6\n" + again("unbound"), "port-held"),
    # others
    _fault("ssh", "unknown word", "echo 'BerthDepth 7' >> /etc/ssh/sshd_config\n" + again("ssh"), "config-rejected"),
    _fault("ssh", "port held", "systemctl stop ssh\n" + squat(22, "::") + again("ssh"), "port-held"),
    _fault("prometheus-node-exporter", "unknown flag",
           "echo 'ARGS=\"--berth.depth=7\"' > /etc/default/prometheus-node-exporter\n" + again("prometheus-node-exporter"), "config-rejected"),
    _fault("prometheus-node-exporter", "port held", "systemctl stop prometheus-node-exporter\n" + squat(9100, "::")
           + again("prometheus-node-exporter"), "port-held"),
    # chains with two faults
    _fault("nginx", "two causes two links down",
           "sed -i 's/^-u .*/-u stoker/' /etc/memcached.conf\necho 'berth 7;' >> /etc/nginx/nginx.conf\n" + again("nginx") + again("memcached")
           + unit("desk.service", SLEEP, "Requires=nginx.service memcached.service\nAfter=nginx.service memcached.service")
           + chain("desk-top.service", "desk.service") + start("desk-top"),
           "config-rejected", "nginx.service", "desk-top", (("account-missing", "memcached.service"),), ("memcached",)),
    _fault("redis-server", "masked four links down",
           "systemctl stop redis-server; systemctl mask redis-server\n"
           + chain("w1.service", "w2.service", "w3.service", "w4.service", "redis-server.service") + start("w1"),
           "disabled", "redis-server.service", "w1"),
]  # fmt: skip
