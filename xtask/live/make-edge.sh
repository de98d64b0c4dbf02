#!/bin/sh
# make-edge [LINE…]: a small nginx of its own, service "edge", account "edge", port $PORT (8088). Lines that begin with
# [Unit] settings are given as Unit:KEY=VALUE; all others belong to [Service]. What is not given gets a fitting default.
set -eu
systemctl stop nginx apache2 edge 2>/dev/null || true
id edge >/dev/null 2>&1 || useradd -r edge
mkdir -p /etc/edge /run/edge /var/log/edge /var/lib/edge
chown edge /run/edge /var/log/edge /var/lib/edge
touch /var/log/edge/error.log
chown edge /var/log/edge/error.log
chmod 755 /run/edge /var/log/edge /var/lib/edge
cat > /etc/edge/nginx.conf <<X
pid /run/edge/nginx.pid;
error_log /var/log/edge/error.log;
events { }
http {
    access_log off;
    client_body_temp_path /var/lib/edge/body; proxy_temp_path /var/lib/edge/proxy; fastcgi_temp_path /var/lib/edge/fastcgi;
    uwsgi_temp_path /var/lib/edge/uwsgi; scgi_temp_path /var/lib/edge/scgi;
    server { listen ${PORT:-8088}; location / { return 200 "edge"; } }
}
X
U=/etc/systemd/system/edge.service
echo '[Unit]' > $U
for line in "$@"; do case $line in Unit:*) printf '%s\n' "${line#Unit:}" >> $U;; esac; done
echo '[Service]' >> $U
given=" $* "
for line in "$@"; do case $line in Unit:*) ;; *) printf '%s\n' "$line" >> $U;; esac; done
case $given in *" Type="*) ;; *) echo 'Type=exec' >> $U;; esac
case $given in *" ExecStart="*) ;; *) echo 'ExecStart=/usr/sbin/nginx -c /etc/edge/nginx.conf -g "daemon off;"' >> $U;; esac
printf '[Install]\nWantedBy=multi-user.target\n' >> $U
systemctl daemon-reload
systemctl enable -q edge
systemctl start edge || true
sleep 0.6
