#!/bin/sh
# make-pages: fronts with everything behind them. nginx on 8088 and httpd on 8081 send files and pass on to a pool of
# scripts and to a Java server; haproxy on 8000 passes on to nginx.
set -eu
systemctl stop nginx apache2 haproxy
mkdir -p /srv/front/sub /srv/front/empty /srv/tickets
echo front > /srv/front/index.html; echo tides > /srv/front/tides.txt; echo sub > /srv/front/sub/page.html
echo '<?php echo "tickets";' > /srv/tickets/index.php
rm -f /etc/nginx/sites-enabled/*
cat > /etc/nginx/sites-enabled/pages <<'X'
server {
    listen 8088;
    root /srv/front;
    location /book { fastcgi_param SCRIPT_FILENAME /srv/tickets/index.php; include fastcgi_params; fastcgi_pass unix:/run/php/php8.2-fpm.sock; }
    location /old { fastcgi_param SCRIPT_FILENAME /srv/tickets/index.php; fastcgi_pass unix:/run/php/php7.4-fpm.sock; include fastcgi_params; }
    location /java/ { proxy_pass http://127.0.0.1:8080/; }
    location /shut { deny all; }
    location /away { return 503; }
    location /round { rewrite ^ /round last; }
    location /circle { return 302 /circle; }
    location /to-tides { return 302 /tides.txt; }
}
X
a2enmod -q proxy proxy_fcgi proxy_http rewrite >/dev/null
rm -f /etc/apache2/sites-enabled/*
cat > /etc/apache2/ports.conf <<'X'
Listen 8081
X
cat > /etc/apache2/sites-enabled/pages.conf <<'X'
<VirtualHost *:8081>
    DocumentRoot /srv/front
    <Directory /srv/front>
        Require all granted
        AllowOverride FileInfo
    </Directory>
    <Directory /srv/tickets>
        Require all granted
    </Directory>
    Alias /book /srv/tickets/index.php
    <FilesMatch \.php$>
        SetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"
    </FilesMatch>
    ProxyPass /java/ http://127.0.0.1:8080/
    <Location /shut>
        Require all denied
    </Location>
</VirtualHost>
X
printf 'frontend tide\n bind :8000\n default_backend tide\nbackend tide\n server one 127.0.0.1:8088\n' >> /etc/haproxy/haproxy.cfg
systemctl reset-failed
systemctl start php8.2-fpm nginx apache2 haproxy
case " $* " in *" java "*)
    systemctl start tomcat10
    for i in $(seq 120); do curl -s -o /dev/null http://127.0.0.1:8080/ && break; sleep 0.5; done;;
esac
