//! PostgreSQL: roles, databases and the rules of host-based access, as its catalogue shows them.
use super::{Said, Wish, column, literal};
use crate::host::{LoginAnswer, Refusal, Row};
use sha2::{Digest, Sha256};
use std::net::IpAddr;

/// How many rounds of hashing are made for one check.
const ROUNDS: u32 = 1_000_000;

pub(super) fn questions(wish: &Wish) -> Option<Vec<String>> {
    let account = literal(wish.account)?;
    let database = literal(wish.database.unwrap_or(wish.account))?;
    Some(vec![
        format!(
            "SELECT rolcanlogin, COALESCE(rolvaliduntil < now(), false), rolpassword FROM \
             pg_catalog.pg_authid \
             WHERE rolname = {account}"
        ),
        format!("SELECT datallowconn FROM pg_catalog.pg_database WHERE datname = {database}"),
        format!(
            "SELECT pg_catalog.has_database_privilege(r.oid, d.oid, 'CONNECT') FROM pg_catalog.pg_roles r, \
             pg_catalog.pg_database d WHERE r.rolname = {account} AND d.datname = {database}"
        ),
        "SELECT line_number, type, array_to_string(database, ','), array_to_string(user_name, ','), address, \
         netmask, auth_method FROM pg_catalog.pg_hba_file_rules WHERE error IS NULL ORDER BY line_number"
            .to_owned(),
    ])
}

pub(super) fn judge(wish: &Wish, answer: &LoginAnswer) -> Said {
    let [Some(roles), Some(databases), rights, rules] = answer.rows.as_slice() else { return Said::Unknown };
    let database = wish.database.unwrap_or(wish.account);
    let rule = rules.as_ref().map_or(Rule::Unknown, |rules| rule_for(wish, database, rules));
    // In the order of the server: access rules, the account's proof, the account, the database.
    match &rule {
        Rule::None => {
            return Said::Refused(Refusal::NoAccessRule, "no line of pg_hba.conf is for it".to_owned());
        }
        Rule::Line { line, method } if method == "reject" => {
            return Said::Refused(Refusal::NoAccessRule, format!("line {line} of pg_hba.conf rejects it"));
        }
        _ => {}
    }
    let Some(role) = roles.first() else {
        return Said::Refused(Refusal::UnknownAccount, format!("the role {} does not exist", wish.account));
    };
    let by_password = |method: &str| matches!(method, "scram-sha-256" | "md5" | "password");
    let asks = matches!(&rule, Rule::Line { method, .. } if by_password(method));
    // Well is only what was compared, or what asks for nothing.
    let mut proved = matches!(&rule, Rule::Line { method, .. } if method == "trust");
    if asks && let Some(secret) = wish.secret.filter(|s| !s.is_masked()) {
        if column(role, 1) == "t" {
            return Said::Refused(Refusal::PasswordExpired, "its password has expired".to_owned());
        }
        if column(role, 2).is_empty() {
            return Said::Refused(Refusal::LoginDisabled, "it has no password".to_owned());
        }
        match is_right(secret.reveal(), column(role, 2)) {
            Some(false) => {
                return Said::Refused(Refusal::WrongPassword, "the password is another one".to_owned());
            }
            Some(true) => proved = true,
            None => {}
        }
    }
    if column(role, 0) == "f" {
        return Said::Refused(Refusal::LoginDisabled, "the role may not log in (NOLOGIN)".to_owned());
    }
    match databases.first() {
        None => {
            return Said::Refused(Refusal::NoDatabase, format!("the database {database} does not exist"));
        }
        Some(row) if column(row, 0) == "f" => {
            let said = format!("the database {database} takes no connections");
            return Said::Refused(Refusal::NoAccessRule, said);
        }
        Some(_) => {}
    }
    match rights.as_ref().and_then(|rows| rows.first()) {
        Some(row) if column(row, 0) == "f" => {
            let said = format!("it may not connect to the database {database}");
            Said::Refused(Refusal::NoAccessRule, said)
        }
        Some(_) if proved => Said::Well,
        _ => Said::Unknown,
    }
}

/// The line of the access rules that is for a connection: the first one that fits.
#[derive(Debug, PartialEq, Eq)]
enum Rule {
    Line {
        line: String,
        method: String,
    },
    /// No line fits.
    None,
    /// A line before the first that fits cannot be decided.
    Unknown,
}

fn rule_for(wish: &Wish, database: &str, rules: &[Row]) -> Rule {
    for row in rules {
        let fits = [
            sort_fits(column(row, 1), wish.from),
            list_fits(column(row, 2), database, wish.account),
            list_fits(column(row, 3), wish.account, ""),
            address_fits(column(row, 4), column(row, 5), column(row, 1), wish.from),
        ];
        if fits.contains(&Some(false)) {
            continue;
        }
        if fits.contains(&None) {
            return Rule::Unknown;
        }
        return Rule::Line { line: column(row, 0).to_owned(), method: column(row, 6).to_owned() };
    }
    Rule::None
}

/// Whether the sort of a rule is that of a connection. Whether a client encrypts is its own matter.
fn sort_fits(sort: &str, from: Option<IpAddr>) -> Option<bool> {
    match (sort, from) {
        ("local", None) => Some(true),
        ("host", Some(_)) => Some(true),
        ("hostssl" | "hostnossl" | "hostgssenc" | "hostnogssenc", Some(_)) => None,
        _ => Some(false),
    }
}

/// Whether a list of names holds one; groups and patterns are not decided here.
fn list_fits(list: &str, name: &str, same: &str) -> Option<bool> {
    let mut open = false;
    for one in list.split(',') {
        match one {
            "all" => return Some(true),
            _ if one == name => return Some(true),
            "sameuser" if same == name => return Some(true),
            "sameuser" | "replication" => {}
            "samerole" | "samegroup" => open = true,
            _ if one.starts_with(['+', '/']) => open = true,
            _ => {}
        }
    }
    if open { None } else { Some(false) }
}

fn address_fits(address: &str, mask: &str, sort: &str, from: Option<IpAddr>) -> Option<bool> {
    let Some(from) = from.filter(|_| sort != "local") else { return Some(true) };
    match (address, address.parse::<IpAddr>(), mask.parse::<IpAddr>()) {
        ("all", ..) => Some(true),
        ("samehost" | "samenet", ..) => from.is_loopback().then_some(true),
        (_, Ok(IpAddr::V4(a)), Ok(IpAddr::V4(m))) => match from {
            IpAddr::V4(f) => Some(a.to_bits() & m.to_bits() == f.to_bits() & m.to_bits()),
            IpAddr::V6(_) => Some(false),
        },
        (_, Ok(IpAddr::V6(a)), Ok(IpAddr::V6(m))) => match from {
            IpAddr::V6(f) => Some(a.to_bits() & m.to_bits() == f.to_bits() & m.to_bits()),
            IpAddr::V4(_) => Some(false),
        },
        // A host by its name.
        _ => None,
    }
}

/// Whether a password is the one that a verifier was made of; `None` where that cannot be found out.
fn is_right(secret: &str, verifier: &str) -> Option<bool> {
    let rest = verifier.strip_prefix("SCRAM-SHA-256$")?;
    // Letters beyond ASCII are made equal first (RFC 4013), which is not done here.
    if !secret.is_ascii() {
        return None;
    }
    let (head, keys) = rest.split_once('$')?;
    let (rounds, salt) = head.split_once(':')?;
    let rounds: u32 = rounds.parse().ok().filter(|n| (1..=ROUNDS).contains(n))?;
    let stored = base64(keys.split_once(':')?.0)?;
    let salt = base64(salt)?;
    // RFC 5802: SaltedPassword = Hi(password, salt, rounds), StoredKey = H(HMAC(SaltedPassword, "Client
    // Key")).
    let mut block = hmac(secret.as_bytes(), &[&salt[..], &[0, 0, 0, 1]].concat());
    let mut salted = block;
    for _ in 1..rounds {
        block = hmac(secret.as_bytes(), &block);
        salted.iter_mut().zip(block).for_each(|(sum, b)| *sum ^= b);
    }
    let client = hmac(&salted, b"Client Key");
    Some(Sha256::digest(client).as_slice() == stored)
}

/// HMAC with SHA-256 (RFC 2104).
fn hmac(key: &[u8], text: &[u8]) -> [u8; 32] {
    let mut block = [0u8; 64];
    if key.len() > 64 {
        block[..32].copy_from_slice(&Sha256::digest(key));
    } else {
        block[..key.len()].copy_from_slice(key);
    }
    let inner = Sha256::new().chain_update(block.map(|b| b ^ 0x36)).chain_update(text).finalize();
    Sha256::new().chain_update(block.map(|b| b ^ 0x5c)).chain_update(inner).finalize().into()
}

fn base64(text: &str) -> Option<Vec<u8>> {
    let mut out = Vec::new();
    let (mut bits, mut count) = (0u32, 0u32);
    for b in text.trim_end_matches('=').bytes() {
        let value = match b {
            b'A'..=b'Z' => b - b'A',
            b'a'..=b'z' => b - b'a' + 26,
            b'0'..=b'9' => b - b'0' + 52,
            b'+' => 62,
            b'/' => 63,
            _ => return None,
        };
        bits = (bits << 6) | u32::from(value);
        count += 6;
        if count >= 8 {
            count -= 8;
            out.push(u8::try_from((bits >> count) & 0xff).ok()?);
        }
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::host::{LoginOutcome, Secret};

    /// Made by the server for the password "gull" (PostgreSQL 15).
    const GULL: &str = "SCRAM-SHA-256$4096:KT7rPOwQ9Xh/V4HnzyjRLQ==\
        $rZ7fiyGHajttKAA/M+ykmyAVpdDrM/qpBWknNkF5CzQ=:3lExxmgQxORFQ4BdHzHcJzMoVeNqgsqindWXd67MQks=";

    fn rows(text: &str) -> Option<Vec<Row>> {
        let row = |line: &str| line.split('|').map(|c| Some(c.trim().to_owned())).collect();
        Some(text.lines().filter(|l| !l.is_empty()).map(row).collect())
    }

    fn said(role: &str, database: &str, right: &str, rules: &str, secret: &str, from: Option<&str>) -> Said {
        let secret = Secret::new(secret);
        let wish = Wish {
            account: "desk",
            secret: Some(&secret),
            database: Some("bookings"),
            from: from.map(|f| f.parse().unwrap()),
        };
        assert_eq!(questions(&wish).unwrap().len(), 4);
        let mut answer = LoginAnswer::ended(LoginOutcome::Accepted);
        answer.rows = vec![rows(role), rows(database), rows(right), rows(rules)];
        judge(&wish, &answer)
    }

    const RULES: &str =
        "1|local|all|postgres||| peer\n2|host|bookings|desk|127.0.0.1|255.255.255.255|scram-sha-256";

    #[test]
    fn rows_say_why_an_account_is_refused() {
        let role = format!("t|f|{GULL}");
        let here = Some("127.0.0.1");
        let reason = |said| match said {
            Said::Refused(reason, _) => Some(reason),
            Said::Well => None,
            Said::Unknown => Some(Refusal::Other),
        };
        assert_eq!(reason(said(&role, "t", "t", RULES, "gull", here)), None);
        for (role, database, right, rules, secret, from, wanted) in [
            (&*role, "t", "t", RULES, "tern", here, Refusal::WrongPassword),
            ("", "t", "", RULES, "gull", here, Refusal::UnknownAccount),
            ("f|f|x", "t", "t", RULES, "gull", here, Refusal::LoginDisabled),
            ("t|t|x", "t", "t", RULES, "gull", here, Refusal::PasswordExpired),
            ("t|f|", "t", "t", RULES, "gull", here, Refusal::LoginDisabled),
            (&*role, "", "", RULES, "gull", here, Refusal::NoDatabase),
            (&*role, "f", "t", RULES, "gull", here, Refusal::NoAccessRule),
            (&*role, "t", "f", RULES, "gull", here, Refusal::NoAccessRule),
            (&*role, "t", "t", RULES, "gull", Some("192.0.2.7"), Refusal::NoAccessRule),
            (&*role, "t", "t", RULES, "gull", None, Refusal::NoAccessRule),
            (&*role, "t", "t", "7|host|all|all|0.0.0.0|0.0.0.0|reject", "gull", here, Refusal::NoAccessRule),
            // Not decided: never told as a refusal of its own, nor as well.
            ("t|f|md5abc", "t", "t", RULES, "gull", here, Refusal::Other),
            (&*role, "t", "t", "1|local|all|all||| peer", "gull", None, Refusal::Other),
            (&*role, "t", "t", "1|host|all|+crew|all||scram-sha-256", "gull", here, Refusal::Other),
        ] {
            assert_eq!(
                reason(said(role, database, right, rules, secret, from)),
                Some(wanted),
                "{role} {rules}"
            );
        }
        let unasked = LoginAnswer::ended(LoginOutcome::Accepted);
        let wish = Wish { account: "desk", secret: None, database: None, from: None };
        assert_eq!(judge(&wish, &unasked), Said::Unknown);
        for name in ["", "a\\b", "a\nb"] {
            assert_eq!(questions(&Wish { account: name, ..wish }), None, "{name:?}");
        }
        assert!(questions(&Wish { account: "o'x", ..wish }).unwrap()[0].ends_with("'o''x'"));
    }

    #[test]
    fn verifiers_are_checked_as_the_server_makes_them() {
        assert_eq!(is_right("gull", GULL), Some(true));
        assert_eq!(is_right("Gull", GULL), Some(false));
        for (secret, verifier) in [
            ("möwe", GULL),
            ("gull", "md5abc"),
            ("gull", "SCRAM-SHA-256$99999999:x$y:z"),
            ("gull", "SCRAM-SHA-256$1:!$y:z"),
        ] {
            assert_eq!(is_right(secret, verifier), None, "{verifier}");
        }
    }
}
