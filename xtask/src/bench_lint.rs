//! `cargo xtask bench-lint [SITES]`: `lint` of many sites against the daemon's own check of the same files,
//! as ratios, and how it grows. The files are made by rule; a daemon that is not installed is left out.
use crate::bench::{in_turns, release, say};
use std::fs;
use std::path::Path;

/// Sites in one file.
const IN_A_FILE: usize = 20;
/// Runs of each program; the best one counts.
const RUNS: usize = 6;

/// A web server with many sites.
struct Load {
    kind: &'static str,
    /// The daemon, and the words of its own check before the file's name.
    check: &'static [&'static str],
    /// The main file; `DIR` stands for the directory of the load.
    main: &'static str,
    /// What stands before and behind the names of the modules.
    modules: &'static [&'static str],
    /// One site; `{k}` stands for its number.
    site: &'static str,
    /// A directive that does not exist, in a site of its own.
    unknown: &'static str,
}

const NGINX: Load = Load {
    kind: "nginx",
    check: &["/usr/sbin/nginx", "-t", "-c"],
    main: "pid DIR/nginx.pid;\nerror_log DIR/error.log;\nevents { worker_connections 1024; }\nhttp \
        {\n    access_log off;\n    \
        server_names_hash_max_size 65536;\n    server_names_hash_bucket_size 128;\n    include \
        DIR/sites/*.conf;\n}\n",
    modules: &[],
    site: "server {
    listen 8080;
    server_name quay{k}.saltmarsh-ferries.example www.quay{k}.saltmarsh-ferries.example;
    root /srv/www/quay{k};
    index index.html index.htm;
    client_max_body_size 8m;
    keepalive_timeout 65s;
    gzip on;
    gzip_types text/css application/javascript;
    location / {
        try_files $uri $uri/ =404;
        expires 30d;
        add_header X-Site quay{k};
    }
    location /api {
        proxy_pass http://127.0.0.1:9000;
        proxy_set_header Host $host;
        proxy_set_header X-Real-IP $remote_addr;
        proxy_read_timeout 30s;
        proxy_buffers 8 16k;
        proxy_buffer_size 16k;
    }
    location ~ \\.php$ {
        fastcgi_pass 127.0.0.1:9001;
        fastcgi_index index.php;
        fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;
    }
    location = /status {
        return 200 \"quay{k}\";
    }
    location /old {
        rewrite ^/old/(.*)$ /new/$1 permanent;
    }
    error_page 404 /404.html;
    error_page 500 502 503 504 /50x.html;
    # end of quay{k}
}
",
    unknown: "server {\n    listen 8080;\n    tide_of_quay on;\n}\n",
};

const HTTPD: Load = Load {
    kind: "httpd",
    check: &["/usr/sbin/apache2", "-t", "-f"],
    main: "ServerRoot DIR\nPidFile DIR/httpd.pid\nErrorLog DIR/error.log\nDefaultRuntimeDir DIR\n\
        MODULESServerName \
        front.example\nListen 8081\nTypesConfig /etc/mime.types\nInclude DIR/sites/*.conf\n",
    modules: &[
        "mpm_event",
        "authz_core",
        "authz_host",
        "dir",
        "alias",
        "mime",
        "headers",
        "rewrite",
        "setenvif",
        "proxy",
        "proxy_http",
        "expires",
    ],
    site: "<VirtualHost 127.0.0.1:8081>
    ServerName quay{k}.example
    ServerAlias www.quay{k}.example
    DocumentRoot DIR/www
    <Directory DIR/www>
        Options FollowSymLinks
        AllowOverride None
        Require all granted
    </Directory>
    ProxyPass /api http://127.0.0.1:9000/
    ProxyPassReverse /api http://127.0.0.1:9000/
    RewriteEngine on
    RewriteRule ^/old/(.*)$ /new/$1 [R=301,L]
    Header set X-Site quay{k}
    <Location /status>
        Require local
    </Location>
    # end
</VirtualHost>
",
    unknown: "<VirtualHost 127.0.0.1:8081>\n    TideOfQuay on\n</VirtualHost>\n",
};

/// Writes the files of a load, and tells where the main one is.
fn write(load: &Load, dir: &Path, sites: usize, broken: bool) -> Result<String, String> {
    let words = |e: std::io::Error| e.to_string();
    let place = dir.to_string_lossy();
    let _ = fs::remove_dir_all(dir);
    fs::create_dir_all(dir.join("sites")).map_err(words)?;
    fs::create_dir_all(dir.join("www")).map_err(words)?;
    let numbers: Vec<usize> = (0..sites).collect();
    for (file, part) in numbers.chunks(IN_A_FILE).enumerate() {
        let mut text: String =
            part.iter().map(|k| load.site.replace("{k}", &k.to_string()).replace("DIR", &place)).collect();
        if broken && (file + 1) * IN_A_FILE >= sites {
            text.push_str(load.unknown);
        }
        fs::write(dir.join(format!("sites/s{file:05}.conf")), text).map_err(words)?;
    }
    let modules: String = load
        .modules
        .iter()
        .map(|m| format!("LoadModule {m}_module /usr/lib/apache2/modules/mod_{m}.so\n"))
        .collect();
    let main = dir.join("main.conf");
    fs::write(&main, load.main.replace("MODULES", &modules).replace("DIR", &place)).map_err(words)?;
    Ok(main.to_string_lossy().into_owned())
}

pub(crate) fn run(sites: usize) -> Result<(), String> {
    let ours = release()?;
    let dir = std::env::temp_dir().join("jolly-bench-lint");
    let lint = |load: &Load, main: &str| -> Vec<String> {
        [&ours, "lint", "--kind", load.kind, "--config", main].iter().map(ToString::to_string).collect()
    };
    for load in [&NGINX, &HTTPD] {
        if !Path::new(load.check[0]).exists() {
            say(&format!("{}: {} is not installed", load.kind, load.check[0]));
            continue;
        }
        for broken in [false, true] {
            let main = write(load, &dir, sites, broken)?;
            let check: Vec<String> =
                load.check.iter().map(ToString::to_string).chain([main.clone()]).collect();
            let what = if broken { ", an unknown directive in the last file" } else { "" };
            let name = format!("{}, {sites} sites{what}: against its own check", load.kind);
            in_turns(&name, &lint(load, &main), &check, RUNS)?;
        }
        // Ten times as many sites against one: a ratio of ten is linear.
        for (few, many) in [(sites / 10, sites), (sites, sites * 10)] {
            let small = lint(load, &write(load, &dir.with_extension("few"), few.max(1), false)?);
            let large = lint(load, &write(load, &dir, many, false)?);
            in_turns(
                &format!("{}, {many} sites: against lint of {few}", load.kind),
                &large,
                &small,
                RUNS / 2,
            )?;
        }
    }
    let _ = fs::remove_dir_all(dir.with_extension("few"));
    fs::remove_dir_all(&dir).map_err(|e| e.to_string())
}
