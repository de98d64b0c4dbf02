//! What opens and closes a block.
use super::super::listen;
use super::super::state::{Block, Directive, Reader, Site};
use super::common::{check_regex, defines, push, uses_variables};
use crate::code::Code;
use crate::config::rows::Type;
use crate::config::{About, DependsOn};
use crate::path;

/// Blocks whose lines are data, not directives.
pub(in super::super) fn is_free_block(context: &str) -> bool {
    matches!(context, "types" | "map" | "geo" | "split_clients" | "charset_map")
}

/// The context inside the block that a directive opens.
pub(in super::super) fn inner_context(name: &str, outer: &'static str) -> &'static str {
    match (name, outer) {
        ("events", _) => "events",
        ("http", _) => "http",
        ("stream", _) => "stream",
        ("mail", _) => "mail",
        ("server", "stream") => "stream-server",
        ("server", "mail") => "mail-server",
        ("server", _) => "server",
        ("upstream", "stream") => "stream-upstream",
        ("upstream", _) => "upstream",
        ("location", _) => "location",
        ("if", "server") => "server-if",
        ("if", _) => "location-if",
        ("limit_except", _) => "limit",
        ("types", _) => "types",
        ("map", _) => "map",
        ("geo", _) => "geo",
        ("split_clients", _) => "split_clients",
        ("charset_map", _) => "charset_map",
        _ => "any",
    }
}

/// A line of a data block.
pub(in super::super) fn free_entry(r: &mut Reader, d: &Directive) {
    let count = d.words.len();
    match r.context() {
        "map" if d.name() == "include" && count == 2 => include_data(r, d),
        "map" if count == 1 && !matches!(d.name(), "hostnames" | "volatile") => {
            r.find(d, Code::ConfigBadValue, format!("\"{}\" has no value behind it", d.name()));
        }
        "map" if count > 2 => {
            r.find(
                d,
                Code::ConfigBadValue,
                format!("{count} words where a map takes two: a pattern and its value"),
            );
        }
        "map" if count == 2 => {
            if let Some(pattern) = d.name().strip_prefix('~') {
                check_regex(r, d, pattern.trim_start_matches('*'));
            }
            let value = d.argument(0);
            uses_variables(r, d, value);
        }
        "geo" if d.name() == "include" && count == 2 => include_data(r, d),
        "geo"
            if count != 2
                && !(count == 1 && matches!(d.name(), "ranges" | "proxy_recursive" | "volatile")) =>
        {
            r.find(
                d,
                Code::ConfigBadValue,
                format!("{count} words where geo takes two: a network and its value"),
            );
        }
        "geo"
            if count == 2
                && !matches!(d.name(), "default" | "delete" | "proxy" | "include")
                && !d.name().contains('-')
                && !Type::Network(&[]).holds(d.name()) =>
        {
            r.find(d, Code::ConfigBadValue, format!("\"{}\" is not an address or network", d.name()));
        }
        "split_clients" if count == 2 && d.name() != "*" => {
            let share = d.name().strip_suffix('%').and_then(|n| n.parse::<f64>().ok());
            if share.is_none_or(|s| !(0.0..=100.0).contains(&s)) {
                r.find(
                    d,
                    Code::ConfigBadValue,
                    format!("\"{}\" is not a share, expected such as 50%", d.name()),
                );
            }
        }
        "split_clients" if count != 2 => {
            r.find(
                d,
                Code::ConfigBadValue,
                format!("{count} words where split_clients takes two: a share and its value"),
            );
        }
        _ => {}
    }
}

pub(super) fn include_data(r: &mut Reader, d: &Directive) {
    let target = path::join(path::parent(&r.options.config), d.argument(0));
    if !path::is_pattern(&target) && r.snapshot.exists(&target) == Some(false) {
        let found = r.find_word(d, 0, Code::ConfigMissingFile, format!("{target} does not exist"));
        found.depends_on = DependsOn::Files;
        found.about = Some(About::File(target));
    }
}

/// Called when a block begins, before its content.
pub(in super::super) fn opened(r: &mut Reader, d: &Directive, block: &mut Block) {
    match (d.name(), block.context) {
        ("events", _) => r.facts.has_events = true,
        ("http", _) => r.facts.has_http = true,
        ("server", "server") => {
            block.site = Some(Site { opened: Some(d.place.clone()), ..Site::default() });
        }
        ("server", "stream-server" | "mail-server") => block.deaf = Some(d.place.clone()),
        ("upstream", _) => {
            let name = d.argument(0).to_ascii_lowercase();
            let (place, known) = (r.place_at(d, d.argument(0)), r.known_here(&name));
            if let Some(first) = r.facts.upstreams.insert(known, place) {
                r.find_of(
                    d,
                    &name,
                    Code::ConfigConflict,
                    format!("upstream \"{name}\" is already declared in {first}"),
                );
            }
        }
        ("location", _) => location(r, d, block),
        ("if", _) => {
            block.no_uri = true;
            condition(r, d);
        }
        ("limit_except", _) => {
            block.no_uri = true;
            const METHODS: &[&str] = &[
                "GET",
                "HEAD",
                "POST",
                "PUT",
                "DELETE",
                "MKCOL",
                "COPY",
                "MOVE",
                "OPTIONS",
                "PROPFIND",
                "PROPPATCH",
                "LOCK",
                "UNLOCK",
                "PATCH",
            ];
            let wrong =
                d.arguments().find(|a| !METHODS.iter().any(|m| m.eq_ignore_ascii_case(a))).map(str::to_owned);
            if let Some(wrong) = wrong {
                r.find_of(
                    d,
                    &wrong,
                    Code::ConfigBadValue,
                    format!("\"{wrong}\" is not a method that limit_except knows"),
                );
            }
        }
        ("map" | "geo" | "split_clients" | "perl_set", _) => {
            let name = d.words.last().map_or("", |w| w.value.as_ref()).to_owned();
            match name.strip_prefix('$') {
                Some(variable) => defines(r, d, variable),
                None => drop(r.find_of(
                    d,
                    &name,
                    Code::ConfigBadValue,
                    format!("\"{name}\" is not a variable name: it must begin with $"),
                )),
            }
            if d.words.len() > 2 {
                let source = d.argument(0).to_owned();
                uses_variables(r, d, &source);
            }
        }
        _ => {}
    }
}

/// Called when a block ends.
pub(in super::super) fn close(r: &mut Reader, line: u32) {
    let Some(block) = r.blocks.pop() else { return };
    if let Some(tree) = &mut r.tree {
        tree.close();
    }
    if matches!(block.context, "server" | "location" | "location-if" | "limit") {
        let outer = r.block().number;
        r.facts.inner.push((block.number, outer));
    }
    match block.context {
        "stream-server" | "mail-server" if block.deaf.is_some() => {
            push(r, Code::ConfigBadValue, block.deaf, "server", "this server has no \"listen\"".into());
        }
        "http" => r.facts.http_end = Some(r.here(line)),
        "server" => {
            if let Some(site) = block.site {
                listen::site_ends(r, site);
            }
        }
        "upstream" | "stream-upstream" if block.members == 0 => {
            let place = r.here(line);
            push(
                r,
                Code::ConfigBadValue,
                Some(place),
                "upstream",
                "no server stands inside this upstream".into(),
            );
        }
        _ => {}
    }
}

pub(super) fn location(r: &mut Reader, d: &Directive, block: &mut Block) {
    let first = d.argument(0).to_owned();
    let (kind, name) = if d.words.len() == 3 {
        (first.clone(), d.argument(1).to_owned())
    } else if let Some(rest) = first.strip_prefix("^~") {
        ("^~".into(), rest.to_owned())
    } else if let Some(rest) = first.strip_prefix('=') {
        ("=".into(), rest.to_owned())
    } else if let Some(rest) = first.strip_prefix("~*").filter(|r| !r.is_empty()) {
        ("~*".into(), rest.to_owned())
    } else if let Some(rest) = first.strip_prefix('~').filter(|r| !r.is_empty()) {
        ("~".into(), rest.to_owned())
    } else {
        (String::new(), first.clone())
    };
    match kind.as_str() {
        "" | "=" | "^~" => {}
        "~" | "~*" => check_regex(r, d, &name),
        other => {
            r.find_of(
                d,
                other,
                Code::ConfigBadValue,
                format!("\"{other}\" is not a location modifier, expected =, ~, ~* or ^~"),
            );
            return;
        }
    }
    let regex = kind.starts_with('~');
    let named = name.starts_with('@');
    block.no_uri = regex || named;
    if let Some(outer) = r.block().prefix.clone() {
        if named {
            r.find_of(
                d,
                &name,
                Code::ConfigMisplacedDirective,
                format!("named location \"{name}\" stands inside another location"),
            );
        } else if !regex && !name.starts_with(&outer) {
            r.find_of(
                d,
                &name,
                Code::ConfigMisplacedDirective,
                format!("location \"{name}\" is outside location \"{outer}\""),
            );
        }
    }
    if !regex && !named {
        block.prefix = Some(name.clone());
        // An exact and a prefix location of one path live side by side; `^~` and plain are both prefixes.
        let key = format!("{}{name}", if kind == "=" { "=" } else { "" });
        if !r.block().declared.insert(key) {
            r.find_of(
                d,
                &name,
                Code::ConfigConflict,
                format!("location \"{name}\" is declared twice in one block"),
            );
        }
    }
}

/// The words of a condition without its parentheses, which stand alone or touch the first and the last word.
/// A quoted value is one word, whatever blanks it holds (`ngx_http_rewrite_if_condition`).
fn inside_parentheses<'w>(words: &[&'w str]) -> Option<Vec<&'w str>> {
    let (first, last) = (words.first()?.strip_prefix('(')?, words.last()?);
    let mut inner: Vec<&str> = words.to_vec();
    inner[0] = first;
    let end = inner.len() - 1;
    let closed = if end == 0 { first } else { last };
    inner[end] = closed.strip_suffix(')')?;
    if inner.len() > 1 && inner[0].is_empty() {
        inner.remove(0);
    }
    if inner.len() > 1 && inner.last().is_some_and(|w| w.is_empty()) {
        inner.pop();
    }
    Some(inner)
}

pub(super) fn condition(r: &mut Reader, d: &Directive) {
    let words: Vec<&str> = d.arguments().collect();
    let Some(inner) = inside_parentheses(&words) else {
        r.find(d, Code::ConfigBadValue, format!("\"{}\" is not a condition in parentheses", words.join(" ")));
        return;
    };
    let fault = match inner.as_slice() {
        [one] if one.starts_with('$') && one.len() > 1 => {
            // Everything behind the sign is the name, an operator without blanks too.
            r.facts.variable_uses.push((r.known_here(&one[1..]), r.place_at(d, one)));
            return;
        }
        [one] => Some(format!("\"{one}\" is not a variable")),
        [left, operator, right] if left.starts_with('$') && left.len() > 1 => {
            uses_variables(r, d, left);
            match *operator {
                "=" | "!=" => {
                    uses_variables(r, d, right);
                    None
                }
                "~" | "~*" | "!~" | "!~*" => {
                    check_regex(r, d, right);
                    None
                }
                other => Some(format!(
                    "\"{other}\" is not an operator of a condition, expected =, !=, ~, ~*, !~ or !~*"
                )),
            }
        }
        [test, file] if test.starts_with(['-', '!']) => {
            uses_variables(r, d, file);
            let known = ["-f", "!-f", "-d", "!-d", "-e", "!-e", "-x", "!-x"].contains(test);
            (!known).then(|| format!("\"{test}\" is not a test of a file"))
        }
        [left, _, _, ..] if left.starts_with('$') => Some("more than one condition".to_owned()),
        _ => Some(format!("\"{}\" is not a condition", inner.join(" "))),
    };
    if let Some(message) = fault {
        r.find(d, Code::ConfigBadValue, message);
    }
}
