//! Which location answers, by nginx's order: an exact name; the longest beginning; then patterns in their
//! order, unless that beginning forbids it; each with what is nested in it (`ngx_http_core_find_location`).
use super::state::{Unknown, shown};
use crate::route::{Files, Groups, Node};

/// What a location says of the paths it is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Shape<'a> {
    /// `=`: this very path.
    Exact(&'a str),
    /// Paths that begin so; with `^~` no pattern is asked any more.
    Begins(&'a str, bool),
    /// `~` and `~*`: paths that the pattern fits; whether capital letters make no difference.
    Fits(&'a str, bool),
    /// `@NAME`, which only the daemon itself leads to.
    Named(&'a str),
}

impl<'a> Shape<'a> {
    pub(super) fn of(node: &'a Node) -> Self {
        let (sign, name) = match node.words.as_slice() {
            [sign, name] => (sign.as_str(), name.as_str()),
            [only] => {
                let sign = ["=", "^~", "~*", "~"].into_iter().find(|s| only.starts_with(s)).unwrap_or("");
                (sign, &only[sign.len()..])
            }
            _ => ("", ""),
        };
        match sign {
            "=" => Self::Exact(name),
            "^~" => Self::Begins(name, true),
            "~" => Self::Fits(name, false),
            "~*" => Self::Fits(name, true),
            _ if name.starts_with('@') => Self::Named(name),
            _ => Self::Begins(name, false),
        }
    }

    /// The name that a path begins with, where the location has one.
    pub(super) fn name(self) -> Option<&'a str> {
        match self {
            Self::Exact(name) | Self::Begins(name, _) => Some(name),
            Self::Fits(..) | Self::Named(_) => None,
        }
    }
}

/// How a search ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Hit {
    /// Decided.
    Decided,
    /// The path lacks the slash at its end that the location has, which passes on: the client is sent there.
    Slash,
    /// A beginning fits; patterns further out may still decide.
    Beginning,
    /// Nothing fits.
    Nothing,
}

/// The directives that pass a request on.
pub(super) const PASSES: &[&str] =
    &["proxy_pass", "fastcgi_pass", "uwsgi_pass", "scgi_pass", "grpc_pass", "memcached_pass"];

/// The locations that answer a path, the outermost first, among those inside a block.
pub(super) fn find<'a>(
    level: &'a Node,
    path: &str,
    files: &Files,
    groups: &mut Groups,
) -> Result<(Vec<&'a Node>, Hit), Unknown> {
    let shaped: Vec<(&Node, Shape)> = level.all("location").map(|node| (node, Shape::of(node))).collect();
    if let Some((node, _)) = shaped.iter().find(|(_, shape)| *shape == Shape::Exact(path)) {
        return Ok((vec![*node], Hit::Decided));
    }
    let mut best: Option<(&Node, &str, bool)> = None;
    for (node, shape) in &shaped {
        if let Shape::Begins(name, last) = *shape
            && path.starts_with(name)
            && best.is_none_or(|(_, known, _)| name.len() > known.len())
        {
            best = Some((*node, name, last));
        }
    }
    // Only where no beginning is the whole path.
    if best.is_none_or(|(_, name, _)| name.len() < path.len()) {
        let passes = |node: &Node| PASSES.iter().any(|name| node.one(name).is_some());
        let slash = shaped.iter().find(|(node, shape)| {
            shape.name().and_then(|n| n.strip_suffix('/')) == Some(path) && passes(node)
        });
        if let Some((node, _)) = slash {
            return Ok((vec![*node], Hit::Slash));
        }
    }
    let (mut found, mut hit, mut ask) = (Vec::new(), Hit::Nothing, true);
    if let Some((node, _, last)) = best {
        let (deeper, inner) = find(node, path, files, groups)?;
        found.push(node);
        found.extend(deeper);
        if matches!(inner, Hit::Decided | Hit::Slash) {
            return Ok((found, inner));
        }
        (hit, ask) = (Hit::Beginning, !last);
    }
    for (node, shape) in shaped.iter().filter(|_| ask) {
        if let Shape::Fits(text, caseless) = *shape
            && files.fits(text, caseless, path, groups).ok_or_else(|| untried(node))?
        {
            let (deeper, _) = find(node, path, files, groups)?;
            let all = std::iter::once(*node).chain(deeper).collect();
            return Ok((all, Hit::Decided));
        }
    }
    Ok((found, hit))
}

fn untried(node: &Node) -> Unknown {
    Unknown(format!("the pattern of {}", shown(node)))
}
