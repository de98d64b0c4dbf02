#!/bin/sh
# until-quiet UNIT: waits, ten seconds at most, until its state, its restarts and the processor time of its main process
# have stood still for 0.8 seconds: what it had to say is said, however busy the machine is.
set -eu
look() {
    now=$(systemctl show -p ActiveState,SubState,NRestarts,MainPID,Job "$1")
    pid=$(printf '%s\n' "$now" | sed -n 's/^MainPID=//p')
    printf '%s\n%s\n' "$now" "$(cut -d' ' -f14,15 "/proc/$pid/stat" 2>/dev/null || true)"
}
quiet=0
before=
for i in $(seq 100); do
    state=$(look "$1")
    if [ "$state" = "$before" ]; then quiet=$((quiet + 1)); else quiet=0; fi
    [ $quiet -ge 8 ] && exit 0
    before=$state
    sleep 0.1
done
