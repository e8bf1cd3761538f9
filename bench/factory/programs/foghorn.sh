#!/bin/sh
# Sounds the horn; a script that checks its surroundings and complains in plain sentences.
conf=$2
[ "$1" = --config ] || { echo "foghorn: unknown option $1" >&2; exit 2; }
[ -r "$conf" ] || { echo "foghorn: cannot read $conf" >&2; exit 3; }
while IFS='=' read -r key value; do
  key=$(echo $key); value=$(echo $value)
  case $key in
    ''|'#'*) ;;
    listen|data|log|lock|workers|mode) eval "$key=\$value" ;;
    *) echo "foghorn: $conf: no such setting: $key" >&2; exit 4 ;;
  esac
done < "$conf"
[ "$workers" -le 64 ] || { echo "foghorn: $conf: workers: $workers is too many" >&2; exit 4; }
exec 9> "$lock" || exit 5
flock -n 9 || { echo "foghorn: is running already, see $lock" >&2; exit 6; }
echo started >> "$log" || { echo "foghorn: log not writable" >&2; exit 7; }
date >> "$data" || exit 8
exec python3 -c "
import socket, sys
s = socket.socket(); s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
host, _, port = sys.argv[1].rpartition(':')
try: s.bind((host, int(port)))
except (OSError, OverflowError, ValueError) as e: sys.exit('foghorn: bind failed: ' + str(e))
s.listen()
while True: s.accept()
" "$listen"
