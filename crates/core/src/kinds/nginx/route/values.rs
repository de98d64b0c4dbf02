//! Values of a request: variables, and templates that hold them.
use super::state::{Unknown, Walk};
use crate::route::{Groups, Node, uri};

/// How deep variables may stand for each other.
const DEPTH: u8 = 8;

impl Walk<'_, '_> {
    /// A value with its variables filled in.
    pub(super) fn value(&self, template: &str) -> Result<String, Unknown> {
        self.fill(template, &self.groups, DEPTH)
    }

    fn fill(&self, template: &str, groups: &Groups, depth: u8) -> Result<String, Unknown> {
        let mut out = String::new();
        let mut rest = template;
        while let Some(at) = rest.find('$') {
            out.push_str(&rest[..at]);
            rest = &rest[at + 1..];
            let braced = rest.starts_with('{');
            let body = if braced { &rest[1..] } else { rest };
            let digit = body.starts_with(|c: char| c.is_ascii_digit()) && !braced;
            let length = body.bytes().take_while(|b| b.is_ascii_alphanumeric() || *b == b'_').count();
            let length = if digit { 1 } else { length };
            let name = &body[..length];
            if name.is_empty() {
                return Err(Unknown(template.to_owned()));
            }
            out.push_str(&self.variable(name, groups, depth)?);
            rest = &body[length..];
            if braced {
                rest = rest.strip_prefix('}').ok_or_else(|| Unknown(template.to_owned()))?;
            }
        }
        out.push_str(rest);
        Ok(out)
    }

    /// One variable, as it is now. Headers that are not sent are empty.
    fn variable(&self, name: &str, groups: &Groups, depth: u8) -> Result<String, Unknown> {
        let unknown = || Unknown(format!("${name}"));
        let depth = depth.checked_sub(1).ok_or_else(unknown)?;
        if let Ok(number) = name.parse::<usize>() {
            return Ok(groups.numbered.get(number).cloned().unwrap_or_default());
        }
        if let Some(value) = self.set.get(name).or_else(|| groups.named.get(name)) {
            return Ok(value.clone());
        }
        let request = self.request;
        let (path, query) = uri::split(&request.target);
        Ok(match name {
            "uri" | "document_uri" => self.uri.clone(),
            "fastcgi_script_name" => self.script_name()?.0,
            "fastcgi_path_info" => self.script_name()?.1,
            "request_uri" => format!("{path}{}{query}", if request.target.contains('?') { "?" } else { "" }),
            "args" | "query_string" => self.args.clone(),
            "is_args" => if self.args.is_empty() { "" } else { "?" }.to_owned(),
            "host" => match request.host_name() {
                name if name.is_empty() => self.server_name(),
                name => name,
            },
            "http_host" => request.host.clone(),
            "http_user_agent" => request.agent.clone(),
            "http_accept" => "*/*".to_owned(),
            "server_name" => self.server_name(),
            "server_port" => request.port.to_string(),
            "server_addr" => request.address.to_string(),
            "server_protocol" => "HTTP/1.1".to_owned(),
            "scheme" => if request.tls { "https" } else { "http" }.to_owned(),
            "https" => if request.tls { "on" } else { "" }.to_owned(),
            "remote_addr" => request.client.to_string(),
            "request_method" => "GET".to_owned(),
            "document_root" => self.document_root()?,
            "request_filename" => self.path_of(&self.uri)?,
            "remote_user" | "content_length" | "content_type" | "request_body" => String::new(),
            _ if name.starts_with("http_") || name.starts_with("cookie_") => String::new(),
            _ => match name.strip_prefix("arg_") {
                Some(argument) => self.argument(argument),
                None => self.made(name, depth)?.ok_or_else(unknown)?,
            },
        })
    }

    fn argument(&self, name: &str) -> String {
        let pairs = self.args.split('&').filter_map(|pair| pair.split_once('='));
        let mut fitting = pairs.filter(|(key, _)| key.eq_ignore_ascii_case(name));
        fitting.next().map_or(String::new(), |(_, value)| value.to_owned())
    }

    /// The first name of the site, as the daemon takes it.
    fn server_name(&self) -> String {
        let first = self.server.all("server_name").next().map_or("", |line| line.word(0));
        first.strip_prefix('.').unwrap_or(first).to_owned()
    }

    /// A variable that a `map` or `geo` makes.
    fn made(&self, name: &str, depth: u8) -> Result<Option<String>, Unknown> {
        let makes = |node: &&Node| {
            matches!(node.name.as_str(), "map" | "geo") && node.last_word().strip_prefix('$') == Some(name)
        };
        let Some(node) = self.http.children.iter().rev().find(makes) else { return Ok(None) };
        if node.one("include").is_some() {
            return Err(Unknown(format!("${name}")));
        }
        match node.name.as_str() {
            "map" => self.mapped(node, depth).map(Some),
            _ => self.by_network(node, depth).map(Some),
        }
    }

    fn mapped(&self, map: &Node, depth: u8) -> Result<String, Unknown> {
        let source = self.fill(map.word(0), &self.groups, depth)?;
        let lower = source.to_ascii_lowercase();
        let hostnames = map.one("hostnames").is_some();
        let plain = |key: &str| key.strip_prefix('\\').unwrap_or(key).to_ascii_lowercase();
        let entries = || map.children.iter().filter(|e| e.words.len() == 1 && !e.name.starts_with('~'));
        let mut hit = entries().filter(|e| e.name != "default").find(|e| {
            let key = plain(&e.name);
            key == lower || hostnames && key.strip_prefix('.') == Some(lower.as_str())
        });
        if hit.is_none() && hostnames {
            let ends = |key: &str| {
                let tail = key.strip_prefix('*').or(key.starts_with('.').then_some(key))?;
                (tail.starts_with('.') && lower.len() > tail.len() && lower.ends_with(tail))
                    .then_some(tail.len())
            };
            let begins = |key: &str| {
                let head = key.strip_suffix('*').filter(|h| h.ends_with('.'))?;
                (lower.len() > head.len() && lower.starts_with(head)).then_some(head.len())
            };
            let longest = |fits: &dyn Fn(&str) -> Option<usize>| {
                entries()
                    .filter_map(|e| Some((fits(&plain(&e.name))?, e)))
                    .max_by_key(|(l, _)| *l)
                    .map(|(_, e)| e)
            };
            hit = longest(&ends).or_else(|| longest(&begins));
        }
        if hit.is_none() {
            for entry in map.children.iter().filter(|e| e.name.starts_with('~')) {
                let text = entry.name.trim_start_matches('~').trim_start_matches('*');
                let caseless = entry.name.starts_with("~*");
                let mut groups = Groups::default();
                if self
                    .files
                    .fits(text, caseless, &source, &mut groups)
                    .ok_or_else(|| Unknown(map.last_word().to_owned()))?
                {
                    return self.fill(entry.word(0), &groups, depth);
                }
            }
        }
        match hit.or_else(|| entries().find(|e| e.name == "default")) {
            Some(entry) => self.fill(entry.word(0), &self.groups, depth),
            None => Ok(String::new()),
        }
    }

    /// The value of the narrowest network that holds the address.
    fn by_network(&self, geo: &Node, depth: u8) -> Result<String, Unknown> {
        let unknown = || Unknown(geo.last_word().to_owned());
        if geo.children.iter().any(|e| matches!(e.name.as_str(), "ranges" | "proxy" | "delete")) {
            return Err(unknown());
        }
        let source = if geo.words.len() > 1 { geo.word(0) } else { "$remote_addr" };
        let address: std::net::IpAddr =
            self.fill(source, &self.groups, depth)?.parse().map_err(|_| unknown())?;
        let mut best: Option<(u8, &str)> = None;
        for entry in geo.children.iter().filter(|e| e.words.len() == 1 && e.name != "default") {
            if let Some(length) = crate::net::within(address, &entry.name)
                && best.is_none_or(|(known, _)| length >= known)
            {
                best = Some((length, entry.word(0)));
            }
        }
        let usual = || geo.one("default").map_or("", |e| e.word(0));
        Ok(best.map_or_else(usual, |(_, value)| value).to_owned())
    }
}
