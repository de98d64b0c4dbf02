//! Rules on requests, responses and connections: what they do, and on which condition (http_act.c,
//! http_rules.c, tcp_rules.c and those who register actions there).
mod answers;

use super::DIRECTIVES;
use super::acl::{self, Wrong};
use super::format::format;
use super::samples::{Known, Reference, Refers, places};
use super::tokens::Words;
use super::values::{self, Unit};
use crate::config::regex_fault;
use std::collections::BTreeSet;

/// When a rule is asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Stage {
    Request,
    Response,
    AfterResponse,
    Connection,
    Session,
    Content,
    ResponseContent,
}

impl Stage {
    /// Its place in the table of keywords.
    fn place(self) -> &'static str {
        match self {
            Self::Request => "http-request",
            Self::Response => "http-response",
            Self::AfterResponse => "http-after-response",
            Self::Connection => "tcp-request-connection",
            Self::Session => "tcp-request-session",
            Self::Content => "tcp-request-content",
            Self::ResponseContent => "tcp-response-content",
        }
    }
}

/// What a rule is judged by.
#[derive(Clone, Copy)]
pub(super) struct Context<'a> {
    pub(super) known: Known<'a>,
    /// Lists that the section defines.
    pub(super) lists: &'a BTreeSet<String>,
    /// The section takes requests, and passes them on.
    pub(super) front: bool,
    pub(super) back: bool,
    /// What is experimental is allowed.
    pub(super) experimental: bool,
}

impl Context<'_> {
    /// Where samples of a stage are taken.
    pub(super) fn places(self, stage: Stage) -> u32 {
        let of =
            |front: u32, back: u32| (if self.front { front } else { 0 }) | if self.back { back } else { 0 };
        match stage {
            Stage::Connection => places::FRONT_CONNECTION,
            Stage::Session => places::FRONT_SESSION,
            Stage::Content => of(places::FRONT_CONTENT, places::BACK_CONTENT),
            Stage::ResponseContent => places::BACK_RESPONSE_CONTENT | of(places::FRONT_RESPONSE_CONTENT, 0),
            Stage::Request => of(places::FRONT_REQUEST, places::BACK_REQUEST),
            Stage::Response | Stage::AfterResponse => of(places::FRONT_RESPONSE, places::BACK_RESPONSE),
        }
    }
}

/// A rule that is being read.
struct Rule<'a, 'w, 't> {
    context: Context<'a>,
    stage: Stage,
    words: Words<'w, 't>,
    at: usize,
    refers: Vec<Reference>,
}

type Read = Result<(), Wrong>;

/// Reads a rule whose action stands at a word; what it names.
pub(super) fn rule(context: Context, stage: Stage, words: Words, at: usize) -> Result<Vec<Reference>, Wrong> {
    let mut rule = Rule { context, stage, words, at, refers: Vec::new() };
    rule.action()?;
    rule.end()?;
    Ok(rule.refers)
}

/// A redirect with its condition.
pub(super) fn redirect(context: Context, words: Words, at: usize) -> Result<Vec<Reference>, Wrong> {
    let mut rule = Rule { context, stage: Stage::Request, words, at, refers: Vec::new() };
    rule.redirect()?;
    rule.end()?;
    Ok(rule.refers)
}

/// The part of a name before its brackets, and what stands in them.
fn brackets(word: &str) -> (&str, Option<&str>) {
    match word.split_once('(') {
        Some((name, rest)) => (name, Some(rest.strip_suffix(')').unwrap_or(rest))),
        None => (word, None),
    }
}

/// The row of an action: names that go on behind them end in a star there.
fn row_of(stage: Stage, word: &str) -> Option<&'static crate::config::rows::Row> {
    let bit = DIRECTIVES.place(stage.place());
    let find = |name: &str| DIRECTIVES.exact(name).iter().find(|row| row.places & bit != 0);
    let (name, inside) = brackets(word);
    let starred = || find(&format!("{name}*"));
    let numbered = || {
        let bare = name.trim_end_matches(|c: char| c.is_ascii_digit());
        (bare != name).then(|| find(&format!("{bare}*"))).flatten()
    };
    let plain = if inside.is_none() { find(word) } else { None };
    plain.or_else(starred).or_else(numbered)
}

impl Rule<'_, '_, '_> {
    fn word(&self) -> &str {
        self.words.at(self.at)
    }

    fn wrong(&self, why: impl Into<String>) -> Wrong {
        Wrong::new(self.at, why)
    }

    /// A condition, or nothing.
    fn end(&mut self) -> Read {
        if self.words.is_condition(self.at) {
            let refers = acl::condition(self.context.known, self.context.lists, self.words, self.at)?;
            self.refers.extend(refers);
        } else if !self.word().is_empty() {
            let why = format!("only if or unless is allowed here, not {}", self.word());
            return Err(self.wrong(why));
        }
        Ok(())
    }

    /// So many words must stand there, and then the condition or the end.
    fn exactly(&self, count: usize) -> Read {
        let short = (0..count).find(|n| self.words.at(self.at + n).is_empty());
        let what = if count == 1 { "one value".to_owned() } else { format!("{count} values") };
        if short.is_some() {
            return Err(Wrong::new(self.at.saturating_sub(1), format!("{what} is required here")));
        }
        match self.words.ends(self.at + count) {
            true => Ok(()),
            false => Err(Wrong::new(self.at + count, format!("only {what} is allowed here"))),
        }
    }

    fn format(&mut self) -> Read {
        let places = self.context.places(self.stage);
        match format(self.context.known, self.word(), places) {
            Ok(refers) => self.refers.extend(refers),
            Err(why) => return Err(self.wrong(why)),
        }
        self.at += 1;
        Ok(())
    }

    fn regex(&mut self) -> Read {
        if let Some(why) = regex_fault(self.word()) {
            return Err(self.wrong(format!("the pattern is broken: {why}")));
        }
        self.at += 1;
        Ok(())
    }

    fn expression(&mut self) -> Read {
        self.expression_at(self.context.places(self.stage))
    }

    fn expression_at(&mut self, places: u32) -> Read {
        let from = self.at;
        let found = self.context.known.expression(self.words, &mut self.at);
        let found = found.map_err(|why| Wrong::new(from, why))?;
        if found.places & places == 0 {
            return Err(Wrong::new(from, format!("{} cannot be known here", found.name)));
        }
        self.refers.extend(found.refers);
        Ok(())
    }

    fn action(&mut self) -> Read {
        let word = self.word().to_owned();
        if word.is_empty() {
            return Err(Wrong::new(self.at.saturating_sub(1), "the rule does nothing: an action is missing"));
        }
        let (name, inside) = brackets(&word);
        // Scripts bring actions of their own, whose words nobody here knows.
        if word.starts_with("lua.") && self.context.known.scripts {
            self.at = (self.at..self.words.len())
                .find(|at| self.words.is_condition(*at))
                .unwrap_or(self.words.len());
            return Ok(());
        }
        if row_of(self.stage, &word).is_none() {
            return Err(self.wrong(format!("no action is named \"{word}\" in {} rules", self.stage.place())));
        }
        let start = self.at;
        self.at += 1;
        match name {
            "deny" | "tarpit" => self.reply(true)?,
            "return" => self.reply(false)?,
            "auth" if self.word() == "realm" => {
                if self.words.at(self.at + 1).is_empty() {
                    return Err(self.wrong("realm needs a name"));
                }
                self.at += 2;
            }
            "redirect" => self.redirect()?,
            "set-header" | "add-header" | "early-hint" => {
                self.exactly(2)?;
                self.at += 1;
                self.format()?;
            }
            "del-header" => self.del_header()?,
            "replace-header" | "replace-value" => {
                self.exactly(3)?;
                self.at += 1;
                self.regex()?;
                self.format()?;
            }
            "replace-path" | "replace-pathq" | "replace-uri" => {
                self.exactly(2)?;
                self.regex()?;
                self.format()?;
            }
            "set-method" | "set-path" | "set-pathq" | "set-query" | "set-uri" => {
                self.exactly(1)?;
                self.format()?;
            }
            "set-status" => self.set_status()?,
            "set-timeout" => self.set_timeout()?,
            "strict-mode" => self.one_of(&["on", "off"])?,
            "capture" => self.capture()?,
            "cache-use" | "cache-store" => {
                self.exactly(1)?;
                self.at += 1;
            }
            "send-spoe-group" => {
                self.exactly(2)?;
                self.at += 2;
            }
            "use-service" => self.service()?,
            "add-acl" | "del-acl" | "del-map" | "set-map" => {
                if inside.is_none() {
                    return Err(Wrong::new(start, format!("{name} needs a file in brackets")));
                }
                let count = 1 + usize::from(name == "set-map");
                self.exactly(count)?;
                for _ in 0..count {
                    self.format()?;
                }
            }
            "set-var" | "set-var-fmt" | "unset-var" => self.variable(start, name, inside)?,
            _ => self.other(start, name, inside)?,
        }
        Ok(())
    }

    /// Actions on the connection, on counters and on marks.
    fn other(&mut self, start: usize, name: &str, inside: Option<&str>) -> Read {
        match name {
            "set-log-level" => self.one_of(LEVELS)?,
            "set-nice" => self.number("a number")?,
            "set-mark" | "set-tos" | "set-fc-mark" | "set-bc-mark" | "set-fc-tos" | "set-bc-tos" => {
                self.mark()?
            }
            "silent-drop" if self.word() == "rst-ttl" => self.at += 2,
            "set-src"
            | "set-dst"
            | "set-src-port"
            | "set-dst-port"
            | "set-priority-class"
            | "set-priority-offset" => self.expression()?,
            "do-resolve" => self.resolve(start, inside)?,
            "wait-for-body" => self.wait_for_body()?,
            "normalize-uri" => {
                if !self.context.experimental {
                    let why = "normalize-uri needs expose-experimental-directives in the global section";
                    return Err(Wrong::new(start, why));
                }
                self.skip();
            }
            "switch-mode" => {
                self.one_of(&["http"])?;
                if self.word() == "proto" {
                    self.at += 2;
                }
            }
            "expect-proxy" | "expect-netscaler-cip" => self.one_of(&["layer4"])?,
            "set-bandwidth-limit" | "attach-srv" => self.skip(),
            _ if name.starts_with("track-sc") => self.track(start, name)?,
            _ if name.starts_with("sc-") => self.counter(start, name, inside)?,
            _ => {}
        }
        Ok(())
    }

    /// Whatever stands there until the condition.
    fn skip(&mut self) {
        while !self.words.ends(self.at) {
            self.at += 1;
        }
    }

    fn one_of(&mut self, all: &[&str]) -> Read {
        if !all.contains(&self.word()) {
            let why = format!("\"{}\" is not allowed here, expected {}", self.word(), all.join(" or "));
            return Err(self.wrong(why));
        }
        self.at += 1;
        Ok(())
    }

    fn number(&mut self, what: &str) -> Read {
        if !values::is_number(self.word()) {
            return Err(self.wrong(format!("\"{}\" is not {what}", self.word())));
        }
        self.at += 1;
        Ok(())
    }

    fn mark(&mut self) -> Read {
        let word = self.word();
        let digits = word.strip_prefix("0x").or_else(|| word.strip_prefix("0X"));
        let good = match digits {
            Some(digits) => !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_hexdigit()),
            None => !word.is_empty() && word.bytes().all(|b| b.is_ascii_digit()),
        };
        // Later releases take a sample in its place.
        if !good && self.context.known.expression(self.words, &mut self.at.clone()).is_err() {
            return Err(self.wrong(format!("\"{word}\" is not a number")));
        }
        self.at += 1;
        Ok(())
    }

    fn del_header(&mut self) -> Read {
        if self.words.ends(self.at) {
            return Err(Wrong::new(self.at - 1, "a header must be named"));
        }
        self.at += 1;
        if self.word() == "-m" {
            self.at += 1;
            let method = self.word().to_owned();
            self.one_of(&["str", "beg", "end", "sub", "reg"])?;
            if method == "reg" {
                let name = self.words.at(self.at - 3);
                if let Some(why) = regex_fault(name) {
                    return Err(Wrong::new(self.at - 3, format!("the pattern is broken: {why}")));
                }
            }
        }
        Ok(())
    }

    fn set_status(&mut self) -> Read {
        let code = values::leading(self.word());
        if !(100..=999).contains(&code) {
            return Err(self.wrong("a status is a number from 100 to 999"));
        }
        self.at += 1;
        if self.word() == "reason" && !self.words.ends(self.at + 1) {
            self.at += 1;
            self.format()?;
        }
        Ok(())
    }

    fn set_timeout(&mut self) -> Read {
        let of = self.word().to_owned();
        let allowed: &[&str] = if self.context.back { &["server", "tunnel", "client"] } else { &["client"] };
        if !self.context.back && of != "client" {
            return Err(self.wrong("only sections that pass requests on have this time limit"));
        }
        self.one_of(allowed)?;
        let word = self.word();
        if word.starts_with(|c: char| c.is_ascii_digit()) {
            values::time(word, Unit::Milliseconds).map_err(|why| self.wrong(why))?;
            self.at += 1;
            return Ok(());
        }
        self.expression()
    }

    fn capture(&mut self) -> Read {
        if self.words.ends(self.at) {
            return Err(Wrong::new(self.at - 1, "a sample must be named"));
        }
        self.expression()?;
        match self.word() {
            "len" if self.stage != Stage::Response && self.stage != Stage::AfterResponse => {
                self.at += 1;
                if values::leading(self.word()) <= 0 {
                    return Err(self.wrong("a length is greater than 0"));
                }
                if !self.context.front {
                    return Err(self.wrong("only a section that takes requests can capture"));
                }
            }
            "id" if self.stage != Stage::Content => {
                self.at += 1;
                if self.word().is_empty() || !values::is_number(self.word()) {
                    return Err(self.wrong("id takes a number"));
                }
            }
            _ => return Err(self.wrong("len or id is required here")),
        }
        self.at += 1;
        Ok(())
    }

    fn variable(&mut self, start: usize, name: &str, inside: Option<&str>) -> Read {
        let whole = self.words.at(start);
        let Some(inside) = inside.filter(|_| whole.ends_with(')')) else {
            return Err(Wrong::new(start, format!("{name} needs the name of a variable in brackets")));
        };
        let mut parts = inside.split(',');
        values::variable(parts.next().unwrap_or("")).map_err(|why| Wrong::new(start, why))?;
        for condition in parts {
            let known =
                ["ifexists", "ifnotexists", "ifempty", "ifnotempty", "ifset", "ifnotset", "ifgt", "iflt"];
            if name == "unset-var" || !known.contains(&condition) {
                return Err(Wrong::new(start, format!("{condition} is not allowed in the brackets")));
            }
        }
        match name {
            "set-var" => self.expression(),
            "set-var-fmt" => {
                if self.word().is_empty() {
                    return Err(Wrong::new(start, "a format must follow"));
                }
                self.format()
            }
            _ => Ok(()),
        }
    }

    fn resolve(&mut self, start: usize, inside: Option<&str>) -> Read {
        let parts: Vec<&str> = inside.unwrap_or("").split(',').collect();
        if parts.len() < 2 {
            return Err(Wrong::new(start, "do-resolve needs a variable and a section of resolvers"));
        }
        values::variable(parts[0].trim()).map_err(|why| Wrong::new(start, why))?;
        if let Some(family) = parts.get(2).map(|f| f.trim())
            && !matches!(family, "ipv4" | "ipv6")
        {
            return Err(Wrong::new(start, format!("{family} is not a family, expected ipv4 or ipv6")));
        }
        self.expression()
    }

    fn track(&mut self, start: usize, name: &str) -> Read {
        let number = &name["track-sc".len()..];
        let most = if self.context.known.release.get().is_some_and(|r| r.version.major() > 2) {
            i64::from(u16::MAX)
        } else {
            2
        };
        if !values::is_number(number) || values::leading(number) > most {
            return Err(Wrong::new(
                start,
                format!("\"{number}\" is not the number of a counter, expected 0, 1 or 2"),
            ));
        }
        self.expression()?;
        if self.word() == "table" {
            self.at += 1;
            if self.word().is_empty() {
                return Err(Wrong::new(self.at - 1, "a table must be named"));
            }
            self.refers.push(Reference { to: Refers::Table, name: self.word().to_owned() });
            self.at += 1;
        } else {
            self.refers.push(Reference { to: Refers::Table, name: String::new() });
        }
        Ok(())
    }

    fn counter(&mut self, start: usize, name: &str, inside: Option<&str>) -> Read {
        let numbered = name.ends_with(|c: char| c.is_ascii_digit());
        let wanted = if numbered { 1 } else { 2 };
        let numbers: Vec<&str> = inside.map(|i| i.split(',').collect()).unwrap_or_default();
        let none = numbers.is_empty() && numbered;
        let good = numbers.len() == wanted
            && numbers.iter().all(|n| values::is_number(n))
            && self.words.at(start).ends_with(')');
        if !none && !good {
            let what = if numbered { "the number of a counter" } else { "two numbers" };
            return Err(Wrong::new(start, format!("{name} takes {what} in brackets")));
        }
        if good && numbers.last().is_some_and(|n| values::leading(n) > 2) {
            return Err(Wrong::new(start, "there are counters 0, 1 and 2"));
        }
        if name.starts_with("sc-set-gpt") || name.starts_with("sc-add-gpc") {
            if values::is_number(self.word()) {
                self.at += 1;
            } else {
                self.expression()?;
            }
        }
        Ok(())
    }

    fn service(&mut self) -> Read {
        const SERVICES: &[&str] = &["prometheus-exporter"];
        let name = self.word();
        let known = SERVICES.contains(&name) || name.starts_with("lua.") && self.context.known.scripts;
        if !known {
            return Err(self.wrong(format!("no service is named \"{name}\"")));
        }
        self.at += 1;
        Ok(())
    }

    fn wait_for_body(&mut self) -> Read {
        let mut timed = false;
        while !self.words.ends(self.at) {
            match self.word() {
                "time" => {
                    self.at += 1;
                    values::time(self.word(), Unit::Milliseconds).map_err(|why| self.wrong(why))?;
                    timed = true;
                }
                "at-least" => {
                    self.at += 1;
                    if !values::is_size(self.word()) {
                        return Err(self.wrong("at-least takes a size"));
                    }
                }
                other => {
                    return Err(self.wrong(format!("{other} is not allowed here, expected time or at-least")));
                }
            }
            self.at += 1;
        }
        match timed {
            true => Ok(()),
            false => Err(Wrong::new(self.at - 1, "wait-for-body needs a time")),
        }
    }
}

/// Levels of log lines.
pub(super) const LEVELS: &[&str] =
    &["silent", "emerg", "alert", "crit", "err", "warning", "notice", "info", "debug"];
