//! `cargo xtask harvest nginx|httpd SOURCE_DIR…`: reads the command tables in a daemon's unpacked upstream
//! source archives, one for each release, and merges them into the directive table of its kind. Names,
//! contexts, argument shapes, modules and enumerated words only; no descriptive text.
use jolly_rows::{Release, Row, Table};
use regex::Regex;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

const HEAD: &str = "Written by `cargo xtask harvest KIND SOURCE_DIR…`; what people know better stands in \
    better.rows beside it.";

/// Harvests releases of `kind` from unpacked sources into the core crate's table; what was harvested of
/// others stays.
pub(crate) fn run(kind: &str, sources_of: &[&Path]) -> Result<(), String> {
    let folder = Path::new("crates/core/src/kinds").join(kind);
    fs::create_dir_all(&folder).map_err(|e| e.to_string())?;
    let target = folder.join("directives.rows");
    let mut table = match fs::read_to_string(&target) {
        Ok(text) => Table::parse(&text).map_err(|e| format!("{}: {e}", target.display()))?,
        Err(_) => Table::default(),
    };
    for source in sources_of {
        let files = sources(source);
        if files.is_empty() {
            return Err(format!("no C sources below {}", source.display()));
        }
        let release = Release { flavour: kind.to_owned(), version: version(kind, &files)? };
        let (rows, variables) = match kind {
            "nginx" => nginx(&files)?,
            "httpd" => (httpd(&files)?, Vec::new()),
            other => return Err(format!("no harvester for {other}: nginx and httpd have one")),
        };
        say(&format!("{kind} {}: {} rows", release.version, rows.len()));
        table.add(&release, rows);
        if !variables.is_empty() {
            let target = folder.join("variables.txt");
            let known = fs::read_to_string(&target).unwrap_or_default();
            let all: BTreeSet<&str> = known.lines().chain(variables.iter().map(String::as_str)).collect();
            let text: String = all.iter().map(|v| format!("{v}\n")).collect();
            fs::write(&target, text).map_err(|e| e.to_string())?;
        }
    }
    fs::write(&target, table.spelled(HEAD)).map_err(|e| e.to_string())?;
    say(&format!("{}: {} rows of {} releases", target.display(), table.rows.len(), table.releases.len()));
    Ok(())
}

/// The version that the sources say of themselves.
fn version(kind: &str, files: &[PathBuf]) -> Result<String, String> {
    let (file, patterns): (&str, &[&str]) = match kind {
        "nginx" => ("nginx.h", &[r#"NGINX_VERSION\s+"([\d.]+)""#]),
        _ => (
            "ap_release.h",
            &[
                r"AP_SERVER_MAJORVERSION_NUMBER\s+(\d+)",
                r"AP_SERVER_MINORVERSION_NUMBER\s+(\d+)",
                r"AP_SERVER_PATCHLEVEL_NUMBER\s+(\d+)",
            ],
        ),
    };
    let text = files
        .iter()
        .find(|f| f.file_name().is_some_and(|n| n == file))
        .map(|f| code_of(f))
        .unwrap_or_default();
    let part =
        |pattern: &&str| Regex::new(pattern).ok().and_then(|p| p.captures(&text).map(|c| c[1].to_owned()));
    let parts: Option<Vec<String>> = patterns.iter().map(part).collect();
    parts.map(|p| p.join(".")).ok_or_else(|| format!("{file} tells no version"))
}

#[expect(clippy::print_stdout, reason = "a chore reports to its caller")]
fn say(text: &str) {
    println!("{text}");
}

fn sources(root: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut todo = vec![root.to_path_buf()];
    while let Some(dir) = todo.pop() {
        for entry in fs::read_dir(&dir).into_iter().flatten().flatten() {
            let path = entry.path();
            if path.is_dir() {
                todo.push(path);
            } else if path.extension().is_some_and(|e| e == "c" || e == "h") {
                found.push(path);
            }
        }
    }
    found.sort();
    found
}

fn code_of(path: &Path) -> String {
    let text = String::from_utf8_lossy(&fs::read(path).unwrap_or_default()).into_owned();
    strip_comments(&text)
}

fn strip_comments(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find("/*") {
        out.push_str(&rest[..at]);
        rest = rest[at + 2..].split_once("*/").map_or("", |(_, tail)| tail);
    }
    out.push_str(rest);
    out
}

/// Splits at commas outside parentheses, braces and strings.
fn split_arguments(text: &str) -> Vec<String> {
    let (mut parts, mut depth, mut quoted, mut escaped) = (vec![String::new()], 0i32, false, false);
    for c in text.chars() {
        let top = depth == 0 && !quoted;
        match c {
            '"' if !escaped => quoted = !quoted,
            '(' | '{' if !quoted => depth += 1,
            ')' | '}' if !quoted => depth -= 1,
            _ => {}
        }
        escaped = c == '\\' && !escaped;
        if c == ',' && top {
            parts.push(String::new());
        } else if let Some(last) = parts.last_mut() {
            last.push(c);
        }
    }
    parts.into_iter().map(|p| p.trim().to_owned()).collect()
}

/// The text from an opening bracket at `open` to its partner, without both.
fn bracketed(text: &str, open: usize) -> &str {
    let bytes = text.as_bytes();
    let (mut depth, mut quoted, mut i) = (0i32, false, open);
    while i < bytes.len() {
        match bytes[i] {
            b'\\' if quoted => i += 1,
            b'"' => quoted = !quoted,
            b'(' | b'{' if !quoted => depth += 1,
            b')' | b'}' if !quoted => {
                depth -= 1;
                if depth == 0 {
                    return &text[open + 1..i];
                }
            }
            _ => {}
        }
        i += 1;
    }
    ""
}

fn nginx(files: &[PathBuf]) -> Result<(Vec<Row>, Vec<String>), String> {
    let table = Regex::new(r"ngx_command_t\s+\w+\[\]\s*=\s*\{").map_err(|e| e.to_string())?;
    let enums = Regex::new(r"ngx_conf_(?:enum|bitmask)_t\s+(\w+)\[\]\s*=\s*\{").map_err(|e| e.to_string())?;
    let bounds = Regex::new(
        r"ngx_conf_num_bounds_t\s+(\w+)\s*=\s*\{\s*ngx_conf_check_num_bounds,\s*(-?\d+),\s*(-?\w+)",
    )
    .map_err(|e| e.to_string())?;
    let word = Regex::new(r#"ngx_string\("([^"]+)"\)"#).map_err(|e| e.to_string())?;
    let variables =
        Regex::new(r"ngx_(?:http|stream)_variable_t\s+\w+\[\]\s*=\s*\{").map_err(|e| e.to_string())?;
    let named = Regex::new(r#"ngx_string\("(\w+)"\)"#).map_err(|e| e.to_string())?;
    let (mut rows, mut names) = (BTreeSet::new(), BTreeSet::new());
    // Lists of words and bounds are shared between files.
    let mut lists = BTreeMap::new();
    for text in files.iter().map(|path| code_of(path)) {
        for m in enums.captures_iter(&text) {
            let Some(all) = m.get(0) else { continue };
            let body = bracketed(&text, all.end() - 1);
            let words: Vec<_> = word.captures_iter(body).map(|c| c[1].to_owned()).collect();
            lists.insert(m[1].to_owned(), words.join("|"));
        }
        for m in bounds.captures_iter(&text) {
            let most = m[3].parse::<i64>().map_or(String::new(), |n| n.to_string());
            lists.insert(
                m[1].to_owned(),
                format!("{}..{}", &m[2], if m[3].starts_with('-') { "" } else { &most }),
            );
        }
    }
    for path in files {
        let text = code_of(path);
        let file = path.file_stem().and_then(|s| s.to_str()).unwrap_or_default().to_owned();
        let foreign = ["kqueue", "devpoll", "eventport", "iocp"].iter().any(|system| file.contains(system));
        if foreign || path.components().any(|c| matches!(c.as_os_str().to_str(), Some("win32" | "misc"))) {
            continue;
        }
        for m in variables.find_iter(&text) {
            let body = bracketed(&text, m.end() - 1);
            names.extend(named.captures_iter(body).map(|c| c[1].to_owned()));
        }
        for m in table.find_iter(&text) {
            let body = bracketed(&text, m.end() - 1);
            let body: String =
                body.lines().filter(|l| !l.trim_start().starts_with('#')).collect::<Vec<_>>().join("\n");
            for entry in split_arguments(&body) {
                let Some(inner) = entry.strip_prefix('{').and_then(|e| e.strip_suffix('}')) else { continue };
                let parts = split_arguments(inner);
                let (Some(name), true) = (word.captures(&parts[0]), parts.len() >= 6) else { continue };
                let post = parts[5].trim_start_matches('&').to_owned();
                let (setter, refuses) = setter_of(&parts[2], &text);
                let words = lists.get(&post).cloned().unwrap_or_default();
                let (places, counts, block) = nginx_flags(&parts[1]);
                let once = refuses && !matches!(setter.as_str(), "str_array" | "keyval");
                let marks: Vec<&str> = [("block", block), ("once", once)]
                    .into_iter()
                    .filter(|(_, is)| *is)
                    .map(|(mark, _)| mark)
                    .collect();
                let takes = nginx_takes(&setter, &counts, &words);
                rows.insert(Row {
                    name: name[1].to_owned(),
                    places,
                    takes,
                    from: file.clone(),
                    releases: String::new(),
                    marks: marks.join(","),
                });
            }
        }
    }
    Ok((rows.into_iter().collect(), names.into_iter().collect()))
}

/// The type of a setter, where it takes one word or as many as it has; otherwise words of any sort.
fn nginx_takes(setter: &str, counts: &[String], words: &str) -> String {
    let list = words.replace('|', ",");
    match (setter, counts) {
        ("flag", [one]) if matches!(one.as_str(), "flag" | "1") => return "flag".into(),
        ("num", [one]) if one == "1" => {
            return if words.is_empty() { "int".into() } else { format!("int({words})") };
        }
        ("size", [one]) if one == "1" => return "size(k,m)".into(),
        ("off", [one]) if one == "1" => return "size(k,m,g)".into(),
        ("msec", [one]) if one == "1" => return "time(ms)".into(),
        ("sec", [one]) if one == "1" => return "time(s)".into(),
        ("template_size", [one]) if one == "1" => return "size(k,m) | variable".into(),
        ("template" | "predicate", _) => return counted("template", counts),
        ("bufs", [one]) if one == "2" => return "int(1..) size(k,m,1..)".into(),
        ("enum", [one]) if matches!(one.as_str(), "1" | "flag") && !words.is_empty() => {
            return format!("enum({list})");
        }
        ("bitmask", _) if !words.is_empty() => return counted(&format!("set({list})"), counts),
        // `ngx_conf_set_access_slot`
        ("access", _) => return counted("exact(user:r,user:rw,group:r,group:rw,all:r,all:rw)", counts),
        _ => {}
    }
    counted("str", counts)
}

/// Words of one type, as often as a table's flags say.
fn counted(name: &str, counts: &[String]) -> String {
    let mut numbers: Vec<u16> = Vec::new();
    for count in counts {
        if let Some(least) = count.strip_suffix('+') {
            return match least {
                "0" => format!("{name}*"),
                "1" => format!("{name}+"),
                least => format!("{name}{{{least},}}"),
            };
        }
        numbers.push(if count == "flag" { 1 } else { count.parse().unwrap_or(0) });
    }
    numbers.sort_unstable();
    let (Some(&least), Some(&most)) = (numbers.first(), numbers.last()) else { return format!("{name}*") };
    let one = |n: u16| match n {
        0 => "none".to_owned(),
        1 => name.to_owned(),
        n => format!("{name}{{{n}}}"),
    };
    if least == most {
        one(least)
    } else if usize::from(most - least) + 1 == numbers.len() {
        if (least, most) == (0, 1) { format!("{name}?") } else { format!("{name}{{{least},{most}}}") }
    } else {
        numbers.iter().map(|n| one(*n)).collect::<Vec<_>>().join(" | ")
    }
}

/// `flag`, `num`, … for the shared setters, also where a module's own one ends in them; `own` otherwise. And
/// whether a second use is refused.
fn setter_of(setter: &str, text: &str) -> (String, bool) {
    match setter.trim_start_matches("ngx_http_set_").trim_start_matches("ngx_stream_set_") {
        "complex_value_slot" | "complex_value_zero_slot" => return ("template".into(), true),
        "complex_value_size_slot" => return ("template_size".into(), true),
        "predicate_slot" => return ("predicate".into(), true),
        _ => {}
    }
    let shared = |name: &str| {
        name.strip_prefix("ngx_conf_set_").and_then(|s| s.strip_suffix("_slot")).map(str::to_owned)
    };
    if let Some(slot) = shared(setter) {
        return (slot, true);
    }
    let body = Regex::new(&format!(r"(?m)^{}\([^;{{]*\)\s*\{{", regex::escape(setter)))
        .ok()
        .and_then(|r| r.find(text))
        .map_or("", |m| bracketed(text, m.end() - 1));
    let ends_in = Regex::new(r"(ngx_conf_set_\w+_slot)\(cf, cmd, conf\)")
        .ok()
        .and_then(|r| r.captures(body).map(|c| c[1].to_owned()));
    match ends_in.and_then(|name| shared(&name)) {
        Some(slot) => (slot, true),
        None => ("own".into(), body.contains("is duplicate")),
    }
}

/// Places, counts of words, and whether it opens a block.
fn nginx_flags(flags: &str) -> (String, Vec<String>, bool) {
    let mut contexts = Vec::new();
    let (mut arguments, mut block) = (Vec::new(), false);
    for flag in flags.split('|').map(str::trim) {
        match flag {
            "NGX_MAIN_CONF" => contexts.push("main"),
            "NGX_EVENT_CONF" => contexts.push("events"),
            "NGX_HTTP_MAIN_CONF" => contexts.push("http"),
            "NGX_HTTP_SRV_CONF" => contexts.push("server"),
            "NGX_HTTP_LOC_CONF" => contexts.push("location"),
            "NGX_HTTP_UPS_CONF" => contexts.push("upstream"),
            "NGX_HTTP_SIF_CONF" => contexts.push("server-if"),
            "NGX_HTTP_LIF_CONF" => contexts.push("location-if"),
            "NGX_HTTP_LMT_CONF" => contexts.push("limit"),
            "NGX_STREAM_MAIN_CONF" => contexts.push("stream"),
            "NGX_STREAM_SRV_CONF" => contexts.push("stream-server"),
            "NGX_STREAM_UPS_CONF" => contexts.push("stream-upstream"),
            "NGX_MAIL_MAIN_CONF" => contexts.push("mail"),
            "NGX_MAIL_SRV_CONF" => contexts.push("mail-server"),
            "NGX_ANY_CONF" => contexts.push("any"),
            "NGX_CONF_BLOCK" => block = true,
            "NGX_CONF_NOARGS" => arguments.push("0".to_owned()),
            "NGX_CONF_FLAG" => arguments.push("flag".to_owned()),
            "NGX_CONF_ANY" => arguments.push("0+".to_owned()),
            other => {
                if let Some(count) = other.strip_prefix("NGX_CONF_TAKE") {
                    arguments.extend(count.chars().map(|c| c.to_string()));
                } else if let Some(least) =
                    other.strip_prefix("NGX_CONF_").and_then(|o| o.strip_suffix("MORE"))
                {
                    arguments.push(format!("{least}+"));
                }
            }
        }
    }
    (contexts.join(","), arguments, block)
}

fn httpd(files: &[PathBuf]) -> Result<Vec<Row>, String> {
    let entry = Regex::new(r#"(AP_INIT_\w+|SSL_CMD_\w+|LISTEN_CMD)\s*\("#).map_err(|e| e.to_string())?;
    let owner = Regex::new(r"(?:AP_DECLARE_MODULE\((\w+)\)|\w+_DECLARE_DATA\s+(\w+)_module\s*=)")
        .map_err(|e| e.to_string())?;
    let mut rows = BTreeSet::new();
    let shared = ["listen.c", "mpm_common.c", "ssl_engine_config.c", "core.c"];
    let bodies: String = files
        .iter()
        .filter(|p| p.file_name().is_some_and(|n| shared.iter().any(|s| n == *s)))
        .map(|p| code_of(p))
        .collect();
    for path in files {
        let file = path.file_name().and_then(|s| s.to_str()).unwrap_or_default();
        let text = code_of(path).replace("\\\n", " ");
        if text.contains("AP_INIT_")
            && path.components().any(|c| {
                matches!(c.as_os_str().to_str(), Some("examples" | "netware" | "winnt" | "mpmt_os2" | "test"))
            })
        {
            continue;
        }
        let module = owner
            .captures(&text)
            .and_then(|c| c.get(1).or(c.get(2)).map(|m| m.as_str().to_owned()))
            .unwrap_or_else(|| match file {
                "h2_config.c" => "http2".into(),
                "mod_md_config.c" => "md".into(),
                "core.c" | "http_core.c" | "ap_listen.h" | "mpm_common.h" | "log.c" => "core".into(),
                _ => String::new(),
            });
        if module.is_empty() {
            continue;
        }
        let module = if file == "ap_listen.h" { "mpm".to_owned() } else { module };
        for m in entry.find_iter(&text) {
            let parts = split_arguments(bracketed(&text, m.end() - 1));
            let macro_name = m.as_str().trim_end_matches('(').trim();
            let Some((name, shape, flags)) = httpd_entry(&text, macro_name, &parts) else { continue };
            let shape_known =
                ["FLAG", "NO_ARGS", "RAW_ARGS", "TAKE", "ITERATE"].iter().any(|s| shape.starts_with(s));
            if name.contains('#') || name.contains(' ') || !shape_known {
                continue;
            }
            let contexts = httpd_flags(&expanded(&flags, &text));
            let function = if macro_name.starts_with("SSL_CMD_") {
                format!("ssl_cmd_{name}")
            } else {
                parts.get(1).cloned().unwrap_or_default()
            };
            let limits = refused_sections(&function, &text, &bodies);
            let takes = httpd_takes(&shape).to_owned();
            let places =
                [contexts, limits].into_iter().filter(|p| !p.is_empty()).collect::<Vec<_>>().join(",");
            rows.insert(Row {
                name,
                places,
                takes,
                from: module.clone(),
                releases: String::new(),
                marks: String::new(),
            });
        }
    }
    Ok(rows.into_iter().collect())
}

/// Name, shape and flags of an entry of httpd's tables of commands.
fn httpd_entry(text: &str, macro_name: &str, parts: &[String]) -> Option<(String, String, String)> {
    let Some(kind) = macro_name.strip_prefix("SSL_CMD_") else {
        let first = parts.first().cloned().unwrap_or_default();
        let defined = Regex::new(&format!(r#"#define\s+{}\s+"([^"]+)""#, regex::escape(&first))).ok();
        let named = defined.and_then(|d| d.captures(text).map(|c| c[1].to_owned()));
        let name = named.or_else(|| Some(first.strip_prefix('"')?.strip_suffix('"')?.to_owned()))?;
        let shape = macro_name.trim_start_matches("AP_INIT_").to_owned();
        return Some((name, shape, parts.get(3).cloned().unwrap_or_default()));
    };
    // Commands of directories name their class of overriding before their shape.
    let (name, second) = (parts.first()?, parts.get(1)?);
    let (shape, flags) = match kind {
        "ALL" => (second, "RSRC_CONF|OR_AUTHCFG".to_owned()),
        "DIR" => (parts.get(2).unwrap_or(second), format!("OR_{second}")),
        "PXY" => (second, "RSRC_CONF|PROXY_CONF".to_owned()),
        _ => (second, "RSRC_CONF".to_owned()),
    };
    Some((format!("SSL{name}"), shape.clone(), flags))
}

/// How httpd counts the words of a shape (`invoke_cmd` in server/config.c): the first ones must not be empty.
fn httpd_takes(shape: &str) -> &'static str {
    match shape {
        "NO_ARGS" => "none",
        // Whatever stands behind a switch is not looked at.
        "FLAG" => "flag str*",
        "TAKE1" => "word",
        "TAKE2" => "word{2}",
        "TAKE3" => "word{3}",
        "TAKE12" => "word str?",
        "TAKE23" => "word{2} str?",
        "TAKE13" => "word | word{3}",
        "TAKE123" => "word str{0,2}",
        "ITERATE2" => "word str+",
        "ITERATE" | "TAKE_ARGV" => "str*",
        _ => "raw",
    }
}

/// The sections that a command's own function refuses: `!global` for all of them, `!dir` for directory-like
/// ones, `host` for virtual hosts, `limit`, `files`.
fn refused_sections(function: &str, text: &str, shared: &str) -> String {
    let Ok(head) = Regex::new(&format!(r"\b{}\s*\([^;{{]*\)\s*\{{", regex::escape(function))) else {
        return String::new();
    };
    let Ok(call) = Regex::new(r"ap_check_cmd_context\(\s*\w+,\s*([A-Z_|\s]+)\)") else {
        return String::new();
    };
    let body = [text, shared]
        .into_iter()
        .find_map(|t| head.find(t).map(|m| bracketed(t, m.end() - 1)))
        .unwrap_or_default();
    let mut words = BTreeSet::new();
    for flags in call.captures_iter(body) {
        for flag in flags[1].split('|').map(str::trim) {
            words.insert(match flag {
                "GLOBAL_ONLY" => "!global",
                "NOT_IN_VIRTUALHOST" => "!host",
                "NOT_IN_DIR_CONTEXT" | "NOT_IN_DIR_LOC_FILE" => "!dir",
                "NOT_IN_LIMIT" => "!limit",
                "NOT_IN_FILES" => "!files",
                "NOT_IN_DIRECTORY" => "!directory",
                "NOT_IN_LOCATION" => "!location",
                _ => "!other",
            });
        }
    }
    words.into_iter().collect::<Vec<_>>().join(",")
}

/// Flags that a file names by a macro of its own, put in.
fn expanded(flags: &str, text: &str) -> String {
    let parts = flags.split('|').map(|flag| {
        let flag = flag.trim();
        let defined = Regex::new(&format!(r"(?m)^#define\s+{}\s+([A-Z_|() ]+)$", regex::escape(flag))).ok();
        defined
            .and_then(|d| d.captures(text).map(|c| c[1].trim().to_owned()))
            .unwrap_or_else(|| flag.to_owned())
    });
    parts.collect::<Vec<_>>().join("|")
}

/// Allowed places as words: `server` (outside directory sections), `directory`, and the `AllowOverride`
/// classes.
fn httpd_flags(flags: &str) -> String {
    let mut words = BTreeSet::new();
    for flag in flags.split(['|', '+', '(', ')']).map(str::trim) {
        match flag {
            "RSRC_CONF" => drop(words.insert("server")),
            "ACCESS_CONF" => drop(words.insert("directory")),
            "OR_ALL" => words.extend(["limit", "options", "fileinfo", "authcfg", "indexes", "unset"]),
            "OR_LIMIT" => drop(words.insert("limit")),
            "OR_OPTIONS" => drop(words.insert("options")),
            "OR_FILEINFO" => drop(words.insert("fileinfo")),
            "OR_AUTHCFG" => drop(words.insert("authcfg")),
            "OR_INDEXES" => drop(words.insert("indexes")),
            "OR_UNSET" => drop(words.insert("unset")),
            "EXEC_ON_READ" => drop(words.insert("on-read")),
            "PROXY_CONF" => drop(words.insert("proxy")),
            "NONFATAL_OVERRIDE" | "NONFATAL_UNKNOWN" | "NONFATAL_ALL" | "" => {}
            other => drop(words.insert(match other {
                "OR_NONE" => "none",
                _ => "server",
            })),
        }
    }
    words.into_iter().collect::<Vec<_>>().join(",")
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Writes made-up sources and harvests them.
    fn of<T>(name: &str, text: &str, harvest: impl Fn(&[PathBuf]) -> T) -> T {
        let dir = tempfile::tempdir().expect("a temporary directory");
        let file = dir.path().join(name);
        fs::write(&file, text).expect("it can be written");
        harvest(&sources(dir.path()))
    }

    #[test]
    fn arguments_are_split_outside_of_brackets_and_strings() {
        assert_eq!(
            split_arguments(r#"a, "b, \"c", f(d, e), { 1, 2 }"#),
            ["a", r#""b, \"c""#, "f(d, e)", "{ 1, 2 }"]
        );
        assert_eq!(bracketed("x = { a { b } c } d", 4), " a { b } c ");
        assert_eq!(bracketed("f(\")\", 1) rest", 1), "\")\", 1");
        assert_eq!(bracketed("{ open", 0), "");
        assert_eq!(strip_comments("a /* b */ c /* d"), "a  c ");
    }

    #[test]
    fn commands_of_nginx_come_with_places_counts_and_words() {
        let text = r#"
            static ngx_conf_enum_t  tides[] = { { ngx_string("ebb"), 1 }, { ngx_string("flood"), 2 },
                { ngx_null_string, 0 } };
            static ngx_conf_num_bounds_t  level = { ngx_conf_check_num_bounds, 1, 9 };
            /* static ngx_command_t old[] = { { ngx_string("gone"), NGX_HTTP_MAIN_CONF|NGX_CONF_TAKE1,
                ngx_conf_set_num_slot, 0, 0, NULL } }; */
            static ngx_command_t  commands[] = {
                { ngx_string("tide"), NGX_HTTP_MAIN_CONF|NGX_HTTP_LOC_CONF|NGX_CONF_TAKE1,
                  ngx_conf_set_enum_slot, 0, 0, &tides },
                { ngx_string("level"), NGX_MAIN_CONF|NGX_DIRECT_CONF|NGX_CONF_TAKE1,
                  ngx_conf_set_num_slot, 0, 0, &level },
                ngx_null_command
            };
            static ngx_http_variable_t  vars[] = { { ngx_string("tide_level"), NULL, get, 0, 0, 0 } };
        "#;
        let rows = of("ngx_http_tide_module.c", text, |f| nginx(f).expect("it can be read").0);
        assert_eq!(rows.len(), 2, "{rows:?}");
        let brief = |r: &Row| format!("{} {} {} {} {}", r.name, r.from, r.places, r.takes, r.marks);
        assert_eq!(brief(&rows[0]), "level ngx_http_tide_module main int(1..9) once");
        assert_eq!(brief(&rows[1]), "tide ngx_http_tide_module http,location enum(ebb,flood) once");
        let names = of("ngx_http_tide_module.c", text, |f| nginx(f).expect("it can be read").1);
        assert_eq!(names, ["tide_level"]);
    }

    #[test]
    fn commands_of_httpd_come_with_shape_places_and_what_their_function_refuses() {
        let text = r#"
            static const char *set_tide(cmd_parms *cmd, void *d, const char *a)
            {
                const char *err = ap_check_cmd_context(cmd, NOT_IN_VIRTUALHOST|NOT_IN_LIMIT);
                return err;
            }
            static const command_rec tide_cmds[] = {
                AP_INIT_TAKE1("TideLevel", set_tide, NULL, RSRC_CONF, "how high"),
                AP_INIT_FLAG("TideGauge", set_gauge, NULL, OR_FILEINFO|ACCESS_CONF, "on or off"),
                {NULL}
            };
            AP_DECLARE_MODULE(tide) = { 0 };
        "#;
        let rows = of("mod_tide.c", text, |f| httpd(f).expect("it can be read"));
        let brief: Vec<String> =
            rows.iter().map(|r| format!("{} {} {} {}", r.name, r.from, r.places, r.takes)).collect();
        assert_eq!(
            brief,
            ["TideGauge tide directory,fileinfo flag str*", "TideLevel tide server,!host,!limit word"]
        );
    }

    #[test]
    fn counts_of_words_are_written_as_types() {
        let counts =
            |list: &[&str]| counted("str", &list.iter().map(|c| (*c).to_owned()).collect::<Vec<_>>());
        for (list, expected) in [
            (&["1"][..], "str"),
            (&["0"], "none"),
            (&["2"], "str{2}"),
            (&["1", "2"], "str{1,2}"),
            (&["0", "1"], "str?"),
            (&["1", "3"], "str | str{3}"),
            (&["1+"], "str+"),
            (&["0+"], "str*"),
            (&["2+"], "str{2,}"),
            (&["flag"], "str"),
        ] {
            assert_eq!(counts(list), expected, "{list:?}");
            assert!(jolly_rows::takes(expected).is_ok());
        }
    }

    #[test]
    fn files_of_other_systems_and_examples_are_left_out() {
        let command = r#"static ngx_command_t c[] = { { ngx_string("x"), NGX_MAIN_CONF|NGX_CONF_TAKE1,
            ngx_conf_set_num_slot, 0, 0, NULL } };"#;
        assert!(of("ngx_kqueue_module.c", command, |f| nginx(f).expect("it can be read").0).is_empty());
        assert_eq!(httpd_flags("RSRC_CONF|OR_ALL"), "authcfg,fileinfo,indexes,limit,options,server,unset");
        assert_eq!(httpd_flags("EXEC_ON_READ|NONFATAL_ALL"), "on-read");
    }
}
