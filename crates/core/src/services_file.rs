//! The services file: services that the user describes, or corrects. Unknown keys are errors.
use crate::net::{Listen, parse_listen};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A services file, or several put together.
#[derive(Clone, Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ServicesFile {
    /// Only the services described here are looked at; what else the host runs is left out.
    #[serde(default)]
    pub only_these: bool,
    /// One table `[service.NAME]` each.
    #[serde(default)]
    pub service: BTreeMap<String, Described>,
}

/// What the user says of one service. Everything is optional but `kind`, and only where nothing was found.
#[derive(Clone, Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Described {
    /// Kind: `httpd`, `nginx`, `haproxy`, `mysql`, `postgresql`, `redis`, `php-fpm`, `tomcat`, `java`, `program`.
    pub kind: Option<String>,
    /// Command that starts it, where no manager owns it.
    pub start: Option<String>,
    /// Command that stops it.
    pub stop: Option<String>,
    /// Command that makes it read its configuration anew.
    pub reload: Option<String>,
    /// Unit, where it has another name than the service.
    pub unit: Option<String>,
    /// Account it runs as.
    pub account: Option<String>,
    /// Environment of its start.
    #[serde(default)]
    pub environment: BTreeMap<String, String>,
    /// Configuration files, the main one first.
    #[serde(default, deserialize_with = "one_or_many")]
    pub config: Vec<String>,
    /// Log files, the main one first.
    #[serde(default, deserialize_with = "one_or_many")]
    pub log: Vec<String>,
    /// Format of the log: the name of a kind whose format it is.
    pub log_format: Option<String>,
    /// Addresses: `ADDRESS:PORT`, `PORT` or `unix:PATH`.
    #[serde(default, deserialize_with = "one_or_many")]
    pub listen: Vec<String>,
    /// Directory of its data.
    pub data_dir: Option<String>,
    /// Directory of its pid, lock and socket files.
    pub runtime_dir: Option<String>,
    /// File that holds its process number.
    pub pid_file: Option<String>,
    /// Address that a person would try.
    pub url: Option<String>,
    /// Other services that it needs.
    #[serde(default, deserialize_with = "one_or_many")]
    pub needs: Vec<String>,
    /// Configuration key to the directory that must hold what it names.
    #[serde(default)]
    pub names: BTreeMap<String, String>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum OneOrMany {
    One(String),
    Number(u16),
    Many(Vec<String>),
}

fn one_or_many<'de, D: serde::Deserializer<'de>>(d: D) -> Result<Vec<String>, D::Error> {
    Ok(match OneOrMany::deserialize(d)? {
        OneOrMany::One(one) => vec![one],
        OneOrMany::Number(n) => vec![n.to_string()],
        OneOrMany::Many(many) => many,
    })
}

impl Described {
    /// The addresses it wants. Checked when the file was read.
    pub fn listens(&self) -> Vec<Listen> {
        self.listen.iter().filter_map(|l| parse_listen(l).ok()).collect()
    }
}

/// Reads one services file.
///
/// # Errors
/// A sentence with the line of the fault.
pub fn parse(text: &str) -> Result<ServicesFile, String> {
    let file: ServicesFile = toml::from_str(text).map_err(|e| {
        let line = e.span().map_or(0, |s| text[..s.start.min(text.len())].matches('\n').count() + 1);
        let message = e.message().replace('\n', " ");
        if line > 0 { format!("line {line}: {message}") } else { message }
    })?;
    for (name, service) in &file.service {
        if let Some(kind) = &service.kind
            && crate::kinds::kind(kind).is_none()
        {
            let known = crate::kinds::KINDS.iter().map(|k| k.name()).collect::<Vec<_>>().join(", ");
            return Err(format!("service {name}: {kind:?} is no kind, expected one of {known}"));
        }
        for listen in &service.listen {
            parse_listen(listen).map_err(|e| format!("service {name}: {e}"))?;
        }
    }
    Ok(file)
}

impl ServicesFile {
    /// Adds a later file: it wins, service by service.
    pub fn add(&mut self, later: Self) {
        self.only_these |= later.only_these;
        self.service.extend(later.service);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_may_be_single_and_unknown_keys_are_refused_with_their_line() {
        let file = parse("[service.tide-relay]\nkind = \"program\"\nlisten = [\"7400\", \"unix:/run/t.sock\"]\nlog = \"/var/log/t.log\"\n").unwrap();
        let relay = &file.service["tide-relay"];
        assert_eq!(relay.listens().len(), 2);
        assert_eq!(relay.log, ["/var/log/t.log"]);
        let fault = parse("[service.x]\nkind = \"program\"\nprot = 1\n").unwrap_err();
        assert!(fault.contains("line 3") && fault.contains("prot"), "{fault}");
        assert!(parse("[service.x]\nkind = \"submarine\"\n").unwrap_err().contains("submarine"));
        assert!(parse("[service.x]\nlisten = \"front:80\"\n").is_err());
    }
}
