//! Configurations of haproxy by chance.
use super::{Ask, Driven, HOSTS, Out, PATHS, pick, pick_of};
use crate::chance::Chance;

pub(super) struct Haproxy;

const PORTS: &[u16] = &[8101, 8102, 8103];
const OWN_HOSTS: &[&str] = &["api.gull.example", "REED.example:8102"];
const OWN_PATHS: &[&str] =
    &["/api/v2?tide=ebb", "/static/a.css", "/a?go=1&tide=flood", "/img/b.PNG", "/alive"];
/// What lists compare.
const LISTS: &[&str] = &[
    "path_beg /api",
    "path_beg /a /b",
    "path_end .png .css",
    "path_end -i .png",
    "path /",
    "path -m beg /img",
    "path_dir api",
    "path_sub b/",
    "path_reg ^/r[0-9]",
    "path_reg -i ^/A",
    "path_len gt 6",
    "hdr(host) -i front.example",
    "hdr(host) front.example:8101",
    "hdr_beg(host) -i api. www.",
    "hdr_end(host) .example",
    "hdr_dom(host) -i gull",
    "hdr(host),lower -m reg ^(tern|reed)",
    "req.hdr(host),host_only -i reed.example",
    "req.hdr(user-agent) -m sub drive",
    "query -m found",
    "url_param(tide) ebb",
    "urlp(go) -m found",
    "url_beg /a",
    "src 127.0.0.0/8",
    "src 10.0.0.0/8 192.168.0.1",
    "dst_port 8101",
    "dst_port 8102:8103",
    "method GET",
    "method POST",
    "ssl_fc",
    "always_false",
    "base -m beg front.example/a",
];
const BUILT_IN: &[&str] =
    &["METH_GET", "METH_POST", "LOCALHOST", "TRUE", "FALSE", "HTTP_1.1", "HTTP_URL_SLASH"];

fn condition(chance: &mut Chance, lists: usize) -> String {
    let mut words = vec![pick(chance, &["if", "if", "if", "unless"]).to_owned()];
    for n in 0..1 + chance.below(3) {
        if n > 0 && chance.below(3) == 0 {
            words.push(pick(chance, &["or", "||"]).to_owned());
        }
        if chance.below(4) == 0 {
            words.push(pick(chance, &["!", "! "]).trim().to_owned());
            if chance.below(2) == 0 {
                // A mark may stand for itself or before a name.
                let last = words.pop().unwrap_or_default();
                words.push(format!("{last}{}", term(chance, lists)));
                continue;
            }
        }
        words.push(match chance.below(4) {
            0 => format!("{{ {} }}", pick(chance, LISTS)),
            _ => term(chance, lists),
        });
    }
    words.join(" ")
}

fn term(chance: &mut Chance, lists: usize) -> String {
    match chance.below(5) {
        0 => pick(chance, BUILT_IN).to_owned(),
        _ => format!("l{}", chance.below(lists)),
    }
}

fn rules(out: &mut Out, chance: &mut Chance, lists: usize) {
    for _ in 0..chance.below(3) {
        let rule = pick(
            chance,
            &[
                "http-request deny",
                "http-request deny deny_status 429",
                "http-request return status 200 content-type text/plain string here",
                "http-request redirect location /new code 301",
                "http-request redirect prefix http://gull.example code 302",
                "http-request redirect scheme https",
                "http-request set-path /set",
                "http-request set-header Host tern.example",
                "http-request set-header X-Tide ebb",
                "http-request allow",
                "redirect location /old",
                "redirect prefix /deep drop-query",
            ],
        );
        out.add(&format!("    {rule} {}", condition(chance, lists)));
    }
}

impl Driven for Haproxy {
    fn kind(&self) -> &'static str {
        "haproxy"
    }
    fn prepare(&self) -> &'static str {
        "printf 'events { }\\npid /run/echo.pid;\\nhttp { access_log off; \
            server { listen 127.0.0.1:8199; location / { \
            add_header X-Echo \"$http_host $request_uri\"; return 200; } } }\\n' > /route/echo.conf; \
            nginx -c /route/echo.conf >/dev/null 2>&1"
    }
    fn configuration(&self, chance: &mut Chance) -> String {
        let mut out = Out { text: String::new(), line: 1 };
        out.add("global\n    pidfile /run/route.pid\n    daemon");
        out.add(
            "defaults\n    mode http\n    timeout connect 5s\n    timeout client 9s\n    timeout server 9s",
        );
        if chance.below(2) == 0 {
            out.add("    default_backend b0");
        }
        let backs = 2 + chance.below(4);
        for (n, port) in PORTS.iter().enumerate() {
            let own = chance.below(3) == 0;
            let line = out.line;
            out.add(&format!("{} f{n}", if own { "listen" } else { "frontend" }));
            out.add(&format!("    bind {}:{port}", pick(chance, &["*", "127.0.0.1", ""])));
            let lists = 2 + chance.below(3);
            for list in 0..lists {
                for _ in 0..1 + chance.below(4) / 3 {
                    out.add(&format!("    acl l{list} {}", pick(chance, LISTS)));
                }
            }
            out.add(&format!(
                "    http-after-response set-header X-Place {line} unless {{ res.hdr(X-Place) -m found }}"
            ));
            rules(&mut out, chance, lists);
            if chance.below(4) == 0 {
                out.add("    monitor-uri /alive");
            }
            for _ in 0..chance.below(4) {
                out.add(&format!("    use_backend b{} {}", chance.below(backs), condition(chance, lists)));
            }
            if chance.below(3) > 0 {
                out.add(&format!("    default_backend b{}", chance.below(backs)));
            }
            if own {
                out.add("    server own 127.0.0.1:8199");
            }
        }
        for n in 0..backs {
            let line = out.line;
            out.add(&format!("backend b{n}"));
            out.add(&format!("    http-after-response set-header X-Place {line}"));
            if chance.below(3) == 0 {
                out.add(&format!("    acl l0 {}", pick(chance, LISTS)));
                rules(&mut out, chance, 1);
            }
            if chance.below(6) > 0 {
                out.add("    server one 127.0.0.1:8199");
            }
        }
        out.text
    }
    fn config(&self) -> &'static str {
        "/route/haproxy.cfg"
    }
    fn ask(&self, chance: &mut Chance) -> Ask {
        Ask {
            port: PORTS[chance.below(PORTS.len())],
            host: pick_of(chance, HOSTS, OWN_HOSTS).to_owned(),
            target: pick_of(chance, PATHS, OWN_PATHS).to_owned(),
        }
    }
    fn use_it(&self) -> &'static str {
        "haproxy -c -q -f /route/haproxy.cfg || exit 1; pkill -9 -x haproxy; sleep 0.1; \
            haproxy -f /route/haproxy.cfg >/dev/null 2>&1 </dev/null; \
            for i in 1 2 3 4 5 6 7 8 9; do ss -Hltn sport = :8103 | grep -q . && break; sleep 0.05; done"
    }
    fn account(&self) -> &'static str {
        "root"
    }
}
