//! The way of a request through nginx's phases (`ngx_http_core_module.c`): rewriting by the site, choice of
//! the location, rewriting there, access, `try_files`, and what answers.
use super::locations::{Hit, PASSES, Shape, find};
use super::state::{Unknown, Walk, shown};
use crate::config::Place;
use crate::route::{End, Met, Node, Step, StepKind, uri};

/// Statuses of redirects.
const REDIRECTS: &[u16] = &[301, 302, 303, 307, 308];

/// What comes next.
enum Next<'a> {
    Site,
    Locate,
    Rewrite,
    Named(&'a Node),
    Access,
    Try,
    Content,
    /// It ends with a status of the daemon's own.
    Status(u16, End),
    /// It ends so.
    Over(End),
}

/// What came of rewriting.
enum Rewritten<'a> {
    On,
    Stop,
    Next(Next<'a>),
}

impl<'a, 'h> Walk<'a, 'h> {
    /// Goes all the way.
    pub(super) fn go(&mut self) -> End {
        let mut next = Next::Site;
        loop {
            crate::bounds::step(1);
            next = match self.phase(next) {
                Ok(Next::Over(end)) => return end,
                Ok(next) => next,
                Err(Unknown(what)) => {
                    let place = self.chain.last().map(|node| node.place.clone());
                    return End::Undecided { what, place };
                }
            };
        }
    }

    fn phase(&mut self, at: Next<'a>) -> Result<Next<'a>, Unknown> {
        match at {
            Next::Site => {
                self.chain = vec![self.http, self.server];
                self.handler = None;
                Ok(match self.rewrite(self.server, false, &mut false)? {
                    Rewritten::Next(next) => next,
                    _ => Next::Locate,
                })
            }
            Next::Locate => self.locate(),
            Next::Rewrite => {
                // Where methods are refused, what the location says of rewriting is not in force.
                let Some(&location) = self.chain.last().filter(|n| n.name == "location") else {
                    return Ok(Next::Access);
                };
                let mut changed = false;
                if let Rewritten::Next(next) = self.rewrite(location, true, &mut changed)? {
                    return Ok(next);
                }
                if !changed {
                    return Ok(Next::Access);
                }
                Ok(self.changed().unwrap_or(Next::Locate))
            }
            Next::Named(location) => {
                self.chain = vec![self.http, self.server];
                self.internal = true;
                self.enter(&[location]);
                Ok(Next::Rewrite)
            }
            Next::Access => self.access(),
            Next::Try => self.try_files(),
            Next::Content => self.content(),
            Next::Status(status, end) => self.special(status, end),
            Next::Over(end) => Ok(Next::Over(end)),
        }
    }

    /// Counts a change of the path; what to do where there were too many.
    fn changed(&mut self) -> Option<Next<'a>> {
        self.changes = self.changes.saturating_sub(1);
        (self.changes == 0).then_some(Next::Status(500, End::Circle))
    }

    /// The daemon leads on to another path, through all phases.
    fn lead(&mut self, uri: String, args: String) -> Next<'a> {
        if let Some(over) = self.changed() {
            return over;
        }
        self.steps.push(Step { kind: StepKind::Led, what: format!("led on to {uri}"), place: None });
        (self.uri, self.args) = (uri, args);
        (self.internal, self.as_sent, self.behind_alias) = (true, false, false);
        Next::Site
    }

    fn named(&mut self, name: &str) -> Next<'a> {
        if let Some(over) = self.changed() {
            return over;
        }
        match self.server.all("location").find(|node| Shape::of(node) == Shape::Named(name)) {
            Some(node) => Next::Named(node),
            None => {
                Next::Over(End::Undecided { what: format!("location {name} does not exist"), place: None })
            }
        }
    }

    fn enter(&mut self, locations: &[&'a Node]) {
        self.chain.truncate(2);
        self.chain.extend(locations);
        if let Some(last) = locations.last() {
            self.steps.push(Step {
                kind: StepKind::Location,
                what: shown(last),
                place: Some(last.place.clone()),
            });
        }
        self.handler = locations.last().and_then(|node| Some((handler(node)?, *node)));
        let except = locations.last().and_then(|node| node.one("limit_except"));
        if let Some(node) = except.filter(|n| !n.words.iter().any(|m| m.eq_ignore_ascii_case("GET"))) {
            self.chain.push(node);
        }
    }

    fn locate(&mut self) -> Result<Next<'a>, Unknown> {
        let (found, hit) = find(self.server, &self.uri, self.files, &mut self.groups)?;
        self.enter(&found);
        if !self.internal && self.effective("internal").is_some() && !found.is_empty() {
            let place = self.effective("internal").map(|n| n.place.clone());
            let rule = "internal: only the daemon itself leads there".to_owned();
            return Ok(Next::Status(404, End::Denied { rule, directive: "internal".to_owned(), place }));
        }
        if hit == Hit::Slash {
            let location = format!("{}/{}", uri::encode(&self.uri), self.query());
            return Ok(self.sent_away(301, location, found.last().map(|n| n.place.clone())));
        }
        Ok(Next::Rewrite)
    }

    pub(super) fn query(&self) -> String {
        if self.args.is_empty() { String::new() } else { format!("?{}", self.args) }
    }

    fn sent_away(&mut self, status: u16, location: String, place: Option<Place>) -> Next<'a> {
        self.status = Some(status);
        Next::Over(End::Answer { location: Some(location), directive: "", place })
    }

    /// The directives of the rewrite module, in their order.
    fn rewrite(
        &mut self,
        block: &'a Node,
        in_location: bool,
        changed: &mut bool,
    ) -> Result<Rewritten<'a>, Unknown> {
        for node in &block.children {
            match node.name.as_str() {
                "set" => {
                    let value = self.value(node.word(1))?;
                    self.set.insert(node.word(0).trim_start_matches('$').to_owned(), value);
                }
                "break" => {
                    *changed = false;
                    return Ok(Rewritten::Stop);
                }
                "return" => return self.answers(node).map(Rewritten::Next),
                "if" if self.holds(node)? => {
                    if in_location {
                        let depth =
                            self.chain.iter().rposition(|n| n.name == "location").map_or(2, |at| at + 1);
                        self.chain.truncate(depth);
                        self.chain.push(node);
                        if let Some(own) = handler(node) {
                            self.handler = Some((own, node));
                        }
                    }
                    match self.rewrite(node, in_location, changed)? {
                        Rewritten::On => {}
                        other => return Ok(other),
                    }
                }
                "rewrite" => match self.rewritten(node, changed)? {
                    Rewritten::On => {}
                    other => return Ok(other),
                },
                _ => {}
            }
        }
        Ok(Rewritten::On)
    }

    fn rewritten(&mut self, node: &'a Node, changed: &mut bool) -> Result<Rewritten<'a>, Unknown> {
        let unknown = || Unknown(format!("the pattern of {}", shown(node)));
        if !self.files.fits(node.word(0), false, &self.uri, &mut self.groups).ok_or_else(unknown)? {
            return Ok(Rewritten::On);
        }
        let (to, adds) = match node.word(1).strip_suffix('?') {
            Some(to) => (to, false),
            None => (node.word(1), true),
        };
        let value = self.value(to)?;
        let flag = node.word(2);
        let away = ["http://", "https://", "$scheme"].iter().any(|s| node.word(1).starts_with(s));
        if away || matches!(flag, "redirect" | "permanent") {
            let mut location = value;
            if adds && !self.args.is_empty() {
                location.push(if to.contains('?') { '&' } else { '?' });
                location.push_str(&self.args);
            }
            let status = if flag == "permanent" { 301 } else { 302 };
            return Ok(Rewritten::Next(self.sent_away(status, location, Some(node.place.clone()))));
        }
        (self.internal, self.as_sent) = (true, false);
        *changed = flag != "break";
        let old = std::mem::take(&mut self.args);
        (self.uri, self.args) = match value.split_once('?') {
            Some((path, query)) if adds && !old.is_empty() => (path.to_owned(), format!("{query}&{old}")),
            Some((path, query)) => (path.to_owned(), query.to_owned()),
            None => (value, if adds { old } else { String::new() }),
        };
        let what = format!("rewritten to {}", self.uri);
        self.steps.push(Step { kind: StepKind::Led, what, place: Some(node.place.clone()) });
        if self.uri.is_empty() {
            return Ok(Rewritten::Next(Next::Status(500, End::Circle)));
        }
        Ok(if matches!(flag, "last" | "break") { Rewritten::Stop } else { Rewritten::On })
    }

    fn answers(&mut self, node: &'a Node) -> Result<Next<'a>, Unknown> {
        let place = Some(node.place.clone());
        let (status, text) = match node.words.as_slice() {
            [only] => match only.parse::<u16>() {
                Ok(status) => (status, None),
                Err(_) => (302, Some(only.as_str())),
            },
            [status, text] => (status.parse().unwrap_or(0), Some(text.as_str())),
            _ => (0, None),
        };
        if REDIRECTS.contains(&status) {
            let location = self.value(text.unwrap_or_default())?;
            return Ok(self.sent_away(status, location, place));
        }
        let end = End::Answer { location: None, directive: "return", place };
        // A text of its own is sent whatever the status; a bare status of a failure may lead to another page.
        if status < 400 || text.is_some() {
            self.status.get_or_insert(status);
            return Ok(Next::Over(end));
        }
        Ok(Next::Status(status, end))
    }

    /// Whether the condition of an `if` holds.
    fn holds(&mut self, node: &Node) -> Result<bool, Unknown> {
        let mut words: Vec<String> = node.words.clone();
        if let Some(first) = words.first_mut() {
            *first = first.trim_start_matches('(').to_owned();
        }
        if let Some(last) = words.last_mut() {
            *last = last.strip_suffix(')').unwrap_or(last).to_owned();
        }
        words.retain(|w| !w.is_empty());
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        match words.as_slice() {
            [variable] => {
                let value = self.value(variable)?;
                Ok(!value.is_empty() && value != "0")
            }
            [test, path] => {
                let path = self.value(path)?;
                let (wanted, letter) = match test.strip_prefix('!') {
                    Some(rest) => (false, rest),
                    None => (true, *test),
                };
                let met = self.files.stat(&path);
                let holds = match letter {
                    "-f" => met == Met::File,
                    "-d" => met == Met::Directory,
                    "-e" => !matches!(met, Met::Nothing | Met::Refused),
                    _ => return Err(Unknown(shown(node))),
                };
                if met == Met::Unseen { Err(Unknown(path)) } else { Ok(holds == wanted) }
            }
            [variable, sign, rest @ ..] => {
                let value = self.value(variable)?;
                let against = rest.join(" ");
                match *sign {
                    "=" => Ok(value == self.value(&against)?),
                    "!=" => Ok(value != self.value(&against)?),
                    "~" | "~*" | "!~" | "!~*" => {
                        let unknown = || Unknown(shown(node));
                        let caseless = sign.ends_with('*');
                        let hit = self
                            .files
                            .fits(&against, caseless, &value, &mut self.groups)
                            .ok_or_else(unknown)?;
                        Ok(hit != sign.starts_with('!'))
                    }
                    _ => Err(Unknown(shown(node))),
                }
            }
            [] => Err(Unknown(shown(node))),
        }
    }

    /// The line of a directive that is in force: the innermost one.
    pub(super) fn effective(&self, name: &str) -> Option<&'a Node> {
        self.chain.iter().rev().find_map(|block| block.children.iter().rev().find(|n| n.name == name))
    }

    /// The lines of a directive that are in force together: those of the innermost block that has any.
    pub(super) fn together(&self, names: &[&str]) -> Vec<&'a Node> {
        let has = |block: &&&'a Node| block.children.iter().any(|n| names.contains(&n.name.as_str()));
        let block = self.chain.iter().rev().find(has);
        block.into_iter().flat_map(|b| &b.children).filter(|n| names.contains(&n.name.as_str())).collect()
    }

    fn access(&mut self) -> Result<Next<'a>, Unknown> {
        let any = self.effective("satisfy").is_some_and(|n| n.word(0) == "any");
        let client = self.request.client;
        let rules = self.together(&["allow", "deny"]);
        let rule = rules.into_iter().find(|rule| match rule.word(0) {
            "all" => true,
            "unix:" => false,
            network => crate::net::within(client, network).is_some(),
        });
        let denied = rule.filter(|r| r.name == "deny");
        let allowed = rule.is_some_and(|r| r.name == "allow");
        if any && allowed {
            return Ok(Next::Try);
        }
        let refused = |status, node: &Node| {
            let (rule, directive) = (shown(node), node.name.clone());
            Next::Status(status, End::Denied { rule, directive, place: Some(node.place.clone()) })
        };
        if let Some(node) = denied.filter(|_| !any) {
            return Ok(refused(403, node));
        }
        let on = |name: &str| self.effective(name).filter(|n| n.word(0) != "off");
        if let Some(node) = on("auth_basic") {
            return Ok(refused(401, node));
        }
        if let Some(node) = on("auth_request").or_else(|| on("auth_jwt")) {
            return Err(Unknown(shown(node)));
        }
        Ok(denied.map_or(Next::Try, |node| refused(403, node)))
    }

    fn try_files(&mut self) -> Result<Next<'a>, Unknown> {
        let Some(node) = self.chain.last().and_then(|block| block.one("try_files")) else {
            return Ok(Next::Content);
        };
        let (last, tried) = match node.words.split_last() {
            Some((last, tried)) => (last, tried),
            None => return Ok(Next::Content),
        };
        let (root, alias) = self.root()?;
        for name in tried {
            let wanted = if name.ends_with('/') { Met::Directory } else { Met::File };
            // The slash only says that a directory is wanted.
            let value = self.value(name.strip_suffix('/').unwrap_or(name))?;
            let name = match alias {
                Some(Some(prefix)) => value.strip_prefix(prefix).unwrap_or(&value),
                _ => &value,
            };
            let path = format!("{root}{name}");
            let met = self.files.stat(&path);
            if met == Met::Unseen {
                return Err(Unknown(path));
            }
            // Whatever is no directory counts as a file here.
            if met == wanted || wanted == Met::File && met == Met::Other {
                match alias {
                    None => self.uri = value,
                    Some(None) => {
                        if wanted == Met::File {
                            (self.uri, self.behind_alias) = (value, true);
                        }
                    }
                    Some(Some(prefix)) => self.uri = format!("{prefix}{name}"),
                }
                self.as_sent = false;
                return Ok(Next::Content);
            }
        }
        if let Some(status) = last.strip_prefix('=') {
            let end = End::Missing { path: self.path_of(&self.uri)? };
            let status = self.value(status)?.parse().map_err(|_| Unknown(shown(node)))?;
            return Ok(Next::Status(status, end));
        }
        let value = self.value(last)?;
        if value.starts_with('@') {
            return Ok(self.named(&value));
        }
        let (path, query) = match value.split_once('?') {
            Some((path, query)) => (path.to_owned(), query.to_owned()),
            None => (value, String::new()),
        };
        Ok(self.lead(path, query))
    }

    fn content(&mut self) -> Result<Next<'a>, Unknown> {
        if let Some((node, location)) = self.handler {
            if PASSES.contains(&node.name.as_str()) {
                return Ok(Next::Over(End::Pass(Box::new(self.passed(node, location)?))));
            }
            let place = Some(node.place.clone());
            self.status.get_or_insert(200);
            return Ok(Next::Over(End::Handler { name: node.name.clone(), place }));
        }
        if self.uri.ends_with('/') { self.directory() } else { self.file() }
    }

    fn file(&mut self) -> Result<Next<'a>, Unknown> {
        let path = self.path_of(&self.uri)?;
        Ok(match self.files.meet(&path) {
            Met::File => {
                self.status.get_or_insert(200);
                Next::Over(End::File { path })
            }
            Met::Directory => {
                let location = format!("{}/{}", uri::encode(&self.uri), self.query());
                self.sent_away(301, location, None)
            }
            Met::Nothing | Met::Other => Next::Status(404, End::Missing { path }),
            Met::Refused => Next::Status(403, End::Unreadable { path }),
            Met::Unseen => return Err(Unknown(path)),
        })
    }

    fn directory(&mut self) -> Result<Next<'a>, Unknown> {
        let path = self.path_of(&self.uri)?;
        if self.effective("random_index").is_some_and(|n| n.word(0) == "on") {
            return Err(Unknown("random_index".to_owned()));
        }
        let lines = self.together(&["index"]);
        let mut names: Vec<&str> = lines.iter().flat_map(|n| n.words.iter().map(String::as_str)).collect();
        if names.is_empty() {
            names.push("index.html");
        }
        let mut tested = false;
        for name in &names {
            let name = self.value(name)?;
            if name.starts_with('/') {
                let args = self.args.clone();
                return Ok(self.lead(name, args));
            }
            let file = format!("{path}{name}");
            match self.files.stat(&file) {
                Met::File | Met::Directory | Met::Other => {
                    let (uri, args) = (format!("{}{name}", self.uri), self.args.clone());
                    return Ok(self.lead(uri, args));
                }
                Met::Refused => return Ok(Next::Status(403, End::Unreadable { path: file })),
                Met::Unseen => return Err(Unknown(file)),
                Met::Nothing if tested => {}
                Met::Nothing => {
                    tested = true;
                    let dir = path.trim_end_matches('/');
                    match self.files.meet(if dir.is_empty() { "/" } else { dir }) {
                        Met::Directory => {}
                        Met::Nothing => return Ok(Next::Status(404, End::Missing { path })),
                        Met::Refused => return Ok(Next::Status(403, End::Unreadable { path })),
                        Met::Unseen => return Err(Unknown(path)),
                        Met::File | Met::Other => return Ok(Next::Status(500, End::Missing { path })),
                    }
                }
            }
        }
        if self.effective("autoindex").is_some_and(|n| n.word(0) == "on") {
            self.status.get_or_insert(200);
            return Ok(Next::Over(End::Listing { path }));
        }
        let tried = names.into_iter().map(str::to_owned).collect();
        Ok(Next::Status(403, End::NoIndex { path, tried }))
    }

    /// A status of failure may lead to another page.
    fn special(&mut self, status: u16, end: End) -> Result<Next<'a>, Unknown> {
        self.status = Some(status);
        let pages = self.together(&["error_page"]);
        let again = self.effective("recursive_error_pages").is_some_and(|n| n.word(0) == "on");
        let page = pages.into_iter().find(|n| n.words.iter().any(|w| w.parse() == Ok(status)));
        let Some(page) = page.filter(|_| (!self.in_error || again) && self.changes > 0) else {
            return Ok(Next::Over(end));
        };
        if self.because.is_none() {
            self.because = Some((status, Box::new(end)));
        }
        self.in_error = !again;
        let overwrite = page.words.iter().find_map(|w| w.strip_prefix('='));
        let as_other = match overwrite {
            Some("") => Some(None),
            Some(code) => Some(code.parse::<u16>().ok()),
            None => None,
        };
        let to = self.value(page.last_word())?;
        if to.starts_with('/') || to.starts_with('@') {
            self.status = as_other.unwrap_or(Some(status));
            if to.starts_with('@') {
                return Ok(self.named(&to));
            }
            let (path, query) = match to.split_once('?') {
                Some((path, query)) => (path.to_owned(), query.to_owned()),
                None => (to, String::new()),
            };
            return Ok(self.lead(path, query));
        }
        let status = as_other.flatten().filter(|s| REDIRECTS.contains(s)).unwrap_or(302);
        Ok(self.sent_away(status, to, Some(page.place.clone())))
    }
}

/// What answers in a block, where it names something.
fn handler(node: &Node) -> Option<&Node> {
    const OWN: &[&str] = &["stub_status", "empty_gif", "perl", "js_content", "hls", "api"];
    node.children.iter().rev().find(|n| PASSES.contains(&n.name.as_str()) || OWN.contains(&n.name.as_str()))
}
