//! Types of values, one file each. A type says whether a word is one of its kind, and in words what it
//! expects.
mod address;
mod amount;
mod int;
mod memory;
mod network;
mod size;
mod time;
mod words;

pub use amount::Amount;
pub use int::Int;
pub(super) use memory::bytes;
pub use size::Size;
pub use time::Time;

/// What a path is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PathUse {
    /// It is read at a start, and must be there.
    Read,
    /// It is written to.
    Write,
}

/// A type of values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Type {
    /// `on` or `off`, in letters of any case.
    Flag,
    /// `on`, `off`, `true`, `false`, `yes`, `no`, what begins one of them alone, `1` and `0`, in letters
    /// of any
    /// case.
    Truth,
    /// A whole number.
    Int(Int),
    /// A whole number of which the digits at the beginning count.
    Leading(Int),
    /// A number of bytes with a unit.
    Size(Size),
    /// A number of bytes, with `k`, `m`, `g` for thousands and `kb`, `mb`, `gb` for powers of two.
    Memory(Int),
    /// A number, whole or not, with a unit where it has one.
    Amount(Amount),
    /// A span of time.
    Time(Time),
    /// One of some words, in letters of any case.
    Enum(&'static [&'static str]),
    /// One of some words as they are written.
    Exact(&'static [&'static str]),
    /// A word that begins with one of these.
    Begins(&'static [&'static str]),
    /// Any of some words, in letters of any case.
    Set(&'static [&'static str]),
    /// Any of some words, each with `+` or `-` in front or none.
    Signed(&'static [&'static str]),
    /// An address or a network, or one of these words; one that ends in `:` begins a value.
    Network(&'static [&'static str]),
    /// An address of this host, with a port or without.
    Address,
    /// Anything, an empty word included.
    Str,
    /// Anything but an empty word.
    Word,
    /// A secret: it is shown to nobody.
    Secret,
    /// The rest of the line, which only the directive's own rule reads.
    Raw,
    /// Text that may hold variables.
    Template,
    /// Text with a variable.
    Variable,
    /// A regular expression.
    Regex,
    /// A file or directory.
    Path(PathUse),
}

impl Type {
    /// Whether a word is of this type.
    pub fn holds(self, word: &str) -> bool {
        match self {
            Self::Flag => words::is_one(&["on", "off"], word),
            Self::Truth => words::is_truth(word),
            Self::Int(int) => int.holds(word),
            Self::Leading(int) => int.holds_leading(word),
            Self::Size(size) => size.holds(word),
            Self::Memory(int) => memory::holds(int, word),
            Self::Amount(amount) => amount.holds(word),
            Self::Time(time) => time.holds(word),
            Self::Enum(all) | Self::Set(all) => words::is_one(all, word),
            Self::Exact(all) => all.contains(&word),
            Self::Begins(all) => all.iter().any(|begin| word.starts_with(begin)),
            Self::Signed(all) => words::is_one(all, word.strip_prefix(['+', '-']).unwrap_or(word)),
            Self::Network(more) => network::holds(word, more),
            Self::Address => address::holds(word),
            Self::Word => !word.is_empty(),
            Self::Variable => word.contains('$'),
            Self::Str | Self::Secret | Self::Raw | Self::Template | Self::Regex | Self::Path(_) => true,
        }
    }

    /// What it expects, in words.
    pub fn expected(self) -> String {
        match self {
            Self::Flag | Self::Truth => "on or off".into(),
            Self::Int(int) | Self::Leading(int) => int.expected(),
            Self::Size(size) => size.expected(),
            Self::Memory(int) => memory::expected(int),
            Self::Amount(amount) => amount.expected(),
            Self::Time(time) => time.expected().into(),
            Self::Enum(all) | Self::Exact(all) => words::listed(all, "or"),
            Self::Begins(all) => format!("a value that begins with {}", words::listed(all, "or")),
            Self::Set(all) | Self::Signed(all) => format!("some of {}", all.join(", ")),
            Self::Network(more) => network::expected(more),
            Self::Address => "an address".into(),
            Self::Word => "a value that is not empty".into(),
            Self::Variable => "a variable".into(),
            Self::Regex => "a regular expression".into(),
            Self::Path(_) => "a path".into(),
            Self::Str | Self::Secret | Self::Raw | Self::Template => "a value".into(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_of_their_type() {
        let cases: &[(Type, &[&str], &[&str])] = &[
            (Type::Flag, &["on", "OFF"], &["yes", "", "1"]),
            (Type::Truth, &["on", "T", "fal", "Y", "n", "of", "1"], &["o", "", "2", "offf", "00"]),
            (Type::Enum(&["ebb", "flood"]), &["ebb", "Flood"], &["", "eb"]),
            (Type::Exact(&["ebb"]), &["ebb"], &["Ebb"]),
            (Type::Begins(&["threads="]), &["threads=a"], &["threads", "a"]),
            (Type::Set(&["a", "b"]), &["A"], &["c"]),
            (Type::Signed(&["a"]), &["+a", "-A", "a"], &["+", "--a"]),
            (Type::Word, &["x"], &[""]),
            (Type::Str, &["", "x"], &[]),
            (Type::Variable, &["$x", "a${b}"], &["x"]),
        ];
        for (kind, good, bad) in cases {
            good.iter().for_each(|word| assert!(kind.holds(word), "{kind:?} {word}"));
            bad.iter().for_each(|word| assert!(!kind.holds(word), "{kind:?} {word}"));
            assert!(!kind.expected().is_empty());
        }
    }
}
