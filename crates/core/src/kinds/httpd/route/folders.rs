//! Sections of folders, files and locations, and the override files on a path: what is in force, in the order
//! in which it is merged (httpd documentation, "Configuration Sections").
use super::super::DIRECTIVES;
use super::super::lines::{Lines, word};
use super::state::{Block, Unknown, Walk};
use super::walk::There;
use crate::bounds::OVERRIDE;
use crate::config::Place;
use crate::host::{FileKind, Look};
use crate::kinds::strings_hold;
use crate::path;
use crate::route::{End, Files, Groups, Met, Node};
use std::sync::Arc;

/// Whether a path fits a section of a name: literally, by shell wildcards, or by a pattern.
fn section_fits(files: &Files, node: &Node, on: &str, groups: &mut Groups) -> Result<bool, Unknown> {
    let matched = node.name.ends_with("match");
    let (pattern, by_pattern) = match node.words.as_slice() {
        [tilde, pattern, ..] if tilde == "~" => (pattern.as_str(), true),
        [name, ..] => (name.as_str(), matched),
        [] => return Ok(false),
    };
    if by_pattern {
        let unknown = || Unknown(format!("the pattern of <{} {}>", node.name, pattern));
        return files.fits(pattern, false, on, groups).ok_or_else(unknown);
    }
    Ok(if path::is_pattern(pattern) { wild(pattern, on) } else { pattern == on })
}

/// Wildcards, none of which stands for a slash; a pattern of fewer names fits the beginning.
fn wild(pattern: &str, on: &str) -> bool {
    let (a, b): (Vec<&str>, Vec<&str>) = (pattern.split('/').collect(), on.split('/').collect());
    a.len() == b.len() && a.iter().zip(&b).all(|(p, n)| path::matches(p, n, false))
}

/// Whether a section is compared by a pattern.
fn is_pattern(node: &Node) -> bool {
    node.name == "directorymatch" || node.word(0) == "~"
}

/// Whether a section for a directory, by its name or wildcards, is about this path.
fn stands_for(node: &Node, at: &str) -> bool {
    let name = node.word(0);
    let name = if name.len() > 1 { name.trim_end_matches('/') } else { name };
    if path::is_pattern(name) { wild(name, at) } else { path::clean(name) == at }
}

/// The line that is refused where nothing is allowed: conditions are met as they are read, all others later.
fn first_line(file: &str, text: &str) -> Option<(Place, String)> {
    let lines = || Lines::new(text).filter(|l| !l.text.is_empty() && !l.text.starts_with('#'));
    let line = lines().find(|l| l.text.to_ascii_lowercase().starts_with("<if")).or_else(|| lines().next())?;
    let place = Place { file: Arc::from(file), line: line.number, column: line.column, end_column: 0 };
    Some((place, format!("{} is not allowed there: no AllowOverride is set", word(&line.text).0)))
}

impl<'a> Walk<'a, '_> {
    /// Sections of a kind, of the main server and then of the site.
    fn sections(&self, names: &[&str]) -> Vec<&'a Node> {
        let main = self.tree.top().iter();
        let own = self.host.iter().flat_map(|host| &host.children);
        main.chain(own).filter(|n| names.contains(&n.name.as_str())).collect()
    }

    /// Locations that a path lies in, in the order of the configuration.
    pub(super) fn locations(&mut self, uri: &str) -> Result<Vec<Block>, Unknown> {
        let mut found = Vec::new();
        for node in self.sections(&["location", "locationmatch"]) {
            let literal = node.name == "location" && node.word(0) != "~";
            let fits = if literal {
                let name = node.word(0);
                let whole = name.strip_suffix('/').unwrap_or(name);
                if path::is_pattern(name) {
                    wild(name, uri)
                } else {
                    uri == name || name.ends_with('/') && uri.starts_with(name) || name == "/" || {
                        !name.ends_with('/')
                            && uri.strip_prefix(whole).is_some_and(|rest| rest.starts_with('/'))
                    }
                }
            } else {
                section_fits(self.files, node, uri, &mut self.groups)?
            };
            if fits {
                found.push(Block::of(node, None));
            }
        }
        Ok(found)
    }

    /// What is in force in a directory: sections of each directory on the way with its override file, then
    /// those that are patterns; `whole` is the name that is asked for, whatever it is. The second value is
    /// what ends the way: a link that may not be followed, an override file that is closed or broken.
    pub(super) fn directories(
        &mut self,
        there: &There,
        whole: &str,
    ) -> Result<(Vec<Block>, Option<End>), Unknown> {
        let dir = there.dir();
        // A page inside of the same directory takes over what was found for the page before.
        if there.below.is_none()
            && let Some((of, found)) = &self.walked
            && of == dir
        {
            return Ok((found.clone(), None));
        }
        let all = self.sections(&["directory", "directorymatch"]);
        let mut found: Vec<Block> = Vec::new();
        let mut way = path::ancestors(dir);
        way.push(dir.to_owned());
        way.dedup();
        for at in &way {
            if let Some(end) = self.link(at, &found)? {
                return Ok((found, Some(end)));
            }
            let here = all.iter().filter(|n| !is_pattern(n) && stands_for(n, at));
            found.extend(here.map(|n| Block::of(n, Some(at))));
            if let Some(block) = self.override_file(at, &found)? {
                found.push(block);
            }
            if let Some(path) = self.closed_override.take() {
                return Ok((found, Some(End::Unreadable { path })));
            }
            if let Some((place, why)) = self.broken_override.take() {
                return Ok((found, Some(End::Override { why, place })));
            }
        }
        match there.met {
            Met::Unseen => return Err(Unknown(there.path.clone())),
            Met::Refused => return Ok((found, Some(End::Unreadable { path: there.clean.clone() }))),
            Met::Directory if !self.files.enters(&there.path) => {
                return Ok((found, Some(End::Unreadable { path: there.clean.clone() })));
            }
            _ => {}
        }
        if there.met != Met::Directory {
            if let Some(end) = self.link(&there.path, &found)? {
                return Ok((found, Some(end)));
            }
            // A file that is known to be there is not looked at again where links may be followed, and
            // sections for directories are compared with its name, too (server/request.c, ap_directory_walk,
            // 2.4).
            let trusted =
                self.option(&found, "followsymlinks") && !self.option(&found, "symlinksifownermatch");
            if there.is_file() && trusted {
                let own = all.iter().filter(|n| !is_pattern(n) && stands_for(n, &there.path));
                found.extend(own.map(|n| Block::of(n, Some(dir))));
            }
        }
        // Patterns are tried once, on the name that is asked for.
        for node in all.iter().filter(|n| is_pattern(n)) {
            if section_fits(self.files, node, whole, &mut self.groups)? {
                found.push(Block::of(node, Some(dir)));
            }
        }
        self.walked = Some((dir.to_owned(), found.clone()));
        Ok((found, None))
    }

    /// A name on the way that is a link, and may not be followed by what is in force above it.
    fn link(&self, name: &str, above: &[Block]) -> Result<Option<End>, Unknown> {
        let owners = self.option(above, "symlinksifownermatch");
        if self.option(above, "followsymlinks") && !owners {
            return Ok(None);
        }
        match self.files.snapshot.link_stat(name) {
            Look::Seen(status) if status.kind == FileKind::Link => {
                let to = self.files.snapshot.stat(name).seen().map(|s| s.uid);
                if owners && to == Some(status.uid) {
                    return Ok(None);
                }
            }
            Look::NotSeen(_) => return Err(Unknown(name.to_owned())),
            _ => return Ok(None),
        }
        let rule = format!("{name} is a symbolic link, and following it is not allowed");
        Ok(Some(End::Denied { rule, directive: String::new(), place: None }))
    }

    /// Sections of files that a name fits, those inside of others included.
    pub(super) fn files_of(&mut self, name: &str, around: &[Block]) -> Result<Vec<Block>, Unknown> {
        let mut found = Vec::new();
        let mut nodes: Vec<Node> = self.sections(&["files", "filesmatch"]).into_iter().cloned().collect();
        for block in around {
            nodes.extend(
                block.children.iter().filter(|n| matches!(n.name.as_str(), "files" | "filesmatch")).cloned(),
            );
        }
        for node in &nodes {
            if section_fits(self.files, node, name, &mut self.groups)? {
                found.push(Block::of(node, None));
            }
        }
        Ok(found)
    }

    /// The last word on a directive: of the sections in force, then the site, then the main server.
    pub(super) fn effective(&self, blocks: &[Block], name: &str) -> Option<Node> {
        let of = |children: &[Node]| children.iter().rev().find(|n| n.name == name).cloned();
        let by_section = blocks.iter().rev().find_map(|b| of(&b.children));
        by_section.or_else(|| self.host.and_then(|h| of(&h.children))).or_else(|| of(self.tree.top()))
    }

    /// The options in force: whether one is on.
    pub(super) fn option(&self, blocks: &[Block], wanted: &str) -> bool {
        // What is built in: links are followed, and nothing else.
        let mut on: Vec<String> = vec!["followsymlinks".to_owned()];
        let host = self.host.map(|h| h.children.as_slice()).unwrap_or_default();
        let lines = self.tree.top().iter().chain(host).chain(blocks.iter().flat_map(|b| b.children.iter()));
        for line in lines.filter(|n| n.name == "options") {
            let absolute = line.words.iter().any(|w| !w.starts_with(['+', '-']));
            if absolute {
                on.clear();
            }
            for word in &line.words {
                let word = word.to_ascii_lowercase();
                match word.strip_prefix('-') {
                    Some(off) => on.retain(|o| o != off),
                    None => on.push(word.trim_start_matches('+').to_owned()),
                }
            }
        }
        on.iter().any(|o| o == wanted || o == "all" && wanted != "multiviews")
    }

    /// What an override file in a directory says, where one may stand there.
    fn override_file(&mut self, dir: &str, so_far: &[Block]) -> Result<Option<Block>, Unknown> {
        let own: Vec<Block> = so_far.iter().filter(|b| !b.is_override).cloned().collect();
        let allowed = own
            .iter()
            .rev()
            .find_map(|b| b.children.iter().rev().find(|n| n.name == "allowoverride").cloned());
        let list = own
            .iter()
            .rev()
            .find_map(|b| b.children.iter().rev().find(|n| n.name == "allowoverridelist").cloned());
        let none = |n: &Option<Node>| n.as_ref().is_none_or(|n| n.word(0).eq_ignore_ascii_case("none"));
        // Where nobody says what is allowed the file is read all the same, and every line of it refused
        // (asked of the daemon, 2.4).
        let never_said = allowed.is_none() && list.is_none();
        if !never_said && none(&allowed) && none(&list) {
            return Ok(None);
        }
        let name =
            self.effective(&[], "accessfilename").map_or(".htaccess".to_owned(), |n| n.word(0).to_owned());
        let file = path::join(dir, &name);
        match self.files.meet(&file) {
            Met::File => {}
            Met::Nothing | Met::Directory | Met::Other => return Ok(None),
            // The daemon denies everything where it cannot know what the file forbids.
            Met::Refused => {
                self.closed_override = Some(file);
                return Ok(None);
            }
            Met::Unseen => return Err(Unknown(file)),
        }
        let snapshot = self.files.snapshot;
        if snapshot.stat(&file).seen().is_none_or(|status| status.size > OVERRIDE) {
            return Err(Unknown(format!("{file}, which is larger than what is read of such a file")));
        }
        let Look::Seen(text) = snapshot.text(&file) else { return Err(Unknown(file)) };
        if never_said {
            self.broken_override = first_line(&file, &text);
            return Ok(None);
        }
        if none(&list)
            && let Some(allowed) = &allowed
        {
            self.broken_override = self.fault_of(&file, &text, allowed);
        }
        let children = self.parsed(&file, &text)?;
        Ok(Some(Block {
            children: Arc::new(children),
            shown: file.clone(),
            place: None,
            dir: Some(dir.to_owned()),
            is_override: true,
        }))
    }

    /// The first line of an override file that the daemon refuses: a name that it does not know, or one that
    /// may not stand there by what is allowed.
    fn fault_of(&self, file: &str, text: &str, allowed: &Node) -> Option<(Place, String)> {
        let classes: Vec<String> = allowed.words.iter().map(|w| w.to_ascii_lowercase()).collect();
        // What is allowed no further than some of its words or beyond mistakes is not judged.
        if classes.iter().any(|c| c.contains('=')) {
            return None;
        }
        let all = ["limit", "options", "fileinfo", "authcfg", "indexes"];
        let mine: Vec<&str> = match classes.iter().any(|c| c == "all") {
            true => all.to_vec(),
            false => classes.iter().map(|c| if c == "authconfig" { "authcfg" } else { c.as_str() }).collect(),
        };
        let bits = DIRECTIVES.bits(&mine);
        let mut depth = 0usize;
        let mut open: Vec<bool> = Vec::new();
        for line in Lines::new(text) {
            if line.text.is_empty() || line.text.starts_with('#') {
                continue;
            }
            if line.text.starts_with("</") {
                open.pop();
                depth = depth.saturating_sub(1);
                continue;
            }
            let (first, rest) = word(&line.text);
            let name = first.trim_end_matches('>');
            let lower = name.to_ascii_lowercase();
            let section = name.starts_with('<');
            let counts = open.iter().all(|c| *c);
            if section {
                depth += 1;
                let asked = rest.trim().trim_end_matches('>').trim();
                let (negated, asked) = asked.strip_prefix('!').map_or((false, asked), |a| (true, a));
                open.push(lower != "<ifmodule" || self.has_module(asked) != negated);
                if matches!(lower.as_str(), "<ifmodule" | "<ifdefine" | "<ifversion" | "<iffile") {
                    if lower != "<ifmodule" {
                        return None;
                    }
                    continue;
                }
            }
            if !counts {
                continue;
            }
            let place =
                || Place { file: Arc::from(file), line: line.number, column: line.column, end_column: 0 };
            let rows = DIRECTIVES.any_case(name);
            let there: Vec<_> = rows.iter().filter(|row| self.tree.has_source(row.from)).collect();
            if there.is_empty() {
                // Another module may know it, where one is loaded that no table holds.
                let known = rows
                    .first()
                    .map(|row| format!("{name} belongs to mod_{}, which is not loaded", row.from));
                return match known {
                    Some(why) => Some((place(), why)),
                    None if strings_hold(self.files.snapshot, &self.tree.module_files, name) => None,
                    None => Some((place(), format!("{name} is not a directive of httpd"))),
                };
            }
            if depth == 0 && !there.iter().any(|row| row.places & bits != 0) {
                return Some((
                    place(),
                    format!("{name} is not allowed there by \"AllowOverride {}\"", allowed.words.join(" ")),
                ));
            }
        }
        None
    }

    /// An override file as a tree; conditions on modules are decided.
    fn parsed(&mut self, file: &str, text: &str) -> Result<Vec<Node>, Unknown> {
        let mut grown = crate::route::Grown::default();
        // Of each section that is open, whether it is a condition, and whether what is inside counts.
        let mut open: Vec<(bool, bool)> = Vec::new();
        for line in Lines::new(text) {
            crate::bounds::step(1);
            if line.text.is_empty() || line.text.starts_with('#') {
                continue;
            }
            let counts = open.iter().all(|(_, counts)| *counts);
            if line.text.starts_with("</") {
                if let Some((condition, _)) = open.pop()
                    && !condition
                    && counts
                {
                    grown.close();
                }
                continue;
            }
            let (first, rest) = word(&line.text);
            let name = first.trim_end_matches('>').to_ascii_lowercase();
            let section = name.starts_with('<');
            let rest = if section { rest.rfind('>').map_or(rest, |at| &rest[..at]) } else { rest };
            if matches!(name.as_str(), "<ifmodule" | "<ifdefine" | "<ifversion") {
                let asked = rest.trim();
                let (negated, asked) = asked.strip_prefix('!').map_or((false, asked), |a| (true, a));
                let there = match name.as_str() {
                    "<ifmodule" => self.has_module(asked),
                    _ => return Err(Unknown(format!("{} in {file}", line.text))),
                };
                open.push((true, there != negated));
                continue;
            }
            if section {
                open.push((false, true));
            }
            if !counts {
                continue;
            }
            let mut words = Vec::new();
            let mut left = rest;
            while !left.is_empty() {
                let (next, behind) = word(left);
                words.push(next.into_owned());
                left = behind;
            }
            let place =
                Place { file: Arc::from(file), line: line.number, column: line.column, end_column: 0 };
            let name = name.trim_start_matches('<').to_owned();
            grown.add(Node { name, words, place, children: Vec::new() }, section);
        }
        Ok(grown.top)
    }

    fn has_module(&self, asked: &str) -> bool {
        let name =
            asked.strip_prefix("mod_").and_then(|n| n.strip_suffix(".c")).map(|n| format!("{n}_module"));
        self.tree.has(name.as_deref().unwrap_or(asked))
    }
}
