"""The services that are broken: packages of the distribution of all kinds, and in-house programs in several languages.

Each stands in one of two halves. While rules are being grown on one, nobody looks into the answers about the other. A third part was
met last, and looked into only after it had been measured blind twice; a fourth was met after observed starts had been built.
"""

from __future__ import annotations

from pathlib import Path

import msgspec

from bench.factory import registries

PROGRAMS = Path(__file__).with_name("programs")


class Daemon(msgspec.Struct, frozen=True):
    """One service that can be broken."""

    unit: str
    half: str
    """``a`` or ``b``; ``c``: a third part, met after all rules had been grown; broken blind twice before anybody looked into it.
    ``d``: met after observed starts had been built."""
    kind: str
    prepare: str = ""
    """Shell words without which the package does not start on a throwaway host."""
    settle: float = 1.0
    """Seconds that it takes from "up" to all of its sockets."""
    own: str = ""
    """File of an in-house program."""

    @property
    def name(self) -> str:
        """Its unit without the suffix."""
        return self.unit.removesuffix(".service")


def _packaged(half: str, kind: str, *units: str) -> list[Daemon]:
    return [Daemon(f"{unit}.service", half, kind) for unit in units]


_OWN = (  # program, half, how the manager runs it
    ("tidefeed.py", "a"), ("gangway.pl", "a"), ("foghorn.sh", "a"), ("lantern.php", "a"), ("anchorwatch.c", "a"),
    ("berthlog.py", "b"), ("manifest.rb", "b"), ("purser.bash", "b"), ("wake.js", "b"), ("sounder.lua", "b"),
)  # fmt: skip


def _own(file: str, half: str) -> Daemon:
    name = file.partition(".")[0]
    return Daemon(f"{name}.service", half, f"in-house, {file.rpartition('.')[2]}", own=file)


_MET_AFTER_ALL = """
    openvpn kamailio uwsgi-emperor uwsgi h2o caddy yaws epmd nullmailer courier-authdaemon courier-imap courier-imap-ssl spamd rspamd
    clamav-daemon opendmarc postgrey policyd-weight postfwd trafficserver ocserv strongswan-starter ksmbd wsdd wsdd2 avahi-daemon
    mdnsd miniupnpd uuidd nut-server smartmontools lldpad firebird3.0 rabbitmq-server gearman-job-server nsca xrdp-sesman xrdp
    jabberd-router jabberd-sm ejabberd webhook sshguard fail2ban knockd nfs-ganesha atftpd apt-cacher-ng dnsproxy yadifa dnss stubby
    nscd sssd krb5-kdc krb5-admin-server inetd prometheus-redis-exporter prometheus-mysqld-exporter prometheus-nginx-exporter
    prometheus-bind-exporter prometheus-haproxy-exporter prometheus-postgres-exporter prometheus-snmp-exporter prometheus-apache-
    exporter carbon-cache netdata minetest-server tinc frr keepalived conntrackd icegridregistry shairport-sync gerbera lircd
    triggerhappy brltty acpid irqbalance rngd thermald watchdog p910nd aide
    """.split()  # noqa: SIM905 - a list of words is read as one
"""Some do not start on a throwaway host, and drop out."""
_MET_AT_THE_END = """
    apcupsd argus arpwatch auditd biboumi boinc-client cf-execd cf-monitord cf-serverd crossfire-server cups-browsed faxq ganglia-monitor
    glusterd gmetad hfaxd hostapd iiod ircd-irc2 kea-ctrl-agent kea-dhcp-ddns-server kea-dhcp6-server kresd@1 munge nfacctd nghttpx
    oddjobd pcscd pmacctd sfacctd uacctd pptpd prometheus-ipmi-exporter prometheus-pgbouncer-exporter prometheus-process-exporter
    prometheus-smokeping-prober prometheus-sql-exporter prometheus-squid-exporter prometheus-varnish-exporter quasselcore radsecproxy radvd
    rasdaemon rbldnsd redis-sentinel saned slurmctld smokeping snapserver snmptrapd softflowd supervisor teeworlds-server tgt tuned usbmuxd
    victoria-metrics webdis zabbix-server znc babeld dictd olsrd vtun xl2tpd dibbler-server pen pound maradns repro rwhod udhcpd dhcp-helper
    """.split()  # noqa: SIM905 - a list of words is read as one
"""The fifth part, and the same of them."""
_MET_AFTER_THE_END = """
    ample anope axfrdns bgplgd binkd bip boxbackup-server c-icap canid carbon-c-relay chasquid conserver-server coredhcp-server corosync
    courier-pop courier-pop-ssl curvedns deluge-web deluged direvent dnscache docker-registry e2guardian endlessh etcd-discovery exabgp
    fcgiwrap ffproxy fort fwknop-server glacier2router glances glewlwyd gnunet gobgpd greetd greylistd groonga-httpd heartbeat incron
    iodined iperf3 irker irkerd irtt janus jetty9 knxd lcdproc lsh-server lyskom-server mailfromd mailutils-imap4d mandos memlockd
    minissdpd miredo monopd moosefs-master mopidy motion mtail mtpolicyd ngtcp2d nrpe-ng nsca-ng-server nutcracker onak openbgpd openhpid
    opentracker orthanc owhttpd owserver pagekite perdition pgpool2 pgqd policyd-rate-limit poolcounter postfix-mta-sts-resolver postsrsd
    powerman prads prometheus-elasticsearch-exporter prometheus-exporter-exporter prometheus-mqtt-exporter pushpin pygopherd
    rtpengine-daemon serf sks sks-recon smartdns smcroute sndiod snowflake-proxy softether-vpnserver spampd stayrtr strongswan
    syncplay-server syncthing-discosrv syncthing-relaysrv systemd-journal-gatewayd systemd-journal-remote systemd-journal-upload
    systemd-resolved tarantool taskd tcsd tinydns tomcat10 trojan uftp uhub unscd v2ray vdr walldns weborf wesnoth-1.16-server xymon
    xymon-client yggdrasil yrmcds zabbix-agent2 zabbix-proxy ziproxy zurl
    """.split()  # noqa: SIM905 - a list of words is read as one
"""The sixth part."""

_MET_LATEST = """
    all-knowing-dns amavis aminer ampr-ripd apertium-apy armagetronad-dedicated arpon autofs avahi-dnsconfd bacula-director bacula-fd
    bacula-sd batmand bdii bdii-slapd bibledit-cloud bosixnet-daemon buildbot burp burrow bzflag certmonger clamav-freshclam clamsmtp
    clickhouse-server conman containerd corosync-qnetd cubemap dbeacon ddclient dhcpy6d dhtnode dkimpy-milter dlt-daemon
    dns-flood-detector downtimed eb_proxy_knuth_b eb_server_egd eb_server_linux_kernel eb_server_timers entropybroker epoptes fapolicyd
    filetea firewalld gammu-smsd garagemq gcpegg glance-api goiardi golang-redoctober gpm gssproxy htpdate hugo-mx-gateway i2pd isnsd
    localslackirc lttng-sessiond mailgraph mailutils-comsatd mailutils-pop3d mimedefang mimedefang-multiplexor mon monitorix
    moosefs-cgiserv moosefs-chunkserver moosefs-metalogger morty mpdscribble multipathd myproxy-server natlog networkd-dispatcher nfdump
    nohang octorpki omniorb-nameserver onionbalance openarena-server opendnssec-signer openiked openvswitch-switch osmo-bsc osmo-ggsn
    osmo-hlr osmo-mgw osmo-msc osmo-sgsn osmo-stp ovn-central ovn-northd ovn-ovsdb-server-nb ovs-vswitchd ovsdb-server pacemaker
    partimaged radium rasplit
    """.split()  # noqa: SIM905 - a list of words is read as one
"""The seventh part."""

_MET_LAST_OF_ALL = """
    ModemManager NetworkManager accounts-daemon amavis-mc amavisd-snmp-subagent atop atopacct backuppc bandwidthd binfmt-support
    bip-config bird6 bluetooth bolt cockpit colord connman dicod dundee fastnetmon fever flamethrower galileo-daemon geoclue gfsd
    globus-gridftp-server globus-gridftp-sshftp groonga-server-gqtp groonga-server-http ha_cluster_exporter icingadb iipsrv imapproxy
    inn2 inputlirc iscsid iscsiuio iwd ixfrdist jitterentropy json2file-go kamailio-homer kgb-bot krb5-kpropd l2tpns lava-coordinator
    lbcd ldirectord lemonldap-ng-fastcgi-server liblemonldap-ng-handler-perl libvirt-guests libvirtd lxcfs mailman3 mptcp nextepc-hss
    nextepc-pgw nfs-idmapd nfs-mountd nfsdcld nodm nohang-desktop numad ofono onionprobe oomd oor opengnb opensm osmo-gtphub osspd
    ovn-ovsdb-server-sb owftpd patroni pimd pkcsslotd pnopaste pokerth-server power-profiles-daemon prelude-manager
    prometheus-bird-exporter prometheus-homeplug-exporter prometheus-libvirt-exporter prometheus-mongodb-exporter
    prometheus-nextcloud-exporter prometheus-tplink-plug-exporter proxsmtp puppetserver qrtr-ns rawdns rbldns realmd remotetrx
    restorecond robustirc-bridge rpc-statd rtkit-daemon rtsp-server-perl schleuder-api-daemon seatd sec shibd sinfo slurmdbd sms4you
    soapyremote-server softether-vpnbridge spacenavd spice-webdavd svxreflector swapspace switcheroo-control syncache syslog-ng
    systemd-importd systemd-machined systemd-portabled tcmu-runner tpm2-abrmd tryton-server tuptime twms udisks2 ufoai-server
    umtp-responder unicorn upower usbguard usbguard-dbus vanguards veyon virtlockd virtlogd vrfydmn wdm winbind wpa_supplicant
    x2gobroker-daemon yaskkserv yppasswdd ypserv ypxfrd zabbix-java-gateway zfs-fuse
    """.split()  # noqa: SIM905 - a list of words is read as one
"""The eighth part."""

_MET_AT_LAST = """
    2ping alertmanager-irc-relay aodh-notifier apacheds aptly-api ara-server arc-arex arc-arex-ws arc-datadelivery-service arched balboa
    barbican-api bettercap biglybtd bluealsa bluealsa-aplay booth-arbitrator bootparamd bosixnet-webui ceilometer-polling certspotter charon
    cinder-scheduler cni-dhcp comitup comitup-web conmux corosync-notifyd corosync-qdevice courier-ldap crowdsec ctdb cyrus-imapd
    davmail-server debiman-auxserver debug-me designate-mdns designate-sink direwolf dirsrv-snmp dm-event docker dqcache fence_virtd fio
    fprintd freezer-scheduler fusioninventory-agent fwlogwatch fwupd g15daemon garb garbd gfmd globus-gatekeeper gnocchi-api gnocchi-metricd
    gnocchi-statsd gnupg-pkcs11-scd-proxy google-guest-agent group-admin-daemon hd-idle hddemux heat-engine hfd-service icinga2
    iio-sensor-proxy infnoise input-remapper-daemon ipmidetectd ipmiseld ipp-usb ipsec ironic-inspector isatapd isnsdd iwatch iwpmd
    jupyterhub keystone kxd lava-dispatcher-host lava-docker-worker lcd4linux ledmon libervia-pubsub logid low-memory-monitor lprint lsm
    lvm2-lvmdbusd lvm2-lvmpolld lvmlockd lxc-monitord magnum-conductor mailman3-web manila-scheduler masakari-engine mcollective mcstrans
    mender-client mistral-engine mpd-sima munin-async murano-engine neutron-dhcp-agent neutron-rpc-server nextcloud-spreed-signaling
    nextepc-mme nextepc-pcrf nextepc-sgw nftlb nix-daemon notus-scanner nova-conductor nss-tlsd nut-client nut-monitor obsdeltastore
    obsdispatcher obsdodup obspublisher obsrepserver obsservice obssigner obssrcserver obswarden octavia-driver-agent omnidb-server opa-fm
    openafs-client openafs-fileserver opendnssec-enforcer openqa-gru openqa-livehandler openqa-scheduler openqa-slirpvde openqa-vde_switch
    openqa-websockets openqa-webui openqa-worker-cacheservice openqa-worker-cacheservice-minion opensnitch osmo-bts osmo-pcu osmo-trx
    ovn-controller ovn-ic pcs_snmp_agent pcsd pcsd-ruby pdudaemon pesign pgcluu pgcluu_collectd pglistener placement-api pmcd pmfind pmie
    pmie_check pmie_daily pmie_farm pmie_farm_check pmlogger pmlogger_check pmlogger_daily pmlogger_farm pmlogger_farm_check pmproxy pollen
    portmap powa-collector prelude-correlator prelude-lml prometheus-frr-exporter prometheus-openstack-exporter prometheus-xmpp-alerts
    ps-watcher psad puppet puppetdb qemu-guest-agent quotarpc radioclk rapiddiskd ratbagd rauc razerd rdma-ndd renderd repowerd rpc-gssd
    rpc-svcgssd rt5-fcgi rtpengine rtpengine-recording rtpengine-recording-daemon rtpengine-recording-nfs-mount sahara-engine sanlock sbws
    scanbd sdkserver senlin-engine shoelaces sia sidedoor slurmd slurmrestd snapclient snmptt softether-vpnclient sogo soundmodem
    speech-dispatcherd spice-vdagent spice-vdagentd sqwebmail sssd-autofs sssd-ifp sssd-kcm sssd-nss sssd-pam sssd-ssh sssd-sudo
    stenographer svxlink swift-account swift-account-auditor swift-account-reaper swift-account-replicator swift-container
    swift-container-auditor swift-container-reconciler swift-container-replicator swift-container-sharder swift-container-sync
    swift-container-updater swift-object swift-object-auditor swift-object-reconstructor swift-object-replicator swift-object-updater
    swift-proxy sympa sympa-archived sympa-bounced sympa-bulk sympa-task_manager sympasoap sysprof2 sysprof3 systemd-homed systemd-userdbd
    targetclid thinkfan tids timekpr timemaster tirex-backend-manager tirex-master trove-conductor trust_router tt-rss urfkill usbrelayd
    vip-manager vitrage-graph w1retap watcher-applier wdmd wwsympa x2goserver xpra ypbind zabbix-web-service zaqar-server
    """.split()  # noqa: SIM905 - a list of words is read as one
"""The ninth part."""

_MET_WHEN_ALL_OTHERS_WERE = """
    apache-htcacheclean autosuspend barbican-keystone-listener barbican-worker caddy-api ceilometer-agent-notification ceph-crash
    cinder-backup ckb-next-daemon cloudkitty-processor consolation courier courier-msa courier-mta courier-mta-ssl courierfilter dachs
    designate-agent dnssec-triggerd epoptes-client freezer-api icegridnode jabberd-c2s jabberd-s2s kres-cache-gc ladvd lircmd logd
    magnum-api manila-share masakari-host-monitor masakari-process-monitor mistral-executor murano-agent neutron-metadata-agent
    nfs-ganesha-lock ocsinventory-agent octavia-health-manager openbsd-inetd opennds ovn-ovsdb-server-ic-nb ovn-ovsdb-server-ic-sb
    pacemaker_remote packagekit polkit rpc-statd-notify sahara-api senlin-conductor slinkwatch trove-taskmanager
    ukui-media-control-mute-led unattended-upgrades watcher-decision-engine x2gobroker-authservice x2gobroker-loadchecker
    """.split()  # noqa: SIM905 - a list of words is read as one
"""The tenth part."""

DAEMONS: list[Daemon] = [
    *_packaged("a", "web", "nginx", "lighttpd", "hitch"),
    *_packaged("b", "web", "apache2", "mini-httpd", "php8.2-fpm"),
    *_packaged("a", "database", "redis-server", "mariadb", "influxdb", "etcd"),
    *_packaged("b", "database", "postgresql@15-main", "memcached", "slapd", "pgbouncer"),
    *_packaged("a", "proxy", "haproxy", "squid", "privoxy", "sslh", "rinetd"),
    *_packaged("b", "proxy", "tinyproxy", "varnish", "danted", "stunnel4", "shadowsocks-libev", "tor@default"),
    *_packaged("a", "names", "named", "nsd", "pdns"),
    *_packaged("b", "names", "unbound", "dnsmasq", "pdns-recursor", "knot", "gdnsd"),
    *_packaged("a", "mail", "dovecot", "opendkim"),
    *_packaged("b", "mail", "postfix@-"),
    *_packaged("a", "messages", "mosquitto", "ngircd", "mumble-server", "nats-server"),
    *_packaged("b", "messages", "beanstalkd", "prosody", "ircd-hybrid", "inspircd"),
    *_packaged("a", "files", "vsftpd", "smbd"),
    *_packaged("b", "files", "proftpd", "pure-ftpd", "tftpd-hpa", "rsync"),
    *_packaged("a", "network", "freeradius", "coturn", "ssh"),
    *_packaged("b", "network", "snmpd", "kea-dhcp4-server", "bird", "lldpd"),
    *_packaged("a", "watching", "prometheus", "prometheus-node-exporter", "prometheus-pushgateway"),
    *_packaged("b", "watching", "prometheus-alertmanager", "prometheus-blackbox-exporter", "vnstat"),
    *_packaged("a", "host", "cups", "cron", "radicale"),
    *_packaged("b", "host", "atd", "rsyslog", "xinetd", "icecast2", "mpd"),
    *_packaged(
        "c",
        "met last",
        "dropbear",
        "chrony",
        "transmission-daemon",
        "bitlbee",
        "oidentd",
        "ulogd2",
        "munin-node",
        "collectd",
    ),
    *_packaged(
        "c",
        "met last",
        "zabbix-agent",
        "nagios-nrpe-server",
        "monit",
        "sniproxy",
        "dnsdist",
        "nbd-server",
        "distcc",
        "uptimed",
    ),
    *_packaged("c", "met last", "haveged", "rpcbind", "redsocks", "ser2net", "gpsd", "earlyoom", "minidlna"),
    *_packaged("d", "met after all others", *_MET_AFTER_ALL),
    *_packaged("e", "met at the end", *_MET_AT_THE_END),
    *_packaged("f", "met after the end", *_MET_AFTER_THE_END),
    *_packaged("g", "met latest", *_MET_LATEST),
    *_packaged("h", "met last of all", *_MET_LAST_OF_ALL),
    *_packaged("i", "met at last", *_MET_AT_LAST),
    *_packaged("j", "met when all others were", *_MET_WHEN_ALL_OTHERS_WERE),
    *(
        Daemon(f"{name}.service", each.get("part", "k"), "from a registry", settle=each.get("settle", 4))
        for name, each in registries.LISTED.items()
    ),
    *(_own(file, half) for file, half in _OWN),
]


def install(daemon: Daemon, into: Path) -> None:
    """Put an in-house program with its unit, settings and folders where a host finds it when it boots (see ``RealHost``)."""
    import shutil
    import subprocess

    into.chmod(0o755)  # it becomes the root folder of the host
    name, folder = daemon.name, into / "opt" / daemon.name
    folder.mkdir(parents=True)
    source = PROGRAMS / daemon.own
    if source.suffix == ".c":
        subprocess.run(["gcc", "-O1", "-o", folder / name, source], check=True)
    else:
        shutil.copy(source, folder / name)
    (folder / name).chmod(0o755)
    number = 7400 + sorted(file for file, _ in _OWN).index(daemon.own)
    settings = into / "etc" / name
    settings.mkdir(parents=True)
    (settings / f"{name}.conf").write_text(
        f"# settings of {name}\nlisten = 127.0.0.1:{number}\ndata = /var/lib/{name}/state.db\n"
        f"log = /var/log/{name}/{name}.log\nlock = /run/{name}.lock\nworkers = 4\nmode = fast\n"
    )
    units = into / "etc/systemd/system"
    units.mkdir(parents=True)
    (units / daemon.unit).write_text(
        f"[Unit]\nDescription=Ferry desk {name}\nAfter=network.target\n[Service]\nUser={name}\nGroup={name}\n"
        f"ExecStartPre=+/bin/sh -c 'touch /run/{name}.lock; chown {name} /run/{name}.lock'\n"
        f"ExecStart=/opt/{name}/{name} --config /etc/{name}/{name}.conf\n"
        "[Install]\nWantedBy=multi-user.target\n"
    )
    # The accounts and folders are made on the host, by its own tools.


def prepared(daemon: Daemon) -> str:
    """Shell words that make the daemon fit for a first start."""
    if not daemon.own:
        return daemon.prepare
    name = daemon.name
    return (
        f"getent passwd {name} >/dev/null || useradd --system --home-dir /var/lib/{name} {name}\n"
        f"install -d -o {name} -g {name} /var/lib/{name} /var/log/{name}\n"
        f"systemctl daemon-reload; systemctl enable --quiet {name}\n"
    )
