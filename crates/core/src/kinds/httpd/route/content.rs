//! What a path stands for: aliases, what is passed on, files and directories.
use super::state::{Unknown, Walk, shown};
use crate::config::{Place, Upstream};
use crate::path;
use crate::route::{Files, Groups, Node, Pass, Speaks, uri};

/// What a server's own lines make of a path.
pub(super) enum Mapped {
    /// The client is sent elsewhere, or answered with a status.
    Sent(u16, Option<String>, Place),
    /// A path of the file system, and what handles it where that is said, too.
    File(String, Option<&'static str>),
    /// It is passed on.
    Passed(Box<Pass>),
}

impl<'a> Walk<'a, '_> {
    /// The last line of a name, of the site or of the main server.
    pub(super) fn of_server(&self, name: &str) -> Option<&'a Node> {
        let own = self.host.and_then(|h| h.children.iter().rev().find(|n| n.name == name));
        own.or_else(|| self.tree.top().iter().rev().find(|n| n.name == name))
    }

    /// Lines of some names: those of the site, then those of the main server.
    pub(super) fn of_servers(&self, names: &[&str]) -> Vec<&'a Node> {
        let own = self.host.iter().flat_map(|h| &h.children);
        own.chain(self.tree.top()).filter(|n| names.contains(&n.name.as_str())).collect()
    }

    pub(super) fn document_root(&self) -> String {
        let root = self.of_server("documentroot").map_or("htdocs", |n| n.word(0));
        let root = path::join(&self.tree.server_root, root);
        if root.len() > 1 { root.trim_end_matches('/').to_owned() } else { root }
    }

    /// Redirects, aliases, and the document root, in the daemon's order.
    pub(super) fn mapped(&mut self) -> Result<Mapped, Unknown> {
        let path = self.uri.clone();
        for line in self.of_servers(&["redirect", "redirectmatch", "redirectpermanent", "redirecttemp"]) {
            if let Some((status, to)) = redirected(self.files, line, &path)? {
                let to = to.map(|to| format!("{to}{}", self.query()));
                return Ok(Mapped::Sent(status, to, line.place.clone()));
            }
        }
        for line in self.of_servers(&["alias", "aliasmatch", "scriptalias", "scriptaliasmatch"]) {
            let handler = line.name.starts_with("script").then_some("cgi-script");
            if line.name.ends_with("match") {
                let mut groups = Groups::default();
                let unknown = || Unknown(shown(line));
                if self.files.fits(line.word(0), false, &path, &mut groups).ok_or_else(unknown)? {
                    let file = numbered(line.word(1), &groups);
                    return Ok(Mapped::File(path::join(&self.tree.server_root, &file), handler));
                }
            } else if let Some(rest) = beneath(&path, line.word(0)) {
                let file = format!("{}{rest}", path::join(&self.tree.server_root, line.word(1)));
                return Ok(Mapped::File(file, handler));
            }
        }
        Ok(Mapped::File(format!("{}{path}", self.document_root()), None))
    }

    /// The line that passes a path on, if there is one.
    pub(super) fn proxied(&mut self, in_locations: &[(Node, String)]) -> Result<Option<Mapped>, Unknown> {
        if !self.tree.has("proxy_module") {
            return Ok(None);
        }
        let path = self.uri.clone();
        // A location's own line stands for its name.
        for (line, prefix) in in_locations.iter().rev() {
            if let Some(rest) = beneath(&path, prefix) {
                return self.passes(line, line.word(0), rest).map(Some);
            }
        }
        for line in self.of_servers(&["proxypass", "proxypassmatch"]) {
            if line.word(1).is_empty() {
                continue;
            }
            if line.name == "proxypassmatch" {
                let mut groups = Groups::default();
                let unknown = || Unknown(shown(line));
                if self.files.fits(line.word(0), false, &path, &mut groups).ok_or_else(unknown)? {
                    if line.word(1) == "!" {
                        return Ok(None);
                    }
                    let to = line.word(1);
                    // Without a group in it the whole path goes behind.
                    let to = if to.contains('$') { numbered(to, &groups) } else { format!("{to}{path}") };
                    return self.passes(line, &to, "").map(Some);
                }
            } else if let Some(rest) = beneath(&path, line.word(0)) {
                if line.word(1) == "!" {
                    return Ok(None);
                }
                return self.passes(line, line.word(1), rest).map(Some);
            }
        }
        Ok(None)
    }

    fn passes(&self, line: &Node, to: &str, rest: &str) -> Result<Mapped, Unknown> {
        self.pass(to, rest, &line.place).map(|pass| Mapped::Passed(Box::new(pass)))
    }

    /// An address with what goes behind it, as a request that is passed on.
    pub(super) fn pass(&self, to: &str, rest: &str, place: &Place) -> Result<Pass, Unknown> {
        let (socket, to) = match to.strip_prefix("unix:") {
            Some(both) => match both.split_once('|') {
                Some((socket, to)) => (Some(socket), to),
                None => (Some(both), "http://localhost"),
            },
            None => (None, to),
        };
        let (scheme, bare) = to.split_once("://").ok_or_else(|| Unknown(crate::secrets::mask_text(to)))?;
        let at = bare.find('/').unwrap_or(bare.len());
        let (authority, target) = bare.split_at(at);
        let speaks = match scheme.to_ascii_lowercase().as_str() {
            "http" | "ws" => Speaks::Http,
            "https" | "wss" => Speaks::Https,
            "fcgi" => Speaks::FastCgi,
            "scgi" => Speaks::Scgi,
            "uwsgi" => Speaks::Uwsgi,
            "ajp" => Speaks::Ajp,
            "h2" | "h2c" => Speaks::Grpc,
            "balancer" => return self.balanced(authority, &format!("{target}{rest}"), place),
            other => return Err(Unknown(format!("passing on to {other}://"))),
        };
        let usual = match speaks {
            Speaks::Http => Some(80),
            Speaks::Https => Some(443),
            Speaks::FastCgi => Some(8000),
            Speaks::Ajp => Some(8009),
            Speaks::Scgi => Some(4000),
            _ => None,
        };
        let snapshot = self.files.snapshot;
        let (shown, member) = match socket {
            Some(socket) => {
                let spelled = format!("unix:{socket}");
                let member = Upstream::of(snapshot, &spelled, None, place);
                (spelled, member)
            }
            None => (authority.to_owned(), Upstream::of(snapshot, authority, usual, place)),
        };
        let is_web = matches!(speaks, Speaks::Http | Speaks::Https);
        let preserves =
            self.of_server("proxypreservehost").is_some_and(|n| n.word(0).eq_ignore_ascii_case("on"));
        let whole = format!("{target}{rest}");
        let whole = if whole.starts_with('/') { whole } else { format!("/{whole}") };
        let host = if preserves { self.request.host.clone() } else { authority.to_owned() };
        Ok(Pass {
            speaks,
            to: crate::secrets::mask_text(&shown),
            members: member.into_iter().collect(),
            place: place.clone(),
            script: (speaks == Speaks::FastCgi).then(|| whole.clone()),
            target: (is_web || speaks == Speaks::Ajp)
                .then(|| format!("{}{}", uri::encode(&whole), self.query())),
            host: is_web.then_some(host),
        })
    }

    /// A group of members that share the work.
    fn balanced(&self, name: &str, target: &str, place: &Place) -> Result<Pass, Unknown> {
        let wanted = format!("balancer://{name}");
        let group = self
            .of_servers(&["proxy"])
            .into_iter()
            .find(|n| n.word(0).trim_end_matches('/').eq_ignore_ascii_case(&wanted));
        let members: Vec<&Node> = match group {
            Some(group) => group.all("balancermember").collect(),
            None => {
                let of = |n: &&Node| n.word(0).trim_end_matches('/').eq_ignore_ascii_case(&wanted);
                self.of_servers(&["balancermember"]).into_iter().filter(of).collect()
            }
        };
        let address =
            |n: &Node| if n.word(0).starts_with("balancer:") { n.word(1) } else { n.word(0) }.to_owned();
        let first = members.first().ok_or_else(|| Unknown(format!("the members of {wanted}")))?;
        let mut pass = self.pass(&address(first), target, place)?;
        pass.to = wanted;
        pass.members.clear();
        for member in &members {
            let one = self.pass(&address(member), target, &member.place)?;
            let spare = member.words.iter().any(|w| w.eq_ignore_ascii_case("status=+H"));
            pass.members.extend(one.members.into_iter().map(|m| Upstream {
                spare,
                group: name.to_owned(),
                ..m
            }));
        }
        Ok(pass)
    }

    /// Logs in force, of errors and of requests.
    pub(super) fn logs(&self) -> (Vec<String>, Vec<String>) {
        let is_file =
            |n: &&Node| !n.word(0).is_empty() && !n.word(0).starts_with('|') && !n.word(0).contains(':');
        let full = |n: &Node| path::join(&self.tree.server_root, n.word(0));
        let errors = self.of_server("errorlog").filter(is_file).map(full);
        let own: Vec<&Node> = self.host.iter().flat_map(|h| h.all("customlog")).collect();
        let all = if own.is_empty() {
            self.tree.top().iter().filter(|n| n.name == "customlog").collect()
        } else {
            own
        };
        (errors.into_iter().collect(), all.into_iter().filter(is_file).map(full).collect())
    }
}

/// What a path has behind a name of an alias: a name without a slash at its end stands for whole names.
pub(super) fn beneath<'u>(path: &'u str, name: &str) -> Option<&'u str> {
    let rest = path.strip_prefix(name)?;
    (name.ends_with('/') || rest.is_empty() || rest.starts_with('/')).then_some(rest)
}

/// `$N` filled in.
fn numbered(text: &str, groups: &Groups) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find('$') {
        out.push_str(&rest[..at]);
        rest = &rest[at + 1..];
        match rest.chars().next().and_then(|c| c.to_digit(10)).and_then(|d| usize::try_from(d).ok()) {
            Some(number) => {
                out.push_str(groups.numbered.get(number).map_or("", String::as_str));
                rest = &rest[1..];
            }
            None => out.push('$'),
        }
    }
    out.push_str(rest);
    out
}

/// Where a redirect sends a path, with its status; `None` inside where it only answers with the status.
pub(super) fn redirected(
    files: &Files,
    line: &Node,
    path: &str,
) -> Result<Option<(u16, Option<String>)>, Unknown> {
    let word_status = |word: &str| match word.to_ascii_lowercase().as_str() {
        "permanent" => Some(301),
        "temp" => Some(302),
        "seeother" => Some(303),
        "gone" => Some(410),
        other => other.parse::<u16>().ok(),
    };
    let (status, from, to) = match (line.name.as_str(), line.words.as_slice()) {
        ("redirectpermanent", [from, to]) => (301, from, Some(to)),
        ("redirecttemp", [from, to]) => (302, from, Some(to)),
        (_, [status, from, to]) => (word_status(status).unwrap_or(302), from, Some(to)),
        (_, [first, second]) => match word_status(first).filter(|_| !first.starts_with('/')) {
            Some(status) => (status, second, None),
            None => (302, first, Some(second)),
        },
        _ => return Err(Unknown(shown(line))),
    };
    if line.name == "redirectmatch" {
        let mut groups = Groups::default();
        let unknown = || Unknown(shown(line));
        let hit = files.fits(from, false, path, &mut groups).ok_or_else(unknown)?;
        return Ok(hit.then(|| (status, to.map(|to| numbered(to, &groups)))));
    }
    Ok(beneath(path, from).map(|rest| (status, to.map(|to| format!("{to}{}", uri::encode(rest))))))
}
