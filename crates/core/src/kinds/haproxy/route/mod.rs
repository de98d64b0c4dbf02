//! The way of a request through haproxy: the section that takes it, its rules, the backend that it is passed
//! on to, and the servers of that.
mod conditions;

use crate::config::{Configuration, Place, Upstream};
use crate::route::{End, Files, Node, Pass, Request, Route, Speaks, Step, StepKind};
use conditions::Seen;
use std::collections::BTreeMap;
use std::net::IpAddr;

/// What could not be decided.
struct Unknown(String, Place);

/// How rules end.
enum Ruled {
    /// They let it pass.
    On,
    /// They answer.
    Over(End, u16),
}

struct Walk<'a, 'h> {
    sections: &'a [Node],
    configuration: &'a Configuration,
    seen: Seen<'a, 'h>,
    steps: Vec<Step>,
    place: Option<Place>,
    status: Option<u16>,
}

/// The way of a request; `None` where no section listens on its address.
pub(super) fn route(
    sections: &[Node],
    configuration: &Configuration,
    files: &Files,
    request: &Request,
) -> Option<Route> {
    let front = taking(sections, configuration, request)?;
    let (path, query) = match request.target.split_once('?') {
        Some((path, query)) => (path, Some(query.to_owned())),
        None => (request.target.as_str(), None),
    };
    let seen = Seen {
        files,
        request,
        path: Some(path.to_owned()),
        query,
        host: Some(request.host.clone()),
        lists: BTreeMap::new(),
    };
    let mut walk = Walk { sections, configuration, seen, steps: Vec::new(), place: None, status: None };
    let end = match walk.go(front) {
        Ok(end) => end,
        Err(Unknown(what, place)) => End::Undecided { what, place: Some(place) },
    };
    Some(Route {
        steps: walk.steps,
        end,
        status: walk.status,
        because: None,
        place: walk.place,
        error_logs: Vec::new(),
        access_logs: Vec::new(),
    })
}

/// The section whose listener takes the request: the exact address goes before the wildcard.
fn taking<'a>(sections: &'a [Node], configuration: &Configuration, request: &Request) -> Option<&'a Node> {
    let address = crate::net::normal(request.address);
    let of = |wild: bool| {
        configuration.model.listens.iter().find(|wanted| {
            let own = wanted.listen.address.map(crate::net::normal);
            let fits = |own: IpAddr| if wild { is_wild(own, address) } else { own == address };
            wanted.listen.port == request.port && own.is_some_and(fits)
        })
    };
    let place = of(false).or_else(|| of(true))?.place.as_ref()?;
    sections.iter().rfind(|node| {
        let near = node.place.file == place.file && node.place.line <= place.line;
        near && matches!(node.name.as_str(), "frontend" | "listen")
    })
}

fn is_wild(own: IpAddr, asked: IpAddr) -> bool {
    own.is_unspecified() && (own.is_ipv4() == asked.is_ipv4() || own.is_ipv6())
}

/// The condition at the end of a line, and the words before it.
fn parted(words: &[String]) -> (&[String], &[String]) {
    let at = words.iter().position(|w| w == "if" || w == "unless").unwrap_or(words.len());
    words.split_at(at)
}

impl<'a> Walk<'a, '_> {
    fn go(&mut self, front: &'a Node) -> Result<End, Unknown> {
        let shown = |node: &Node| format!("{} {}", node.name, crate::secrets::mask_text(node.word(0)));
        self.steps.push(Step { kind: StepKind::Site, what: shown(front), place: Some(front.place.clone()) });
        self.place = Some(front.place.clone());
        let http = self.is_http(front);
        self.enter(front);
        self.connection(front)?;
        if http && let Ruled::Over(end, status) = self.rules(front)? {
            self.status = Some(status);
            return Ok(end);
        }
        let back = match self.backend(front)? {
            Some(back) => back,
            None if front.name == "listen" => return Ok(self.pass(front)),
            None => return Ok(self.nobody(front)),
        };
        if back.place != front.place {
            let step = Step { kind: StepKind::Location, what: shown(back), place: Some(back.place.clone()) };
            self.steps.push(step);
            self.place = Some(back.place.clone());
            self.enter(back);
            if self.is_http(back)
                && let Ruled::Over(end, status) = self.rules(back)?
            {
                self.status = Some(status);
                return Ok(end);
            }
        }
        Ok(self.pass(back))
    }

    /// Notes the lists of a section.
    fn enter(&mut self, section: &'a Node) {
        self.seen.lists.clear();
        for node in section.children.iter().filter(|n| n.name == "acl") {
            self.seen.lists.entry(node.word(0)).or_default().push(node);
        }
    }

    /// The sections of defaults that count for a section: the one it names, else the last one before it.
    fn defaults(&self, section: &Node) -> Option<&'a Node> {
        let from = section.words.iter().position(|w| w == "from").and_then(|at| section.words.get(at + 1));
        let before = |node: &&Node| node.name == "defaults" && node.place.file == section.place.file;
        match from {
            Some(name) => self.sections.iter().find(|n| n.name == "defaults" && n.word(0) == name),
            None => self.sections.iter().rfind(|n| before(n) && n.place.line < section.place.line),
        }
    }

    /// The line that counts: the section's last one, else that of its defaults.
    fn last(&self, section: &'a Node, name: &str) -> Option<&'a Node> {
        let of = |node: &'a Node| node.children.iter().rfind(|n| n.name == name);
        of(section).or_else(|| self.defaults(section).and_then(of))
    }

    fn is_http(&self, section: &'a Node) -> bool {
        self.last(section, "mode").is_some_and(|n| n.word(0) == "http")
    }

    fn holds(&self, node: &Node, condition: &[String]) -> Result<bool, Unknown> {
        self.seen.holds(condition).ok_or_else(|| {
            let what = crate::secrets::mask_text(&format!("whether the condition of {} holds", node.name));
            Unknown(what, node.place.clone())
        })
    }

    /// Rules on the connection that end it.
    fn connection(&mut self, section: &'a Node) -> Result<(), Unknown> {
        for node in section.children.iter().filter(|n| n.name == "tcp-request") {
            let (words, condition) = parted(&node.words);
            if words.get(1).is_some_and(|w| w == "reject") && self.holds(node, condition)? {
                return Err(Unknown("what a rejected connection meets".to_owned(), node.place.clone()));
            }
        }
        Ok(())
    }

    /// Rules on the request in their order, then redirects.
    fn rules(&mut self, section: &'a Node) -> Result<Ruled, Unknown> {
        if let Some(monitor) = self.last(section, "monitor-uri")
            && section.name != "backend"
            && self.seen.path.as_deref() == Some(monitor.word(0))
        {
            let end =
                End::Answer { location: None, directive: "monitor-uri", place: Some(monitor.place.clone()) };
            return Ok(Ruled::Over(end, 200));
        }
        for node in section.children.iter().filter(|n| n.name == "http-request") {
            let (words, condition) = parted(&node.words);
            let action = words.first().map_or("", String::as_str);
            // What changes nothing that decides the way need not be decided.
            let steers = matches!(
                action,
                "deny" | "tarpit" | "return" | "redirect" | "reject" | "auth" | "allow" | "use-service"
            ) || action.starts_with("set-path")
                || action.starts_with("replace-")
                || action.starts_with("set-uri")
                || action.starts_with("set-query")
                || action == "set-header" && words.get(1).is_some_and(|w| w.eq_ignore_ascii_case("host"))
                || action == "del-header" && words.get(1).is_some_and(|w| w.eq_ignore_ascii_case("host"));
            if !steers || !self.holds(node, condition)? {
                continue;
            }
            match self.acts(node, action, words)? {
                Some(Ruled::On) => break,
                Some(over) => return Ok(over),
                None => {}
            }
        }
        for node in section.children.iter().filter(|n| n.name == "redirect") {
            let (words, condition) = parted(&node.words);
            if self.holds(node, condition)? {
                return self.redirect(node, words);
            }
        }
        Ok(Ruled::On)
    }

    /// What a rule does; `None` where the next one is asked.
    fn acts(&mut self, node: &Node, action: &str, words: &[String]) -> Result<Option<Ruled>, Unknown> {
        let status = |default: u16| {
            let at = words.iter().position(|w| w == "status" || w == "deny_status");
            at.and_then(|at| words.get(at + 1)).and_then(|w| w.parse().ok()).unwrap_or(default)
        };
        let denied = || {
            let rule = crate::secrets::mask_text(&format!("http-request {}", node.words.join(" ")));
            End::Denied { rule, directive: "http-request".to_owned(), place: Some(node.place.clone()) }
        };
        Ok(match action {
            "allow" => Some(Ruled::On),
            "deny" => Some(Ruled::Over(denied(), status(403))),
            "tarpit" => Some(Ruled::Over(denied(), status(500))),
            "return" => {
                let end = End::Answer {
                    location: None,
                    directive: "http-request",
                    place: Some(node.place.clone()),
                };
                Some(Ruled::Over(end, status(200)))
            }
            "redirect" => Some(self.redirect(node, words.get(1..).unwrap_or_default())?),
            "set-path" if !words.get(1).is_some_and(|w| w.contains('%')) => {
                self.seen.path = words.get(1).cloned();
                None
            }
            "set-header" if !words.get(2).is_some_and(|w| w.contains('%')) => {
                self.seen.host = words.get(2).cloned();
                None
            }
            "set-header" | "del-header" => {
                self.seen.host = None;
                None
            }
            _ if action.starts_with("set-") || action.starts_with("replace-") => {
                self.seen.path = None;
                None
            }
            other => {
                let what = format!("what the rule {} does", crate::secrets::mask_text(other));
                return Err(Unknown(what, node.place.clone()));
            }
        })
    }

    fn redirect(&self, node: &Node, words: &[String]) -> Result<Ruled, Unknown> {
        let of = |name: &str| words.iter().position(|w| w == name).and_then(|at| words.get(at + 1));
        let status = of("code").and_then(|c| c.parse().ok()).unwrap_or(302);
        let path =
            || self.seen.path.clone().ok_or_else(|| Unknown("the path".to_owned(), node.place.clone()));
        let drops = words.iter().any(|w| w == "drop-query");
        let query = if drops { String::new() } else { self.seen.asked() };
        let location = if let Some(to) = of("location").filter(|to| !to.contains('%')) {
            Some(to.clone())
        } else if let Some(to) = of("prefix").filter(|to| !to.contains('%')) {
            let base = if to == "/" { "" } else { to.as_str() };
            Some(format!("{base}{}{query}", path()?))
        } else if let Some(scheme) = of("scheme").filter(|to| !to.contains('%')) {
            let host = self.seen.host.clone().unwrap_or_default();
            Some(format!("{scheme}://{host}{}{query}", path()?))
        } else {
            return Err(Unknown("where the redirect leads".to_owned(), node.place.clone()));
        };
        let end = End::Answer { location, directive: "", place: Some(node.place.clone()) };
        Ok(Ruled::Over(end, status))
    }

    /// The backend that the section chooses.
    fn backend(&mut self, front: &'a Node) -> Result<Option<&'a Node>, Unknown> {
        for node in front.children.iter().filter(|n| n.name == "use_backend") {
            let (_, condition) = parted(&node.words);
            if !self.holds(node, condition)? {
                continue;
            }
            if node.word(0).contains('%') {
                return Err(Unknown("which backend a sample names".to_owned(), node.place.clone()));
            }
            return Ok(self.named(node.word(0)));
        }
        let default = self.last(front, "default_backend");
        Ok(default.and_then(|node| self.named(node.word(0))))
    }

    fn named(&self, name: &str) -> Option<&'a Node> {
        let back = |n: &&Node| matches!(n.name.as_str(), "backend" | "listen") && n.word(0) == name;
        self.sections.iter().find(back)
    }

    /// No server is left to pass it on to.
    fn nobody(&mut self, section: &Node) -> End {
        self.status = Some(503);
        End::Answer { location: None, directive: "default_backend", place: Some(section.place.clone()) }
    }

    /// The servers of a section.
    fn pass(&mut self, section: &'a Node) -> End {
        let servers: Vec<&Node> = section
            .children
            .iter()
            .filter(|n| matches!(n.name.as_str(), "server" | "server-template"))
            .collect();
        if servers.is_empty() {
            return self.nobody(section);
        }
        let upstreams = &self.configuration.model.upstreams;
        let own = |one: &&Upstream| {
            servers.iter().any(|s| s.place.file == one.place.file && s.place.line == one.place.line)
        };
        let members: Vec<Upstream> = upstreams.iter().filter(own).cloned().collect();
        let tls = servers.iter().any(|s| s.words.iter().any(|w| w == "ssl"));
        let fcgi = servers.iter().any(|s| s.words.windows(2).any(|w| w[0] == "proto" && w[1] == "fcgi"));
        let speaks = match (fcgi, tls) {
            (true, _) => Speaks::FastCgi,
            (_, true) => Speaks::Https,
            _ => Speaks::Http,
        };
        End::Pass(Box::new(Pass {
            speaks,
            to: crate::secrets::mask_text(section.word(0)),
            members,
            place: servers[0].place.clone(),
            script: None,
            target: self.seen.path.as_ref().map(|path| format!("{path}{}", self.seen.asked())),
            host: self.seen.host.clone(),
        }))
    }
}
