//! Servers of data that the configuration of an application names: where they are, which database and account
//! it uses there, and what lets it in. They stand as one address, or as several settings side by side.
use super::{Entry, Form, Variables};
use crate::bounds::FOUND;
use crate::config::Place;
use crate::host::{Engine, Secret};
use std::collections::BTreeMap;
use std::ops::Range;

/// A value with its place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Said {
    /// The value.
    pub value: String,
    /// Where it stands.
    pub place: Place,
}

/// A server of data that an application uses.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DataSource {
    /// Its family, where anything tells.
    pub engine: Option<Engine>,
    /// Name or address of its host; empty where it is a socket.
    pub host: String,
    /// Its port, where it is told.
    pub port: Option<u16>,
    /// Its Unix socket.
    pub socket: Option<String>,
    /// The database.
    pub database: Option<Said>,
    /// The account.
    pub account: Option<Said>,
    /// What lets it in, with its place.
    pub secret: Option<(Secret, Place)>,
    /// Where its address stands.
    pub place: Place,
    /// Clients of this form take `localhost` for the socket (those of MySQL in C).
    pub local_is_socket: bool,
}

/// What a setting of a group says.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Role {
    Address,
    Host,
    Port,
    Socket,
    Database,
    Account,
    Secret,
    Engine,
}

/// Words by which a name ends, and what they say. The longer of two that fit counts.
const ROLES: &[(&str, Role)] = &[
    ("connectionstring", Role::Address),
    ("connectionurl", Role::Address),
    ("databaseurl", Role::Address),
    ("jdbcurl", Role::Address),
    ("dsn", Role::Address),
    ("uri", Role::Address),
    ("url", Role::Address),
    ("address", Role::Host),
    ("addr", Role::Host),
    ("host", Role::Host),
    ("hostname", Role::Host),
    ("server", Role::Host),
    ("servername", Role::Host),
    ("portnumber", Role::Port),
    ("port", Role::Port),
    ("unixsocket", Role::Socket),
    ("socketpath", Role::Socket),
    ("socket", Role::Socket),
    ("database", Role::Database),
    ("dbindex", Role::Database),
    ("schema", Role::Database),
    ("name", Role::Database),
    ("db", Role::Database),
    ("account", Role::Account),
    ("login", Role::Account),
    ("userid", Role::Account),
    ("username", Role::Account),
    ("usr", Role::Account),
    ("user", Role::Account),
    ("connectionname", Role::Account),
    ("connectionpassword", Role::Secret),
    ("auth", Role::Secret),
    ("pass", Role::Secret),
    ("passwd", Role::Secret),
    ("password", Role::Secret),
    ("pw", Role::Secret),
    ("pwd", Role::Secret),
    ("secret", Role::Secret),
    ("adapter", Role::Engine),
    ("client", Role::Engine),
    ("connection", Role::Engine),
    ("dialect", Role::Engine),
    ("driver", Role::Engine),
    ("driverclassname", Role::Engine),
    ("engine", Role::Engine),
    ("scheme", Role::Engine),
    ("type", Role::Engine),
];

/// The words of a name with small letters: `dbHost`, `DB_HOST` and `db-host` are two words.
fn words(name: &str) -> Vec<String> {
    let mut out: Vec<String> = Vec::new();
    let mut small = false;
    for c in name.chars() {
        if !c.is_alphanumeric() {
            out.push(String::new());
            small = false;
            continue;
        }
        if out.is_empty() || (small && c.is_uppercase()) {
            out.push(String::new());
        }
        small = c.is_lowercase() || c.is_numeric();
        if let Some(last) = out.last_mut() {
            last.extend(c.to_lowercase());
        }
    }
    out.retain(|w| !w.is_empty());
    out
}

/// What a name says, and the words before that.
fn role(name: &str) -> Option<(Role, String)> {
    let words = words(name);
    // Two words may be one: `user_name`, `unix_socket`.
    for count in [3, 2, 1] {
        if words.len() < count {
            continue;
        }
        let (before, last) = words.split_at(words.len() - count);
        if let Some((_, role)) = ROLES.iter().find(|(word, _)| *word == last.concat()) {
            return Some((*role, before.concat()));
        }
    }
    // What is glued together: `dbhost`, `dbuser`.
    let last = words.last()?;
    let glued =
        ROLES.iter().filter(|(word, _)| word.len() > 2 && last.len() > word.len() && last.ends_with(word));
    let (word, role) = glued.max_by_key(|(word, _)| word.len())?;
    let front = &last[..last.len() - word.len()];
    let before = words[..words.len() - 1].concat();
    Some((*role, format!("{before}{front}")))
}

/// The family that a word names: that of a scheme, a driver, or a group of settings.
fn engine(word: &str) -> Option<Engine> {
    let word = word.to_ascii_lowercase();
    let holds = |all: &[&str]| all.iter().any(|one| word.contains(one));
    if holds(&["mysql", "mariadb"]) {
        Some(Engine::Mysql)
    } else if holds(&["postgres", "pgsql", "postgis"]) || word == "pg" {
        Some(Engine::Postgresql)
    } else if holds(&["redis", "valkey", "predis", "lettuce"]) {
        Some(Engine::Redis)
    } else {
        None
    }
}

/// Whether a word names a family of servers that nothing here speaks with.
fn is_other(word: &str) -> bool {
    let word = word.to_ascii_lowercase();
    [
        "sqlite",
        "oracle",
        "sqlserver",
        "mssql",
        "mongo",
        "h2",
        "derby",
        "hsqldb",
        "ldap",
        "smtp",
        "amqp",
        "memcache",
    ]
    .iter()
    .any(|one| word.contains(one))
}

/// An address taken apart.
#[derive(Debug, Default, PartialEq, Eq)]
struct Address {
    engine: Option<Engine>,
    host: String,
    port: Option<u16>,
    socket: Option<String>,
    database: String,
    account: String,
    secret: String,
}

/// `%20` and the like undone.
fn decoded(text: &str) -> String {
    let bytes = text.as_bytes();
    let mut out = Vec::with_capacity(bytes.len());
    let mut at = 0;
    while at < bytes.len() {
        let digits = (bytes[at] == b'%').then(|| text.get(at + 1..at + 3)).flatten();
        match digits.and_then(|d| u8::from_str_radix(d, 16).ok()) {
            Some(byte) => {
                out.push(byte);
                at += 3;
            }
            None => {
                out.push(bytes[at]);
                at += 1;
            }
        }
    }
    String::from_utf8_lossy(&out).into_owned()
}

impl Address {
    fn endpoint(&mut self, text: &str) {
        // Of several hosts the first one is asked first.
        let first = text.split(',').next().unwrap_or_default();
        let (host, port) = match first.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
            Some((host, rest)) => (host, rest.strip_prefix(':')),
            None => match first.rsplit_once(':') {
                Some((host, port)) => (host, Some(port)),
                None => (first, None),
            },
        };
        self.host = decoded(host);
        self.port = port.and_then(|p| p.parse().ok());
    }

    fn parameter(&mut self, name: &str, value: &str) {
        let value = decoded(value);
        match name.to_ascii_lowercase().as_str() {
            "user" | "username" => self.account = value,
            "password" | "pass" | "auth" => self.secret = value,
            "dbname" | "database" => self.database = value,
            "socket" | "unix_socket" | "unixsocket" if value.starts_with('/') => self.socket = Some(value),
            "host" if value.starts_with('/') => self.socket = Some(value),
            "host" if self.host.is_empty() => self.host = value,
            "port" => self.port = value.parse().ok(),
            _ => {}
        }
    }
}

/// An address of a server of data; `None` where a text is none.
fn address(text: &str) -> Option<Address> {
    let text = text.trim();
    let bare = text.strip_prefix("jdbc:").or_else(|| text.strip_prefix("r2dbc:")).unwrap_or(text);
    if let Some((scheme, rest)) = bare.split_once("://") {
        let engine = engine(scheme)?;
        let mut found = Address { engine: Some(engine), ..Address::default() };
        let (rest, query) = rest.split_once('?').unwrap_or((rest, ""));
        let (authority, path) = match scheme.contains("unix") || rest.starts_with('/') {
            true => ("", rest),
            false => rest.split_once('/').unwrap_or((rest, "")),
        };
        let (login, endpoint) = match authority.rsplit_once('@') {
            Some((login, endpoint)) => (Some(login), endpoint),
            None => (None, authority),
        };
        if let Some((account, secret)) = login.map(|l| l.split_once(':').unwrap_or((l, ""))) {
            (found.account, found.secret) = (decoded(account), decoded(secret));
        }
        found.endpoint(endpoint);
        match (authority.is_empty() && path.len() > 1 && engine == Engine::Redis, path) {
            (true, path) => found.socket = Some(format!("/{}", path.trim_start_matches('/'))),
            (false, path) => found.database = decoded(path.trim_start_matches('/')),
        }
        for (name, value) in query.split(['&', ';']).filter_map(|part| part.split_once('=')) {
            found.parameter(name, value);
        }
        if engine == Engine::Postgresql && found.host.starts_with('/') {
            found.socket = Some(std::mem::take(&mut found.host));
        }
        return Some(found);
    }
    // `mysql:host=…;dbname=…` (PDO), `pgsql:…`
    if let Some((scheme, rest)) =
        bare.split_once(':').filter(|(s, _)| s.bytes().all(|b| b.is_ascii_alphanumeric()))
        && let Some(engine) = engine(scheme)
        && rest.contains('=')
    {
        let mut found = Address { engine: Some(engine), ..Address::default() };
        for (name, value) in rest.split([';', ' ']).filter_map(|part| part.split_once('=')) {
            found.parameter(name.trim(), value.trim());
        }
        return Some(found);
    }
    // `account:secret@tcp(host:port)/database`
    if let Some((login, rest)) = text.split_once("@tcp(").or_else(|| text.split_once("@unix(")) {
        let (endpoint, path) = rest.split_once(")/")?;
        let mut found = Address { engine: Some(Engine::Mysql), ..Address::default() };
        let (account, secret) = login.split_once(':').unwrap_or((login, ""));
        (found.account, found.secret) = (account.to_owned(), secret.to_owned());
        if endpoint.starts_with('/') {
            found.socket = Some(endpoint.to_owned())
        } else {
            found.endpoint(endpoint)
        }
        found.database = path.split('?').next().unwrap_or_default().to_owned();
        return Some(found);
    }
    // `host=… dbname=… user=…` (libpq)
    let pairs: Vec<(&str, &str)> = text.split_whitespace().map_while(|w| w.split_once('=')).collect();
    if pairs.len() > 1
        && pairs.len() == text.split_whitespace().count()
        && pairs.iter().any(|(n, _)| *n == "dbname")
    {
        let mut found = Address { engine: Some(Engine::Postgresql), ..Address::default() };
        pairs.iter().for_each(|(name, value)| found.parameter(name, value.trim_matches('\'')));
        return Some(found);
    }
    None
}

/// The bytes of what the sources of a text say, but for their secrets: what may be told of it elsewhere.
pub(crate) fn told(form: Form, entries: &[Entry], variables: &Variables) -> Vec<Range<usize>> {
    let found = find("", form, entries, variables);
    let mut all: Vec<Range<usize>> = Vec::new();
    for (one, value) in entries.iter().filter_map(|e| Some((e, variables.resolved(&e.value)?))) {
        let Some((_, role)) = key_of(one, form, &value) else { continue };
        let said = |s: &Option<Said>| s.as_ref().is_some_and(|s| s.value == value);
        let of = |source: &DataSource| match role {
            Role::Secret => false,
            Role::Database => said(&source.database),
            Role::Account => said(&source.account),
            Role::Host => value.contains(&source.host),
            Role::Port => source.port.is_some_and(|p| p.to_string() == value),
            Role::Socket => source.socket.as_deref() == Some(value.as_str()),
            Role::Engine => engine(&value).is_some(),
            Role::Address => source.place.line == one.line,
        };
        if one.span.start < one.span.end && found.iter().any(of) {
            all.push(one.span.clone());
        }
    }
    all
}

/// Settings that belong together.
#[derive(Default)]
struct Group<'e> {
    roles: BTreeMap<Role, (&'e Entry, String)>,
    order: usize,
}

/// The servers of data that a file names, the first [`FOUND`] of them.
pub fn find(file: &str, form: Form, entries: &[Entry], variables: &Variables) -> Vec<DataSource> {
    let mut groups: BTreeMap<(Vec<String>, String), Group> = BTreeMap::new();
    for (order, one) in entries.iter().enumerate() {
        let Some(value) = variables.resolved(&one.value) else { continue };
        let (key, role) = match key_of(one, form, &value) {
            Some(found) => found,
            None => continue,
        };
        let group = groups.entry(key).or_insert_with(|| Group { order, ..Group::default() });
        // The last value of a name is the one in force.
        group.roles.insert(role, (one, value));
    }
    // `databaseName` beside `serverName` and `user`.
    let names: Vec<_> = groups.keys().filter(|(_, before)| before == "db").cloned().collect();
    for key in names {
        let only = groups.get(&key).is_some_and(|g| g.roles.keys().eq([&Role::Database]));
        let beside = (key.0.clone(), String::new());
        let wants =
            |g: &Group| g.roles.contains_key(&Role::Account) && !g.roles.contains_key(&Role::Database);
        if only && groups.get(&beside).is_some_and(wants) {
            let moved = groups.remove(&key).unwrap_or_default();
            groups.entry(beside).or_default().roles.extend(moved.roles);
        }
    }
    let mut all: Vec<_> = groups.into_iter().collect();
    all.sort_by_key(|(_, group)| group.order);
    all.into_iter().filter_map(|(key, group)| source(file, form, &key, &group)).take(FOUND).collect()
}

/// The group that a setting belongs to, and what it says there.
fn key_of(one: &Entry, form: Form, value: &str) -> Option<((Vec<String>, String), Role)> {
    let (last, above) = one.names.split_last()?;
    // What a function that connects is given, by the order of its arguments.
    if let Some(function) = above.last().filter(|n| n.ends_with("()")) {
        let key = (above.to_vec(), String::new());
        let role = match (function.as_str(), last.as_str()) {
            ("pdo()" | "pg_connect()" | "pg_pconnect()", "0" | "dsn") => Role::Address,
            ("pdo()", "1" | "username") => Role::Account,
            ("pdo()", "2" | "password") => Role::Secret,
            ("mysqli()" | "mysqli_connect()", "0" | "hostname") => Role::Host,
            ("mysqli()" | "mysqli_connect()", "1" | "username") => Role::Account,
            ("mysqli()" | "mysqli_connect()", "2" | "password") => Role::Secret,
            ("mysqli()" | "mysqli_connect()", "3" | "database") => Role::Database,
            ("mysqli()" | "mysqli_connect()", "4" | "port") => Role::Port,
            ("mysqli()" | "mysqli_connect()", "5" | "socket") => Role::Socket,
            _ => return None,
        };
        return Some((key, role));
    }
    // `<Parameter name="db.password" value="…">` and elements of that sort: the name is their identity.
    let (last, above) = match (form, last.as_str(), above.split_last()) {
        (Form::Xml, "value", Some((name, rest))) => (name, rest),
        _ => (last, above),
    };
    let named = role(last);
    // An address tells by itself what it is, whatever its name is.
    let is_address = address(value).is_some();
    let (role, before) = match named {
        Some((_, before)) if is_address => (Role::Address, before),
        Some((Role::Address, _)) | None if !is_address => return None,
        Some(found) => found,
        None => (Role::Address, last.clone()),
    };
    let before = if before == "database" { "db".to_owned() } else { before };
    let mut above = above.to_vec();
    // A list of equal servers is one.
    if above.last().is_some_and(|n| n.bytes().all(|b| b.is_ascii_digit())) {
        above.pop();
    }
    Some(((above, before), role))
}

fn source(file: &str, form: Form, key: &(Vec<String>, String), group: &Group) -> Option<DataSource> {
    let (above, before) = key;
    let text = |role: Role| group.roles.get(&role).map(|(_, value)| value.trim()).filter(|v| !v.is_empty());
    let said = |role: Role| {
        let (entry, value) = group.roles.get(&role)?;
        Some(Said { value: value.trim().to_owned(), place: entry.place(file) })
    };
    let told = text(Role::Engine);
    if told.is_some_and(is_other) || is_other(before) || above.iter().any(|n| is_other(n)) {
        return None;
    }
    let by_address = text(Role::Address).and_then(address);
    let mut found = by_address.unwrap_or_default();
    let from_address = group.roles.contains_key(&Role::Address);
    let group_engine = || {
        let words = above.iter().rev().chain([before]);
        told.and_then(engine).or_else(|| words.clone().find_map(|w| engine(w)))
    };
    found.engine = found.engine.or_else(group_engine);
    if !from_address {
        found.host = text(Role::Host).unwrap_or_default().to_owned();
        found.port = text(Role::Port).and_then(|p| p.parse().ok());
        // A host with its port, or with its socket, as some clients take it.
        if let Some((host, rest)) = found.host.clone().rsplit_once(':').filter(|(h, _)| !h.contains(':')) {
            match rest.parse() {
                Ok(port) => (found.host, found.port) = (host.to_owned(), Some(port)),
                Err(_) if rest.starts_with('/') => {
                    (found.host, found.socket) = (String::new(), Some(rest.to_owned()));
                }
                Err(_) => {}
            }
        }
        if found.host.starts_with('/') {
            found.socket = Some(std::mem::take(&mut found.host));
        }
        found.socket =
            found.socket.or_else(|| text(Role::Socket).filter(|s| s.starts_with('/')).map(str::to_owned));
    }
    let address_place = group.roles.get(&Role::Address).map(|(entry, _)| entry.place(file));
    let part = |value: &str| {
        let place = address_place.clone()?;
        (!value.is_empty()).then(|| Said { value: value.to_owned(), place })
    };
    let database = part(&found.database).or_else(|| said(Role::Database)).filter(|d| !d.value.is_empty());
    let account = part(&found.account).or_else(|| said(Role::Account)).filter(|a| !a.value.is_empty());
    let secret = match found.secret.is_empty() {
        false => address_place.clone().map(|place| (Secret::new(found.secret.clone()), place)),
        true => said(Role::Secret).map(|s| (Secret::new(group_value(group, Role::Secret)), s.place)),
    };
    let somewhere = !found.host.is_empty() || found.socket.is_some();
    // A host alone is anybody's: an account, a database, or the name of its family must stand beside it.
    let somebody = account.is_some() && (secret.is_some() || database.is_some());
    let is_data =
        from_address || (found.engine.is_some() && (somebody || found.engine == Some(Engine::Redis)));
    let by_group = somebody && is_about_data(before, above);
    if !(somewhere || from_address || by_group) || !(is_data || by_group) {
        return None;
    }
    if !somewhere {
        found.host = "localhost".to_owned();
    }
    let first = [Role::Address, Role::Host, Role::Socket, Role::Account, Role::Database];
    let place = first.iter().find_map(|role| group.roles.get(role)).map(|(entry, _)| entry.place(file))?;
    Some(DataSource {
        engine: found.engine,
        host: found.host,
        port: found.port,
        socket: found.socket,
        database,
        account,
        secret,
        place,
        local_is_socket: form == Form::Php,
    })
}

fn group_value(group: &Group, role: Role) -> String {
    group.roles.get(&role).map(|(_, value)| value.clone()).unwrap_or_default()
}

/// Whether the names of a group say that it is about a server of data.
fn is_about_data(before: &str, above: &[String]) -> bool {
    let about = |w: &str| {
        let w = w.to_ascii_lowercase();
        ["db", "database", "sql", "datasource", "data_source", "data-source"]
            .iter()
            .any(|one| w.contains(one))
    };
    about(before) || above.last().is_some_and(|w| about(w))
}
