"""Three hosts, of both families: a kiosk, the printer that it needs on another host, and the spooler that this needs, which a server of
another make tells of over RPC."""

from __future__ import annotations

from tests.live.far_faults import PLACE, UNIT

PASSWORD = "harbor-7"
_GATE = r"""
import socket, subprocess
desk = socket.socket()
desk.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
desk.bind(("0.0.0.0", 7515))
desk.listen()
while True:
    caller, _ = desk.accept()
    words = ["net", "rpc", "service", "status", "Spooler", "-S", "127.0.0.1", "-U", "root%PASSWORD"]
    told = subprocess.run(words, capture_output=True, text=True).stdout
    caller.sendall(b"ready" if "is running" in told else b"idle")
    caller.close()
""".replace("PASSWORD", PASSWORD)
_PRINTER = r"""
import socket, sys
try:
    desk = socket.create_connection(("gate", 7515), 3)
except OSError as error:
    sys.exit(f"printer: connect to gate:7515: {error.strerror}")
if desk.recv(10) != b"ready":
    sys.exit("printer: the spooler does not take tickets")
desk = socket.socket()
desk.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
desk.bind(("0.0.0.0", 7600))
desk.listen()
while True:
    caller, _ = desk.accept()
    caller.sendall(b"paper")
    caller.close()
"""
_KIOSK = r"""
import socket, sys, time
try:
    desk = socket.create_connection(("pier", 7600), 3)
except OSError as error:
    sys.exit(f"kiosk: connect to pier:7600: {error.strerror}")
if not desk.recv(10):
    sys.exit("kiosk: the printer says nothing")
print("kiosk: open", flush=True)
while True:
    time.sleep(60)
"""
KERBEROS = f"""
cat > /etc/krb5.conf <<'END'
[libdefaults]
  default_realm = FERRY.EXAMPLE
  dns_lookup_kdc = false
  rdns = false
  dns_canonicalize_hostname = false
[realms]
  FERRY.EXAMPLE = {{
    kdc = 127.0.0.1
  }}
END
mkdir -p /etc/krb5kdc /var/lib/krb5kdc
cat > /etc/krb5kdc/kdc.conf <<'END'
[realms]
  FERRY.EXAMPLE = {{
    database_name = /var/lib/krb5kdc/principal
    key_stash_file = /etc/krb5kdc/stash
  }}
END
kdb5_util create -s -r FERRY.EXAMPLE -P {PASSWORD} >/dev/null
kadmin.local -q "addprinc -pw {PASSWORD} root" >/dev/null
kadmin.local -q "addprinc -randkey +no_auth_data_required cifs/gate" >/dev/null
kadmin.local -q "ktadd -k /etc/krb5.keytab cifs/gate" >/dev/null
systemctl start krb5-kdc
"""
TICKETS = f"echo {PASSWORD} | kinit -c FILE:/tmp/tickets root >/dev/null; kvno -c FILE:/tmp/tickets cifs/gate >/dev/null; base64 -w0 /tmp/tickets"
SAMBA = f"""
mkdir -p /srv/c/Ferry; echo 'berth 7' > /srv/c/Ferry/desk.ini; ln -s /etc /srv/c/Elsewhere
cat > /etc/samba/smb.conf <<'END'
[global]
  workgroup = FERRY
  netbios name = GATE
  realm = FERRY.EXAMPLE
  kerberos method = dedicated keytab
  dedicated keytab file = /etc/krb5.keytab
  map to guest = never
  load printers = no
  eventlog list = System Application
[C$]
  path = /srv/c
  valid users = root
  read only = no
END
printf '{PASSWORD}\\n{PASSWORD}\\n' | smbpasswd -s -a root >/dev/null
printf '{PASSWORD}\\n{PASSWORD}\\n' | smbpasswd -s -a deck >/dev/null
printf '{PASSWORD}\\n{PASSWORD}\\n' | smbpasswd -s -a support >/dev/null
systemctl restart smbd
"""
NEEDS = (
    '[[needs]]\nservice = "kiosk"\non = "quay"\nneeds = "printer"\nat = "pier"\n'
    '[[needs]]\nservice = "printer"\non = "pier"\nneeds = "Spooler"\nat = "gate"\n'
)
NAMES = ("quay", "pier", "gate")


def set_up(host: str) -> str:
    """The script that puts the service of *host* there, and starts it."""
    name, text = {"gate": ("desk", _GATE), "pier": ("printer", _PRINTER), "quay": ("kiosk", _KIOSK)}[host]
    unit = UNIT.format(about=f"{name.title()} of the ferries", name=name, more="")
    return (
        f"{KERBEROS + SAMBA if host == 'gate' else ''}\nmkdir -p {PLACE}\ncat > /opt/{name}.py <<'END'\n{text}\nEND\n"
        f"cat > {PLACE}/{name}.service <<'END'\n{unit}\nEND\nsystemctl daemon-reload; systemctl enable -q --now {name}; sleep 0.5"
    )
