//! Failures of a kind as data: a pattern, its cause code, the objects it names, and real sample lines.
use crate::code::Code;
use regex::bytes::{Regex, RegexBuilder};
use serde::Deserialize;
use std::sync::OnceLock;

/// A kind's failures.
pub struct Catalogue {
    text: &'static str,
    parsed: OnceLock<Vec<Compiled>>,
}

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
    /// The pattern, with groups `address`, `port`, `path`, `directive`, `account`, `pid`, `host`, `line`, `file`.
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

const GROUPS: &[&str] = &["address", "port", "path", "directive", "account", "pid", "host", "line", "file", "signal", "value"];

impl Catalogue {
    /// A catalogue over committed data.
    pub const fn new(text: &'static str) -> Self {
        Self { text, parsed: OnceLock::new() }
    }

    fn rules(&self) -> &[Compiled] {
        self.parsed.get_or_init(|| {
            let data: Data = toml::from_str(self.text).unwrap_or(Data { failure: Vec::new() });
            data.failure.into_iter().map(|rule| Compiled { rule, pattern: OnceLock::new() }).collect()
        })
    }

    /// Recognises a line. The first rule that fits wins.
    pub fn recognise(&self, line: &str) -> Option<Match> {
        self.rules().iter().find_map(|one| {
            if !line.contains(one.rule.needle.as_str()) {
                return None;
            }
            let pattern = one.pattern.get_or_init(|| bytes_pattern(&one.rule.pattern)).as_ref()?;
            let found = pattern.captures(line.as_bytes())?;
            let objects = GROUPS.iter().filter_map(|g| found.name(g).map(|m| ((*g).to_owned(), String::from_utf8_lossy(m.as_bytes()).into_owned()))).collect();
            Some(Match { code: one.rule.code, aftermath: one.rule.aftermath, harmless: one.rule.harmless, continues: one.rule.continues, objects })
        })
    }

    /// What is wrong with the data themselves: rules that do not parse, or do not recognise their own samples.
    pub fn faults(&self) -> Vec<String> {
        let mut faults = Vec::new();
        if let Err(error) = toml::from_str::<Data>(self.text) {
            faults.push(error.to_string());
        }
        for one in self.rules() {
            if one.rule.samples.is_empty() {
                faults.push(format!("{:?} has no sample", one.rule.pattern));
            }
            for sample in &one.rule.samples {
                match self.recognise(sample) {
                    Some(m) if m.code == one.rule.code && m.aftermath == one.rule.aftermath && m.harmless == one.rule.harmless => {}
                    other => faults.push(format!("{sample:?} is recognised as {other:?}, not by {:?}", one.rule.pattern)),
                }
            }
        }
        faults
    }
}
