//! The way of a request through httpd's hooks: rewriting by the server, what is passed on, aliases, folders
//! with their override files, access, rewriting by folders, directories, handlers.
use super::access::{self, Verdict};
use super::content::{Mapped, redirected};
use super::rewriting::Rewritten;
use super::state::{Block, Unknown, Walk, shown};
use crate::config::Place;

use crate::path;
use crate::route::{End, Met, Node, Step, StepKind, uri};
use std::ops::ControlFlow;

/// How often a request is led on inside the daemon.
const TURNS: usize = 10;

/// How one turn ended.
enum Turn {
    Over(End),
    /// It goes on with another path.
    Again(String),
    /// A status of the daemon's own, which another page may stand for.
    Status(u16, End, Vec<Block>),
}

/// What a path of the file system leads to.
pub(super) struct There {
    /// The path, as it was asked for.
    file: String,
    /// The same without dots and slashes in a row.
    pub(super) clean: String,
    /// The deepest name of it that is there; what follows is information for scripts.
    pub(super) path: String,
    /// What stands there.
    pub(super) met: Met,
    /// The first name that is not there, if one is not.
    pub(super) below: Option<String>,
}

impl There {
    fn ends_in_slash(&self) -> bool {
        self.file.ends_with('/')
    }

    pub(super) fn is_file(&self) -> bool {
        self.met == Met::File && self.below.is_none()
    }

    pub(super) fn dir(&self) -> &str {
        if self.met == Met::Directory { &self.path } else { path::parent(&self.path) }
    }

    /// The name that sections for files are compared with; empty for a directory.
    fn name(&self) -> &str {
        match &self.below {
            Some(name) if self.met == Met::Directory => name,
            None if self.met == Met::Directory => "",
            _ => path::name(&self.path),
        }
    }
}

/// The client is sent elsewhere.
fn sent(location: String, place: Option<Place>) -> End {
    End::Answer { location: Some(location), directive: "", place }
}

/// A line says which status is answered.
fn told(directive: &'static str, place: Place) -> End {
    End::Answer { location: None, directive, place: Some(place) }
}

impl<'a, 'h> Walk<'a, 'h> {
    /// Goes all the way.
    pub(super) fn go(&mut self) -> End {
        for _ in 0..=TURNS {
            let turn = match self.turn() {
                Ok(turn) => turn,
                Err(Unknown(what)) => return End::Undecided { what, place: self.place.clone() },
            };
            match turn {
                Turn::Over(end) => return end,
                Turn::Again(uri) => self.lead(uri),
                Turn::Status(status, end, blocks) => match self.error_page(status, end, &blocks) {
                    Ok(end) => return end,
                    Err(uri) => self.lead(uri),
                },
            }
        }
        self.status = Some(500);
        End::Circle
    }

    fn lead(&mut self, uri: String) {
        let what = format!("led on to {uri}");
        self.steps.push(Step { kind: StepKind::Led, what, place: None });
        let (path, query) = match uri.split_once('?') {
            Some((path, query)) => (path.to_owned(), Some(query.to_owned())),
            None => (uri, None),
        };
        if let Some(query) = query {
            self.args = query;
        }
        (self.uri, self.filename) = (path, None);
    }

    /// Another page may stand for a failure; the path that leads there otherwise.
    fn error_page(&mut self, status: u16, end: End, blocks: &[Block]) -> Result<End, String> {
        if !self.in_error {
            self.status = Some(status);
        }
        let lines = |children: &[Node]| {
            children
                .iter()
                .rev()
                .find(|n| n.name == "errordocument" && n.word(0) == status.to_string())
                .cloned()
        };
        let line = blocks
            .iter()
            .rev()
            .find_map(|b| lines(&b.children))
            .or_else(|| self.host.and_then(|h| lines(&h.children)))
            .or_else(|| lines(self.tree.top()));
        let Some(line) = line.filter(|_| !self.in_error) else {
            // Where the page for a failure fails, too, the first failure answers by itself.
            if self.in_error {
                self.place.clone_from(&self.failed_at);
            }
            return Ok(end);
        };
        let to = line.word(1).to_owned();
        if to.starts_with('/') {
            self.in_error = true;
            self.failed_at.clone_from(&self.place);
            self.because = Some((status, Box::new(end)));
            return Err(to);
        }
        if to.contains("://") {
            self.because = Some((status, Box::new(end)));
            self.status = Some(302);
            return Ok(sent(to, Some(line.place)));
        }
        Ok(end)
    }

    fn ends(&mut self, status: u16, end: End) -> Turn {
        self.status.get_or_insert(status);
        Turn::Over(end)
    }

    fn turn(&mut self) -> Result<Turn, Unknown> {
        let locations = self.locations(&self.uri.clone())?;
        if let Some(turn) = self.by_server_rules()? {
            return Ok(turn);
        }
        let at = |block: &Block| {
            let line = block.children.iter().rev().find(|n| n.name == "proxypass" && n.words.len() == 1)?;
            let name = block.shown.split(' ').nth(1)?.trim_end_matches('>').to_owned();
            Some((line.clone(), name))
        };
        let inside: Vec<(Node, String)> = locations.iter().filter_map(at).collect();
        let mapped = match (self.passed.take(), self.filename.take()) {
            (Some(pass), _) => Mapped::Passed(pass),
            (None, Some(file)) => Mapped::File(file, None),
            (None, None) => match self.proxied(&inside)? {
                Some(mapped) => mapped,
                None => self.mapped()?,
            },
        };
        match mapped {
            Mapped::Sent(status, Some(to), place) if (300..400).contains(&status) => {
                Ok(self.ends(status, sent(to, Some(place))))
            }
            Mapped::Sent(status, _, place) => Ok(Turn::Status(status, told("Redirect", place), locations)),
            Mapped::Passed(pass) => {
                self.entered(&locations);
                if let Some(turn) = self.access(&locations)? {
                    return Ok(turn);
                }
                Ok(Turn::Over(End::Pass(pass)))
            }
            Mapped::File(file, handler) => self.by_file(&file, handler, &locations),
        }
    }

    /// Notes the last section as the place that answers.
    fn entered(&mut self, blocks: &[Block]) {
        if let Some(last) = blocks.iter().rev().find(|b| b.place.is_some()) {
            self.place = last.place.clone();
            let step = Step { kind: StepKind::Location, what: last.shown.clone(), place: last.place.clone() };
            if self.steps.last() != Some(&step) {
                self.steps.push(step);
            }
        }
    }

    /// Rules of the server, before anything else is looked at.
    fn by_server_rules(&mut self) -> Result<Option<Turn>, Unknown> {
        if !self.tree.has("rewrite_module") {
            return Ok(None);
        }
        let children: &'a [Node] = match self.host {
            Some(host) => &host.children,
            None => self.tree.top(),
        };
        let on = children.iter().rev().find(|n| n.name == "rewriteengine");
        if !on.is_some_and(|n| n.word(0).eq_ignore_ascii_case("on")) {
            return Ok(None);
        }
        if self.host.is_some() && children.iter().any(|n| n.name == "rewriteoptions") {
            return Err(Unknown("RewriteOptions of a site".to_owned()));
        }
        let path = self.uri.clone();
        Ok(match self.rules(children, &path, None)? {
            Rewritten::Unchanged => None,
            Rewritten::Path(to) => {
                self.rewrote(&to);
                self.uri = to;
                None
            }
            Rewritten::File(file) => {
                self.rewrote(&file);
                self.filename = Some(file);
                None
            }
            Rewritten::Sent(status, to, place) => Some(self.ends(status, sent(to, Some(place)))),
            Rewritten::Status(status, place) => {
                Some(Turn::Status(status, told("RewriteRule", place), Vec::new()))
            }
            Rewritten::Passed(to, place) => {
                self.passed = Some(Box::new(self.pass(&to, "", &place)?));
                None
            }
        })
    }

    fn rewrote(&mut self, to: &str) {
        self.steps.push(Step { kind: StepKind::Led, what: format!("rewritten to {to}"), place: None });
    }

    /// Whether the rules in force let the request pass.
    fn access(&mut self, blocks: &[Block]) -> Result<Option<Turn>, Unknown> {
        let denied = |block: &Block, status: u16, rule: String| {
            let line = block.children.iter().rev().find(|n| {
                n.name.starts_with("require") || matches!(n.name.as_str(), "deny" | "order" | "allow")
            });
            let directive = line.map_or(String::new(), |n| n.name.clone());
            let place = line.map(|n| n.place.clone()).or(block.place.clone());
            Turn::Status(status, End::Denied { rule, directive, place }, blocks.to_vec())
        };
        for block in blocks.iter().rev() {
            if let Some(verdict) = access::ordered(&block.children, self.request) {
                if !verdict? {
                    return Ok(Some(denied(block, 403, format!("{}: Order, Allow and Deny", block.shown))));
                }
                break;
            }
        }
        for block in blocks.iter().rev() {
            let Some(verdict) = access::required(&block.children, self.request) else { continue };
            let rule = block
                .children
                .iter()
                .rev()
                .find(|n| n.name.starts_with("require"))
                .map_or(String::new(), shown);
            let rule = format!("{}: {rule}", block.shown);
            return Ok(match verdict? {
                Verdict::Granted => None,
                Verdict::NeedsLogin => Some(denied(block, 401, rule)),
                Verdict::Denied | Verdict::Neutral => Some(denied(block, 403, rule)),
            });
        }
        Ok(None)
    }

    fn by_file(&mut self, file: &str, handler: Option<&str>, locations: &[Block]) -> Result<Turn, Unknown> {
        let there = self.there(file);
        let blocks = match self.sections_for(&there, locations)? {
            ControlFlow::Break(turn) => return Ok(turn),
            ControlFlow::Continue(blocks) => blocks,
        };
        self.entered(&blocks);
        let below = there.below.as_ref().filter(|_| there.met == Met::Directory);
        self.filename = Some(match below {
            Some(name) => format!("{}/{name}", there.path.trim_end_matches('/')),
            None => there.path.clone(),
        });
        if let Some(turn) = self.access(&blocks)? {
            return Ok(turn);
        }
        if let Some(turn) = self.by_folder_rules(&there, &blocks)? {
            return Ok(turn);
        }
        for line in blocks.iter().rev().flat_map(|b| b.children.iter()) {
            if line.name.starts_with("redirect")
                && let Some((status, to)) = redirected(self.files, line, &self.uri)?
            {
                return Ok(match to {
                    Some(to) if (300..400).contains(&status) => {
                        let to = format!("{to}{}", self.query());
                        self.ends(status, sent(to, Some(line.place.clone())))
                    }
                    _ => Turn::Status(status, told("Redirect", line.place.clone()), blocks.clone()),
                });
            }
        }
        self.content(there, handler, blocks)
    }

    /// What a path of the file system leads to.
    fn there(&self, file: &str) -> There {
        let clean = path::clean(file);
        let mut there = clean.clone();
        let mut met = self.files.stat(&there);
        while matches!(met, Met::Nothing) && there.len() > 1 {
            there = path::parent(&there).to_owned();
            met = self.files.stat(&there);
        }
        let rest = clean.strip_prefix(&there).unwrap_or_default().trim_start_matches('/');
        let below = (there != clean).then(|| rest.split('/').next().unwrap_or_default().to_owned());
        There { file: file.to_owned(), clean, path: there, met, below }
    }

    /// The sections in force for what a path leads to, or the end of the way.
    fn sections_for(
        &mut self,
        there: &There,
        locations: &[Block],
    ) -> Result<ControlFlow<Turn, Vec<Block>>, Unknown> {
        let bare = there.path.trim_end_matches('/');
        let whole = match &there.below {
            Some(name) => format!("{bare}/{name}"),
            None if there.met == Met::Directory && there.ends_in_slash() => format!("{bare}/"),
            None => there.path.clone(),
        };
        // Where the way itself is closed nothing but what the site says is in force.
        let (mut blocks, end) = self.directories(there, &whole)?;
        if let Some(end) = end {
            let status = if matches!(end, End::Override { .. }) { 500 } else { 403 };
            return Ok(ControlFlow::Break(Turn::Status(status, end, Vec::new())));
        }
        let name = there.name();
        if !name.is_empty() {
            blocks.extend(self.files_of(name, &blocks.clone())?);
        }
        blocks.extend(locations.iter().cloned());
        if blocks.iter().flat_map(|b| b.children.iter()).any(|n| matches!(n.name.as_str(), "if" | "elseif")) {
            return Err(Unknown("<If>".to_owned()));
        }
        Ok(ControlFlow::Continue(blocks))
    }

    /// Who answers where nothing forbids it: a handler, a page that stands for others, a directory or a file.
    fn content(&mut self, there: There, handler: Option<&str>, blocks: Vec<Block>) -> Result<Turn, Unknown> {
        let set = self.effective(&blocks, "sethandler").filter(|n| !n.word(0).eq_ignore_ascii_case("none"));
        if let Some(line) = set {
            return self.handled(&line, &there.clean, there.is_file(), blocks);
        }
        let met = there.met;
        if let Some(line) = self.added_handler(there.name(), &blocks).filter(|_| met == Met::File) {
            return self.handled(&line, &there.path, true, blocks);
        }
        if handler.is_some() {
            return Ok(match met {
                Met::File => {
                    Turn::Over(End::Handler { name: "cgi-script".to_owned(), place: self.place.clone() })
                }
                _ => Turn::Status(404, End::Missing { path: there.clean }, blocks),
            });
        }
        if there.below.is_some() || met == Met::Nothing || met == Met::Other {
            return self.fallback(there.clean, blocks);
        }
        if met == Met::Directory {
            return self.directory(&there.path, blocks);
        }
        // A slash behind a file is further path, which plain files have no use for.
        if there.ends_in_slash() {
            return Ok(Turn::Status(404, End::Missing { path: there.file }, blocks));
        }
        match self.files.meet(&there.path) {
            Met::File => Ok(self.ends(200, End::File { path: there.path })),
            Met::Unseen => Err(Unknown(there.path)),
            _ => Ok(Turn::Status(403, End::Unreadable { path: there.path }, blocks)),
        }
    }

    /// Rules of the folder in force.
    fn by_folder_rules(&mut self, there: &There, blocks: &[Block]) -> Result<Option<Turn>, Unknown> {
        if !self.tree.has("rewrite_module") || self.rewrite_ended {
            return Ok(None);
        }
        let engine = blocks
            .iter()
            .rev()
            .find_map(|b| b.children.iter().rev().find(|n| n.name == "rewriteengine").cloned());
        if !engine.is_some_and(|n| n.word(0).eq_ignore_ascii_case("on")) {
            return Ok(None);
        }
        if !self.option(blocks, "followsymlinks") && !self.option(blocks, "symlinksifownermatch") {
            let rule = "rules of folders are forbidden where links are not followed".to_owned();
            let end = End::Denied { rule, directive: String::new(), place: self.place.clone() };
            return Ok(Some(Turn::Status(403, end, blocks.to_vec())));
        }
        let has = |b: &&Block| b.children.iter().any(|n| n.name == "rewriterule");
        let Some(block) = blocks.iter().rev().find(has).cloned() else { return Ok(None) };
        let folder = block.dir.clone().unwrap_or_else(|| there.dir().to_owned());
        let inner = there.clean.strip_prefix(&folder).unwrap_or(&there.clean).trim_start_matches('/');
        let inner =
            if there.ends_in_slash() && !inner.is_empty() { format!("{inner}/") } else { inner.to_owned() };
        // The folder as clients see it: the path without what lies below it.
        let seen = self.uri.strip_suffix(&inner).unwrap_or("/").to_owned();
        Ok(match self.rules(&block.children, &inner, Some(&seen))? {
            Rewritten::Unchanged => None,
            Rewritten::Path(to) | Rewritten::File(to) => {
                // What leads to itself is left as it is.
                if to == self.uri { None } else { Some(Turn::Again(to)) }
            }
            Rewritten::Sent(status, to, place) => Some(self.ends(status, sent(to, Some(place)))),
            Rewritten::Status(status, place) => {
                Some(Turn::Status(status, told("RewriteRule", place), blocks.to_vec()))
            }
            Rewritten::Passed(to, place) => {
                self.passed = Some(Box::new(self.pass(&to, "", &place)?));
                None
            }
        })
    }

    /// A handler for an ending of the name.
    fn added_handler(&self, name: &str, blocks: &[Block]) -> Option<Node> {
        let endings: Vec<&str> = name.split('.').skip(1).collect();
        let fits = |n: &&Node| {
            n.name == "addhandler"
                && n.words
                    .iter()
                    .skip(1)
                    .any(|e| endings.iter().any(|own| own.eq_ignore_ascii_case(e.trim_start_matches('.'))))
        };
        let by_block = blocks.iter().rev().find_map(|b| b.children.iter().rev().find(fits).cloned());
        by_block
            .or_else(|| self.host.and_then(|h| h.children.iter().rev().find(fits).cloned()))
            .or_else(|| self.tree.top().iter().rev().find(fits).cloned())
    }

    fn handled(
        &mut self,
        line: &Node,
        file: &str,
        is_file: bool,
        blocks: Vec<Block>,
    ) -> Result<Turn, Unknown> {
        let name = line.word(0);
        let Some(to) = name.strip_prefix("proxy:") else {
            let end = End::Handler { name: name.to_owned(), place: Some(line.place.clone()) };
            let own = ["server-status", "server-info", "balancer-manager"].contains(&name);
            if !own && !is_file && name != "default-handler" {
                return Ok(Turn::Status(404, End::Missing { path: file.to_owned() }, blocks));
            }
            return Ok(Turn::Over(end));
        };
        let mut pass = self.pass(to, "", &line.place)?;
        pass.script = Some(file.to_owned());
        Ok(Turn::Over(End::Pass(Box::new(pass))))
    }

    /// Nothing is there: another path may stand for all of these.
    fn fallback(&mut self, file: String, blocks: Vec<Block>) -> Result<Turn, Unknown> {
        let line = self.effective(&blocks, "fallbackresource").filter(|n| n.word(0) != "disabled");
        if let Some(line) = line.filter(|n| n.word(0) != self.uri) {
            return Ok(Turn::Again(line.word(0).to_owned()));
        }
        Ok(Turn::Status(404, End::Missing { path: file }, blocks))
    }

    fn directory(&mut self, dir: &str, blocks: Vec<Block>) -> Result<Turn, Unknown> {
        let has_dir = self.tree.has("dir_module");
        let slash =
            self.effective(&blocks, "directoryslash").is_none_or(|n| !n.word(0).eq_ignore_ascii_case("off"));
        if !self.uri.ends_with('/') && has_dir && slash {
            let location = format!("{}/{}", uri::encode(&self.uri), self.query());
            return Ok(self.ends(301, sent(location, None)));
        }
        let names = self.index_names(&blocks);
        if has_dir && self.uri.ends_with('/') {
            for name in &names {
                if name.starts_with('/') {
                    return Ok(Turn::Again(name.clone()));
                }
                let file = path::join(dir, name);
                match self.files.stat(&file) {
                    Met::File => return Ok(Turn::Again(format!("{}{name}", self.uri))),
                    Met::Unseen => return Err(Unknown(file)),
                    _ => {}
                }
            }
            let line = self.effective(&blocks, "fallbackresource").filter(|n| n.word(0) != "disabled");
            if let Some(line) = line {
                return Ok(Turn::Again(line.word(0).to_owned()));
            }
        }
        if !self.tree.has("autoindex_module") {
            return Ok(Turn::Status(404, End::Missing { path: dir.to_owned() }, blocks));
        }
        if self.option(&blocks, "indexes") {
            return Ok(match self.files.meet(dir) {
                Met::Directory => self.ends(200, End::Listing { path: dir.to_owned() }),
                _ => Turn::Status(403, End::Unreadable { path: dir.to_owned() }, blocks),
            });
        }
        Ok(Turn::Status(403, End::NoIndex { path: dir.to_owned(), tried: names }, blocks))
    }

    /// Names of index files in force: each line adds to those of its own section, and replaces those further
    /// out.
    fn index_names(&self, blocks: &[Block]) -> Vec<String> {
        let of = |children: &[Node]| -> Option<Vec<String>> {
            let lines: Vec<&Node> = children.iter().filter(|n| n.name == "directoryindex").collect();
            let all = lines.iter().flat_map(|n| n.words.clone());
            (!lines.is_empty()).then(|| all.filter(|w| !w.eq_ignore_ascii_case("disabled")).collect())
        };
        blocks
            .iter()
            .rev()
            .find_map(|b| of(&b.children))
            .or_else(|| self.host.and_then(|h| of(&h.children)))
            .or_else(|| of(self.tree.top()))
            .unwrap_or_else(|| vec!["index.html".to_owned()])
    }
}
