//! One unit: settings of all its files, lists reset as the manager resets them, specifiers expanded.
use std::collections::BTreeMap;

/// A unit as its files describe it.
#[derive(Clone, Debug, Default)]
pub struct Unit {
    /// The manager's name for it.
    pub name: String,
    /// Other names that lead to it.
    pub aliases: Vec<String>,
    /// The file that defines it.
    pub fragment: String,
    /// Drop-ins, in the order of application.
    pub drop_ins: Vec<String>,
    /// A link to nowhere: nothing may start it.
    pub masked: bool,
    /// Started at boot.
    pub enabled: bool,
    settings: BTreeMap<(String, String), Vec<Setting>>,
}

/// One value with the place that set it.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Setting {
    value: String,
    file: String,
    line: u32,
}

/// A command line of a unit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Command {
    /// Whether a failure is ignored (`-` before the path).
    pub may_fail: bool,
    /// Program and arguments, specifiers expanded, variables not.
    pub words: Vec<String>,
    /// The file that sets it.
    pub file: String,
    /// Its line.
    pub line: u32,
}

impl Unit {
    /// A unit of which no file was read yet.
    pub fn named(name: &str) -> Self {
        Self { name: name.to_owned(), ..Self::default() }
    }

    /// Adds one file. Later files add to lists and override values; an empty value empties a list.
    pub(super) fn read(&mut self, file: &str, text: &str) {
        let mut section = String::new();
        let mut pending: Option<(u32, String)> = None;
        for (number, raw) in (1u32..).zip(text.lines()) {
            let line = raw.trim_end_matches('\r');
            let starts_comment = line.trim_start().starts_with(['#', ';']);
            if starts_comment {
                continue;
            }
            let (start, whole) = match pending.take() {
                Some((start, so_far)) => (start, so_far + " " + line.trim_start()),
                None => (number, line.to_owned()),
            };
            if let Some(stem) = whole.strip_suffix('\\') {
                pending = Some((start, stem.to_owned()));
                continue;
            }
            let whole = whole.trim();
            if let Some(name) = whole.strip_prefix('[').and_then(|w| w.strip_suffix(']')) {
                section = name.to_owned();
            } else if let Some((key, value)) = whole.split_once('=') {
                self.set(&section, key.trim(), value.trim(), file, start);
            }
        }
    }

    fn set(&mut self, section: &str, key: &str, value: &str, file: &str, line: u32) {
        let list = self.settings.entry((section.to_owned(), key.to_owned())).or_default();
        if value.is_empty() {
            list.clear();
        } else {
            list.push(Setting { value: value.to_owned(), file: file.to_owned(), line });
        }
    }

    /// The last value of a setting, specifiers expanded.
    pub fn value(&self, section: &str, key: &str) -> Option<String> {
        self.settings.get(&(section.to_owned(), key.to_owned()))?.last().map(|s| self.expand(&s.value))
    }

    /// All values of a setting, specifiers expanded.
    pub fn values(&self, section: &str, key: &str) -> Vec<String> {
        let found = self.settings.get(&(section.to_owned(), key.to_owned()));
        found.into_iter().flatten().map(|s| self.expand(&s.value)).collect()
    }

    /// The place that sets a value.
    pub fn place(&self, section: &str, key: &str) -> Option<(String, u32)> {
        self.settings.get(&(section.to_owned(), key.to_owned()))?.last().map(|s| (s.file.clone(), s.line))
    }

    /// All values of a setting, specifiers expanded, each with its file and line.
    pub fn placed(&self, section: &str, key: &str) -> Vec<(String, String, u32)> {
        let found = self.settings.get(&(section.to_owned(), key.to_owned()));
        found.into_iter().flatten().map(|s| (self.expand(&s.value), s.file.clone(), s.line)).collect()
    }

    /// The commands of `ExecStart=` and its kin.
    pub fn commands(&self, key: &str) -> Vec<Command> {
        let found = self.settings.get(&("Service".to_owned(), key.to_owned()));
        found
            .into_iter()
            .flatten()
            .filter_map(|setting| {
                let prefix =
                    setting.value.len() - setting.value.trim_start_matches(['-', '@', '+', '!', ':']).len();
                let (marks, rest) = setting.value.split_at(prefix);
                let mut words = split_words(&self.expand(rest));
                if marks.contains('@') && words.len() > 1 {
                    words.remove(1);
                }
                (!words.is_empty()).then(|| Command {
                    may_fail: marks.contains('-'),
                    words,
                    file: setting.file.clone(),
                    line: setting.line,
                })
            })
            .collect()
    }

    /// `Environment=` assignments, the later ones winning.
    pub fn environment(&self) -> BTreeMap<String, String> {
        let all = self.values("Service", "Environment");
        let words = all.iter().flat_map(|line| split_words(line));
        words.filter_map(|w| w.split_once('=').map(|(k, v)| (k.to_owned(), v.to_owned()))).collect()
    }

    /// Whether what the unit starts may have a capability at all (`CapabilityBoundingSet=`, systemd.exec(5)):
    /// several lines add up, `~` takes away.
    pub fn keeps_capability(&self, capability: &str) -> bool {
        let lines = self.values("Service", "CapabilityBoundingSet");
        let mut keeps = lines.first().is_none_or(|first| first.starts_with('~'));
        for line in &lines {
            let (words, gives) = line.strip_prefix('~').map_or((line.as_str(), true), |rest| (rest, false));
            if words.split_whitespace().any(|w| w == capability) {
                keeps = gives;
            }
        }
        keeps
    }

    /// `EnvironmentFile=` paths with whether they may be missing.
    pub fn environment_files(&self) -> Vec<(String, bool)> {
        let all = self.values("Service", "EnvironmentFile");
        all.into_iter()
            .map(|f| f.strip_prefix('-').map_or((f.clone(), false), |p| (p.to_owned(), true)))
            .collect()
    }

    fn expand(&self, text: &str) -> String {
        if !text.contains('%') {
            return text.to_owned();
        }
        let stem = self.name.rsplit_once('.').map_or(self.name.as_str(), |(s, _)| s);
        let (prefix, instance) = stem.split_once('@').unwrap_or((stem, ""));
        let mut out = String::new();
        let mut rest = text.chars();
        while let Some(c) = rest.next() {
            if c != '%' {
                out.push(c);
                continue;
            }
            match rest.next() {
                Some('n') => out.push_str(&self.name),
                Some('N') => out.push_str(stem),
                Some('p') => out.push_str(prefix),
                Some('P') => out.push_str(&unescape(prefix)),
                Some('i') => out.push_str(instance),
                Some('I') => out.push_str(&unescape(instance)),
                Some('t') => out.push_str("/run"),
                Some('S') => out.push_str("/var/lib"),
                Some('L') => out.push_str("/var/log"),
                Some('C') => out.push_str("/var/cache"),
                Some('E') => out.push_str("/etc"),
                Some('%') => out.push('%'),
                Some(other) => out.extend(['%', other]),
                None => out.push('%'),
            }
        }
        out
    }
}

/// `-` stands for `/`, `\xNN` for a byte (systemd-escape).
fn unescape(name: &str) -> String {
    let mut out = String::new();
    let mut rest = name;
    while let Some(c) = rest.chars().next() {
        if let Some(byte) =
            rest.strip_prefix("\\x").and_then(|r| r.get(..2)).and_then(|h| u8::from_str_radix(h, 16).ok())
        {
            out.push(char::from(byte));
            rest = &rest[4..];
        } else {
            out.push(if c == '-' { '/' } else { c });
            rest = &rest[c.len_utf8()..];
        }
    }
    out
}

/// Splits a command line as the manager does: quotes around or inside a word, backslash escapes.
pub fn split_words(text: &str) -> Vec<String> {
    let (mut words, mut word, mut open) = (Vec::new(), String::new(), false);
    let mut quote: Option<char> = None;
    let mut rest = text.chars();
    while let Some(c) = rest.next() {
        match (c, quote) {
            ('\\', q) if q != Some('\'') => {
                open = true;
                word.extend(rest.next());
            }
            (c, Some(q)) if c == q => quote = None,
            (c, Some(_)) => word.push(c),
            ('"' | '\'', None) => {
                quote = Some(c);
                open = true;
            }
            (c, None) if c.is_whitespace() => {
                if open {
                    words.push(std::mem::take(&mut word));
                }
                open = false;
            }
            (c, None) => {
                word.push(c);
                open = true;
            }
        }
    }
    if open {
        words.push(word);
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn drop_ins_reset_lists_and_override_values() {
        let mut unit = Unit::named("relay@north-side.service");
        unit.read("a", "[Service]\nUser=tide\nExecStart=/bin/relay --old\n# c\nEnvironment=\"A=1 2\" B=3\n");
        unit.read("b", "[Service]\nExecStart=\nExecStart=-/bin/relay \\\n  --name %i '%I'\n");
        let commands = unit.commands("ExecStart");
        assert_eq!(commands.len(), 1);
        assert_eq!(commands[0].words, ["/bin/relay", "--name", "north-side", "north/side"]);
        assert!(commands[0].may_fail);
        assert_eq!(unit.value("Service", "User").as_deref(), Some("tide"));
        assert_eq!(unit.environment()["A"], "1 2");
        assert_eq!(unit.place("Service", "ExecStart"), Some(("b".into(), 3)));
    }

    #[test]
    fn words_keep_their_quotes_content() {
        assert_eq!(
            split_words(r#"/usr/sbin/nginx -g 'daemon on; master_process on;' "a\"b" c\ d"#),
            ["/usr/sbin/nginx", "-g", "daemon on; master_process on;", "a\"b", "c d"]
        );
    }
}
