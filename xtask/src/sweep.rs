//! `cargo xtask sweep KIND`: every row of a kind's table, with words that its types hold and words that
//! they do not, in every place, asked of the daemon that is installed here and of our own reader. What
//! differs is listed. One line that the daemon accepts and one that it refuses for each row, of those on
//! which both agree, are written beside the corpus, and an ordinary test holds `lint` to them.
use crate::corpus::{fill, line_of};
use jolly_core::config::Severity;
use jolly_core::config::rows::{Directives, Fate, Marks, Row, Slot, Type};
use jolly_core::kinds::{self, Instance, Kind};
use jolly_core::snapshot::Snapshot;
use jolly_linux::LiveHost;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::fs;
use std::path::Path;
use std::process::Command;
use std::sync::Mutex;
use std::time::Duration;

/// Where the configurations lie while they are asked about.
const PLACE: &str = "/corpus";
/// At most so many lines of one row in one place.
const LINES: usize = 20;
/// In so many places where a row may not stand it is tried.
const FOREIGN: usize = 3;

/// A daemon to ask.
struct Daemon {
    kind: &'static dyn Kind,
    /// Its own check of a file.
    check: &'static [&'static str],
    /// A start with a file, and what ends it again, as lines of a shell; `$1` is the file.
    start: &'static str,
    /// How many may be asked at once: a check that opens listeners is alone.
    threads: usize,
    /// Places of the template, with the places of rows that they stand for.
    places: &'static [(&'static str, &'static [&'static str])],
    /// Behind the words of a line.
    end: &'static str,
    /// A word with a variable that exists, and one with a variable that does not.
    variables: (&'static str, &'static str),
}

fn daemon(name: &str) -> Option<Daemon> {
    let kind = kinds::kind(name)?;
    match name {
        "nginx" => Some(Daemon {
            kind,
            threads: 1,
            check: &["nginx", "-t", "-c"],
            start: "timeout 10 nginx -c $1 >/dev/null 2>&1; s=$?; nginx -c $1 -s stop >/dev/null 2>&1; \
                sleep 0.1; exit $s",
            places: &[
                ("main", &["main", "any"]),
                ("events", &["events"]),
                ("http", &["http"]),
                ("server", &["server"]),
                ("server-if", &["server-if"]),
                ("location", &["location"]),
                ("location-if", &["location-if"]),
                ("limit", &["limit"]),
                ("upstream", &["upstream"]),
                ("stream", &["stream"]),
                ("stream-server", &["stream-server"]),
                ("stream-upstream", &["stream-upstream"]),
                ("mail", &["mail"]),
                ("mail-server", &["mail-server"]),
            ],
            end: ";",
            variables: ("$remote_addr", "$tide_none"),
        }),
        "httpd" => Some(Daemon {
            kind,
            threads: 2,
            check: &["apache2", "-t", "-f"],
            start: "timeout 10 apache2 -f $1 -k start 2>&1; s=$?; sleep 0.2; [ -e \
                /var/run/apache2/corpus.pid ] || s=1; \
                pkill -9 -x apache2; rm -f /var/run/apache2/corpus.pid; exit $s",
            places: &[
                ("main", &["server", "on-read"]),
                ("host", &["server"]),
                ("dir", &["directory", "authcfg", "fileinfo", "indexes", "limit", "options", "unset"]),
                ("location", &["directory", "authcfg", "fileinfo", "indexes", "limit", "options", "unset"]),
                ("files", &["directory", "authcfg", "fileinfo", "indexes", "limit", "options", "unset"]),
                ("if", &["directory", "authcfg", "fileinfo", "indexes", "limit", "options", "unset"]),
                ("proxy", &["proxy"]),
            ],
            end: "",
            variables: ("%{REMOTE_ADDR}", "%{"),
        }),
        _ => None,
    }
}

/// What somebody says of a configuration: accepted, or refused at a line of the corpus file.
type Verdict = Result<(), Option<u32>>;

/// Asks both, writes the examples, and lists the differences.
pub(crate) fn run(name: &str, only: &[&str]) -> Result<(), String> {
    let daemon = daemon(name).ok_or_else(|| format!("{name}: only nginx and httpd have such a table"))?;
    let folder = Path::new("crates/core/src/kinds").join(name);
    let template = fs::read_to_string(folder.join("examples.template"))
        .map_err(|e| format!("examples.template of {name}: {e}"))?;
    let more = fs::read_to_string(folder.join("examples.asked"))
        .map_err(|e| format!("examples.asked of {name}: {e}"))?;
    fs::create_dir_all(PLACE).map_err(|e| format!("{PLACE}: {e}"))?;
    fs::write(Path::new(PLACE).join("file"), "x\n").map_err(|e| e.to_string())?;
    let directives = daemon.kind.directives().ok_or("no table")?;
    let rows: Vec<&'static Row> =
        directives.all().filter(|r| only.is_empty() || only.contains(&r.name)).collect();
    let part = rows.len().div_ceil(daemon.threads).max(1);
    let parts: Result<Vec<Asked>, String> = std::thread::scope(|scope| {
        let ask = |(at, rows)| {
            let asker = Asker {
                daemon: &daemon,
                template: &template,
                more: &more,
                file: format!("{PLACE}/{name}-{at}.conf"),
                host: LiveHost::new(Duration::from_secs(5)),
            };
            scope.spawn(move || asker.asked(directives, rows))
        };
        let all: Vec<_> = rows.chunks(part).enumerate().map(ask).collect();
        all.into_iter().map(|one| one.join().map_err(|_| "it broke".to_owned())?).collect()
    });
    let (mut out, mut differences, mut asked) = (Examples::default(), String::new(), 0);
    for one in parts? {
        out.0.extend(one.examples.0);
        differences.push_str(&one.differences);
        asked += one.count;
    }
    let count = differences.lines().count();
    fs::write(format!("{PLACE}/{name}.differences"), &differences).map_err(|e| e.to_string())?;
    let file = folder.join("examples.tsv");
    let mut written = out.spelled();
    if !only.is_empty() {
        // What was not asked stays.
        let of_others = |line: &&str| {
            let snippet = line.split('\t').nth(1).unwrap_or_default();
            !only.iter().any(|name| snippet.split([' ', ';', '\\', '>']).any(|word| word == *name))
        };
        let old = fs::read_to_string(&file).unwrap_or_default();
        let kept = old.lines().filter(|l| !l.starts_with('#')).filter(of_others);
        kept.for_each(|line| written.push_str(&format!("{line}\n")));
        let mut lines: Vec<&str> = written.lines().collect();
        lines[1..].sort_unstable_by_key(|line| line.split('\t').nth(1).map(str::to_ascii_lowercase));
        written = lines.join("\n") + "\n";
    }
    fs::write(&file, written).map_err(|e| e.to_string())?;
    say(&differences);
    say(&format!("{asked} lines asked, {count} differ"));
    Ok(())
}

/// What came of asking about some rows.
struct Asked {
    examples: Examples,
    differences: String,
    count: usize,
}

/// One start at a time: all have the same listeners.
static STARTS: Mutex<()> = Mutex::new(());

#[expect(clippy::print_stdout, reason = "a chore reports to its caller")]
fn say(text: &str) {
    println!("{text}");
}

struct Asker<'a> {
    daemon: &'a Daemon,
    template: &'a str,
    /// Lines of which a row has need besides those that its types yield: row, place, line.
    more: &'a str,
    file: String,
    host: LiveHost,
}

impl Asker<'_> {
    fn asked(&self, directives: &'static Directives, rows: &[&'static Row]) -> Result<Asked, String> {
        let daemon = self.daemon;
        if let (Err(at), words) = self.theirs("none", "")? {
            return Err(format!("the daemon refuses the template alone, line {at:?}: {words}"));
        }
        let release = daemon.kind.release(&Snapshot::new(&self.host), &Instance::default());
        let mut all = Asked { examples: Examples::default(), differences: String::new(), count: 0 };
        for row in rows {
            let known = directives.fate(row, release.as_ref()) != Fate::Gone;
            for (place, line) in lines(daemon, directives, row).into_iter().chain(self.further(row)) {
                let (theirs, words) = self.theirs(place, &line)?;
                let ours = self.ours(place, &line)?;
                // Some things are only looked at by a start.
                let theirs = if theirs.is_ok() && ours.is_err() { self.start(place, &line)? } else { theirs };
                all.count += 1;
                let agreed = match (&theirs, &ours) {
                    // Not every fault is told with its line.
                    (Err(None), Err(_)) => true,
                    // What rests on a name service was not judged.
                    (Err(_), Ok(())) if words.contains("host not found in") => continue,
                    _ => theirs == ours,
                };
                if agreed {
                    let own = known && stands(daemon, directives, row, place);
                    all.examples.keep(row, place, &line, theirs, own);
                } else {
                    let _ = writeln!(
                        all.differences,
                        "{place} | {line} | real {theirs:?} | ours {ours:?} | {words}"
                    );
                }
            }
        }
        Ok(all)
    }

    /// Lines of a row's own that its types do not yield.
    fn further(&self, row: &'static Row) -> Vec<(&str, String)> {
        let of = |line: &'_ str| {
            let mut columns = line.split('\t');
            let (name, place, line) = (columns.next()?, columns.next()?, columns.next()?);
            let place = self.daemon.places.iter().find(|(known, _)| *known == place)?.0;
            (name == row.name).then(|| (place, line.to_owned()))
        };
        self.more.lines().filter_map(of).collect()
    }

    fn write(&self, place: &str, line: &str) -> Result<(), String> {
        fs::write(&self.file, fill(self.template, place, line)).map_err(|e| format!("{}: {e}", self.file))
    }

    fn theirs(&self, place: &str, line: &str) -> Result<(Verdict, String), String> {
        self.write(place, line)?;
        let (program, options) = self.daemon.check.split_first().ok_or("no check")?;
        let output = Command::new(program)
            .args(options)
            .arg(&self.file)
            .output()
            .map_err(|e| format!("{program}: {e}"))?;
        let text = [&output.stdout[..], &output.stderr[..]].concat();
        let text = String::from_utf8_lossy(&text).into_owned();
        let verdict = if output.status.success() {
            Ok(())
        } else {
            Err(text.lines().rev().find_map(|l| line_of(l, &self.file)))
        };
        let words = text.lines().filter(|l| !l.contains("[warn]")).take(3).collect::<Vec<_>>().join(" / ");
        Ok((verdict, words))
    }

    fn start(&self, place: &str, line: &str) -> Result<Verdict, String> {
        self.write(place, line)?;
        let _alone = STARTS.lock();
        let started = Command::new("sh")
            .args(["-c", self.daemon.start, "sh", &self.file])
            .output()
            .map_err(|e| format!("sh: {e}"))?;
        let said = String::from_utf8_lossy(&started.stdout).into_owned();
        Ok(if started.status.success() {
            Ok(())
        } else {
            Err(said.lines().rev().find_map(|l| line_of(l, &self.file)))
        })
    }

    fn ours(&self, place: &str, line: &str) -> Result<Verdict, String> {
        self.write(place, line)?;
        let instance = Instance { config: self.file.clone(), ..Instance::default() };
        let read = self.daemon.kind.read(&Snapshot::new(&self.host), &instance);
        let error = read.findings.iter().find(|f| f.severity == Severity::Error);
        Ok(error.map_or(Ok(()), |f| Err(f.place.as_ref().map(|p| p.line))))
    }
}

/// Whether a row may stand in a place of the template.
fn stands(daemon: &Daemon, directives: &'static Directives, row: &Row, place: &str) -> bool {
    let own: BTreeSet<&str> = directives.named(row.places).collect();
    daemon.places.iter().any(|(name, rows)| *name == place && rows.iter().any(|r| own.contains(r)))
}

/// Lines to ask about, each with its place.
fn lines(daemon: &Daemon, directives: &'static Directives, row: &'static Row) -> Vec<(&'static str, String)> {
    let mut all = Vec::new();
    let mut first = true;
    let written = |words: &[String]| written(daemon, row, words);
    let good: Vec<Vec<String>> = row.takes.iter().map(|form| words_of(daemon, form)).collect();
    let (own, foreign): (Vec<_>, Vec<_>) = daemon
        .places
        .iter()
        .map(|(place, _)| *place)
        .partition(|place| stands(daemon, directives, row, place));
    // Not the same ones for every row.
    let from = usize::from(row.number) % foreign.len().max(1);
    let foreign = foreign.iter().cycle().skip(from).take(FOREIGN.min(foreign.len()));
    all.extend(foreign.filter_map(|place| Some((*place, written(good.first()?)))));
    for place in own {
        if !first {
            all.extend(good.iter().map(|words| (place, written(words))));
            continue;
        }
        first = false;
        let mut here: Vec<Vec<String>> = good.clone();
        for (form, words) in row.takes.iter().zip(&good) {
            let slots: Vec<&Slot> =
                form.iter().flat_map(|s| std::iter::repeat_n(s, usize::from(s.least.max(1)))).collect();
            for (at, slot) in slots.iter().enumerate().take(words.len()) {
                for other in others(daemon, slot.takes) {
                    let mut words = words.clone();
                    words[at] = other;
                    here.push(words);
                }
            }
            let mut more = words.clone();
            here.push(words[..words.len().saturating_sub(1)].to_vec());
            more.push("tide".into());
            here.push(more.clone());
            more.push("tide".into());
            here.push(more);
        }
        here.push(Vec::new());
        let mut seen = BTreeSet::new();
        here.retain(|words| seen.insert(words.clone()));
        all.extend(here.iter().take(LINES).map(|words| (place, written(words))));
    }
    all
}

/// A line of a row with these words.
fn written(daemon: &Daemon, row: &Row, words: &[String]) -> String {
    let quoted = |w: &String| if w.is_empty() || w.contains(' ') { format!("\"{w}\"") } else { w.clone() };
    let words: String = words.iter().map(|w| format!(" {}", quoted(w))).collect();
    if let Some(section) = row.name.strip_prefix('<') {
        return format!("<{section}{words}>\\n</{section}>");
    }
    let end = if row.marks.has(Marks::BLOCK) { " { }" } else { daemon.end };
    format!("{}{words}{end}", row.name)
}

/// Words that a list of types holds.
fn words_of(daemon: &Daemon, form: &'static [Slot]) -> Vec<String> {
    form.iter()
        .flat_map(|s| std::iter::repeat_n(good(daemon, s.takes), usize::from(s.least.max(1))))
        .collect()
}

/// A word of a type.
fn good(daemon: &Daemon, takes: Type) -> String {
    match takes {
        Type::Flag | Type::Truth => "on".into(),
        Type::Amount(amount) => if amount.least.is_empty() { "1" } else { amount.least }.into(),
        Type::Int(int) | Type::Leading(int) => {
            int.least.unwrap_or(1).max(int.most.unwrap_or(4).min(4)).to_string()
        }
        Type::Size(size) => size.least.map_or("8k".into(), |n| n.max(8192).to_string()),
        Type::Memory(int) => int.least.map_or("8kb".into(), |n| n.max(8192).to_string()),
        Type::Time(_) => "30s".into(),
        Type::Enum(all) | Type::Exact(all) | Type::Set(all) | Type::Signed(all) => {
            all.first().map_or("tide", |w| w).into()
        }
        Type::Begins(all) => format!("{}4", all.first().map_or("", |w| w)),
        Type::Address => "127.0.0.1".into(),
        Type::Network(_) => "192.0.2.0/24".into(),
        Type::Variable => daemon.variables.0.into(),
        Type::Regex => "^/tide".into(),
        Type::Path(_) => format!("{PLACE}/file"),
        Type::Str | Type::Word | Type::Secret | Type::Raw | Type::Template => "tide".into(),
    }
}

/// Further words, of the type and not, and on its borders.
fn others(daemon: &Daemon, takes: Type) -> Vec<String> {
    let listed = |all: &[&str]| {
        let mut words: Vec<String> = all.iter().map(|w| (*w).to_owned()).collect();
        words.extend(all.first().map(|w| w.to_uppercase()));
        words.extend(all.first().map(|w| format!("{w}x")));
        words
    };
    let mut all: Vec<String> = match takes {
        Type::Flag | Type::Truth => vec!["off".into(), "OFF".into(), "yes".into()],
        Type::Amount(amount) => {
            [amount.least, amount.most, "1kB", "1.5", "0x10", "1min"].map(str::to_owned).into()
        }
        Type::Int(int) | Type::Leading(int) => [int.least, int.most]
            .into_iter()
            .flatten()
            .flat_map(|n| [n.saturating_sub(1), n, n.saturating_add(1)])
            .map(|n| n.to_string())
            .chain(["1k".into(), "007".into()])
            .collect(),
        Type::Size(size) => {
            let border = size.least.into_iter().flat_map(|n| [n - 1, n]).map(|n| n.to_string());
            border.chain(["64k", "1m", "1g", "1q", "1kb"].map(str::to_owned)).collect()
        }
        Type::Memory(int) => {
            let border = int.least.into_iter().flat_map(|n| [n - 1, n]).map(|n| n.to_string());
            border.chain(["64k", "1mb", "1gb", "1q", "1.5gb"].map(str::to_owned)).collect()
        }
        Type::Time(_) => ["1", "500ms", "1h30m", "1M", "30s1m", "1q"].map(str::to_owned).to_vec(),
        Type::Enum(list) | Type::Exact(list) | Type::Set(list) => listed(list),
        Type::Signed(list) => {
            let mut all = listed(list);
            all.extend(list.first().map(|w| format!("+{w}")));
            all
        }
        Type::Begins(list) => list.iter().map(|w| (*w).to_owned()).collect(),
        Type::Network(list) => {
            let mut all = listed(list);
            all.extend(["192.0.2.0/33", "192.0.2.300", "2001:db8::/32", "quay1"].map(str::to_owned));
            all
        }
        Type::Address => ["127.0.0.1:8088", "[::1]:8088", "quay1"].map(str::to_owned).to_vec(),
        Type::Regex => vec!["(".into()],
        Type::Path(_) => vec![format!("{PLACE}/none/file"), PLACE.into()],
        _ => ["on", "4", "-1", "all", "none", "30s", "http://192.0.2.1/", "/srv/www"]
            .map(str::to_owned)
            .to_vec(),
    };
    all.extend(["", "tide", "-4", daemon.variables.0, daemon.variables.1].map(str::to_owned));
    all
}

/// An accepted and a refused line of each row.
#[derive(Default)]
struct Examples(BTreeMap<Sort, Kept>);

/// A row by its name and module, and whether the line is accepted.
type Sort = (String, String, bool);
/// Place, line, and the line that the daemon blames.
type Kept = (String, String, Option<u32>);

impl Examples {
    /// Keeps a line if it is the first one of its sort, or if it stands where the row may stand and the one
    /// kept does not.
    fn keep(&mut self, row: &Row, place: &str, line: &str, verdict: Verdict, own: bool) {
        let key = (row.name.to_owned(), row.from.to_owned(), verdict.is_ok());
        let kept = (place.to_owned(), line.to_owned(), verdict.err().flatten());
        if own {
            // Words that are wrong tell more than a place that is.
            self.0.entry((key.0, key.1, key.2)).or_insert(kept);
        } else if verdict.is_err() {
            self.0.entry((key.0 + "\u{1}", key.1, false)).or_insert(kept);
        }
    }

    fn spelled(&self) -> String {
        let mut out = String::from(
            "# An accepted and a refused line of each row: place, line, verdict and line of the real daemon. \
            Written by `cargo xtask sweep`.\n",
        );
        let mut seen = BTreeSet::new();
        for ((name, from, accepted), (place, line, at)) in &self.0 {
            let own = name.trim_end_matches('\u{1}');
            if name != own && self.0.contains_key(&(own.to_owned(), from.clone(), false)) {
                continue;
            }
            if seen.insert((place, line)) {
                let verdict = if *accepted { "accepted" } else { "rejected" };
                let at = at.map_or("-".into(), |n| n.to_string());
                let _ = writeln!(out, "{place}\t{line}\t{verdict}\t{at}");
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jolly_core::config::rows::fault;

    #[test]
    fn good_words_are_of_their_types_and_wrong_ones_are_asked_about_too() {
        for name in ["nginx", "httpd"] {
            let daemon = daemon(name).unwrap();
            let (mut good, mut wrong) = (0, 0);
            for row in daemon.kind.directives().unwrap().all() {
                let judged = |words: &[String]| fault(row, words.len(), |at| words[at].as_str());
                for form in row.takes {
                    let words = words_of(&daemon, form);
                    assert_eq!(judged(&words), None, "{name}: {} {words:?}", row.name);
                    good += 1;
                    let takes = form.first().map(|slot| slot.takes);
                    for other in takes.map(|t| others(&daemon, t)).unwrap_or_default() {
                        let mut words = words.clone();
                        words[0] = other;
                        wrong += usize::from(judged(&words).is_some());
                    }
                }
            }
            assert!(good > 500 && wrong > 1000, "{name}: {good} {wrong}");
        }
        assert!(daemon("redis").is_none());
    }

    #[test]
    fn a_line_is_written_as_its_daemon_reads_it() {
        let daemon = daemon("nginx").unwrap();
        let row = |name: &str| daemon.kind.directives().unwrap().all().find(|r| r.name == name).unwrap();
        let words = ["a b".to_owned(), String::new()];
        assert_eq!(written(&daemon, row("add_header"), &words), "add_header \"a b\" \"\";");
        assert_eq!(written(&daemon, row("upstream"), &["tide".into()]), "upstream tide { }");
    }
}
