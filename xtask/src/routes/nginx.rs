//! Configurations of nginx by chance.
use super::{Ask, Driven, HOSTS, Out, PATHS, pick, pick_of};
use crate::chance::Chance;

pub(super) struct Nginx;

const PORTS: &[u16] = &[8101, 8102, 8103];
const NAMES: &[&str] = &[
    "front.example",
    "www.front.example",
    "*.front.example",
    ".gull.example",
    "tide.*",
    "~^(?<ferry>[a-z]+)\\.pier\\.example$",
    "~^T.*\\.example$",
    "reed.example",
    "\"\"",
    "_",
];
const OWN_HOSTS: &[&str] =
    &["b.a.front.example", "x.gull.example.", "tide.upper.example", "ferry.pier.example"];
const OWN_PATHS: &[&str] = &["/img/b.PNG", "/a/y.php", "/A/b", "/a%2fb", "/a/b/c/d/e"];

fn roots(out: &mut Out, chance: &mut Chance, prefix: Option<&str>) {
    match chance.below(6) {
        0 => out.add("root /route/www;"),
        1 => out.add("root /route/other/;"),
        2 if prefix.is_some_and(|p| p.ends_with('/')) => out.add("alias /route/www/a/;"),
        3 if prefix.is_some_and(|p| !p.ends_with('/')) => out.add("alias /route/www/b;"),
        _ => {}
    }
}

fn common(out: &mut Out, chance: &mut Chance) {
    if chance.below(6) == 0 {
        out.add(pick(
            chance,
            &[
                "index index.htm index.html;",
                "index none.html /a/index.html;",
                "index x.txt;",
                "index $arg_i index.html;",
            ],
        ));
    }
    if chance.below(7) == 0 {
        out.add(pick(chance, &["autoindex on;", "autoindex off;"]));
    }
    if chance.below(6) == 0 {
        out.add(pick(
            chance,
            &[
                "error_page 404 /index.html;",
                "error_page 404 403 =200 /b/index.html;",
                "error_page 403 = @named;",
                "error_page 404 @named;",
                "error_page 404 =410 @other;",
                "error_page 401 /none;",
                "error_page 404 http://gull.example/lost;",
                "error_page 404 =301 http://gull.example/lost;",
                "error_page 404 /none; recursive_error_pages on;",
            ],
        ));
    }
    if chance.below(8) == 0 {
        out.add(pick(chance, &[
            "deny all;",
            "allow 127.0.0.0/8; deny all;",
            "deny 127.0.0.1;",
            "allow 10.0.0.0/8; deny all;",
            "auth_basic closed; auth_basic_user_file /route/users;",
            "satisfy any; deny all; auth_basic closed; auth_basic_user_file /route/users;",
            "satisfy any; allow 127.0.0.1; deny all; auth_basic closed; auth_basic_user_file /route/users;",
            "auth_basic off;",
        ]));
    }
}

fn rewriting(out: &mut Out, chance: &mut Chance, in_location: bool) {
    let rewrites: &[&str] = &[
        "rewrite ^/r1$ /a/x.txt last;",
        "rewrite ^/r2 /b/?k=1 break;",
        "rewrite ^/r3/(.*)$ /$1/q?x=$1? last;",
        "rewrite ^/r3/(.*)$ /a/$1 permanent;",
        "rewrite ^/none http://gull.example$request_uri redirect;",
        "rewrite ^/a/b(.*)$ /c$1;",
        "rewrite ^/c(.*)$ /c$1 last;",
        "rewrite ^/longer/(?<tail>.*)$ /$tail last;",
        "set $ferry tern; rewrite ^/A /$ferry/A break;",
        "if ($arg_go) { return 303 /gone; }",
        "if ($request_uri ~ \"^/a/(.*)$\") { set $ferry $1; }",
        "if ($http_user_agent = driver) { rewrite ^/d$ /b/ last; }",
        "if ($host !~* ^FRONT) { break; }",
        "if (!-e $request_filename) { rewrite ^ /index.html last; }",
        "if (-d $document_root/a) { set $x 1; }",
        "if ($shape = deep) { return 402; }",
        "return 404;",
        "return 200 text;",
        "return 302 /else?$args;",
        "return http://gull.example$uri;",
        "return 444;",
        "return 403 text;",
    ];
    let count = if in_location { chance.below(2) } else { usize::from(chance.below(5) == 0) };
    for _ in 0..count {
        let all = if in_location { rewrites.len() } else { rewrites.len() - 6 };
        out.add(rewrites[chance.below(all)]);
    }
}

fn answering(out: &mut Out, chance: &mut Chance, prefix: Option<&str>) {
    let plain: &[&str] = &[
        "try_files $uri $uri/ =404;",
        "try_files $uri /index.html;",
        "try_files $uri $uri/ @named;",
        "try_files /none.txt $uri/index.html /b/index.html?x=1;",
        "try_files $uri $uri/ /none/x;",
        "proxy_pass http://127.0.0.1:8199;",
        "proxy_pass http://group; proxy_set_header Host $host;",
        "proxy_pass http://127.0.0.1:8199; proxy_set_header Host $http_host:$server_port;",
        "proxy_pass http://$target;",
        "proxy_pass http://127.0.0.1:8199$uri$is_args$args;",
        "internal;",
        "empty_gif;",
        "limit_except GET { deny all; }",
        "limit_except POST { deny all; }",
        "if ($arg_p) { proxy_pass http://group; }",
    ];
    let with_path: &[&str] =
        &["proxy_pass http://127.0.0.1:8199/behind;", "proxy_pass http://group/behind/;"];
    match chance.below(5) {
        0 | 1 => out.add(plain[chance.below(plain.len())]),
        2 if prefix.is_some() => out.add(with_path[chance.below(2)]),
        _ => {}
    }
}

fn location(out: &mut Out, chance: &mut Chance, depth: usize, outer: &str) {
    let begin = pick(
        chance,
        &["", "a", "a/", "a/b", "a/b/", "b", "b/", "c/", "img/", "api/", "api", "d", "none", "r1"],
    );
    let prefix = if outer.is_empty() || depth == 0 {
        format!("/{begin}")
    } else {
        format!("{outer}{}", begin.trim_start_matches(outer.trim_start_matches('/')))
    };
    let regex = pick(
        chance,
        &[
            "~ \\.php$",
            "~* \\.(png|txt)$",
            "~ ^/(a|b)/(.*)$",
            "~* ^/A",
            "~ ^/api/v(?<v>[0-9]+)/",
            "~ ^/(?!a)",
            "~ /b",
            "~ \"^/c{1,2}/\"",
        ],
    );
    // Nothing but patterns may stand in one.
    let inside = outer == "~";
    let (head, name, nests) = match if inside { 2 } else { chance.below(8) } {
        0 => (format!("location = {prefix}"), Some(prefix.as_str()), false),
        1 => (format!("location ^~ {prefix}"), Some(prefix.as_str()), true),
        2 | 3 => (format!("location {regex}"), None, true),
        4 => (format!("location ={prefix}"), Some(prefix.as_str()), false),
        _ => (format!("location {prefix}"), Some(prefix.as_str()), true),
    };
    out.open(&head);
    roots(out, chance, name);
    common(out, chance);
    rewriting(out, chance, true);
    answering(out, chance, name);
    if depth < 2 && nests && chance.below(3) == 0 {
        for _ in 0..=chance.below(2) {
            location(out, chance, depth + 1, name.unwrap_or("~"));
        }
    }
    out.add("}");
}

fn server(out: &mut Out, chance: &mut Chance) {
    out.open("server");
    let first = chance.below(PORTS.len());
    for more in 0..=chance.below(2) {
        let port = PORTS[(first + more) % PORTS.len()];
        let default = if chance.below(5) == 0 { " default_server" } else { "" };
        let address = pick(chance, &["", "", "127.0.0.1:", "*:", "[::]:"]);
        out.add(&format!("listen {address}{port}{default};"));
    }
    if chance.below(6) > 0 {
        let names: Vec<&str> = (0..=chance.below(3)).map(|_| pick(chance, NAMES)).collect();
        out.add(&format!("server_name {};", names.join(" ")));
    }
    roots(out, chance, None);
    common(out, chance);
    rewriting(out, chance, false);
    if chance.below(8) == 0 {
        out.add(pick(chance, &["merge_slashes off;", "try_files $uri /index.html;", "try_files $uri =404;"]));
    }
    for _ in 0..chance.below(6) {
        location(out, chance, 0, "");
    }
    out.open("location @named");
    out.add(pick(
        chance,
        &["return 200 named;", "root /route/www;", "proxy_pass http://group;", "return 404;"],
    ));
    out.add("}");
    out.open("location @other");
    out.add(pick(
        chance,
        &["return 503;", "rewrite ^ /b/index.html break; root /route/www;", "return 301 /moved;"],
    ));
    out.add("}");
    out.add("}");
}

impl Driven for Nginx {
    fn kind(&self) -> &'static str {
        "nginx"
    }
    fn prepare(&self) -> &'static str {
        "cd /route; mkdir -p www/a/b www/b www/c www/d www/img www/closed other/a other/none; \
            for f in www/index.html www/a/x.txt www/a/b/x.txt www/b/index.html www/d/index.htm www/img/a.png \
            www/y.php www/closed/x.txt www/secret.txt other/index.html other/a/index.html other/none/x \
            other/x.txt; do echo $f > $f; done; \
            chmod 700 www/closed; chmod 600 www/secret.txt; echo marta:x > users"
    }
    fn configuration(&self, chance: &mut Chance) -> String {
        let mut out = Out { text: String::new(), line: 1 };
        out.add("user www-data;\nworker_processes 1;\npid /run/route.pid;\nerror_log /route/error.log;");
        out.add("events { }\nhttp {");
        out.add("access_log off;\nuninitialized_variable_warn off;\nserver_names_hash_bucket_size 128;");
        out.add("upstream group { server 127.0.0.1:8199; }");
        out.add("map $arg_s $target { default 127.0.0.1:8199; group group; ~^(?<w>lo.*)$ 127.0.0.1:8199; }");
        out.add("map $uri $shape { hostnames; default flat; ~*^/a/b/ deep; /d/ deep; }");
        if chance.below(4) == 0 {
            out.add("root /route/www;");
        }
        let echo = "add_header X-Echo \"$http_host $request_uri\"; return 200;";
        out.add(&format!("server {{ listen 127.0.0.1:8199; location / {{ {echo} }} }}"));
        for _ in 0..2 + chance.below(5) {
            server(&mut out, chance);
        }
        out.add("}");
        out.text
    }
    fn config(&self) -> &'static str {
        "/route/nginx.conf"
    }
    fn ask(&self, chance: &mut Chance) -> Ask {
        let query = pick(chance, &["", "", "", "?", "?x=1", "?go=1", "?s=group", "?p=1&s=local", "?i=x.txt"]);
        Ask {
            port: PORTS[chance.below(PORTS.len())],
            host: pick_of(chance, HOSTS, OWN_HOSTS).to_owned(),
            target: format!("{}{query}", pick_of(chance, PATHS, OWN_PATHS)),
        }
    }
    fn use_it(&self) -> &'static str {
        "nginx -t -q -c /route/nginx.conf || exit 1; pkill -9 -x nginx; sleep 0.1; \
            nginx -c /route/nginx.conf; for i in 1 2 3 4 5 6 7 8 9; do \
            ss -Hltn sport = :8199 | grep -q . && break; sleep 0.05; done"
    }
    fn account(&self) -> &'static str {
        "www-data"
    }
}
