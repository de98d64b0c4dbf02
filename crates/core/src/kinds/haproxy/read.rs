//! The lines of haproxy's files in the order in which it reads them: conditions, sections, keywords
//! (`readcfgfile` of cfgparse.c).
use super::acl::Wrong;
use super::state::{At, Proxy, Reader, Role};
use super::tokens::{Around, Cut, Word, Words, cut};
use super::values::bad_sign;
use super::{DIRECTIVES, entry_of, model, proxies, sections};
use crate::code::Code;
use crate::config::lines::{Line, Text};
use crate::config::rows::{Fault, Marks, Row, fault};
use crate::config::{Place, Severity};
use crate::route::Node;

/// Words that open a section.
pub(super) const SECTIONS: &[&str] = &[
    "global",
    "defaults",
    "frontend",
    "backend",
    "listen",
    "userlist",
    "peers",
    "mailers",
    "resolvers",
    "cache",
    "program",
    "http-errors",
    "ring",
    "fcgi-app",
    "log-forward",
    "crt-store",
    "traces",
    "acme",
    "log-profile",
];
/// Words that `no` and `default` may stand before.
const NEGATED: &[&str] = &[
    "option",
    "log",
    "busy-polling",
    "set-dumpable",
    "strict-limits",
    "insecure-fork-wanted",
    "numa-cpu-mapping",
];
/// What once was a keyword, and what took its place.
const GONE: &[(&str, &str)] = &[
    ("nbproc", "threads are used in its place"),
    ("monitor-net", "write http-request return status 200 with a condition"),
    ("block", "write http-request deny"),
    ("redispatch", "write option redispatch"),
    ("redisp", "write option redispatch"),
    ("grace", "it has no successor"),
    ("appsession", "it has no successor"),
    ("clitimeout", "write timeout client"),
    ("contimeout", "write timeout connect"),
    ("srvtimeout", "write timeout server"),
    ("tune.chksize", "tune.bufsize is used in its place"),
    ("reqadd", "write http-request add-header"),
    ("reqidel", "write http-request del-header"),
    ("reqdel", "write http-request del-header"),
    ("reqrep", "write http-request replace-header"),
    ("reqirep", "write http-request replace-header"),
    ("reqdeny", "write http-request deny"),
    ("reqideny", "write http-request deny"),
    ("rspadd", "write http-response add-header"),
    ("rspdel", "write http-response del-header"),
    ("rspidel", "write http-response del-header"),
    ("rsprep", "write http-response replace-header"),
    ("rspirep", "write http-response replace-header"),
    ("resolution_pool_size", "it has no successor"),
];
/// How deep conditions may nest.
const NESTED: usize = 1024;

/// A condition that is open.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Branch {
    /// Its lines count.
    Taken,
    /// They do not, and another branch may.
    Dropped,
    /// They do not, and no other branch can.
    Skipped,
    /// Nobody here knows whether they do.
    Unknown,
}

/// Reads one file.
pub(super) fn file(reader: &mut Reader, name: &str) {
    let Some(text) = reader.book.text(name) else { return };
    name.clone_into(&mut reader.file);
    let mut branches: Vec<(Branch, bool)> = Vec::new();
    for line in text.lines() {
        if reader.aborted || reader.book.stopped {
            return;
        }
        // A scope in square brackets belongs to a filter.
        if line.text.trim_start().starts_with('[') {
            continue;
        }
        let section = if reader.named.is_empty() { reader.section } else { &reader.named };
        let around = Around { file: name, line: line.number, section };
        let words = match cut(line.text, &reader.variables, around) {
            Ok(words) => words,
            Err(Cut(piece, why)) => {
                let place = text.place(&line, piece);
                reader.book.find(&place, "", Code::ConfigSyntax, why);
                continue;
            }
        };
        if words.is_empty() {
            continue;
        }
        let at = At { text: &text, line: &line, words: &words };
        if words[0].value.starts_with('.') && branch(reader, at, &mut branches) {
            continue;
        }
        let counts = |b: &(Branch, bool)| b.0 == Branch::Taken;
        if !branches.iter().all(counts) {
            continue;
        }
        if words[0].value.starts_with('.') {
            said(reader, at);
            continue;
        }
        one(reader, &text, &line, &words);
    }
    if !branches.is_empty() {
        let place = end_of(&text);
        reader.book.find(&place, ".if", Code::ConfigSyntax, "an .if is not closed");
    }
    if !text.text.is_empty() && !text.text.ends_with('\n') && !reader.aborted {
        let place = end_of(&text);
        reader.book.find(&place, "", Code::ConfigSyntax, "the last line has no line end");
    }
}

/// The last line of a file.
fn end_of(text: &Text) -> Place {
    let last = u32::try_from(text.text.lines().count()).unwrap_or(1);
    Place { file: text.file.clone(), line: last, column: 0, end_column: 0 }
}

/// `.if`, `.elif`, `.else` and `.endif`; whether it was one of these.
fn branch(reader: &mut Reader, at: At, branches: &mut Vec<(Branch, bool)>) -> bool {
    let words = Words(at.words);
    let lone = |reader: &mut Reader| {
        reader.fault(at, 0, Code::ConfigSyntax, &format!("no .if is open before this {}", words.at(0)));
        reader.aborted = true;
    };
    match words.at(0) {
        ".if" => {
            let outside = branches.iter().all(|b| b.0 == Branch::Taken);
            let new = if outside { decide(reader, words) } else { Branch::Skipped };
            if std::mem::take(&mut reader.unparsed) {
                reader.fault(at, 1, Code::ConfigSyntax, "this is not a condition");
                reader.aborted = true;
            }
            if branches.len() >= NESTED {
                reader.fault(at, 0, Code::ConfigSyntax, "conditions nest too deep");
                reader.aborted = true;
            }
            branches.push((new, false));
        }
        ".elif" | ".else" if branches.is_empty() => lone(reader),
        ".elif" => {
            let (last, ended) = branches[branches.len() - 1];
            if ended {
                reader.fault(at, 0, Code::ConfigSyntax, ".elif comes after .else");
                reader.aborted = true;
            }
            let next = match last {
                Branch::Dropped => decide(reader, words),
                Branch::Unknown => Branch::Unknown,
                Branch::Taken | Branch::Skipped => Branch::Skipped,
            };
            *branches.last_mut().unwrap_or(&mut (next, false)) = (next, false);
        }
        ".else" => {
            let (last, ended) = branches[branches.len() - 1];
            if ended {
                reader.fault(at, 0, Code::ConfigSyntax, ".else comes after .else");
                reader.aborted = true;
            }
            let next = match last {
                Branch::Dropped => Branch::Taken,
                Branch::Unknown => Branch::Unknown,
                Branch::Taken | Branch::Skipped => Branch::Skipped,
            };
            *branches.last_mut().unwrap_or(&mut (next, true)) = (next, true);
        }
        ".endif" => {
            if branches.pop().is_none() {
                lone(reader);
            }
        }
        _ => return false,
    }
    true
}

/// Whether the lines behind a condition count, as far as that can be told from here.
fn decide(reader: &mut Reader, words: Words) -> Branch {
    let text: Vec<&str> = (1..words.len()).map(|at| words.at(at)).collect();
    let text = text.join(" ");
    let (negated, bare) = match text.strip_prefix('!') {
        Some(rest) => (true, rest.trim()),
        None => (false, text.trim()),
    };
    let inside = |name: &str| {
        bare.strip_prefix(name).and_then(|r| r.strip_prefix('(')).and_then(|r| r.strip_suffix(')'))
    };
    let compound = bare.contains("&&") || bare.contains("||");
    let known = if compound {
        None
    } else if bare.is_empty() {
        Some(false)
    } else if bare.bytes().all(|b| b.is_ascii_digit() || b == b'-') {
        Some(super::values::leading(bare) != 0)
    } else if let Some(name) = inside("defined") {
        match reader.variables.values.contains_key(name) {
            true => Some(true),
            false => reader.variables.complete.then_some(false),
        }
    } else if let Some((one, other)) = inside("streq").and_then(|i| i.split_once(',')) {
        (!words.0.iter().any(|w| w.open)).then_some(one == other)
    } else if let Some((one, other)) = inside("strneq").and_then(|i| i.split_once(',')) {
        (!words.0.iter().any(|w| w.open)).then_some(one != other)
    } else if !bare.contains('(') && !words.0.iter().any(|w| w.open) {
        reader.unparsed = true;
        None
    } else {
        version(reader, bare)
    };
    match known {
        Some(value) if value != negated => Branch::Taken,
        Some(_) => Branch::Dropped,
        None => {
            let sentence = "the lines of a condition that cannot be decided here";
            if !reader.book.out.not_seen.iter().any(|n| n.to_string() == sentence) {
                reader.book.out.not_seen.push(sentence.to_owned().into());
            }
            Branch::Unknown
        }
    }
}

/// `version_atleast(X)` and `version_before(X)`.
fn version(reader: &Reader, text: &str) -> Option<bool> {
    let release = reader.release.get()?;
    let inside = |name: &str| text.strip_prefix(name)?.strip_prefix('(')?.strip_suffix(')');
    let parse = |text: &str| crate::config::release::Version::parse(text.trim().trim_matches('"'));
    if let Some(wanted) = inside("version_atleast") {
        return Some(release.version >= parse(wanted)?);
    }
    Some(release.version < parse(inside("version_before")?)?)
}

/// `.notice`, `.warning`, `.alert` and `.diag`.
fn said(reader: &mut Reader, at: At) {
    let words = Words(at.words);
    match words.at(0) {
        ".alert" | ".notice" | ".warning" | ".diag" if words.len() > 2 => {
            reader.fault(at, 2, Code::ConfigSyntax, "a text of several words must be quoted");
        }
        ".alert" => {
            let why = format!("the configuration ends itself: {}", words.at(1));
            reader.fault(at, 0, Code::ConfigBadValue, &why);
            reader.aborted = true;
        }
        ".notice" | ".warning" | ".diag" => {}
        other => {
            reader.fault(at, 0, Code::ConfigSyntax, &format!("\"{other}\" is not known"));
            reader.aborted = true;
        }
    }
}

/// One line that counts.
fn one(reader: &mut Reader, text: &Text, line: &Line, words: &[Word]) {
    let whole = At { text, line, words };
    let negated = matches!(words[0].value.as_str(), "no" | "default") && words.len() > 1;
    let rest = if negated { &words[1..] } else { words };
    let at = At { text, line, words: rest };
    let name = rest[0].value.as_str();
    let opens = !negated && SECTIONS.contains(&name);
    if negated && !NEGATED.contains(&name) {
        let why = format!("{} is not allowed before {name}", words[0].value);
        reader.fault(whole, 0, Code::ConfigBadValue, &why);
    }
    if opens {
        open(reader, at);
        return;
    }
    if let Some((front, place, above)) = reader.unopened.take() {
        let why = format!("the section above was not opened: {above}");
        // Of a section that takes requests the daemon names the head, too.
        match front {
            true => drop(reader.book.find(&place, "", Code::ConfigSyntax, above)),
            false => drop(reader.fault(at, 0, Code::ConfigSyntax, &why)),
        }
        return;
    }
    if reader.section.is_empty() {
        let why = format!("{name} comes before the first section");
        let near = crate::config::nearest(name, SECTIONS.iter().copied()).map(str::to_owned);
        let span = at.span(0);
        reader.fault(at, 0, Code::ConfigSyntax, &why).meant(span, near);
        return;
    }
    let entry = entry_of(whole, reader);
    model::listens(reader, &entry, at);
    if let Some(tree) = &mut reader.tree {
        let node = Node {
            name: name.to_owned(),
            words: rest.iter().skip(1).map(|w| w.value.clone()).collect(),
            place: whole.place(0),
            children: Vec::new(),
        };
        tree.add(node, false);
    }
    reader.book.entries.push(entry);
    keyword(reader, at, negated);
}

/// Opens a section.
fn open(reader: &mut Reader, at: At) {
    let words = Words(at.words);
    let word = SECTIONS.iter().find(|s| **s == words.at(0)).copied().unwrap_or("");
    let number = u32::try_from(reader.book.entries.len() + 1).unwrap_or(u32::MAX);
    reader.section = word;
    words.at(1).clone_into(&mut reader.named);
    reader.current = None;
    // All `global` sections are one; others of one name are several.
    reader.scope = if word == "global" { 0 } else { number };
    if let Some(tree) = &mut reader.tree {
        tree.close();
        let node = Node {
            name: word.to_owned(),
            words: at.words.iter().skip(1).map(|w| w.value.clone()).collect(),
            place: at.place(0),
            children: Vec::new(),
        };
        tree.add(node, true);
    }
    if at.words.iter().any(|w| w.open) {
        if let Some(role) = Role::of(word) {
            let proxy = Proxy::new(role, words.at(1), at.place(0));
            reader.proxies.push(proxy);
            reader.current = Some(reader.proxies.len() - 1);
        }
        return;
    }
    let opened = match Role::of(word) {
        Some(role) => open_proxy(reader, at, role),
        None => open_other(reader, at, word),
    };
    if let Err(wrong) = opened {
        reader.wrong(at, &wrong);
    }
}

fn open_other(reader: &mut Reader, at: At, word: &'static str) -> Result<(), Wrong> {
    let words = Words(at.words);
    if word == "global" {
        return match words.len() {
            1 => Ok(()),
            _ => Err(Wrong::new(1, "global takes no name")),
        };
    }
    if matches!(word, "traces" | "crt-store" | "log-profile" | "acme") {
        return Ok(());
    }
    let name = words.at(1);
    if name.is_empty() {
        return Err(Wrong::new(0, format!("{word} needs a name")));
    }
    if let Some(sign) = bad_sign(name).filter(|_| !matches!(word, "cache" | "program")) {
        return Err(Wrong::new(1, format!("\"{sign}\" is not allowed in the name of a section")));
    }
    if words.len() > 2 && matches!(word, "peers" | "userlist" | "cache" | "fcgi-app" | "log-forward") {
        return Err(Wrong::new(2, format!("{} is not allowed after the name", words.at(2))));
    }
    sections::fresh(reader);
    let key = (word, name.to_owned());
    let first = reader.sections.get(&key).map(|place| place.line);
    reader.sections.entry(key).or_insert_with(|| at.place(0));
    match first {
        // Of lists of users the daemon only warns.
        Some(line) if word != "userlist" => {
            Err(Wrong::twice(1, format!("another {word} section has the name {name} (line {line})")))
        }
        _ => Ok(()),
    }
}

fn open_proxy(reader: &mut Reader, at: At, role: Role) -> Result<(), Wrong> {
    let words = Words(at.words);
    let word = words.at(0);
    let bare = role == Role::Defaults && words.at(1) == "from" && words.len() == 3;
    let name = if bare { "" } else { words.at(1) };
    let from_at = if bare { 1 } else { 2 };
    let new = Proxy::new(role, name, at.place(0));
    reader.proxies.push(new);
    let n = reader.proxies.len() - 1;
    reader.current = Some(n);
    if bare {
        reader.named.clear();
    }
    if role != Role::Defaults {
        reader.proxies[n].defaults = reader.last_defaults;
        if name.is_empty() {
            reader.aborted = true;
            return Err(Wrong::new(0, format!("{word} needs a name")));
        }
        if let Some(sign) = bad_sign(name) {
            return Err(Wrong::new(1, format!("\"{sign}\" is not allowed in the name of a section")));
        }
    }
    let mut wrong = None;
    if words.at(from_at) == "from" && words.len() == from_at + 2 {
        let wanted = words.at(from_at + 1);
        let mut named = reader.proxies[..n].iter().enumerate();
        let found = named.rfind(|(_, p)| p.role == Role::Defaults && p.name == wanted).map(|(at, _)| at);
        let count =
            reader.proxies[..n].iter().filter(|p| p.role == Role::Defaults && p.name == wanted).count();
        match found {
            None => {
                reader.aborted = true;
                return Err(Wrong::new(from_at + 1, format!("no defaults section is named \"{wanted}\"")));
            }
            Some(_) if count > 1 => {
                wrong = Some(Wrong::new(
                    from_at + 1,
                    format!("{count} defaults sections are named \"{wanted}\""),
                ));
            }
            found => reader.proxies[n].defaults = found,
        }
    } else if words.len() > from_at && role != Role::Defaults {
        // The daemon takes no offence at this line, and opens nothing: the next one finds no section.
        let why = match role.front() {
            true => "an address is given by bind, not behind the name of a section".to_owned(),
            false => format!("only \"from\" and a name is allowed after \"{name}\""),
        };
        reader.unopened = Some((role.front(), at.place(from_at), why));
        return Ok(());
    }
    if let Some(first) = same_name(reader, n) {
        wrong.get_or_insert(Wrong::twice(1, format!("another section has the name {name} (line {first})")));
    }
    if let Some(from) = reader.proxies[n].defaults {
        let (before, new) = reader.proxies.split_at_mut(n);
        new[0].inherit(&before[from]);
    }
    inherits(reader, n)?;
    let named = name.to_owned();
    if role == Role::Defaults {
        reader.last_defaults = Some(n);
        reader.defaults.entry(named).or_default().push(n);
        return wrong.map_or(Ok(()), Err);
    }
    if role.front() {
        reader.fronts.entry(named.clone()).or_insert(n);
    }
    if role.back() {
        reader.backs.entry(named).or_insert(n);
    }
    wrong.map_or(Ok(()), Err)
}

/// The line of a section before this one that has its name and does the same.
fn same_name(reader: &Reader, n: usize) -> Option<u32> {
    let new = &reader.proxies[n];
    let listen = new.role == Role::Listen;
    let front = reader.fronts.get(&new.name).filter(|_| new.role == Role::Frontend || listen);
    let back = reader.backs.get(&new.name).filter(|_| new.role == Role::Backend || listen);
    front.or(back).map(|old| reader.proxies[*old].place.line)
}

/// What a section cannot take over from its defaults.
fn inherits(reader: &mut Reader, n: usize) -> Result<(), Wrong> {
    let role = reader.proxies[n].role;
    let Some(from) = reader.proxies[n].defaults else { return Ok(()) };
    let old = &reader.proxies[from];
    let abort = |reader: &mut Reader, why: &str| {
        reader.aborted = true;
        Err(Wrong::new(0, why))
    };
    if old.rules {
        match role {
            Role::Defaults => return abort(reader, "defaults cannot take over defaults with rules"),
            Role::Listen => return abort(reader, "a listen section cannot take over defaults with rules"),
            _ => {}
        }
        let front = role == Role::Frontend;
        if old.taken_by.is_some_and(|by| by != front) {
            return abort(reader, "frontends and backends cannot take over the same defaults with rules");
        }
        if !front && old.connection_rules {
            return abort(reader, "a backend cannot take over rules on connections and sessions");
        }
        if front && old.response_rules {
            return abort(reader, "a frontend cannot take over rules on responses");
        }
        reader.proxies[from].taken_by = Some(front);
    }
    if role.back() && reader.proxies[from].captures {
        return abort(reader, "a backend cannot take over captures");
    }
    Ok(())
}

/// The place in the table that a section stands for.
fn place_of(section: &str) -> u32 {
    DIRECTIVES.place(section)
}

/// Rows of a name in the present section, and whether any section has it.
fn row(reader: &Reader, name: &str) -> (Option<&'static Row>, bool) {
    let rows = DIRECTIVES.exact(name);
    let bit = place_of(reader.section);
    let known = |row: &&Row| reader.release.has(row);
    let own = rows.iter().find(|row| row.places & bit != 0 && known(row));
    let other = rows.iter().any(|row| row.places & in_proxy_sections() != 0 && known(&row));
    (own, other)
}

fn in_proxy_sections() -> u32 {
    DIRECTIVES.bits(&["defaults", "frontend", "listen", "backend"])
}

/// One keyword with its words.
fn keyword(reader: &mut Reader, at: At, negated: bool) {
    let words = Words(at.words);
    if at.words[0].open || matches!(reader.section, "traces" | "crt-store" | "log-profile" | "acme") {
        return;
    }
    let name = words.at(0);
    let (own, in_proxies) = row(reader, name);
    let is_proxy = reader.current.is_some();
    let mut found = own;
    if found.is_none() && is_proxy && in_proxies && !misplaced(reader, at) {
        // It does nothing there, and its words are read all the same.
        found = DIRECTIVES.exact(name).iter().find(|row| row.places & in_proxy_sections() != 0);
    } else if found.is_none() && !(is_proxy && in_proxies) {
        match GONE.iter().find(|(gone, _)| *gone == name) {
            Some((_, instead)) => {
                let why = format!("{name} is not supported any more: {instead}");
                reader.fault(at, 0, Code::ConfigUnknownDirective, &why);
            }
            None => unknown(reader, at),
        }
    }
    let Some(row) = found else { return };
    // What nobody knows the words of is not judged.
    if at.words.iter().any(|w| w.open) {
        return;
    }
    if reader.section == "global" && row.marks.has(Marks::ONCE) && !reader.once.insert(row.name) {
        again(reader, at, name);
        return;
    }
    if let Some(fault) = fault(row, words.len() - 1, |n| words.at(n + 1)) {
        let wrong = match fault {
            Fault::Count { found, expected } => {
                let why = format!("{name} takes {expected} values, not {found}");
                Wrong::new(if found == 0 { 0 } else { at.words.len() - 1 }, why)
            }
            Fault::Word { at, expected } => Wrong::new(
                at + 1,
                format!("\"{}\" is not a value of {name}, expected {expected}", words.at(at + 1)),
            ),
        };
        reader.wrong(at, &wrong);
        return;
    }
    let read = match is_proxy {
        true => proxies::line(reader, at, negated),
        false => sections::line(reader, at, negated),
    };
    if let Err(wrong) = read {
        reader.wrong(at, &wrong);
    }
}

/// A setting of the whole server that was given before: the first value stays, and some are refused.
fn again(reader: &mut Reader, at: At, name: &str) {
    let refused = matches!(name, "ca-base" | "crt-base") || name.starts_with("tune.ssl.capture-");
    let why = format!("{name} was given before, and the first value stays");
    let found = reader.fault(at, 0, if refused { Code::ConfigBadValue } else { Code::ConfigWarning }, &why);
    if !refused {
        found.severity = Severity::Warning;
    }
}

fn unknown(reader: &mut Reader, at: At) {
    let name = Words(at.words).at(0);
    let bit = place_of(reader.section);
    let all = DIRECTIVES.all().filter(|row| row.places & bit != 0).map(|row| row.name);
    // At the begin of a line stands the head of a section.
    let heads = SECTIONS.iter().copied().filter(|_| !at.line.text.starts_with([' ', '\t']));
    let near = crate::config::nearest(name, heads.chain(all)).map(str::to_owned);
    let why = format!("\"{name}\" is not a keyword of a {} section", reader.section);
    let span = at.span(0);
    reader.fault(at, 0, Code::ConfigUnknownDirective, &why).meant(span, near);
}

/// A keyword of other sections of proxies: defaults refuse it, others do without it. Whether no more is to be
/// said of it.
fn misplaced(reader: &mut Reader, at: At) -> bool {
    let name = Words(at.words).at(0);
    let defaults = reader.section == "defaults";
    let refused = matches!(
        name,
        "server"
            | "server-template"
            | "default-server"
            | "use-fcgi-app"
            | "declare"
            | "retry-on"
            | "tcp-response"
    );
    if defaults || refused {
        let why = format!("{name} is not allowed in a {} section", reader.section);
        reader.fault(at, 0, Code::ConfigMisplacedDirective, &why);
        return true;
    }
    let why = format!("{name} has no effect in a {} section", reader.section);
    proxies::idle(reader, at, &why);
    matches!(name, "stick")
}
