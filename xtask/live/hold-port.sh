#!/bin/sh
# hold-port ADDRESS PORT [only]: a program of no service listens there for ten minutes. Comes back when it does, however
# busy the machine is. "only": of the two families, IPv6 alone.
set -eu
setsid python3 -c 'import socket, sys, time
address, port = sys.argv[1], int(sys.argv[2])
six = ":" in address
s = socket.socket(socket.AF_INET6 if six else socket.AF_INET)
s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
if six: s.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, len(sys.argv) > 3)
s.bind((address, port)); s.listen(); time.sleep(600)' "$@" >/dev/null 2>&1 </dev/null &
holder=$!
for i in $(seq 200); do
    ss -Hltnp "sport = :$2" | grep -q "pid=$holder," && exit 0
    kill -0 $holder || exit 1
    sleep 0.05
done
exit 1
