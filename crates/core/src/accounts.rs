//! Accounts and groups of the host, from its own files.
use crate::host::Look;
use crate::snapshot::Snapshot;

/// One account.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Account {
    /// Name.
    pub name: String,
    /// User number.
    pub uid: u32,
    /// Primary group number.
    pub gid: u32,
    /// All groups, the primary one included.
    pub groups: Vec<u32>,
    /// What it may do whatever the file modes say.
    pub powers: Powers,
}

/// Powers over file modes (capabilities(7)): root has them unless its unit takes them away.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Powers {
    /// CAP_DAC_OVERRIDE: reads, writes and enters everything.
    pub overrides: bool,
    /// CAP_DAC_READ_SEARCH: reads and enters everything.
    pub reads_all: bool,
}

impl Powers {
    /// Those of a root account that nothing was taken from.
    pub const ROOT: Self = Self { overrides: true, reads_all: true };
}

/// The root account; it exists on every host.
pub fn root() -> Account {
    Account { name: "root".into(), uid: 0, gid: 0, groups: vec![0], powers: Powers::ROOT }
}

/// An account by name or by decimal number.
pub fn account(snapshot: &Snapshot, name: &str) -> Look<Account> {
    let text = match snapshot.text("/etc/passwd") {
        Look::Seen(text) => text,
        Look::Absent => return Look::NotSeen(crate::host::Unseen::PartMissing),
        Look::NotSeen(why) => return Look::NotSeen(why),
    };
    let by_number = name.parse::<u32>().ok();
    for line in text.lines() {
        let mut fields = line.split(':');
        let (Some(who), Some(uid), Some(gid)) = (fields.next(), fields.nth(1), fields.next()) else {
            continue;
        };
        let (Ok(uid), Ok(gid)) = (uid.parse(), gid.parse()) else { continue };
        if who == name || by_number == Some(uid) {
            let groups = groups_of(snapshot, who, gid);
            let powers = if uid == 0 { Powers::ROOT } else { Powers::default() };
            return Look::Seen(Account { name: who.to_owned(), uid, gid, groups, powers });
        }
    }
    elsewhere(snapshot, "passwd")
}

/// The account of a number; one without a name has no group but that of its own files.
pub fn of_uid(snapshot: &Snapshot, uid: u32) -> Account {
    let nameless =
        || Account { name: String::new(), uid, gid: u32::MAX, groups: Vec::new(), powers: Powers::default() };
    account(snapshot, &uid.to_string()).seen().unwrap_or_else(nameless)
}

/// A group's number by its name or decimal number.
pub fn group(snapshot: &Snapshot, name: &str) -> Look<u32> {
    let by_number = name.parse::<u32>().ok();
    for line in snapshot.text("/etc/group").seen().unwrap_or_default().lines() {
        let mut fields = line.split(':');
        let (Some(who), Some(Ok(gid))) = (fields.next(), fields.nth(1).map(str::parse)) else { continue };
        if who == name || by_number == Some(gid) {
            return Look::Seen(gid);
        }
    }
    elsewhere(snapshot, "group")
}

/// Not in the file: absent, unless the host also asks other sources for its accounts.
fn elsewhere<T>(snapshot: &Snapshot, data_base: &str) -> Look<T> {
    let other = asks_elsewhere(&snapshot.text("/etc/nsswitch.conf").seen().unwrap_or_default(), data_base);
    if other {
        Look::NotSeen(crate::host::Unseen::Failed("accounts also come from a directory service".into()))
    } else {
        Look::Absent
    }
}

/// Group number and account number of every membership that `/etc/passwd` (primary groups) and `/etc/group`
/// tell of.
pub fn memberships(passwd: &str, group: &str) -> Vec<(u32, u32)> {
    let mut all = Vec::new();
    let mut numbers = std::collections::HashMap::new();
    for line in passwd.lines() {
        let mut fields = line.split(':');
        let (Some(name), Some(Ok(uid)), Some(Ok(gid))) =
            (fields.next(), fields.nth(1).map(str::parse), fields.next().map(str::parse))
        else {
            continue;
        };
        numbers.entry(name).or_insert(uid);
        all.push((gid, uid));
    }
    for line in group.lines() {
        let mut fields = line.split(':');
        let (Some(Ok(gid)), Some(members)) = (fields.nth(2).map(str::parse), fields.next()) else { continue };
        all.extend(members.split(',').filter_map(|m| numbers.get(m.trim())).map(|uid| (gid, *uid)));
    }
    all
}

/// Whether the host's files are its only source of accounts, by the text of `/etc/nsswitch.conf`.
pub fn only_files(switch: &str) -> bool {
    !["passwd", "group"].into_iter().any(|data_base| asks_elsewhere(switch, data_base))
}

fn asks_elsewhere(switch: &str, data_base: &str) -> bool {
    switch
        .lines()
        .filter_map(|l| l.split('#').next()?.trim().strip_prefix(data_base)?.trim_start().strip_prefix(':'))
        .flat_map(str::split_whitespace)
        .any(|source| matches!(source, "sss" | "ldap" | "winbind" | "nis" | "db" | "hesiod"))
}

fn groups_of(snapshot: &Snapshot, name: &str, primary: u32) -> Vec<u32> {
    let mut groups = vec![primary];
    for line in snapshot.text("/etc/group").seen().unwrap_or_default().lines() {
        let mut fields = line.split(':');
        let (Some(gid), Some(members)) = (fields.nth(2).and_then(|g| g.parse().ok()), fields.next()) else {
            continue;
        };
        if members.split(',').any(|m| m == name) && !groups.contains(&gid) {
            groups.push(gid);
        }
    }
    groups
}

/// The name of a group number, or the number itself as text.
pub fn group_name(snapshot: &Snapshot, gid: u32) -> String {
    let text = snapshot.text("/etc/group").seen().unwrap_or_default();
    let name = text.lines().find_map(|line| {
        let mut fields = line.split(':');
        let name = fields.next()?;
        (fields.nth(1)?.parse() == Ok(gid)).then(|| name.to_owned())
    });
    name.unwrap_or_else(|| if gid == 0 { "root".into() } else { gid.to_string() })
}

/// The name of a user number, or the number itself as text.
pub fn user_name(snapshot: &Snapshot, uid: u32) -> String {
    let name = account(snapshot, &uid.to_string()).seen().filter(|a| a.uid == uid).map(|a| a.name);
    name.unwrap_or_else(|| if uid == 0 { "root".into() } else { uid.to_string() })
}
