//! Tomcat: `server.xml` below the base directory, found through the environment or the runtime's own options.
mod conceal;
mod context;

use super::{Instance, Kind, Profile, Stands, VersionMark, glob, known_config};
use crate::bounds::{self, step};
use crate::code::Code;
use crate::config::entries::{Book, Entry};
use crate::config::lines::Text;
use crate::config::{ConfigFinding, Configuration, NamedPath, Place, Span, Speaks};
use crate::log::{Catalogue, Grammar};
use crate::net::Listen;
use crate::path;
use crate::snapshot::Snapshot;
use roxmltree::{Document, Node};
use std::cell::Cell;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

static GRAMMAR: Grammar = Grammar::new(crate::data!("kinds/tomcat/log.json"));
static CATALOGUE: Catalogue = Catalogue::new(crate::data!("kinds/tomcat/failures.json"));
static PROFILE: Profile = Profile {
    programs: &["catalina.sh", "tomcat-start.sh", "tomcat-start", "startup.sh", "tomcat", "jsvc"],
    units: &["tomcat.service", "tomcat[0-9]*.service", "tomcat@*.service"],
    configs: &[
        "/var/lib/tomcat*/conf/server.xml",
        "/etc/tomcat*/server.xml",
        "/usr/share/tomcat/conf/server.xml",
        "/opt/tomcat/conf/server.xml",
        "/opt/*tomcat*/conf/server.xml",
        "/usr/local/tomcat/conf/server.xml",
    ],
    packages: &["tomcat11", "tomcat10", "tomcat9", "tomcat"],
    version: Some(VersionMark {
        words: "Apache Tomcat Version ",
        stands: Stands::Behind,
        files: &["RELEASE-NOTES"],
    }),
    http: true,
    replaces_sockets: true,
    on_java: true,
    ports: &[8080, 8443, 8005, 8009],
    ..Profile::plain("tomcat", &GRAMMAR, &CATALOGUE)
};

/// The class that every Tomcat runs.
const MAIN_CLASS: &str = "org.apache.catalina.startup.Bootstrap";

/// The kind `tomcat`.
pub(super) struct Tomcat;

fn of_command<'c>(words: &'c [String], key: &str) -> Option<&'c str> {
    words.iter().find_map(|w| w.strip_prefix(key))
}

/// The base directory: configuration, logs and applications.
fn base(instance: &Instance) -> String {
    let environment = &instance.environment;
    let named = of_command(&instance.command, "-Dcatalina.base=").map(str::to_owned);
    let named = named
        .or_else(|| environment.get("CATALINA_BASE").cloned())
        .or_else(|| environment.get("CATALINA_HOME").cloned());
    named.unwrap_or_else(|| path::parent(path::parent(&instance.config)).to_owned())
}

/// Elements around one that are told.
const NESTED: usize = 24;

/// Whether an element's name, or the key that stands in its place, is that of a secret.
fn named_secret(node: Node) -> bool {
    ["name", "key"].iter().any(|a| node.attribute(*a).is_some_and(crate::secrets::may_be_secret))
}

/// Attributes as entries, so that `settings` can show them.
fn note(book: &mut Book, text: &Text, places: &Places, node: Node) {
    let section = node
        .ancestors()
        .skip(1)
        .filter(Node::is_element)
        .take(NESTED)
        .map(|n| n.tag_name().name().to_owned())
        .collect::<Vec<_>>();
    let section =
        section.into_iter().rev().chain([node.tag_name().name().to_owned()]).collect::<Vec<_>>().join("/");
    for attribute in node.attributes() {
        let place = place(text, places, attribute.range_value());
        let span = text.faithful.then(|| Span {
            file: text.file.clone(),
            start: attribute.range_value().start,
            end: attribute.range_value().end,
        });
        // `name="db.password" value="…"`: the element says what its value is.
        let secret = attribute.name() == "value" && named_secret(node);
        let value = if secret { crate::secrets::MASK.into() } else { attribute.value().to_owned() };
        let scope = u32::try_from(node.range().start).unwrap_or(u32::MAX);
        book.entries.push(Entry {
            scope,
            ..Entry::of_file(&section, attribute.name().to_owned(), value, place, span)
        });
    }
}

/// Begins of lines, and the last place that was told: most are asked for in order, also where all stand on
/// one line.
struct Places {
    starts: Vec<usize>,
    last: Cell<(usize, u32)>,
}

impl Places {
    fn new(text: &str) -> Self {
        Self {
            starts: std::iter::once(0).chain(text.match_indices('\n').map(|(n, _)| n + 1)).collect(),
            last: Cell::new((0, 1)),
        }
    }

    /// Line and column of a byte.
    fn of(&self, text: &str, at: usize) -> (u32, u32) {
        let line = self.starts.partition_point(|s| *s <= at).max(1);
        let start = self.starts[line - 1];
        let (known, column) = self.last.get();
        let (from, base) = if known >= start && known <= at { (known, column) } else { (start, 1) };
        step(at - from);
        let column = base.saturating_add(
            u32::try_from(text.get(from..at).map_or(0, |t| t.chars().count())).unwrap_or(u32::MAX),
        );
        self.last.set((at, column));
        (u32::try_from(line).unwrap_or(u32::MAX), column)
    }
}

fn place(text: &Text, places: &Places, range: std::ops::Range<usize>) -> Place {
    let (line, column) = places.of(&text.text, range.start);
    let width = u32::try_from(text.text.get(range).map_or(0, |t| t.chars().count())).unwrap_or(0);
    Place { file: text.file.clone(), line, column, end_column: column.saturating_add(width) }
}

fn connector(book: &mut Book, text: &Text, places: &Places, node: Node) {
    let Some(attribute) = node.attribute_node("port") else { return };
    let span = text.faithful.then(|| Span {
        file: text.file.clone(),
        start: attribute.range_value().start,
        end: attribute.range_value().end,
    });
    let entry = Entry::of_file(
        "Connector",
        "port".into(),
        attribute.value().to_owned(),
        place(text, places, attribute.range_value()),
        span,
    );
    // A variable or nonsense is only logged by the daemon; nothing is bound then.
    let Ok(port @ 1..) = attribute.value().parse::<u16>() else { return };
    let protocol = node.attribute("protocol").unwrap_or("HTTP/1.1");
    let loopback = protocol.to_ascii_uppercase().contains("AJP");
    let address = match node.attribute("address") {
        None if loopback => IpAddr::V4(Ipv4Addr::LOCALHOST),
        None | Some("0.0.0.0" | "::") => IpAddr::V6(Ipv6Addr::UNSPECIFIED),
        Some("localhost") => IpAddr::V4(Ipv4Addr::LOCALHOST),
        Some(other) => match other.parse() {
            Ok(address) => address,
            Err(_) => return,
        },
    };
    let tls = node.attribute("SSLEnabled").is_some_and(|v| v.eq_ignore_ascii_case("true"));
    book.listen(Listen::tcp(address, port, false), Some(&entry), entry.span.clone(), tls, true);
    if loopback {
        book.last_listener_speaks(Speaks::Ajp);
    }
}

/// What of a file would cost the parser more than its length tells: it compares each attribute with all of
/// its element, gives each element the namespaces of those around it, and reads an entity each time it is
/// named.
pub(crate) fn costly(text: &str) -> Option<String> {
    let bytes = text.as_bytes();
    if memchr::memmem::find_iter(bytes, "xmlns").nth(bounds::NAMESPACES).is_some() {
        return Some(format!("more than {} namespaces are not read", bounds::NAMESPACES));
    }
    let (mut attributes, mut all, mut compared, mut sign) = (0usize, 0usize, 0usize, false);
    for byte in bytes {
        match byte {
            // No value of an attribute holds one.
            b'<' => attributes = 0,
            b'"' | b'\'' if sign => {
                compared = compared.saturating_add(attributes);
                attributes += 1;
                all += 1;
            }
            _ => {}
        }
        sign = *byte == b'=' || (sign && byte.is_ascii_whitespace());
        if attributes > bounds::ATTRIBUTES {
            return Some(format!("an element with more than {} attributes is not read", bounds::ATTRIBUTES));
        }
        if compared > bounds::COMPARISONS || all > bounds::NODES as usize {
            return Some(format!(
                "more than {} attributes, or many in one element, are not read",
                bounds::NODES
            ));
        }
    }
    if text.contains("<!ENTITY") {
        let end = text.find("]>").unwrap_or(text.len());
        let references = memchr::memchr_iter(b'&', bytes).count();
        // One inside of another is read up to 255 times for each time that the outer one is named.
        let nested = if text[..end].contains('&') { 255 } else { 1 };
        let times = references.saturating_mul(nested);
        if end.saturating_mul(times) > bounds::LINE || compared.saturating_mul(times) > bounds::COMPARISONS {
            return Some(format!("entities that make more than {} MiB are not read", bounds::LINE >> 20));
        }
    }
    None
}

fn server(book: &mut Book, file: &str) {
    let Some(text) = book.text(file) else { return };
    if let Some(sentence) = costly(&text.text) {
        book.out.bound(&format!("{file}: {sentence}"));
        book.stopped = true;
        return;
    }
    let options = roxmltree::ParsingOptions {
        allow_dtd: true,
        nodes_limit: bounds::NODES,
        ..roxmltree::ParsingOptions::default()
    };
    let document = match Document::parse_with_options(&text.text, options) {
        Ok(document) => document,
        Err(roxmltree::Error::NodesLimitReached) => {
            book.out.bound(&format!("{file}: more than {} elements and texts are not read", bounds::NODES));
            book.stopped = true;
            return;
        }
        Err(error) => {
            let at = error.pos();
            let place = Place {
                file: text.file.clone(),
                line: at.row.max(1),
                column: at.col,
                end_column: at.col + 1,
            };
            let found =
                book.refuse(&place, "", Code::ConfigSyntax, format!("the file is not well-formed: {error}"));
            if let roxmltree::Error::UnexpectedCloseTag(expected, actual, _) = &error {
                close_tag(found, &text, &place, expected, actual);
            }
            return;
        }
    };
    let places = Places::new(&text.text);
    let root = document.root_element();
    if root.tag_name().name() != "Server" {
        let place = place(&text, &places, root.range().start..root.range().start + 1);
        book.refuse(
            &place,
            root.tag_name().name(),
            Code::ConfigSyntax,
            "the outermost element must be Server",
        );
        return;
    }
    for node in root.descendants().filter(Node::is_element) {
        note(book, &text, &places, node);
        match node.tag_name().name() {
            "Connector" => connector(book, &text, &places, node),
            "Server" => {
                // The port on which a stop is asked for; a negative one switches it off.
                if let Some(port) =
                    node.attribute("port").and_then(|p| p.parse::<u16>().ok()).filter(|p| *p > 0)
                {
                    let entry = book.entries.iter().rev().find(|e| e.name == "port").cloned();
                    let span = entry.as_ref().and_then(|e| e.span.clone());
                    book.listen(
                        Listen::tcp(IpAddr::V4(Ipv4Addr::LOCALHOST), port, false),
                        entry.as_ref(),
                        span,
                        false,
                        true,
                    );
                    book.last_listener_speaks(Speaks::Orders);
                }
            }
            "Host" => {
                if let Some(name) = node.attribute("name") {
                    book.out.model.site_names.push((name.to_owned(), 0));
                } else {
                    let place = place(&text, &places, node.range().start..node.range().start + 5);
                    book.refuse(&place, "Host", Code::ConfigBadValue, "a Host needs a name");
                }
            }
            _ => {}
        }
    }
}

/// The end of another element than the one that is open: spelled wrong, or that of the open one is missing.
fn close_tag(found: &mut ConfigFinding, text: &Text, place: &Place, expected: &str, actual: &str) {
    if crate::config::nearest(actual, std::iter::once(expected)).is_some() {
        found.instead = Some((format!("</{actual}"), format!("</{expected}")));
        return;
    }
    let begin = match place.line {
        0 | 1 => 0,
        line => {
            text.text.match_indices('\n').nth(line as usize - 2).map_or(text.text.len(), |(at, _)| at + 1)
        }
    };
    let Some(at) = text.text[begin..].find(&format!("</{actual}")).map(|n| begin + n) else { return };
    if text.faithful {
        let span = Span { file: text.file.clone(), start: at, end: at };
        found.edit = Some((span, format!("</{expected}>\n")));
        found.help = Some(format!("did you mean to close <{expected}> before </{actual}>?"));
    }
}

impl Kind for Tomcat {
    fn profile(&self) -> &'static Profile {
        &PROFILE
    }
    fn is_secret(&self, name: &str) -> bool {
        // Whoever knows it may end the server by its shutdown port.
        name == "shutdown"
    }
    fn conceal(&self, text: &str, _path: &str) -> Option<crate::secrets::Concealed> {
        if text.trim_start().starts_with('<') {
            return Some(conceal::conceal(text));
        }
        super::conceal_settings(self, text)
    }
    fn locate(&self, snapshot: &Snapshot, instance: &mut Instance) {
        if instance.config.is_empty() {
            let base = base(instance);
            let own = path::join(&base, "conf/server.xml");
            instance.config = if base.len() > 1 && snapshot.exists(&own) == Some(true) {
                own
            } else {
                known_config(snapshot, &PROFILE)
            };
        }
    }
    fn read(&self, snapshot: &Snapshot, instance: &Instance) -> Configuration {
        let mut book = Book::new(snapshot, &instance.made_by_manager);
        server(&mut book, &instance.config);
        let base = base(instance);
        // One log for each day; the newest one tells of the last start.
        let logs = glob(snapshot, &path::join(&base, "logs/catalina.*.log"));
        if let Some(newest) = logs.into_iter().filter(|f| f.ends_with(".log")).max() {
            book.out.model.error_logs.push(NamedPath {
                path: snapshot.resolve_links(&newest),
                place: None,
                directive: "logging.properties".into(),
            });
        }
        book.out.model.demands = super::java::demands(instance);
        let how = instance.command.iter().skip(1).find_map(|w| match w.as_str() {
            "start" => Some(true),
            "run" => Some(false),
            _ => None,
        });
        let program = instance.command.first().map_or("", |p| path::name(p));
        book.out.model.background = match program {
            "startup.sh" => Some(true),
            "catalina.sh" => how,
            _ => None,
        };
        book.close(|name| self.is_secret(name))
    }
    fn application_files(
        &self,
        snapshot: &Snapshot,
        instance: &Instance,
        target: &str,
        _script: Option<&str>,
    ) -> Vec<String> {
        let base = base(instance);
        // The application by the first part of the path; what is not there is the one at the root.
        let first = target.trim_start_matches('/').split(['/', '?', ';']).next().unwrap_or_default();
        let there = |name: &str| {
            !name.is_empty()
                && (snapshot.exists(&format!("{base}/webapps/{name}")) == Some(true)
                    || !glob(snapshot, &format!("{base}/conf/*/*/{name}.xml")).is_empty())
        };
        let name = if first != ".." && there(first) { first } else { "ROOT" };
        let mut found = glob(snapshot, &format!("{base}/conf/*/*/{name}.xml"));
        let app = format!("{base}/webapps/{name}");
        found.push(format!("{app}/META-INF/context.xml"));
        found.push(format!("{base}/conf/context.xml"));
        found.push(instance.config.clone());
        for dir in ["WEB-INF/classes", "WEB-INF/classes/config", "WEB-INF"] {
            let settings = crate::application::files::of_directory(snapshot, &format!("{app}/{dir}"), true);
            found.extend(settings);
        }
        found.retain(|file| snapshot.exists(file) == Some(true));
        found
    }
    fn page_fault(
        &self,
        snapshot: &Snapshot,
        instance: &Instance,
        target: &str,
        status: u16,
    ) -> Option<super::PageFault> {
        context::fault(snapshot, instance, target, status)
    }
    fn is_main(&self, arguments: &[String]) -> bool {
        // Only the runtime that carries the main class is the daemon; a call of the control script is not.
        arguments.iter().any(|a| a == MAIN_CLASS) && !arguments.iter().any(|a| a == "stop")
    }
    fn is_same_program(&self, instance: &Instance, arguments: &[String]) -> bool {
        of_command(arguments, "-Dcatalina.base=").is_none_or(|b| b == base(instance))
    }
    fn named_config(&self, arguments: &[String]) -> Option<String> {
        of_command(arguments, "-Dcatalina.base=").map(|b| path::join(b, "conf/server.xml"))
    }
    fn starts_with(&self, words: &[String]) -> bool {
        let program = words.first().map_or("", |w| path::name(w));
        if program == "java" { words.iter().any(|w| w == MAIN_CLASS) } else { self.runs(program) }
    }
    fn denies(&self, snapshot: &Snapshot, words: &[String]) -> bool {
        // Anybody's script may be called so, and the starter takes any class.
        let program = words.first().map_or("", String::as_str);
        match path::name(program) {
            "startup.sh" => {
                let beside = path::join(path::parent(program), "catalina.sh");
                !program.contains("tomcat") && snapshot.exists(&beside) == Some(false)
            }
            "jsvc" => {
                let own = ["catalina", "tomcat"];
                !words.iter().any(|w| own.iter().any(|name| w.to_ascii_lowercase().contains(name)))
            }
            _ => false,
        }
    }
    fn runs(&self, program: &str) -> bool {
        program == "java" || PROFILE.programs.iter().any(|p| path::matches(p, program, false))
    }
}
