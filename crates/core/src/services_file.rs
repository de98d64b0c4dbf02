//! The services file: services that the user describes, or corrects. Unknown keys are errors.
use crate::log::OwnRules;
use crate::net::{Listen, parse_listen};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A services file, or several put together.
#[derive(Clone, Debug, Default, Deserialize, Serialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ServicesFile {
    /// Name under which answers show this host, in place of its own.
    pub host_name: Option<String>,
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
    /// Kind: `httpd`, `nginx`, `haproxy`, `mysql`, `postgresql`, `redis`, `php-fpm`, `tomcat`, `java`,
    /// `program`.
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
    /// How a line of the log begins, where no kind's format fits: a regular expression with the groups
    /// `time`, and `level` and `pid` where there are any.
    pub log_head: Option<String>,
    /// Format of the group `time`, as for strftime.
    pub log_time: Option<String>,
    /// Words of its log when a start begins.
    #[serde(default, deserialize_with = "one_or_many")]
    pub log_begin: Vec<String>,
    /// Words of its log when it is ready.
    #[serde(default, deserialize_with = "one_or_many")]
    pub log_ready: Vec<String>,
    /// Words of its log when it is told to stop.
    #[serde(default, deserialize_with = "one_or_many")]
    pub log_stop: Vec<String>,
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
    /// What it says about the log beyond a kind's format; `None` where it says nothing.
    ///
    /// # Errors
    /// A sentence when the expression or the time format cannot be used.
    pub fn log_rules(&self) -> Result<Option<OwnRules>, String> {
        let head = match (&self.log_head, &self.log_time) {
            (Some(pattern), Some(time)) => Some((pattern.clone(), time.clone())),
            (None, None) => None,
            _ => return Err("log_head and log_time belong together".into()),
        };
        if head.is_none()
            && self.log_begin.is_empty()
            && self.log_ready.is_empty()
            && self.log_stop.is_empty()
        {
            return Ok(None);
        }
        let rules = OwnRules {
            head,
            begin: self.log_begin.clone(),
            ready: self.log_ready.clone(),
            stop: self.log_stop.clone(),
        };
        rules.check().map(|()| Some(rules))
    }

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
            return Err(format!("service {name}: \"{kind}\" is not a kind, expected one of {known}"));
        }
        if let Some(format) = &service.log_format
            && crate::kinds::kind(format).is_none()
        {
            return Err(format!("service {name}: log_format \"{format}\" is not a kind"));
        }
        service.log_rules().map_err(|e| format!("service {name}: {e}"))?;
        for listen in &service.listen {
            parse_listen(listen).map_err(|e| format!("service {name}: {e}"))?;
        }
    }
    Ok(file)
}

impl ServicesFile {
    /// The same with its secrets masked, for what is taken away.
    pub fn masked(&self) -> Self {
        let mut shown = self.clone();
        for service in shown.service.values_mut() {
            for (name, value) in &mut service.environment {
                *value = crate::secrets::mask_value(name, value);
            }
            for command in [&mut service.start, &mut service.stop, &mut service.reload].into_iter().flatten()
            {
                *command = crate::secrets::mask_command(command);
            }
            service.url = service.url.take().map(|url| crate::secrets::mask_text(&url));
        }
        shown
    }

    /// Adds a later file: it wins, service by service.
    pub fn add(&mut self, later: Self) {
        self.only_these |= later.only_these;
        self.host_name = later.host_name.or(self.host_name.take());
        self.service.extend(later.service);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_may_be_single_and_unknown_keys_are_refused_with_their_line() {
        let file = parse(
            "[service.tide-relay]\nkind = \"program\"\n\
            listen = [\"7400\", \"unix:/run/t.sock\"]\nlog = \"/var/log/t.log\"\n",
        )
        .unwrap();
        let relay = &file.service["tide-relay"];
        assert_eq!(relay.listens().len(), 2);
        assert_eq!(relay.log, ["/var/log/t.log"]);
        let fault = parse("[service.x]\nkind = \"program\"\nprot = 1\n").unwrap_err();
        assert!(fault.contains("line 3") && fault.contains("prot"), "{fault}");
        assert!(parse("[service.x]\nkind = \"submarine\"\n").unwrap_err().contains("submarine"));
        assert!(parse("[service.x]\nlisten = \"front:80\"\n").is_err());
        for (text, word) in [
            ("log_head = \"^x\"", "belong together"),
            ("log_head = \"^(\"\nlog_time = \"%s\"", "regular expression"),
            ("log_head = \"^x\"\nlog_time = \"%s\"", "time"),
            ("log_format = \"submarine\"", "not a kind"),
        ] {
            let fault = parse(&format!("[service.x]\n{text}\n")).unwrap_err();
            assert!(fault.contains(word), "{text}: {fault}");
        }
    }
}
