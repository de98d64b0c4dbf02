//! The form of a file, by its name.

/// A form in which applications write their configuration.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// `name = value` below `[section]`.
    Ini,
    /// `name=value`, `name: value` or `name value` (java.util.Properties).
    Properties,
    /// `NAME=value`, as shells read it.
    Environment,
    /// JSON.
    Json,
    /// YAML.
    Yaml,
    /// TOML.
    Toml,
    /// XML.
    Xml,
    /// A script of PHP that sets variables, constants and arrays.
    Php,
}

impl Form {
    /// The form of a file; `None` where its name does not tell.
    pub fn of(path: &str) -> Option<Self> {
        let name = crate::path::name(path).to_ascii_lowercase();
        if name == ".env" || name.starts_with(".env.") {
            return Some(Self::Environment);
        }
        Some(match name.rsplit_once('.')?.1 {
            "ini" | "cfg" | "conf" | "cnf" => Self::Ini,
            "properties" => Self::Properties,
            "env" => Self::Environment,
            "json" => Self::Json,
            "yaml" | "yml" => Self::Yaml,
            "toml" => Self::Toml,
            "xml" => Self::Xml,
            "php" | "inc" | "phtml" => Self::Php,
            _ => return None,
        })
    }
}
