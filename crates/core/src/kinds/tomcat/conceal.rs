//! What may be recorded of a server's XML: values of attributes whose meaning is known here, and what is
//! plainly a number, a switch, an address or a path. Every other value could be a secret.
use crate::kinds::program::is_plain;
use crate::secrets::{Concealed, Text, is_likely_secret, spans};

/// Attributes whose value is read by somebody here, or tells nothing that is worth hiding.
const KNOWN: &[&str] = &[
    "URIEncoding",
    "appBase",
    "autoDeploy",
    "base",
    "SSLEngine",
    "ciphers",
    "className",
    "classname",
    "clientAuth",
    "certificateVerification",
    "closeMethod",
    "compressibleMimeType",
    "connectionName",
    "defaultHost",
    "defaultSSLHostConfigName",
    "description",
    "directory",
    "docBase",
    "driverClassName",
    "driverName",
    "encoding",
    "executor",
    "factory",
    "host",
    "hostName",
    "hostManagerConfigFile",
    "jvmRoute",
    "certificateChainFile",
    "certificateFile",
    "certificateKeyFile",
    "certificateKeystoreFile",
    "keyAlias",
    "keystoreFile",
    "keystoreType",
    "level",
    "localDataSource",
    "localName",
    "name",
    "namePrefix",
    "path",
    "pathname",
    "pattern",
    "prefix",
    "protocol",
    "protocols",
    "proxyName",
    "relaxedPathChars",
    "relaxedQueryChars",
    "resourceName",
    "roleNameCol",
    "rolename",
    "roles",
    "scheme",
    "server",
    "sessionCookieName",
    "sslProtocol",
    "sslEnabledProtocols",
    "suffix",
    "type",
    "unpackWARs",
    "url",
    "user",
    "userCredCol",
    "userNameCol",
    "userRoleTable",
    "userTable",
    "username",
    "validationQuery",
    "version",
    "workDir",
    "xmlns",
];

/// The values of attributes in a text, whether it is well-formed or not.
pub(super) fn conceal(text: &str) -> Concealed {
    let mut found = Concealed::default();
    let bytes = text.as_bytes();
    let mut at = 0;
    while let Some(open) = text[at..].find(['"', '\'']).map(|n| at + n) {
        let quote = char::from(bytes[open]);
        let head = text[..open].trim_end();
        let name = head.strip_suffix('=').map(|rest| rest.trim_end().rsplit(|c: char| !is_name(c)).next());
        let Some(Some(name)) = name.filter(|n| n.is_some_and(|n| !n.is_empty())) else {
            at = open + 1;
            continue;
        };
        // A value that nobody closes ends with its line.
        let end = text[open + 1..].find([quote, '<', '\n']).map_or(text.len(), |n| open + 1 + n);
        let (value, span) = (&text[open + 1..end], open + 1..end);
        at = (end + 1).min(text.len());
        while !text.is_char_boundary(at) {
            at += 1;
        }
        if value.is_empty() {
            continue;
        }
        let bare = name.rsplit(':').next().unwrap_or(name);
        if is_likely_secret(bare) || bare == "shutdown" {
            found.secret.push(span);
        } else if KNOWN.contains(&bare)
            || name.starts_with("xmlns")
            || value.split_whitespace().all(|word| is_plain(word.trim_start_matches('-')))
        {
            let inner = spans(&text[span.clone()], Text::Settings);
            found.secret.extend(inner.into_iter().map(|s| span.start + s.start..span.start + s.end));
        } else if !is_class(value) {
            found.unknown.push(span);
        }
    }
    found
}

fn is_name(c: char) -> bool {
    c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.' | ':')
}

/// Whether a value is the name of a class: words between dots, the last with a large letter.
fn is_class(value: &str) -> bool {
    let parts: Vec<&str> = value.split('.').collect();
    parts.len() > 2
        && parts.iter().all(|p| !p.is_empty() && p.bytes().all(|b| b.is_ascii_alphabetic() || b == b'$'))
        && parts.last().is_some_and(|p| p.starts_with(|c: char| c.is_ascii_uppercase()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::secrets::masked;

    #[test]
    fn values_that_nobody_knows_are_told_from_those_that_are_read() {
        let text = "<Server port=\"8005\" shutdown=\"quay\">\n<Resource name=\"b\" \
                    url=\"jdbc:x://q\" tide=\"ebb\"\n\
                    \x20driverClassName=\"org.quay.Driver\" factory='a.b.C' path=\"/x\" on=\"true\"/>\n\
                    <Valve passwrod=\"ebb\" other=\"org.quay.Valve\" file=\"conf/x.xml\" \
                    open=\"one\n<a b=\"two\"/>";
        let found = conceal(text);
        let told = |all: &[std::ops::Range<usize>]| masked(text, all);
        assert!(
            told(&found.secret).contains("passwrod=\"MASKED\"")
                && told(&found.secret).contains("shutdown=\"MASKED\""),
            "{}",
            told(&found.secret)
        );
        let unknown: Vec<&str> = found.unknown.iter().map(|s| &text[s.clone()]).collect();
        assert_eq!(unknown, ["ebb", "conf/x.xml", "one", "two"]);
    }
}
