//! Failures of a kind as data: a pattern, its cause code, the objects it names, and real sample lines.
use crate::code::Code;
use aho_corasick::{AhoCorasick, AhoCorasickKind};
use regex::bytes::{Regex, RegexBuilder};
use serde::Deserialize;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};

/// A kind's failures.
pub struct Catalogue {
    text: &'static str,
    /// What is asked where neither these rules nor the general ones know a line.
    beside: Option<&'static Catalogue>,
    parsed: OnceLock<Vec<Compiled>>,
    /// Finds the words of all rules at once; `None` where it could not be built.
    finder: OnceLock<Option<AhoCorasick>>,
    /// Lines that were looked at.
    asked: AtomicU32,
}

/// After so many lines it pays to have built the finder.
const MANY: u32 = 200;

#[derive(Deserialize)]
struct Data {
    #[serde(default)]
    failure: Vec<Rule>,
}

/// One rule.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rule {
    /// The cause; absent for harmless lines and bare aftermath.
    pub code: Option<Code>,
    /// Words that every such line holds; only then the pattern is tried.
    pub needle: String,
    /// The pattern, with groups `address`, `port`, `path`, `directive`, `account`, `pid`, `host`, `line`,
    /// `file`.
    pub pattern: String,
    /// A consequence of something else, never a first cause.
    #[serde(default)]
    pub aftermath: bool,
    /// Stands in healthy starts, too.
    #[serde(default)]
    pub harmless: bool,
    /// The line after it tells the reason.
    #[serde(default)]
    pub continues: bool,
    /// Real lines.
    pub samples: Vec<String>,
}

struct Compiled {
    rule: Rule,
    pattern: OnceLock<Option<Regex>>,
}

/// A line that a rule recognised.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Match {
    /// The cause; `None` for harmless lines and aftermath.
    pub code: Option<Code>,
    /// A consequence.
    pub aftermath: bool,
    /// Nothing to worry about.
    pub harmless: bool,
    /// The reason stands in the next line.
    pub continues: bool,
    /// Objects named in the line, by group name.
    pub objects: Vec<(String, String)>,
}

impl Match {
    /// An object by its name.
    pub fn object(&self, name: &str) -> Option<&str> {
        self.objects.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str())
    }
}

/// A pattern over bytes: classes are those of ASCII, which keeps them small and quick to build.
pub(super) fn bytes_pattern(pattern: &str) -> Option<Regex> {
    RegexBuilder::new(pattern).unicode(false).build().ok()
}

const GROUPS: &[&str] =
    &["address", "port", "path", "directive", "account", "pid", "host", "line", "file", "signal", "value"];

impl Compiled {
    /// What the rule makes of a line that holds its words.
    fn matched(&self, line: &str) -> Option<Match> {
        let pattern = self.pattern.get_or_init(|| bytes_pattern(&self.rule.pattern)).as_ref()?;
        let found = pattern.captures(line.as_bytes())?;
        let objects = GROUPS
            .iter()
            .filter_map(|g| {
                let text = String::from_utf8_lossy(found.name(g)?.as_bytes()).into_owned();
                // What stands behind a path in an address is a client's word, and may be secret.
                let cut = if matches!(*g, "path" | "file") {
                    text.find('?').unwrap_or(text.len())
                } else {
                    text.len()
                };
                Some(((*g).to_owned(), text[..cut].to_owned()))
            })
            .collect();
        let Rule { code, aftermath, harmless, continues, .. } = self.rule;
        Some(Match { code, aftermath, harmless, continues, objects })
    }
}

impl Catalogue {
    /// A catalogue over committed data.
    pub const fn new(text: &'static str) -> Self {
        Self {
            text,
            beside: None,
            parsed: OnceLock::new(),
            finder: OnceLock::new(),
            asked: AtomicU32::new(0),
        }
    }

    /// The same, with another that is asked where neither these rules nor the general ones know a line.
    pub const fn and_then(text: &'static str, beside: &'static Self) -> Self {
        let beside = Some(beside);
        Self { text, beside, parsed: OnceLock::new(), finder: OnceLock::new(), asked: AtomicU32::new(0) }
    }

    /// What is asked last.
    pub(super) fn beside(&self) -> Option<&'static Self> {
        self.beside
    }

    fn rules(&self) -> &[Compiled] {
        self.parsed.get_or_init(|| {
            let data: Data = serde_json::from_str(self.text).unwrap_or(Data { failure: Vec::new() });
            data.failure.into_iter().map(|rule| Compiled { rule, pattern: OnceLock::new() }).collect()
        })
    }

    /// Recognises a line. The first rule that fits wins.
    pub fn recognise(&self, line: &str) -> Option<Match> {
        let few = self.asked.fetch_add(1, Ordering::Relaxed) < MANY;
        if few { self.recognise_slowly(line) } else { self.recognise_quickly(line) }
    }

    /// The cause that a line tells of, where it is neither harmless nor a mere consequence.
    pub(super) fn cause(&self, line: &str) -> Option<(Code, Match)> {
        let found = self.recognise(line).filter(|m| !m.harmless && !m.aftermath)?;
        Some((found.code?, found))
    }

    /// Rule by rule.
    pub(crate) fn recognise_slowly(&self, line: &str) -> Option<Match> {
        self.rules()
            .iter()
            .filter(|one| line.contains(one.rule.needle.as_str()))
            .find_map(|one| one.matched(line))
    }

    /// The same for one line of many: most hold no words of any rule, and one pass tells.
    pub(crate) fn recognise_quickly(&self, line: &str) -> Option<Match> {
        let rules = self.rules();
        let build = || {
            // The quickest to search would take longer to build than it ever saves.
            let kind = Some(AhoCorasickKind::ContiguousNFA);
            AhoCorasick::builder().kind(kind).build(rules.iter().map(|one| one.rule.needle.as_str())).ok()
        };
        let finder = self.finder.get_or_init(build).as_ref()?;
        let mut held: Vec<usize> =
            finder.find_overlapping_iter(line).map(|hit| hit.pattern().as_usize()).collect();
        held.sort_unstable();
        held.dedup();
        held.into_iter().find_map(|at| rules[at].matched(line))
    }

    /// The sample lines of all rules.
    #[cfg(test)]
    pub(crate) fn samples(&self) -> impl Iterator<Item = &str> {
        self.rules().iter().flat_map(|one| one.rule.samples.iter().map(String::as_str))
    }

    /// What is wrong with the data themselves: rules that do not parse, or do not recognise their own
    /// samples.
    pub fn faults(&self) -> Vec<String> {
        let mut faults = Vec::new();
        if let Err(error) = serde_json::from_str::<Data>(self.text) {
            faults.push(error.to_string());
        }
        for one in self.rules() {
            if one.rule.samples.is_empty() {
                faults.push(format!("{:?} has no sample", one.rule.pattern));
            }
            for sample in &one.rule.samples {
                match self.recognise(sample) {
                    Some(m)
                        if m.code == one.rule.code
                            && m.aftermath == one.rule.aftermath
                            && m.harmless == one.rule.harmless => {}
                    other => faults.push(format!(
                        "{sample:?} is recognised as {other:?}, not by {:?}",
                        one.rule.pattern
                    )),
                }
            }
        }
        faults
    }
}
