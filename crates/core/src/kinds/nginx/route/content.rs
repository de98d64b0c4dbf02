//! Paths of files, and what a request is passed on as.
use super::locations::Shape;
use super::state::{Unknown, Walk};
use crate::config::{Place, Upstream};
use crate::path;
use crate::route::{Groups, Node, Pass, Speaks, uri};

impl<'a> Walk<'a, '_> {
    /// The directory that paths count from; with `alias`, the name of its location that does not count, or
    /// `None` where that is a pattern.
    pub(super) fn root(&self) -> Result<(String, Option<Option<&'a str>>), Unknown> {
        let line = self.chain.iter().rev().find_map(|block| {
            let line = block.children.iter().rev().find(|n| matches!(n.name.as_str(), "root" | "alias"))?;
            Some((line, *block))
        });
        let Some((line, block)) = line else {
            return Ok((path::join(&self.options.prefix, "html"), None));
        };
        let root = path_below(&self.options.prefix, &self.value(line.word(0))?);
        if line.name == "root" {
            return Ok((root.trim_end_matches('/').to_owned(), None));
        }
        let location = if block.name == "location" {
            Some(block)
        } else {
            self.chain.iter().rev().find(|n| n.name == "location").copied()
        };
        Ok((root, Some(location.and_then(|node| Shape::of(node).name()))))
    }

    pub(super) fn document_root(&self) -> Result<String, Unknown> {
        self.root().map(|(root, _)| root)
    }

    /// The file that a path stands for (`ngx_http_map_uri_to_path`).
    pub(super) fn path_of(&self, uri: &str) -> Result<String, Unknown> {
        let (root, alias) = self.root()?;
        Ok(match alias {
            None => format!("{root}{uri}"),
            Some(Some(prefix)) => match uri.strip_prefix(prefix) {
                Some(rest) => format!("{root}{rest}"),
                None => return Err(Unknown("alias of a path that was rewritten".to_owned())),
            },
            Some(None) if self.behind_alias => format!("{root}{uri}"),
            Some(None) => root,
        })
    }

    /// What a request is passed on as.
    pub(super) fn passed(&self, node: &'a Node, location: &'a Node) -> Result<Pass, Unknown> {
        let written = node.word(0);
        let value = self.value(written)?;
        let speaks = match node.name.as_str() {
            "fastcgi_pass" => Speaks::FastCgi,
            "uwsgi_pass" => Speaks::Uwsgi,
            "scgi_pass" => Speaks::Scgi,
            "grpc_pass" => Speaks::Grpc,
            "memcached_pass" => Speaks::Memcached,
            _ if value.starts_with("https://") => Speaks::Https,
            _ => Speaks::Http,
        };
        let bare = value.split_once("://").map_or(value.as_str(), |(_, rest)| rest);
        let (authority, target) = match bare.strip_prefix("unix:") {
            Some(rest) => match rest.split_once(':') {
                Some((socket, target)) => (format!("unix:{socket}"), target),
                None => (bare.to_owned(), ""),
            },
            None => match bare.find('/') {
                Some(at) => (bare[..at].to_owned(), &bare[at..]),
                None => (bare.to_owned(), ""),
            },
        };
        let usual = match speaks {
            Speaks::Http | Speaks::Grpc => Some(80),
            Speaks::Https => Some(443),
            _ => None,
        };
        let members = self.members(&authority, usual, &node.place);
        let is_web = matches!(speaks, Speaks::Http | Speaks::Https);
        Ok(Pass {
            speaks,
            to: crate::secrets::mask_text(&authority),
            members,
            place: node.place.clone(),
            script: (speaks == Speaks::FastCgi).then(|| self.script()).transpose()?.flatten(),
            target: is_web.then(|| self.target(written, target, location)),
            host: if is_web { Some(self.host_passed(&authority)?) } else { None },
        })
    }

    fn members(&self, authority: &str, usual: Option<u16>, place: &Place) -> Vec<Upstream> {
        let snapshot = self.files.snapshot;
        let group = self.http.all("upstream").find(|n| n.word(0).eq_ignore_ascii_case(authority));
        let Some(group) = group else {
            return Upstream::of(snapshot, authority, usual, place).into_iter().collect();
        };
        let member = |line: &Node| {
            let one = Upstream::of(snapshot, line.word(0), Some(80), &line.place)?;
            let spare = line.words.iter().any(|w| w == "backup");
            Some(Upstream { group: group.word(0).to_owned(), spare, ..one })
        };
        group.all("server").filter(|n| !n.words.iter().any(|w| w == "down")).filter_map(member).collect()
    }

    /// Path and query as they are passed on: a path behind the address takes the place of the location's
    /// name.
    fn target(&self, written: &str, given: &str, location: &Node) -> String {
        if given.is_empty() {
            return if self.as_sent {
                self.request.target.clone()
            } else {
                format!("{}{}", uri::encode(&self.uri), self.query())
            };
        }
        if written.contains('$') {
            return given.to_owned();
        }
        let name = Shape::of(location).name().unwrap_or_default();
        let rest = self.uri.strip_prefix(name).unwrap_or_default();
        format!("{given}{}{}", uri::encode(rest), self.query())
    }

    fn host_passed(&self, authority: &str) -> Result<String, Unknown> {
        let lines = self.together(&["proxy_set_header"]);
        match lines.iter().rev().find(|n| n.word(0).eq_ignore_ascii_case("host")) {
            Some(line) => match line.word(1) {
                "$proxy_host" => Ok(authority.to_owned()),
                template => self.value(template),
            },
            None if authority.starts_with("unix:") => Ok("localhost".to_owned()),
            None => Ok(authority.to_owned()),
        }
    }

    /// The script that a gateway is asked for.
    fn script(&self) -> Result<Option<String>, Unknown> {
        let lines = self.together(&["fastcgi_param"]);
        let Some(line) = lines.iter().rev().find(|n| n.word(0) == "SCRIPT_FILENAME") else { return Ok(None) };
        self.value(line.word(1)).map(Some)
    }

    /// Name and further path of a script, as gateways know them.
    pub(super) fn script_name(&self) -> Result<(String, String), Unknown> {
        let mut name = self.uri.clone();
        if name.ends_with('/')
            && let Some(index) = self.effective("fastcgi_index")
        {
            name.push_str(index.word(0));
        }
        if let Some(line) = self.effective("fastcgi_split_path_info") {
            let mut groups = Groups::default();
            let unknown = || Unknown("fastcgi_split_path_info".to_owned());
            if self.files.fits(line.word(0), false, &self.uri, &mut groups).ok_or_else(unknown)? {
                let taken = |at: usize| groups.numbered.get(at).cloned().unwrap_or_default();
                return Ok((taken(1), taken(2)));
            }
        }
        Ok((name, String::new()))
    }

    /// Logs in force, of errors and of requests.
    pub(super) fn logs(&self) -> (Vec<String>, Vec<String>) {
        let mut errors = self.together(&["error_log"]);
        if errors.is_empty() {
            errors = self.top.iter().filter(|n| n.name == "error_log").collect();
        }
        let full = |n: &&Node| path_below(&self.options.prefix, n.word(0));
        let is_file = |n: &&&Node| !n.word(0).contains([':', '$']) && !matches!(n.word(0), "stderr" | "off");
        let mut errors: Vec<String> = errors.iter().filter(is_file).map(&full).collect();
        if errors.is_empty() {
            errors.extend(self.options.error_log.iter().map(|log| path_below(&self.options.prefix, log)));
        }
        let access = self.together(&["access_log"]);
        (errors, access.iter().filter(is_file).map(full).collect())
    }
}

/// A path that may count from a directory; a slash at its end stays.
fn path_below(base: &str, name: &str) -> String {
    if name.starts_with('/') { name.to_owned() } else { format!("{}/{name}", base.trim_end_matches('/')) }
}
