//! What is known while a configuration of nginx is read: the blocks that are open, what was gathered over all
//! files, and the findings so far.
use super::tokens::Word;
use super::tree::Tree;
pub(super) use super::tree::{Key, Own};
use super::{DIRECTIVES, Options};
use crate::bounds::Cost;
use crate::code::Code;
use crate::config::rows::{Row, RuleIndex};
use crate::config::{
    About, ConfigFinding, Configuration, DependsOn, NameMap, NameSet, NamedPath, Place, Severity, Span,
    Upstream,
};
use crate::host::Protocol;
use crate::snapshot::Snapshot;
use std::sync::Arc;

/// What no row can say about a directive: which names it is for, and what it looks at.
pub(super) struct Rule {
    /// Names of directives.
    pub(super) names: &'static [&'static str],
    /// Judges one that passed its row, and gathers what other rooms need.
    pub(super) check: fn(&mut Reader, &Directive, &'static Row),
}

impl AsRef<[&'static str]> for &Rule {
    fn as_ref(&self) -> &[&'static str] {
        self.names
    }
}

/// A block that is being read.
pub(super) struct Block {
    /// Context of the table: `main`, `http`, `server`, `location-if` …
    pub(super) context: &'static str,
    /// The same, as a bit of the table's places, with that of what may stand anywhere.
    pub(super) bits: u32,
    /// Rows seen here that may stand once, with their lines.
    pub(super) seen: Seen,
    /// Site facts, for `server` blocks.
    pub(super) site: Option<Site>,
    /// The name that opened it, for section paths.
    pub(super) label: String,
    /// Which block it is, counted from 1; 0 for the outermost.
    pub(super) number: u32,
    /// Regex, named or `if` location: no URI part in `proxy_pass`.
    pub(super) no_uri: bool,
    /// Prefix of the location, to judge nested ones.
    pub(super) prefix: Option<String>,
    /// Locations and sub-blocks declared here, to find doubles.
    pub(super) declared: NameSet<String>,
    /// Whether it has a `root`, and an `alias`.
    pub(super) roots: (bool, bool),
    /// Members of an upstream.
    pub(super) members: usize,
    /// Where a server of streams or of mail begins that has no listener yet.
    pub(super) deaf: Option<Place>,
}

impl Block {
    pub(super) fn new(context: &'static str, label: String) -> Self {
        Self {
            context,
            bits: DIRECTIVES.bits(&[context, "any"]),
            seen: Seen::default(),
            site: None,
            label,
            number: 0,
            no_uri: false,
            prefix: None,
            declared: NameSet::default(),
            roots: (false, false),
            members: 0,
            deaf: None,
        }
    }
}

/// Rows that were seen in a block, with their lines.
#[derive(Default)]
pub(super) struct Seen {
    bits: [u64; 16],
    lines: Vec<(u16, u32)>,
}

impl Seen {
    /// Notes a row; the line where it stood before, if it did.
    pub(super) fn insert(&mut self, row: u16, line: u32) -> Option<u32> {
        let (word, bit) = (usize::from(row) / 64 % self.bits.len(), 1u64 << (row % 64));
        if self.bits[word] & bit != 0
            && let Some((_, first)) = self.lines.iter().find(|(r, _)| *r == row)
        {
            return Some(*first);
        }
        self.bits[word] |= bit;
        self.lines.push((row, line));
        None
    }
}

/// One line about buffers.
pub(super) struct BufferSize {
    /// Number of its block.
    pub(super) block: u32,
    /// The first word of its name: who passes on.
    pub(super) passer: &'static str,
    /// The rest of its name.
    pub(super) what: &'static str,
    /// Size of one, in bytes.
    pub(super) bytes: i64,
    /// How many; 0 where the line does not say.
    pub(super) count: i64,
}

/// The reader's state.
pub(super) struct Reader<'s, 'h> {
    pub(super) snapshot: &'s Snapshot<'h>,
    pub(super) options: &'s Options,
    pub(super) out: Configuration,
    pub(super) blocks: Vec<Block>,
    pub(super) facts: Facts,
    pub(super) file: Arc<str>,
    /// Which rules are about which rows.
    pub(super) rules: RuleIndex,
    /// Whether the build or a loaded module has a row, by its number, and for how many loaded modules that
    /// was found.
    pub(super) there: (usize, Vec<Option<bool>>),
    pub(super) open_files: Vec<String>,
    pub(super) texts: NameMap<String, FileText>,
    pub(super) stopped: bool,
    /// Blocks that were opened so far.
    pub(super) opened: u32,
    pub(super) cost: Cost,
    /// The directives as a tree, where the way of a request is asked for.
    pub(super) tree: Option<Tree>,
}

/// One directive with its place.
pub(super) struct Directive<'w, 'a> {
    pub(super) words: &'w [Word<'a>],
    pub(super) line: u32,
    pub(super) place: Place,
    pub(super) opens: bool,
}

impl Directive<'_, '_> {
    pub(super) fn name(&self) -> &str {
        self.words.first().map_or("", |w| w.value.as_ref())
    }
    pub(super) fn argument(&self, index: usize) -> &str {
        self.words.get(index + 1).map_or("", |w| w.value.as_ref())
    }
    pub(super) fn arguments(&self) -> impl Iterator<Item = &str> {
        self.words.iter().skip(1).map(|w| w.value.as_ref())
    }
}

/// What a name that a directive uses may stand for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum MayBe {
    /// An upstream that is declared here, or a host.
    Either,
    /// Without a port only an upstream.
    Upstream,
    /// A host alone.
    Host,
}

/// A name that stands for an upstream or a host.
pub(super) struct HostUse {
    pub(super) host: String,
    /// The name of the upstream that it may be.
    pub(super) upstream: String,
    pub(super) may_be: MayBe,
    pub(super) place: Place,
    pub(super) directive: String,
}

/// What is gathered over all files and judged at the end.
#[derive(Default)]
pub(super) struct Facts {
    pub(super) upstreams: NameMap<String, Place>,
    /// Names that stand for upstreams or hosts.
    pub(super) host_uses: Vec<HostUse>,
    pub(super) formats: NameSet<String>,
    pub(super) zones: NameMap<String, Place>,
    pub(super) zone_uses: Vec<(String, Place, String)>,
    /// Servers of the groups that are passed on to, and what is passed on to directly, by the name of the
    /// group that it may be.
    pub(super) members: Vec<Upstream>,
    pub(super) passes: Vec<(String, Upstream)>,
    /// Sizes of buffers as they are given, and blocks inside `http` with the one around each.
    pub(super) buffers: Vec<BufferSize>,
    pub(super) inner: Vec<(u32, u32)>,
    pub(super) variables: NameSet<String>,
    pub(super) variable_uses: Vec<(String, Place)>,
    /// Directives by which a place for temporary files is given.
    pub(super) temp_paths: NameSet<String>,
    pub(super) listens: Listeners,
    /// Listeners of streams and of mail, by transport.
    pub(super) others: NameMap<(Protocol, Key), Place>,
    pub(super) has_events: bool,
    pub(super) has_http: bool,
    pub(super) has_error_log: bool,

    pub(super) sites: Vec<Site>,
    /// Server names with a misplaced wildcard.
    pub(super) odd_names: Vec<(String, Place)>,
    pub(super) http_certificate: bool,
    pub(super) http_key: bool,
    /// The same for all sites.
    pub(super) http_files: Vec<NamedPath>,
    /// Certificates and keys of all sites that have none of their own.
    pub(super) http_pairs: Vec<NamedPath>,
    /// Where the `http` block ends: merges are blamed on it.
    pub(super) http_end: Option<Place>,
}

/// Facts of one `server` block.
#[derive(Clone, Debug, Default)]
pub(super) struct Site {
    pub(super) opened: Option<Place>,
    pub(super) names: Vec<String>,
    pub(super) listens: Vec<Own>,
    pub(super) ssl_listen: Option<Place>,
    /// The obsolete `ssl on`.
    pub(super) ssl_on: Option<Place>,
    pub(super) certificate: bool,
    pub(super) key: bool,
    /// Certificates and keys, in the order of the file.
    pub(super) pairs: Vec<NamedPath>,
    /// Files that are opened with its certificate.
    pub(super) files: Vec<NamedPath>,
}

/// All listeners of the configuration.
#[derive(Default)]
pub(super) struct Listeners {
    pub(super) defaults: NameMap<Key, Place>,
    pub(super) options: NameMap<Key, Place>,
    /// Names of servers by their listener, each with the first server that has it.
    pub(super) names: NameMap<Key, NameMap<String, Place>>,
    pub(super) keys: Vec<(Key, usize)>,
}

/// The text of a file: its bytes as they were read, which the snapshot keeps anyway, or what became of bytes
/// that are no text.
#[derive(Clone)]
pub(super) enum FileText {
    Read(Arc<[u8]>),
    Made(Arc<str>),
}

impl FileText {
    pub(super) fn new(bytes: Arc<[u8]>) -> Self {
        match std::str::from_utf8(&bytes) {
            Ok(_) => Self::Read(bytes),
            // One byte stays one column: positions must not move.
            Err(_) => {
                let made = bytes.iter().map(|&b| if b.is_ascii() { char::from(b) } else { '?' });
                Self::Made(made.collect::<String>().into())
            }
        }
    }

    pub(super) fn whole(&self) -> &str {
        match self {
            Self::Read(bytes) => std::str::from_utf8(bytes).unwrap_or_default(),
            Self::Made(text) => text,
        }
    }

    /// A part of it, without a look at the rest.
    fn part(&self, range: std::ops::Range<usize>) -> Option<&str> {
        match self {
            Self::Read(bytes) => std::str::from_utf8(bytes.get(range)?).ok(),
            Self::Made(text) => text.get(range),
        }
    }
}

/// The argument that is a word, or else the first that holds it.
fn argument(d: &Directive, word: &str) -> Option<usize> {
    d.arguments().position(|a| a == word).or_else(|| d.arguments().position(|a| a.contains(word)))
}

impl Reader<'_, '_> {
    /// A finding without a place.
    pub(super) fn plain(&mut self, code: Code, depends_on: DependsOn, message: String, about: Option<About>) {
        self.out.add(ConfigFinding { depends_on, about, ..ConfigFinding::error(code, message) });
    }

    /// A finding about a directive, on the line that the daemon would blame.
    pub(super) fn find(
        &mut self,
        d: &Directive,
        code: Code,
        message: impl Into<String>,
    ) -> &mut ConfigFinding {
        self.out.add(ConfigFinding {
            place: Some(d.place.clone()),
            directive: Some(d.name().to_owned()),
            ..ConfigFinding::error(code, message)
        })
    }

    /// A finding about one word of a directive, which is marked if it stands on the line that the daemon
    /// would blame.
    pub(super) fn find_word(
        &mut self,
        d: &Directive,
        at: usize,
        code: Code,
        message: impl Into<String>,
    ) -> &mut ConfigFinding {
        let place = self.place_of(d, at).unwrap_or_else(|| d.place.clone());
        let found = self.find(d, code, message);
        found.place = Some(place);
        found
    }

    /// The same for the argument that is a word, or holds it.
    pub(super) fn find_of(
        &mut self,
        d: &Directive,
        word: &str,
        code: Code,
        message: impl Into<String>,
    ) -> &mut ConfigFinding {
        let place = self.place_at(d, word);
        let found = self.find(d, code, message);
        found.place = Some(place);
        found
    }

    /// Where the argument stands that is a word, or holds it; the directive where it stands on another line.
    pub(super) fn place_at(&self, d: &Directive, word: &str) -> Place {
        let at = argument(d, word);
        at.and_then(|at| self.place_of(d, at)).unwrap_or_else(|| d.place.clone())
    }

    fn place_of(&self, d: &Directive, at: usize) -> Option<Place> {
        let (name, word) = (d.words.first()?, d.words.get(at + 1)?);
        let text = self.texts.get(&*self.file)?;
        let before = text.part(name.start..word.start).filter(|t| d.place.column > 0 && !t.contains('\n'))?;
        let columns = |text: &str| u32::try_from(text.chars().count()).unwrap_or(0);
        let quotes = if matches!(text.part(word.start..word.start + 1), Some("\"" | "'")) { 2 } else { 0 };
        let column = d.place.column + columns(before);
        Some(Place { column, end_column: column + columns(&word.value) + quotes, ..d.place.clone() })
    }

    pub(super) fn warn(&mut self, d: &Directive, message: impl Into<String>) -> &mut ConfigFinding {
        let found = self.find(d, Code::ConfigWarning, message);
        found.severity = Severity::Warning;
        found
    }

    /// Whether a block of this context is open.
    pub(super) fn inside(&self, context: &str) -> bool {
        self.blocks.iter().any(|b| b.context == context)
    }
    /// A line of the file that is being read.
    pub(super) fn here(&self, line: u32) -> Place {
        Place { file: self.file.clone(), line, column: 0, end_column: 0 }
    }

    pub(super) fn block(&mut self) -> &mut Block {
        let last = self.blocks.len() - 1;
        &mut self.blocks[last]
    }

    /// A name as it is known where it stands: sections of streams know none of those of sites, and the
    /// other way round.
    pub(super) fn known_here(&self, name: &str) -> String {
        if self.context().starts_with("stream") { format!("stream {name}") } else { name.to_owned() }
    }

    pub(super) fn context(&self) -> &'static str {
        self.blocks.last().map_or("main", |b| b.context)
    }

    pub(super) fn span(&self, start: usize, end: usize) -> Span {
        Span { file: self.file.clone(), start, end }
    }
}

/// The section as a person would call it.
pub(super) fn section_name(context: &str) -> &str {
    match context {
        "main" => "the main context",
        "server-if" | "location-if" => "\"if\"",
        "limit" => "\"limit_except\"",
        "stream-server" => "\"server\" of stream",
        "stream-upstream" => "\"upstream\" of stream",
        "mail-server" => "\"server\" of mail",
        "any" => "any section",
        "http" => "\"http\"",
        "server" => "\"server\"",
        "location" => "\"location\"",
        "events" => "\"events\"",
        "upstream" => "\"upstream\"",
        "stream" => "\"stream\"",
        "mail" => "\"mail\"",
        other => other,
    }
}
