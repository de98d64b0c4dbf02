//! Who may do what where.
use super::super::state::{Directive, Reader, Rule, Scope, report};
use super::common::{bad, bad_word, bad_word_of, warn};
use crate::code::Code;
use crate::config::About;
use std::net::{IpAddr, Ipv4Addr};

pub(super) static OPTIONS: Rule = Rule { names: &["Options"], check: |r, d, _| options(r, d) };
pub(super) static OVERRIDE: Rule =
    Rule { names: &["AllowOverride"], check: |r, d, around| allow_override(r, d, around.scope) };
pub(super) static REQUIRE: Rule =
    Rule { names: &["Require"], check: |r, d, around| require(r, d, around.scope) };
pub(super) static FROM: Rule = Rule {
    names: &["allow", "deny"],
    check: |r, d, _| {
        if !d.value(0).eq_ignore_ascii_case("from") {
            bad_word(
                r,
                d,
                d.value(0),
                format!("{} is followed by \"{}\", expected \"from\"", d.name, d.value(0)),
            );
        }
    },
};

fn options(r: &mut Reader, d: &Directive) {
    const KNOWN: &[&str] = &[
        "none",
        "all",
        "indexes",
        "includes",
        "includesnoexec",
        "followsymlinks",
        "symlinksifownermatch",
        "execcgi",
        "multiviews",
    ];
    // As people write them.
    const WRITTEN: [&str; 9] = [
        "None",
        "All",
        "Indexes",
        "Includes",
        "IncludesNOEXEC",
        "FollowSymLinks",
        "SymLinksIfOwnerMatch",
        "ExecCGI",
        "MultiViews",
    ];
    let (mut plain, mut signed) = (false, false);
    for word in &d.values {
        let bare = word.trim_start_matches(['+', '-']);
        if bare.len() == word.len() {
            plain = true;
        } else {
            signed = true;
        }
        if !KNOWN.contains(&bare.to_ascii_lowercase().as_str()) {
            let why = format!("\"{bare}\" is not an option of Options");
            return bad_word_of(r, d, bare, why, &WRITTEN);
        }
    }
    if plain && signed {
        bad(r, d, "Options mixes words with and without a sign: either all have + or -, or none".into());
    }
}

fn allow_override(r: &mut Reader, d: &Directive, scope: &Scope) {
    const KNOWN: &[&str] =
        &["limit", "options", "fileinfo", "authconfig", "indexes", "nonfatal", "none", "all"];
    if !scope.sections.iter().any(|s| s.starts_with("directory")) {
        warn(r, d, "AllowOverride has no use outside of <Directory>");
    }
    for word in &d.values {
        let bare = word.split('=').next().unwrap_or_default();
        if !KNOWN.contains(&bare.to_ascii_lowercase().as_str()) {
            return bad_word(
                r,
                d,
                bare,
                format!(
                    "\"{bare}\" is not a class of overrides, expected some of AuthConfig, FileInfo, Indexes, \
                        Limit, Options, All or None"
                ),
            );
        }
    }
}

/// Providers, each with the module that brings it.
const KNOWN: &[(&str, &str)] = &[
    ("all", "authz_core"),
    ("env", "authz_core"),
    ("method", "authz_core"),
    ("expr", "authz_core"),
    ("ip", "authz_host"),
    ("host", "authz_host"),
    ("local", "authz_host"),
    ("forward-dns", "authz_host"),
    ("user", "authz_user"),
    ("valid-user", "authz_user"),
    ("group", "authz_groupfile"),
    ("file-group", "authz_owner"),
    ("file-owner", "authz_owner"),
    ("dbm-group", "authz_dbm"),
    ("dbm-file-group", "authz_dbm"),
    ("dbd-group", "authz_dbd"),
    ("dbd-login", "authz_dbd"),
    ("dbd-logout", "authz_dbd"),
    ("ldap-user", "authnz_ldap"),
    ("ldap-group", "authnz_ldap"),
    ("ldap-dn", "authnz_ldap"),
    ("ldap-attribute", "authnz_ldap"),
    ("ldap-filter", "authnz_ldap"),
    ("ldap-search", "authnz_ldap"),
    ("ssl", "ssl"),
    ("ssl-verify-client", "ssl"),
];

fn require(r: &mut Reader, d: &Directive, scope: &Scope) {
    let mut words = d.values.iter().map(|v| v.to_ascii_lowercase());
    let mut provider = words.next().unwrap_or_default();
    let negated = provider == "not";
    if negated {
        provider = words.next().unwrap_or_default();
    }
    if provider.is_empty() {
        return bad(r, d, "Require names no provider".into());
    }
    match KNOWN.iter().find(|(name, _)| *name == provider) {
        Some((_, module)) if !r.has(module) => {
            let found = report(
                r,
                d,
                Code::ConfigMissingModule,
                format!("Require {provider} belongs to mod_{module}, which is not loaded"),
            );
            found.about = Some(About::Module(format!("{module}_module")));
        }
        Some(_) => {
            provided(r, d, &provider, words.next().as_deref(), negated);
            if negated
                && !scope
                    .sections
                    .last()
                    .is_some_and(|s| matches!(s.as_str(), "requireall" | "requireany" | "requirenone"))
            {
                report(r, d, Code::ConfigConflict, "a negated Require alone has no effect, and is refused");
            }
        }
        None => {
            let loaded_other = r.out.model.modules.iter().any(|m| {
                m.starts_with("authz_")
                    && ![
                        "authz_core_module",
                        "authz_host_module",
                        "authz_user_module",
                        "authz_groupfile_module",
                        "authz_owner_module",
                        "authz_dbm_module",
                        "authz_dbd_module",
                    ]
                    .contains(&m.as_str())
            });
            if !loaded_other {
                let why = format!("\"{provider}\" is not a provider that Require knows");
                let usual =
                    ["all", "ip", "host", "local", "user", "group", "valid-user", "expr", "env", "method"];
                bad_word_of(r, d, &provider, why, &usual);
            }
        }
    }
}

/// What stands behind the name of a provider.
fn provided(r: &mut Reader, d: &Directive, provider: &str, rest: Option<&str>, negated: bool) {
    if rest.is_none()
        && !matches!(
            provider,
            "local"
                | "valid-user"
                | "ssl"
                | "ssl-verify-client"
                | "all"
                | "file-owner"
                | "file-group"
                | "dbd-login"
                | "dbd-logout"
                | "dbm-file-group"
        )
    {
        bad_word(r, d, provider, format!("Require {provider} needs a value"));
    } else if provider == "all" && !matches!(rest, Some("granted" | "denied")) {
        bad(r, d, "Require all is followed by neither granted nor denied".into());
    } else if provider == "ip" {
        let wrong = d.values.iter().skip(1 + usize::from(negated)).find(|v| !is_network(v));
        if let Some(wrong) = wrong.cloned() {
            bad_word(r, d, &wrong, format!("\"{wrong}\" is not an address or network"));
        }
    }
}

fn is_network(text: &str) -> bool {
    let (address, bits) = text.split_once('/').map_or((text, None), |(a, b)| (a, Some(b)));
    let most = if address.contains(':') { 128 } else { 32 };
    let partial = address.split('.').count() <= 4
        && !address.is_empty()
        && address.trim_end_matches('.').split('.').all(|p| p.parse::<u8>().is_ok());
    let whole = address.parse::<IpAddr>().is_ok() || partial;
    whole && bits.is_none_or(|b| b.parse::<u8>().is_ok_and(|n| n <= most) || b.parse::<Ipv4Addr>().is_ok())
}
