//! Ways through daemons on small hosts, as the real daemons chose them (`cargo xtask routes` asks them in
//! bulk).
use super::{End, Files, Request, Route};
use crate::accounts::account;
use crate::kinds::{Instance, kind};
use crate::snapshot::Snapshot;
use crate::tests::TextHost;

fn files() -> TextHost {
    TextHost::new()
        .file("/srv/www/index.html", "x")
        .file("/srv/www/a/x.txt", "x")
        .file("/srv/www/a/b/index.html", "x")
        .owned("/srv/www/secret.txt", 0o600, 0)
        .dir("/srv/www/empty", 0o755, 0)
        .dir("/srv/www/closed", 0o700, 0)
        .file("/srv/www/closed/x.txt", "x")
        .dir("/var/log/nginx", 0o755, 0)
}

#[track_caller]
fn way(host: &TextHost, name: &str, config: &str, asked: &str) -> Route {
    let host = host.clone().file(config_of(name), config);
    let snapshot = Snapshot::new(&host);
    let who = account(&snapshot, "www-data").seen();
    let instance = Instance { config: config_of(name).to_owned(), ..Instance::default() };
    let (host_name, target) = asked.split_once(' ').unwrap();
    let loopback = std::net::Ipv4Addr::LOCALHOST.into();
    let request = Request {
        address: loopback,
        port: 8088,
        client: loopback,
        tls: false,
        host: host_name.to_owned(),
        target: target.to_owned(),
        agent: "test".to_owned(),
    };
    let files = Files::new(&snapshot, who.as_ref());
    kind(name).unwrap().route(&instance, &files, &request).unwrap()
}

fn config_of(name: &str) -> &'static str {
    match name {
        "nginx" => "/etc/nginx/nginx.conf",
        "haproxy" => "/etc/haproxy/haproxy.cfg",
        _ => "/etc/httpd/conf/httpd.conf",
    }
}

/// The end in one line: what, and the line of the place.
fn told(route: &Route) -> String {
    let end = match &route.end {
        End::File { path } => format!("file {path}"),
        End::Listing { path } => format!("list {path}"),
        End::Missing { path } => format!("missing {path}"),
        End::Unreadable { path } => format!("unreadable {path}"),
        End::NoIndex { path, .. } => format!("no index {path}"),
        End::Pass(pass) => {
            let target = pass.target.as_deref().or(pass.script.as_deref()).unwrap_or("");
            format!("pass {} {target}", pass.to)
        }
        End::Answer { location, .. } => format!("answer {}", location.as_deref().unwrap_or("-")),
        End::Denied { .. } => "denied".to_owned(),
        End::Handler { name, .. } => format!("handler {name}"),
        End::Override { place, .. } => format!("override {place}"),
        End::Circle => "circle".to_owned(),
        End::Undecided { what, .. } => format!("undecided {what}"),
    };
    let line = route.place.as_ref().map_or(0, |p| p.line);
    format!("{} {end} @{line}", route.status.unwrap_or(0))
}

const NGINX: &str = "user www-data;
events { }
http {
map $arg_s $shape { default flat; deep deep; }
upstream group { server 127.0.0.1:9; }
server { listen 8088; server_name front.example *.front.example ~^t(?<rest>.*)\\.example$; root /srv/www;
location / { try_files $uri $uri/ @named; }
location = /exact { return 204; }
location ^~ /a/ { autoindex on; }
location ~ \\.txt$ { return 403; }
location ~* ^/PASS/(.*)$ { proxy_pass http://group; }
location /behind/ { proxy_pass http://group/x/; proxy_set_header Host $host; }
location /php { fastcgi_param SCRIPT_FILENAME $document_root$uri; fastcgi_pass unix:/run/php.sock; }
location /r { rewrite ^/r/(.*)$ /a/$1?k=1 last; if ($shape = deep) { return 418; } }
location /shut { deny all; error_page 403 =404 /index.html; }
location /login { auth_basic x; }
location /only { internal; }
location /round { rewrite ^ /round last; }
location @named { return 410; }
}
server { listen 8088 default_server; server_name other.example; location / { alias /srv/www/a/; } }
}
";

#[test]
fn nginx_chooses_as_it_does() {
    for (asked, expected) in [
        ("front.example /", "200 file /srv/www/index.html @7"),
        ("front.example /none", "410 answer - @19"),
        ("front.example /exact", "204 answer - @8"),
        ("front.example /a/x.txt", "200 file /srv/www/a/x.txt @9"),
        ("front.example /a/", "200 list /srv/www/a/ @9"),
        ("front.example /a", "301 answer /a/ @7"),
        ("front.example /x.txt", "403 answer - @10"),
        ("a.front.example /pass/q?z", "0 pass group /pass/q?z @11"),
        ("front.example /behind/q?z", "0 pass group /x/q?z @12"),
        ("front.example /behind", "301 answer /behind/ @12"),
        ("front.example /php/i", "0 pass unix:/run/php.sock /srv/www/php/i @13"),
        ("front.example /r/x.txt", "403 answer - @10"),
        ("front.example /r/b/", "200 file /srv/www/a/b/index.html @9"),
        ("front.example /r?s=deep", "418 answer - @14"),
        ("front.example /shut", "404 file /srv/www/index.html @7"),
        ("front.example /login", "401 denied @16"),
        ("front.example /only", "404 denied @17"),
        ("front.example /round", "500 circle @18"),
        ("tide.example /secret.txt", "403 answer - @10"),
        ("nobody.example /x.txt", "200 file /srv/www/a/x.txt @21"),
        ("front.example /%zz", "400 undecided the path, which is malformed @0"),
    ] {
        let route = way(&files(), "nginx", NGINX, asked);
        assert_eq!(told(&route), expected, "{asked}");
    }
    let route = way(&files(), "nginx", NGINX, "front.example /shut");
    assert!(matches!(route.because, Some((403, _))), "the rule that denied it is not forgotten");
}

const HTTPD: &str = "ServerRoot /etc/httpd
LoadModule dir_module modules/mod_dir.so
LoadModule alias_module modules/mod_alias.so
LoadModule authz_core_module modules/mod_authz_core.so
LoadModule autoindex_module modules/mod_autoindex.so
LoadModule rewrite_module modules/mod_rewrite.so
LoadModule proxy_module modules/mod_proxy.so
LoadModule proxy_fcgi_module modules/mod_proxy_fcgi.so
Listen 8088
User www-data
DocumentRoot /srv/www
<Directory />
Require all denied
</Directory>
<Directory /srv/www>
Require all granted
AllowOverride FileInfo
</Directory>
<VirtualHost *:8088>
ServerName front.example
Alias /other /srv/www/a
ProxyPass /api/shut !
ProxyPass /api http://127.0.0.1:9/x
Redirect permanent /old http://gull.example/new
<Location /shut>
Require all denied
</Location>
<FilesMatch \\.php$>
SetHandler \"proxy:unix:/run/php.sock|fcgi://localhost\"
</FilesMatch>
<Directory /srv/www/a>
Options +Indexes
</Directory>
ErrorDocument 403 /index.html
</VirtualHost>
<VirtualHost *:8088>
ServerName rules.example
RewriteEngine On
RewriteCond %{QUERY_STRING} go
RewriteRule ^/r/(.*)$ /a/$1 [L]
RewriteRule ^/gone - [G]
</VirtualHost>
";

#[test]
fn httpd_chooses_as_it_does() {
    let host = files().file("/srv/www/x.php", "x").file("/srv/www/over/x.txt", "x");
    let over = |text: &str| host.clone().file("/srv/www/over/.htaccess", text);
    for (asked, expected) in [
        ("front.example /", "200 file /srv/www/index.html @15"),
        ("front.example /a", "301 answer /a/ @31"),
        ("front.example /a/", "200 list /srv/www/a @31"),
        ("front.example /other/x.txt", "200 file /srv/www/a/x.txt @31"),
        ("front.example /empty/", "403 file /srv/www/index.html @15"),
        ("front.example /none", "404 missing /srv/www/none @15"),
        ("front.example /api/q?z", "0 pass 127.0.0.1:9 /x/q?z @19"),
        ("front.example /api/shut", "404 missing /srv/www/api/shut @15"),
        ("front.example /old/q", "301 answer http://gull.example/new/q @19"),
        ("front.example /shut", "403 file /srv/www/index.html @15"),
        ("front.example /x.php", "0 pass unix:/run/php.sock /srv/www/x.php @28"),
        ("rules.example /r/x.txt?go", "200 file /srv/www/a/x.txt @15"),
        ("rules.example /r/x.txt", "404 missing /srv/www/r/x.txt @15"),
        ("rules.example /gone", "410 answer - @36"),
        ("nobody.example /old", "301 answer http://gull.example/new @19"),
    ] {
        let route = way(&host, "httpd", HTTPD, asked);
        assert_eq!(told(&route), expected, "{asked}");
    }
    for (text, expected) in [
        ("# nothing\n", "200 file /srv/www/over/x.txt @15"),
        ("TideGauge on\n", "500 override /srv/www/over/.htaccess:1 @19"),
        ("\nRequire all denied\n", "500 override /srv/www/over/.htaccess:2 @19"),
        ("<IfModule mod_none.c>\nTideGauge on\n</IfModule>\n", "200 file /srv/www/over/x.txt @15"),
        ("RewriteEngine On\nRewriteRule x\\.txt /a/x.txt [L]\n", "200 file /srv/www/a/x.txt @31"),
        ("RewriteEngine On\nRewriteRule .* - [F]\n", "403 file /srv/www/index.html @15"),
    ] {
        let line = told(&way(&over(text), "httpd", HTTPD, "front.example /over/x.txt"));
        assert_eq!(line, expected, "{text}");
    }
    let silent = HTTPD.replace("AllowOverride FileInfo\n", "");
    let line = told(&way(&over("ErrorDocument 404 /x\n"), "httpd", &silent, "front.example /over/x.txt"));
    assert!(line.starts_with("500 override"), "where nothing is said to be allowed, nothing is: {line}");
}

const HAPROXY: &str = "defaults
    mode http
    default_backend pages
frontend quay
    bind *:8088
    acl book path_beg /book /tickets
    acl book hdr(host) -i book.example
    acl inside src 10.0.0.0/8
    http-request deny deny_status 429 if { path /flood }
    http-request return status 200 content-type text/plain string ok if { path /alive }
    http-request redirect scheme https code 301 if { path_beg /tls } !inside
    http-request set-path /moved if { path /old }
    redirect prefix http://other.example if { path_dir away }
    use_backend book if book
    use_backend none if { path /none }
    use_backend %[req.hdr(x-tide)] if { path /unknown }
    use_backend pages if { req.hdr(x-tide) ebb } { path /header }
backend book
    http-request deny if { path_end .php }
    server one 127.0.0.1:8081 check
    server two 127.0.0.1:8082 backup
backend pages
    server one 127.0.0.1:8080
backend none
";

#[test]
fn haproxy_chooses_a_backend_by_its_lists() {
    for (asked, wanted) in [
        ("quay.example /", "0 pass pages / @22"),
        ("quay.example /book/1?tide=ebb", "0 pass book /book/1?tide=ebb @18"),
        ("BOOK.example /x", "0 pass book /x @18"),
        ("quay.example /book/x.php", "403 denied @18"),
        ("quay.example /flood", "429 denied @4"),
        ("quay.example /alive", "200 answer - @4"),
        ("quay.example /tls/a?x", "301 answer https://quay.example/tls/a?x @4"),
        ("quay.example /old", "0 pass pages /moved @22"),
        ("quay.example /far/away/x", "302 answer http://other.example/far/away/x @4"),
        ("quay.example /none", "503 answer - @24"),
        ("quay.example /unknown", "0 undecided which backend a sample names @4"),
        ("quay.example /header", "0 undecided whether the condition of use_backend holds @4"),
    ] {
        assert_eq!(told(&way(&files(), "haproxy", HAPROXY, asked)), wanted, "{asked}");
    }
    let book = way(&files(), "haproxy", HAPROXY, "quay.example /book");
    let End::Pass(pass) = book.end else { panic!("{:?}", book.end) };
    let ports: Vec<(u16, bool)> = pass.members.iter().map(|m| (m.listen.port, m.spare)).collect();
    assert_eq!(ports, [(8081, false), (8082, true)]);
}
