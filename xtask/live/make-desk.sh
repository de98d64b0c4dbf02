#!/bin/sh
# make-desk: three applications in a pool of scripts behind nginx on 8088, each with its own server of data: /sailings with
# MariaDB (settings in an environment file), /bookings with PostgreSQL (an array of PHP), /held with Redis (an INI file).
set -eu
systemctl stop nginx apache2
systemctl start mariadb php8.2-fpm
cat > /etc/postgresql/15/main/pg_hba.conf <<'X'
local all postgres peer
local all all peer
host all all 127.0.0.1/32 scram-sha-256
X
systemctl restart redis-server postgresql@15-main
rm -f /etc/nginx/sites-enabled/*
cat > /etc/nginx/sites-enabled/desk <<'X'
server {
    listen 8088;
    root /srv;
    location /sailings { fastcgi_param SCRIPT_FILENAME /srv/sailings/index.php; include fastcgi_params; fastcgi_pass unix:/run/php/php8.2-fpm.sock; }
    location /bookings { fastcgi_param SCRIPT_FILENAME /srv/bookings/index.php; include fastcgi_params; fastcgi_pass unix:/run/php/php8.2-fpm.sock; }
    location /held { fastcgi_param SCRIPT_FILENAME /srv/held/index.php; include fastcgi_params; fastcgi_pass unix:/run/php/php8.2-fpm.sock; }
}
X
mkdir -p /srv/sailings /srv/bookings/config /srv/held
cat > /srv/sailings/.env <<'X'
# Timetables and tides
DB_CONNECTION=mysql
DB_HOST=127.0.0.1
DB_PORT=3306
DB_DATABASE=sailings
DB_USERNAME=desk
DB_PASSWORD=ebb-tide-7
X
cat > /srv/sailings/index.php <<'X'
<?php
$e = parse_ini_file(__DIR__ . '/.env');
try {
    $db = new PDO("mysql:host={$e['DB_HOST']};port={$e['DB_PORT']};dbname={$e['DB_DATABASE']}", $e['DB_USERNAME'], $e['DB_PASSWORD']);
    echo $db->query('SELECT 1')->fetchColumn();
} catch (Exception $x) { http_response_code(500); echo 'no sailings'; }
X
cat > /srv/bookings/config/database.php <<'X'
<?php
return [
    'driver' => 'pgsql',
    'host' => '127.0.0.1',
    'port' => 5432,
    'database' => 'bookings',
    'username' => 'desk',
    'password' => 'flood-tide-9',
];
X
cat > /srv/bookings/index.php <<'X'
<?php
$c = require __DIR__ . '/config/database.php';
try {
    $db = new PDO("pgsql:host={$c['host']};port={$c['port']};dbname={$c['database']}", $c['username'], $c['password']);
    echo $db->query('SELECT 1')->fetchColumn();
} catch (Exception $x) { http_response_code(500); echo 'no bookings'; }
X
printf '[redis]\nhost = 127.0.0.1\nport = 6379\n' > /srv/held/config.ini
cat > /srv/held/index.php <<'X'
<?php
$c = parse_ini_file(__DIR__ . '/config.ini', true)['redis'];
$s = @fsockopen($c['host'], (int) $c['port'], $n, $t, 2);
if ($s) { fwrite($s, "GET seats\r\n"); $a = fgets($s); } else { $a = '-'; }
if ($a[0] == '-') { http_response_code(500); echo 'no seats'; } else { echo 'seats'; }
X
chmod 640 /srv/sailings/.env; chgrp www-data /srv/sailings/.env
for i in $(seq 60); do mariadb-admin ping >/dev/null 2>&1 && break; sleep 0.5; done
mariadb -e "DROP DATABASE IF EXISTS sailings; DROP USER IF EXISTS desk@'127.0.0.1', desk@'192.0.2.7'"
mariadb -e "CREATE DATABASE sailings; CREATE USER desk@'127.0.0.1' IDENTIFIED BY 'ebb-tide-7'; GRANT ALL ON sailings.* TO desk@'127.0.0.1'"
for i in $(seq 60); do runuser -u postgres -- psql -qc 'SELECT 1' >/dev/null 2>&1 && break; sleep 0.5; done
for one in 'DATABASE IF EXISTS bookings' 'DATABASE IF EXISTS bookings_old' 'ROLE IF EXISTS desk'; do
    runuser -u postgres -- psql -qc "DROP $one" 2>/dev/null
done
runuser -u postgres -- psql -qc "CREATE ROLE desk LOGIN PASSWORD 'flood-tide-9'" -c 'CREATE DATABASE bookings OWNER desk'
systemctl reset-failed
systemctl restart php8.2-fpm
systemctl start nginx
