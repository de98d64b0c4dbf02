//! Configurations of httpd by chance.
use super::{Ask, Driven, HOSTS, Out, PATHS, pick, pick_of};
use crate::chance::Chance;

pub(super) struct Httpd;

const PORTS: &[u16] = &[8101, 8102, 8103];
const NAMES: &[&str] =
    &["front.example", "www.front.example", "gull.example", "reed.example:8101", "tide.example"];
const ALIASES: &[&str] = &["*.front.example", "gull.* www.gull.example", "t?rn.example", "*"];
const OWN_HOSTS: &[&str] = &["gull.org.example", "tide.example."];
const OWN_PATHS: &[&str] = &[
    "/over/",
    "/over/x.txt",
    "/over/deep/x",
    "/link/x.txt",
    "/a/x.txt/",
    "/a/x.txt/more",
    "/apiary",
    "/old/x",
    "/old",
];
/// Modules that the configurations use.
const MODULES: &[&str] = &[
    "mpm_event",
    "authn_core",
    "authn_file",
    "authz_core",
    "authz_host",
    "authz_user",
    "auth_basic",
    "access_compat",
    "alias",
    "dir",
    "autoindex",
    "headers",
    "mime",
    "rewrite",
    "proxy",
    "proxy_http",
    "env",
    "setenvif",
];

fn rules(out: &mut Out, chance: &mut Chance) {
    if chance.below(5) == 0 {
        out.add(pick(
            chance,
            &[
                "Require all granted",
                "Require all denied",
                "Require ip 127.0.0.0/8",
                "Require ip 10",
                "Require local",
                "Require not ip 127.0.0.1\nRequire all granted",
                "<RequireAll>\nRequire all granted\nRequire not ip 10.0.0.0/8\n</RequireAll>",
                "<RequireAny>\nRequire ip 10.0.0.1\nRequire local\n</RequireAny>",
                "<RequireAll>\nRequire method GET\n<RequireNone>\nRequire ip 127.0.0.1\n</RequireNone>\n\
                    </RequireAll>",
                "AuthType Basic\nAuthName tide\nAuthUserFile /route/users\nRequire valid-user",
                "Order deny,allow\nDeny from all",
                "Order allow,deny\nAllow from all",
                "Order deny,allow\nDeny from all\nAllow from 127",
            ],
        ));
    }
}

fn common(out: &mut Out, chance: &mut Chance) {
    rules(out, chance);
    if chance.below(6) == 0 {
        out.add(pick(
            chance,
            &[
                "DirectoryIndex index.htm index.html",
                "DirectoryIndex none.html /a/index.html",
                "DirectoryIndex disabled",
                "DirectoryIndex x.txt",
                "DirectorySlash Off",
                "FallbackResource /index.html",
            ],
        ));
    }
    if chance.below(6) == 0 {
        out.add(pick(
            chance,
            &[
                "Options +Indexes",
                "Options -Indexes",
                "Options None",
                "Options Indexes FollowSymLinks",
                "Options -FollowSymLinks",
            ],
        ));
    }
    if chance.below(7) == 0 {
        out.add(pick(
            chance,
            &[
                "ErrorDocument 404 /index.html",
                "ErrorDocument 403 /b/index.html",
                "ErrorDocument 404 http://gull.example/lost",
                "ErrorDocument 404 \"lost\"",
                "ErrorDocument 403 /none",
            ],
        ));
    }
}

fn of_server(out: &mut Out, chance: &mut Chance) {
    let lines: &[&str] = &[
        "Alias /a /route/other/a",
        "Alias /img/ /route/www/img/",
        "Alias /old /route/www/none",
        "AliasMatch ^/r3/(.*)$ /route/www/a/$1",
        "Redirect /r1 http://gull.example/new",
        "Redirect permanent /longer http://gull.example",
        "Redirect gone /old",
        "RedirectMatch ^/r2(.*)$ http://gull.example/two$1",
        "RedirectMatch 410 ^/none/$",
        "ProxyPass /api http://127.0.0.1:8199",
        "ProxyPass /api/ http://127.0.0.1:8199/behind/",
        "ProxyPass /b/c !",
        "ProxyPass /b http://127.0.0.1:8199/bee",
        "ProxyPassMatch ^/api/(v[0-9]+)/(.*)$ http://127.0.0.1:8199/$1/$2",
        "ProxyPreserveHost On",
        "RewriteEngine On\nRewriteRule ^/r1$ /a/x.txt [L]",
        "RewriteEngine On\nRewriteRule ^/r3/(.*)$ /b/$1 [PT]",
        "RewriteEngine On\nRewriteRule ^/old/(.*)$ http://gull.example/$1 [R=301,L]",
        "RewriteEngine On\nRewriteCond %{HTTP_HOST} ^front [NC]\nRewriteRule ^/c /d/ [R]",
        "RewriteEngine On\nRewriteCond %{QUERY_STRING} x=1 [OR]\nRewriteCond %{HTTP_HOST} gull\n\
            RewriteRule ^/b/(.*)$ /a/$1?y=2 [QSA]",
        "RewriteEngine On\nRewriteRule ^/none - [F]",
        "RewriteEngine On\nRewriteRule ^/d - [G]",
        "RewriteEngine On\nRewriteRule ^/api(.*)$ http://127.0.0.1:8199/p$1 [P]",
        "RewriteEngine Off",
    ];
    for _ in 0..chance.below(4) {
        out.add(lines[chance.below(lines.len())]);
    }
}

fn section(out: &mut Out, chance: &mut Chance) {
    let head = match chance.below(9) {
        0 => format!(
            "<Location {}>",
            pick(chance, &["/a", "/a/", "/b", "/api", "/", "/*/b", "/none", "/over"])
        ),
        1 => format!("<LocationMatch {}>", pick(chance, &["^/a", "/b$", "\"^/(c|d)/\""])),
        2 => format!("<Location ~ {}>", pick(chance, &["^/img", "x\\.txt"])),
        3 => format!("<Files {}>", pick(chance, &["x.txt", "*.png", "index.*", "none"])),
        4 => format!("<FilesMatch {}>", pick(chance, &["\\.txt$", "^index", "\\.php$"])),
        5 => format!("<DirectoryMatch {}>", pick(chance, &["/www/a", "^/route/other", "/b$"])),
        _ => format!(
            "<Directory {}>",
            pick(
                chance,
                &["/route/www", "/route/www/a", "/route/www/*", "/route/other", "/route/www/over/", "/route"]
            )
        ),
    };
    let name = head.trim_start_matches('<').split(' ').next().unwrap_or_default().to_owned();
    out.open_with(&head, "Header always set X-Place");
    common(out, chance);
    if name == "Directory" && chance.below(3) == 0 {
        out.add(pick(
            chance,
            &["AllowOverride All", "AllowOverride None", "AllowOverride FileInfo AuthConfig"],
        ));
    }
    if name == "Directory" && chance.below(5) == 0 {
        out.add("RewriteEngine On");
        out.add(pick(
            chance,
            &[
                "RewriteRule ^r2$ /b/ [L]",
                "RewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\n\
                    RewriteRule ^ /index.html [L]",
                "RewriteRule ^x\\.txt$ - [F]",
                "RewriteRule (.*)\\.png$ $1.gif [L]",
                "RewriteRule ^longer/(.*)$ /a/$1 [R=302,L]",
            ],
        ));
    }
    if name == "Location" && chance.below(6) == 0 && !head.contains(['~', '*']) {
        out.add("ProxyPass http://127.0.0.1:8199/loc");
    }
    out.add(&format!("</{name}>"));
}

impl Driven for Httpd {
    fn kind(&self) -> &'static str {
        "httpd"
    }
    fn prepare(&self) -> &'static str {
        "cd /route; mkdir -p www/a/b www/b www/c www/d www/img www/closed www/over/deep other/a other/none; \
            for f in www/index.html www/a/x.txt www/a/b/x.txt www/b/index.html www/d/index.htm www/img/a.png \
            www/y.php www/closed/x.txt www/secret.txt www/over/x.txt other/index.html other/a/index.html \
            other/none/x other/x.txt; do echo $f > $f; done; ln -s /route/other www/link; \
            chmod 700 www/closed; chmod 600 www/secret.txt; echo 'marta:x' > users; \
            printf 'ErrorDocument 404 /a/x.txt\\n<IfModule mod_rewrite.c>\\nRewriteEngine On\\n\
            RewriteCond %%{REQUEST_FILENAME} !-f\\nRewriteRule ^deep/(.*)$ /over/x.txt?d=$1 [L]\\n\
            </IfModule>\\n\
            <IfModule !mod_rewrite.c>\\nRequire all denied\\n</IfModule>\\n' > www/over/.htaccess; \
            mkdir -p /var/run/apache2; \
            printf 'events { }\\npid /run/echo.pid;\\nhttp { access_log off; \
            server { listen 127.0.0.1:8199; location / { \
            add_header X-Echo \"$http_host $request_uri\"; return 200; } } }\\n' > echo.conf; \
            nginx -c /route/echo.conf >/dev/null 2>&1"
    }
    fn configuration(&self, chance: &mut Chance) -> String {
        let mut out = Out { text: String::new(), line: 1 };
        out.add("ServerRoot /etc/apache2\nPidFile /run/route.pid\nErrorLog /route/error.log\nUser www-data");
        out.add("Group www-data\nServerName main.example\nDocumentRoot /route/www");
        for module in MODULES {
            out.add(&format!("LoadModule {module}_module /usr/lib/apache2/modules/mod_{module}.so"));
        }
        out.add("TypesConfig /etc/mime.types");
        for port in PORTS {
            out.add(&format!("Listen {port}"));
        }
        out.open_with("<Directory />", "Header always set X-Place");
        if chance.below(3) > 0 {
            out.add("Require all denied");
        }
        out.add("</Directory>");
        out.open_with("<Directory /route>", "Header always set X-Place");
        out.add("Require all granted");
        if chance.below(2) == 0 {
            out.add("AllowOverride All");
        }
        out.add("</Directory>");
        for _ in 0..chance.below(3) {
            section(&mut out, chance);
        }
        for _ in 0..1 + chance.below(4) {
            let port = PORTS[chance.below(PORTS.len())];
            let address = pick(chance, &["*", "*", "127.0.0.1", "_default_"]);
            let port = if chance.below(6) == 0 { "*".to_owned() } else { port.to_string() };
            out.open_with(&format!("<VirtualHost {address}:{port}>"), "Header always set X-Place");
            if chance.below(6) > 0 {
                out.add(&format!("ServerName {}", pick(chance, NAMES)));
            }
            if chance.below(3) == 0 {
                out.add(&format!("ServerAlias {}", pick(chance, ALIASES)));
            }
            if chance.below(3) == 0 {
                out.add(&format!(
                    "DocumentRoot {}",
                    pick(chance, &["/route/other", "/route/www/", "/route/www/b"])
                ));
            }
            common_of_host(&mut out, chance);
            of_server(&mut out, chance);
            for _ in 0..chance.below(4) {
                section(&mut out, chance);
            }
            out.add("</VirtualHost>");
        }
        out.text
    }
    fn config(&self) -> &'static str {
        "/route/httpd.conf"
    }
    fn ask(&self, chance: &mut Chance) -> Ask {
        let query = pick(chance, &["", "", "", "?", "?x=1", "?go=1"]);
        Ask {
            port: PORTS[chance.below(PORTS.len())],
            host: pick_of(chance, HOSTS, OWN_HOSTS).to_owned(),
            target: format!("{}{query}", pick_of(chance, PATHS, OWN_PATHS)),
        }
    }
    fn use_it(&self) -> &'static str {
        "apache2 -t -f /route/httpd.conf || exit 1; pkill -9 -x apache2; sleep 0.1; \
            apache2 -f /route/httpd.conf -k start \
            >/dev/null 2>&1 </dev/null; \
            for i in 1 2 3 4 5 6 7 8 9; do ss -Hltn sport = :8101 | grep -q . && break; sleep 0.05; done"
    }
    fn account(&self) -> &'static str {
        "www-data"
    }
}

/// What a site may say by itself.
fn common_of_host(out: &mut Out, chance: &mut Chance) {
    if chance.below(5) == 0 {
        out.add(pick(
            chance,
            &["ErrorDocument 404 /index.html", "DirectoryIndex x.txt index.html", "Options None"],
        ));
    }
}
