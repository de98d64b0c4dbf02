//! Rules of the rewrite module, of the server and of folders.
use super::state::{Unknown, Walk, shown};
use crate::config::Place;
use crate::host::{FileKind, FileStatus, Look};
use crate::route::{Groups, Met, Node};
use std::ops::ControlFlow;

/// What came of a set of rules.
pub(super) enum Rewritten {
    /// None fitted, or none that changes anything.
    Unchanged,
    /// Another path, and perhaps another query.
    Path(String),
    /// A path of the file system (rules of the server only).
    File(String),
    /// The client is sent elsewhere.
    Sent(u16, String, Place),
    /// It is answered with a status.
    Status(u16, Place),
    /// It is passed on to an address.
    Passed(String, Place),
}

/// Flags of a rule, in small letters, with their values.
fn flags(node: &Node) -> Vec<(String, String)> {
    let text = node.word(2).trim_start_matches('[').trim_end_matches(']');
    text.split(',')
        .map(|f| f.trim())
        .filter(|f| !f.is_empty())
        .map(|f| f.split_once('=').map_or((f, ""), |(name, value)| (name, value)))
        .map(|(name, value)| (name.to_ascii_lowercase(), value.to_owned()))
        .collect()
}

fn has(flags: &[(String, String)], names: &[&str]) -> bool {
    flags.iter().any(|(name, _)| names.contains(&name.as_str()))
}

impl Walk<'_, '_> {
    /// Applies the rules of a block to a path; `prefix` is what a folder's rules do not see of it.
    pub(super) fn rules(
        &mut self,
        children: &[Node],
        path: &str,
        folder: Option<&str>,
    ) -> Result<Rewritten, Unknown> {
        let mut current = path.to_owned();
        let mut changed = false;
        let mut conditions: Vec<&Node> = Vec::new();
        let mut skip = 0;
        let mut chain_broken = false;
        for node in children {
            crate::bounds::step(1);
            if node.name == "rewritecond" {
                conditions.push(node);
                continue;
            }
            if node.name != "rewriterule" {
                continue;
            }
            let asked = std::mem::take(&mut conditions);
            let flags = flags(node);
            let chained = has(&flags, &["c", "chain"]);
            if skip > 0 {
                skip -= 1;
                continue;
            }
            if chain_broken {
                chain_broken = chained;
                continue;
            }
            let Some(found) = self.rule(node, &asked, &flags, &current)? else {
                chain_broken = chained;
                continue;
            };
            if let Some((_, count)) = flags.iter().find(|(n, _)| matches!(n.as_str(), "s" | "skip")) {
                skip = count.parse().unwrap_or(1);
            }
            if let Some(status) = refused(&flags) {
                return Ok(Rewritten::Status(status, node.place.clone()));
            }
            if let Some(to) = found {
                changed = true;
                match self.made(to, node, &flags, (children, folder)) {
                    ControlFlow::Break(done) => return Ok(done),
                    ControlFlow::Continue(to) => current = to,
                }
            }
            if has(&flags, &["n", "next"]) {
                return Err(Unknown("a rule that starts over".to_owned()));
            }
            if has(&flags, &["l", "last", "end"]) {
                self.rewrite_ended |= has(&flags, &["end"]);
                break;
            }
        }
        if !changed || (folder.is_some() && current == path) {
            return Ok(Rewritten::Unchanged);
        }
        Ok(match folder {
            Some(_) if current.starts_with('/') => Rewritten::Path(current),
            Some(_) => Rewritten::Path(self.based(children, folder, &current)),
            // A first name that is there makes it a path of the file system.
            None if self.is_file_path(&current)? => Rewritten::File(current),
            None => Rewritten::Path(current),
        })
    }

    /// What a rule that fits makes of the path: the next rule's path, or the end of all rules.
    fn made(
        &mut self,
        to: String,
        node: &Node,
        flags: &[(String, String)],
        (children, folder): (&[Node], Option<&str>),
    ) -> ControlFlow<Rewritten, String> {
        let (to, query) = match to.split_once('?') {
            Some((to, query)) => (to.to_owned(), Some(query.to_owned())),
            None => (to, None),
        };
        if let Some(query) = query {
            let appends = has(flags, &["qsa", "qsappend"]) && !self.args.is_empty();
            self.args = if appends { format!("{query}&{}", self.args) } else { query };
        }
        if has(flags, &["qsd", "qsdiscard"]) {
            self.args.clear();
        }
        let sent = flags.iter().find(|(n, _)| matches!(n.as_str(), "r" | "redirect"));
        let absolute = ["http://", "https://"].iter().any(|s| to.starts_with(s));
        if has(flags, &["p", "proxy"]) {
            return ControlFlow::Break(Rewritten::Passed(to, node.place.clone()));
        }
        if sent.is_none() && !absolute {
            return ControlFlow::Continue(to);
        }
        let status = match sent.map(|(_, value)| value.as_str()) {
            Some("permanent") => 301,
            Some("seeother") => 303,
            Some(code) => code.parse().unwrap_or(302),
            None => 302,
        };
        let to = if absolute || to.starts_with('/') { to } else { self.based(children, folder, &to) };
        let to = format!("{to}{}", self.query());
        ControlFlow::Break(Rewritten::Sent(status, to, node.place.clone()))
    }

    /// A path that counts from a folder, as clients see it.
    fn based(&self, children: &[Node], folder: Option<&str>, to: &str) -> String {
        let base = children.iter().rev().find(|n| n.name == "rewritebase").map(|n| n.word(0).to_owned());
        let base = base.or_else(|| folder.map(str::to_owned)).unwrap_or_else(|| "/".to_owned());
        format!("{}/{to}", base.trim_end_matches('/'))
    }

    fn is_file_path(&self, path: &str) -> Result<bool, Unknown> {
        let Some(first) = path.strip_prefix('/').and_then(|p| p.split('/').next()).filter(|f| !f.is_empty())
        else {
            return Ok(false);
        };
        let first = format!("/{first}");
        match self.files.meet(&first) {
            Met::Unseen => Err(Unknown(first)),
            met => Ok(met == Met::Directory),
        }
    }

    /// One rule: `None` where it does not fit, else what it makes of the path, if anything.
    fn rule(
        &mut self,
        node: &Node,
        conditions: &[&Node],
        flags: &[(String, String)],
        path: &str,
    ) -> Result<Option<Option<String>>, Unknown> {
        let (negated, text) = match node.word(0).strip_prefix('!') {
            Some(rest) => (true, rest),
            None => (false, node.word(0)),
        };
        let unknown = || Unknown(format!("the pattern of {}", shown(node)));
        let mut groups = Groups::default();
        let caseless = has(flags, &["nc", "nocase"]);
        let hit = self.files.fits(text, caseless, path, &mut groups).ok_or_else(unknown)?;
        if hit == negated {
            return Ok(None);
        }
        let mut taken = Groups::default();
        let mut at = 0;
        while let Some(condition) = conditions.get(at) {
            let or = condition
                .word(2)
                .to_ascii_lowercase()
                .split(['[', ']', ','])
                .any(|f| f == "or" || f == "ornext");
            if self.condition(condition, &groups, &mut taken)? {
                // The rest of what stands in the same row of "or" need not be asked.
                while let Some(next) = conditions.get(at) {
                    let or = next.word(2).to_ascii_lowercase();
                    at += 1;
                    if !or.split(['[', ']', ',']).any(|f| f == "or" || f == "ornext") {
                        break;
                    }
                }
                continue;
            }
            if !or {
                return Ok(None);
            }
            at += 1;
        }
        if node.word(1) == "-" {
            return Ok(Some(None));
        }
        self.expanded(node.word(1), &groups, &taken).map(|to| Some(Some(to)))
    }

    fn condition(&mut self, node: &Node, rule: &Groups, taken: &mut Groups) -> Result<bool, Unknown> {
        let subject = self.expanded(node.word(0), rule, taken)?;
        let (negated, test) = match node.word(1).strip_prefix('!') {
            Some(rest) => (true, rest),
            None => (false, node.word(1)),
        };
        let caseless =
            node.word(2).to_ascii_lowercase().split(['[', ']', ',']).any(|f| f == "nc" || f == "nocase");
        let unseen = || Unknown(shown(node));
        let met = || {
            let path = subject.trim_end_matches('/');
            match self.files.stat(if path.is_empty() { "/" } else { path }) {
                Met::Unseen => Err(unseen()),
                met => Ok(met),
            }
        };
        // What could not be looked at is not the same as what is not there.
        let looked = |look: Look<FileStatus>| match look {
            Look::Seen(status) => Ok(Some(status)),
            Look::Absent => Ok(None),
            Look::NotSeen(_) => Err(unseen()),
        };
        let snapshot = self.files.snapshot;
        let holds = match test {
            "-f" => met()? == Met::File,
            "-d" => met()? == Met::Directory,
            "-s" => looked(snapshot.stat(&subject))?.is_some_and(|s| s.size > 0),
            "-l" | "-L" | "-h" => {
                looked(snapshot.link_stat(&subject))?.is_some_and(|s| s.kind == FileKind::Link)
            }
            _ if test.starts_with('=') => {
                let against = test[1..].trim_matches('"');
                if caseless { subject.eq_ignore_ascii_case(against) } else { subject == against }
            }
            _ if test.starts_with(['<', '>']) || test.starts_with('-') || node.word(0) == "expr" => {
                return Err(unseen());
            }
            pattern => self.files.fits(pattern, caseless, &subject, taken).ok_or_else(unseen)?,
        };
        Ok(holds != negated)
    }

    /// A text with `$N` of the rule, `%N` of its conditions and `%{NAME}` filled in.
    fn expanded(&self, text: &str, rule: &Groups, conditions: &Groups) -> Result<String, Unknown> {
        let mut out = String::new();
        let mut rest = text;
        while let Some(at) = rest.find(['$', '%', '\\']) {
            out.push_str(&rest[..at]);
            let sign = rest.as_bytes()[at];
            rest = &rest[at + 1..];
            let digit =
                rest.chars().next().and_then(|c| c.to_digit(10)).and_then(|d| usize::try_from(d).ok());
            match (sign, digit) {
                (b'\\', _) => {
                    let mut letters = rest.chars();
                    out.extend(letters.next());
                    rest = letters.as_str();
                }
                (b'$', Some(number)) => {
                    out.push_str(rule.numbered.get(number).map_or("", String::as_str));
                    rest = &rest[1..];
                }
                (b'%', Some(number)) => {
                    out.push_str(conditions.numbered.get(number).map_or("", String::as_str));
                    rest = &rest[1..];
                }
                (b'%', None) if rest.starts_with('{') => {
                    let Some(end) = rest.find('}') else { return Err(Unknown(text.to_owned())) };
                    out.push_str(&self.variable(&rest[1..end])?);
                    rest = &rest[end + 1..];
                }
                (b'$', None) if rest.starts_with('{') => return Err(Unknown(text.to_owned())),
                (other, _) => out.push(char::from(other)),
            }
        }
        out.push_str(rest);
        Ok(out)
    }

    fn variable(&self, name: &str) -> Result<String, Unknown> {
        let request = self.request;
        Ok(match name.to_ascii_uppercase().as_str() {
            "REQUEST_URI" => self.uri.clone(),
            "REQUEST_FILENAME" | "SCRIPT_FILENAME" => {
                self.filename.clone().unwrap_or_else(|| self.uri.clone())
            }
            "QUERY_STRING" => self.args.clone(),
            "HTTP_HOST" | "HTTP:HOST" => request.host.clone(),
            "HTTP_USER_AGENT" | "HTTP:USER-AGENT" => request.agent.clone(),
            "HTTP_REFERER" | "HTTP_COOKIE" | "REMOTE_USER" | "PATH_INFO" => String::new(),
            "HTTP_ACCEPT" => "*/*".to_owned(),
            "SERVER_NAME" => request.host_name(),
            "SERVER_PORT" => request.port.to_string(),
            "SERVER_ADDR" => request.address.to_string(),
            "REMOTE_ADDR" => request.client.to_string(),
            "REQUEST_METHOD" => "GET".to_owned(),
            "REQUEST_SCHEME" => if request.tls { "https" } else { "http" }.to_owned(),
            "HTTPS" => if request.tls { "on" } else { "off" }.to_owned(),
            "DOCUMENT_ROOT" => self.document_root(),
            "THE_REQUEST" => format!("GET {} HTTP/1.1", request.target),
            "SERVER_PROTOCOL" => "HTTP/1.1".to_owned(),
            other => return Err(Unknown(format!("%{{{other}}}"))),
        })
    }
}

/// The status of a rule that refuses.
fn refused(flags: &[(String, String)]) -> Option<u16> {
    if has(flags, &["f", "forbidden"]) {
        return Some(403);
    }
    if has(flags, &["g", "gone"]) {
        return Some(410);
    }
    // A redirect with a status that is none ends it with that.
    let code = flags.iter().find(|(n, _)| matches!(n.as_str(), "r" | "redirect"))?.1.parse::<u16>().ok()?;
    (!(300..400).contains(&code)).then_some(code)
}
