//! What was likely meant by a value that names something which is not there, or which its directive does not
//! take, and the one edit that writes it.
use super::nearest::nearest;
use super::rows::near_value;
use super::{About, ConfigFinding, Configuration, Place, Span};
use crate::code::Code;
use crate::host::FileKind;
use crate::kinds::{Instance, Kind};
use crate::path;
use crate::snapshot::Snapshot;
use crate::trust::{self, Last, Paths};
use std::net::IpAddr;

/// So many findings get a proposal: what is dear to find out need not be for the rest.
const PROPOSED: usize = 20;
/// So many files beside a key are looked at.
const KEYS: usize = 64;
/// Files out of which a start takes variables are looked through up to here, in bytes.
const VARIABLES: usize = 1 << 20;

/// What is there in place of a path that is not, and has nearly its name: in its own directory, or, where
/// that is missing itself, in one of nearly the name of that.
pub fn nearest_file(snapshot: &Snapshot, wrong: &str) -> Option<String> {
    let mut all = path::ancestors(wrong);
    all.push(wrong.to_owned());
    // From the top: the first that is not there is what is spelled wrong.
    let missing = all.iter().find(|part| snapshot.aside(|| snapshot.exists(part)) == Some(false))?;
    let parent = path::parent(missing);
    let names = snapshot.aside(|| snapshot.list(parent)).seen()?;
    // Whoever owns a directory chooses the names in it: only such as are one plain word in every grammar.
    let plain = |name: &&str| name.bytes().all(|b| b.is_ascii_alphanumeric() || b"_-.@+,:~".contains(&b));
    let there = names.iter().map(|entry| entry.name.as_str()).filter(plain);
    let near = nearest(path::name(missing), there)?;
    let rest = wrong.strip_prefix(missing.as_str())?;
    let there = format!("{}{rest}", path::join(parent, near));
    (rest.is_empty() || snapshot.aside(|| snapshot.exists(&there)) == Some(true)).then_some(there)
}

/// Adds to findings what was likely meant.
pub fn propose(snapshot: &Snapshot, kind: &dyn Kind, instance: &Instance, config: &mut Configuration) {
    let open = |f: &&mut ConfigFinding| f.edit.is_none() && (f.instead.is_some() || is_about_a_word(f.code));
    for finding in config.findings.iter_mut().filter(open).take(PROPOSED) {
        if let (Code::ConfigMissingFile, Some(About::File(path))) = (finding.code, &finding.about) {
            finding.copy = copy_of(snapshot, path);
            finding.dead_link = snapshot.aside(|| snapshot.link_stat(path)).seen().is_some();
            if let Some(copy) = &finding.copy {
                finding.help = Some(format!("{copy} lies beside it"));
                continue;
            }
            if finding.dead_link {
                finding.help.get_or_insert_with(|| format!("{path} is a link that leads nowhere"));
                continue;
            }
        }
        let Some((wrong, right)) = meant(snapshot, kind, finding) else { continue };
        if finding.help.is_none() {
            finding.help = Some(format!("did you mean {right}?"));
        }
        let Some(place) = &finding.place else { continue };
        if right.starts_with('/') && !may_stand_in(snapshot, &wrong, &right, instance.start_uid) {
            continue;
        }
        finding.edit = instead(snapshot, instance, place, &wrong, &right);
    }
}

/// Whether a path may be written in place of one that is not there: nobody gains by it who could not have
/// made the missing one himself. What belongs to the account that starts the service, whose number is given,
/// is its own.
pub fn may_stand_in(snapshot: &Snapshot, wrong: &str, right: &str, starter: u32) -> bool {
    let trusted = trust::trusted(snapshot, &[]);
    if trust::walk(&Paths(snapshot), right, Last::Followed, &trusted).is_ok_and(|found| {
        let status = snapshot.aside(|| snapshot.stat(&found.path)).seen();
        status.is_some_and(|s| trusted.account(s.uid) || s.uid == starter)
    }) {
        return true;
    }
    // Both lie in one directory, and its owner made what is there.
    let owner = |path: &str| Some(snapshot.aside(|| snapshot.link_stat(path)).seen()?.uid);
    path::parent(wrong) == path::parent(right)
        && owner(right).is_some_and(|uid| owner(path::parent(right)) == Some(uid))
}

fn is_about_a_word(code: Code) -> bool {
    matches!(
        code,
        Code::ConfigMissingFile
            | Code::AccountMissing
            | Code::AddressNotHere
            | Code::ConfigBadValue
            | Code::CertificateBad
    )
}

/// The wrong word and the right one.
fn meant(snapshot: &Snapshot, kind: &dyn Kind, finding: &ConfigFinding) -> Option<(String, String)> {
    if let Some(pair) = &finding.instead {
        return Some(pair.clone());
    }
    match &finding.about {
        Some(About::Listener(wrong, _)) if finding.code == Code::AddressNotHere => {
            Some((wrong.to_string(), only_address(snapshot, wrong.is_ipv4())))
        }
        Some(About::File(wrong) | About::Directory(wrong)) if finding.code == Code::ConfigMissingFile => {
            Some((wrong.clone(), nearest_file(snapshot, wrong)?))
        }
        Some(About::Tree(wrong)) => Some((wrong.clone(), nearest_file(snapshot, wrong)?)),
        Some(About::Key { key, certificate }) => Some((key.clone(), key_of(snapshot, key, certificate)?)),
        Some(About::Account(wrong)) => Some((wrong.clone(), nearest_of(snapshot, "/etc/passwd", wrong)?)),
        Some(About::Group(wrong)) => Some((wrong.clone(), nearest_of(snapshot, "/etc/group", wrong)?)),
        None if finding.code == Code::ConfigBadValue => {
            let place = finding.place.as_ref().filter(|p| p.end_column > p.column)?;
            let text = snapshot.text(&place.file).seen()?;
            let line = text.lines().nth(usize::try_from(place.line).ok()?.checked_sub(1)?)?;
            let (from, to) =
                (usize::try_from(place.column).ok()? - 1, usize::try_from(place.end_column).ok()? - 1);
            let word: String = line.chars().skip(from).take(to.saturating_sub(from)).collect();
            let bare = word.trim_matches(['"', '\'', ';']).to_owned();
            let name = finding.directive.as_deref().filter(|name| !bare.is_empty() && *name != bare)?;
            let rows = kind.directives()?.any_case(name);
            let near = rows.iter().find_map(|row| near_value(row, &bare))?;
            Some((bare, near))
        }
        _ => None,
    }
}

/// The one key beside a wrong one, or beside its certificate, that is the certificate's own.
fn key_of(snapshot: &Snapshot, wrong: &str, certificate: &str) -> Option<String> {
    let mut dirs = vec![path::parent(wrong), path::parent(certificate)];
    dirs.dedup();
    let mut fitting = Vec::new();
    for dir in dirs {
        let names = snapshot.aside(|| snapshot.list(dir)).seen().unwrap_or_default();
        let may_be = |name: &&str| [".key", ".pem", ".crt"].iter().any(|end| name.ends_with(end));
        let all: Vec<&str> = names.iter().map(|e| e.name.as_str()).filter(may_be).take(KEYS).collect();
        let files = all.into_iter().map(|name| path::join(dir, name)).filter(|file| file != wrong);
        let fits = |file: &String| snapshot.aside(|| snapshot.key_fits(certificate, file)) == Some(true);
        fitting.extend(files.filter(fits));
    }
    (fitting.len() == 1).then(|| fitting.remove(0))
}

/// Endings by which people and packages call the copy of a file that they put aside.
const COPIES: [&str; 8] = [".bak", ".old", ".orig", ".save", ".dpkg-old", ".ucf-old", ".disabled", "~"];

/// The one copy of a file that lies beside its place.
pub fn copy_of(snapshot: &Snapshot, file: &str) -> Option<String> {
    let is_file = |copy: &String| {
        snapshot.aside(|| snapshot.link_stat(copy)).seen().is_some_and(|s| s.kind == FileKind::Regular)
    };
    let mut found = COPIES.iter().map(|end| format!("{file}{end}")).filter(is_file);
    found.next().filter(|_| found.next().is_none())
}

/// The one address of a family that this host has beside those of its loopback and of links; that of the
/// loopback where it has none or several: nobody reaches by it who could not before.
fn only_address(snapshot: &Snapshot, v4: bool) -> String {
    let all = snapshot.aside(|| snapshot.addresses()).seen().unwrap_or_default();
    let is_own = |a: &&IpAddr| match a {
        IpAddr::V4(a) => v4 && !a.is_loopback() && !a.is_link_local(),
        IpAddr::V6(a) => !v4 && !a.is_loopback() && !a.is_unicast_link_local(),
    };
    let mut found = all.iter().filter(is_own);
    let only = found.next().filter(|_| found.next().is_none()).map(ToString::to_string);
    only.unwrap_or_else(|| if v4 { "127.0.0.1" } else { "::1" }.to_owned())
}

/// The account or group of the host's own files that has nearly a name.
pub fn nearest_of(snapshot: &Snapshot, file: &str, wrong: &str) -> Option<String> {
    let text = snapshot.text(file).seen()?;
    let names = text.lines().filter_map(|line| line.split(':').next()).filter(|name| !name.is_empty());
    nearest(wrong, names).map(str::to_owned)
}

/// The edit that writes one word in place of another on a line; where a variable stands there, in the file
/// that sets it.
fn instead(
    snapshot: &Snapshot,
    instance: &Instance,
    place: &Place,
    wrong: &str,
    right: &str,
) -> Option<(Span, String)> {
    let text = snapshot.text(&place.file).seen()?;
    let start = start_of(&text, place.line)?;
    let line = text[start..].split('\n').next().unwrap_or_default();
    if let Some(edit) = on_line(&place.file, line, start, wrong, right) {
        return Some(edit);
    }
    if !line.contains('$') {
        return None;
    }
    edit_of_variable(snapshot, instance, wrong, right)
}

/// The edit that writes one word in place of another on a line of a file, if it stands there once.
pub fn edit_at(
    snapshot: &Snapshot,
    file: &str,
    line: u32,
    wrong: &str,
    right: &str,
) -> Option<(Span, String)> {
    let text = snapshot.text(file).seen()?;
    let start = start_of(&text, line)?;
    on_line(file, text[start..].split('\n').next().unwrap_or_default(), start, wrong, right)
}

/// Where a line begins, in bytes.
fn start_of(text: &str, line: u32) -> Option<usize> {
    match usize::try_from(line).ok()?.checked_sub(1)? {
        0 => Some(0),
        n => text.match_indices('\n').nth(n - 1).map(|(at, _)| at + 1),
    }
}

/// The one assignment of some files of variables whose value holds a word, written with another one.
pub fn edit_of_variable(
    snapshot: &Snapshot,
    instance: &Instance,
    wrong: &str,
    right: &str,
) -> Option<(Span, String)> {
    let mut found = instance.variables.iter().filter_map(|file| in_variables(snapshot, file, wrong, right));
    let only = found.next()?;
    found.next().is_none().then_some(only)
}

/// The one assignment of a file of variables whose value holds a word.
fn in_variables(snapshot: &Snapshot, file: &str, wrong: &str, right: &str) -> Option<(Span, String)> {
    let text = snapshot.text(file).seen().filter(|text| text.len() <= VARIABLES)?;
    let mut found = None;
    let mut start = 0;
    for line in text.split('\n') {
        let assigned = !line.trim_start().starts_with('#') && line.contains('=');
        if let Some(edit) = assigned.then(|| on_line(file, line, start, wrong, right)).flatten() {
            if found.is_some() {
                return None;
            }
            found = Some(edit);
        }
        start += line.len() + 1;
    }
    found
}

/// The edit of a line on which a word stands once: whole, or, of a path, by its end.
fn on_line(file: &str, line: &str, start: usize, wrong: &str, right: &str) -> Option<(Span, String)> {
    let whole = once(line, wrong, |c| is_part(c) || c == '/');
    let (at, old, new) = match whole {
        Some(at) => (at, wrong.to_owned(), right.to_owned()),
        None => {
            // A path may be written relative to another one: what both have in common in front stays.
            let common = wrong.split('/').zip(right.split('/')).take_while(|(a, b)| a == b);
            let skip: usize = common.map(|(a, _)| a.len() + 1).sum();
            let (old, new) = (wrong.get(skip..)?, right.get(skip..)?);
            if !wrong.contains('/') || old.is_empty() {
                return None;
            }
            (once(line, old, is_part)?, old.to_owned(), new.to_owned())
        }
    };
    let span = Span { file: file.into(), start: start + at, end: start + at + old.len() };
    Some((span, new))
}

fn is_part(c: char) -> bool {
    c.is_alphanumeric() || matches!(c, '_' | '-' | '.')
}

/// Where a word stands on a line, if it does once, with no letter of its kind around it.
fn once(line: &str, word: &str, part: impl Fn(char) -> bool) -> Option<usize> {
    let free = |at: &usize| {
        let before = line[..*at].chars().next_back();
        let after = line[at + word.len()..].chars().next();
        !before.is_some_and(&part) && !after.is_some_and(&part)
    };
    let mut found = line.match_indices(word).map(|(at, _)| at).filter(free);
    let first = found.next().filter(|_| !word.is_empty())?;
    found.next().is_none().then_some(first)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_is_written_where_it_stands_once() {
        let of = |line: &str, wrong: &str, right: &str| {
            on_line("/x", line, 0, wrong, right)
                .map(|(s, new)| format!("{}{new}{}", &line[..s.start], &line[s.end..]))
        };
        assert_eq!(of("user www-dta;", "www-dta", "www-data").as_deref(), Some("user www-data;"));
        assert_eq!(of("user www-dta www-dta;", "www-dta", "www-data"), None, "which of the two?");
        assert_eq!(
            of("ssl_certificate /etc/quay/harbor.crt;", "/etc/quay/harbor.crt", "/etc/quay/harbour.crt")
                .as_deref(),
            Some("ssl_certificate /etc/quay/harbour.crt;")
        );
        assert_eq!(
            of("Include \"sites/frnt.conf\"", "/etc/quay/sites/frnt.conf", "/etc/quay/sites/front.conf")
                .as_deref(),
            Some("Include \"sites/front.conf\"")
        );
        assert_eq!(of("include sites/*.conf;", "/etc/quay/sites/a.conf", "/etc/quay/sites/b.conf"), None);
        assert_eq!(of("a harbor.crtx", "/e/harbor.crt", "/e/harbour.crt"), None, "another word");
    }
}
