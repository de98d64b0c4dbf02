//! Buffers of an answer that is passed on: how many, how large, and how much of them may be on the way.
//! The daemon compares them when `http` ends, for every server and location with what it inherits
//! (`ngx_http_proxy_merge_loc_conf` and its like).
use super::super::state::{BufferSize, Directive, Reader, Rule};
use super::common::push;
use crate::code::Code;
use crate::config::NameMap;
use crate::config::rows::Size;
use std::collections::{BTreeMap, BTreeSet};

pub(super) static RULE: Rule = Rule {
    names: &[
        "fastcgi_buffer_size",
        "fastcgi_buffers",
        "fastcgi_busy_buffers_size",
        "fastcgi_temp_file_write_size",
        "proxy_buffer_size",
        "proxy_buffers",
        "proxy_busy_buffers_size",
        "proxy_temp_file_write_size",
        "scgi_buffer_size",
        "scgi_buffers",
        "scgi_busy_buffers_size",
        "scgi_temp_file_write_size",
        "uwsgi_buffer_size",
        "uwsgi_buffers",
        "uwsgi_busy_buffers_size",
        "uwsgi_temp_file_write_size",
    ],
    check: |r, d, row| {
        if row.from.starts_with("ngx_http") {
            note(r, d, row.name);
        }
    },
};

/// The page of memory that the defaults are made of, in bytes.
const PAGE: i64 = 4096;
const SIZE: Size = Size { units: "km", least: None };

fn note(r: &mut Reader, d: &Directive, name: &'static str) {
    let Some((passer, what)) = name.split_once('_') else { return };
    let last = d.words.last().map_or("", |w| w.value.as_ref());
    let Some(bytes) = SIZE.bytes(last) else { return };
    let count = d.argument(0).parse().unwrap_or(0);
    let block = r.block().number;
    r.facts.buffers.push(BufferSize { block, passer, what, bytes, count });
}

/// What is noted of one kind of buffers in one block: bytes and number of each, in the order of `SETTINGS`.
type Noted = [Option<(i64, i64)>; 4];
const SETTINGS: [&str; 4] = ["buffer_size", "buffers", "busy_buffers_size", "temp_file_write_size"];

/// What one kind of buffers comes to in a block, which is the first of those that it inherits from.
fn fault<'n>(chain: impl Iterator<Item = &'n Noted>, passer: &str) -> Option<String> {
    let mut found = Noted::default();
    for noted in chain {
        found.iter_mut().zip(noted).for_each(|(have, here)| *have = have.or(*here));
    }
    let of = |what: &str| SETTINGS.iter().position(|s| *s == what).and_then(|at| found[at]);
    let single = of("buffer_size").map_or(PAGE, |(bytes, _)| bytes);
    let (each, count) = of("buffers").unwrap_or((PAGE, 8));
    let largest = single.max(each);
    let most = (count - 1).saturating_mul(each);
    if count < 2 {
        return Some(format!("{passer}_buffers must be at least 2"));
    }
    let busy = of("busy_buffers_size").map_or(largest.saturating_mul(2), |(bytes, _)| bytes);
    let written = of("temp_file_write_size").map_or(largest.saturating_mul(2), |(bytes, _)| bytes);
    for (name, bytes) in [("busy_buffers_size", busy), ("temp_file_write_size", written)] {
        if bytes < largest {
            return Some(format!(
                "{passer}_{name} is {bytes} bytes, expected at least {largest}: the largest of \
                    {passer}_buffer_size and of one of {passer}_buffers"
            ));
        }
        if name == "busy_buffers_size" && busy > most {
            return Some(format!(
                "{passer}_busy_buffers_size is {busy} bytes (without a line of its own, twice the largest \
                    buffer), expected at most {most}: all {passer}_buffers but one"
            ));
        }
    }
    None
}

/// Compares them, when everything is read.
pub(in super::super) fn finish(r: &mut Reader) {
    let noted = std::mem::take(&mut r.facts.buffers);
    if noted.is_empty() {
        return;
    }
    // The block around each inner one, by its number; 0 for one that is none.
    let most = r.facts.inner.iter().map(|(block, _)| *block as usize).max().unwrap_or(0);
    let mut around = vec![0; most + 1];
    r.facts.inner.iter().for_each(|(block, outer)| around[*block as usize] = *outer);
    let outer = |block: u32| around.get(block as usize).copied().filter(|outer| *outer != 0);
    let passers: Vec<&str> = ["proxy", "fastcgi", "scgi", "uwsgi"]
        .into_iter()
        .filter(|p| noted.iter().any(|b| b.passer == *p))
        .collect();
    for passer in passers {
        let mut all: NameMap<u32, Noted> = NameMap::default();
        for own in noted.iter().filter(|b| b.passer == passer) {
            if let Some(at) = SETTINGS.iter().position(|s| *s == own.what) {
                all.entry(own.block).or_default()[at] = Some((own.bytes, own.count));
            }
        }
        let mut told = BTreeSet::new();
        // A block without settings of its own comes to what the block around it does; of those that stand in
        // the same one, which is no inner block itself, one tells.
        let mut plain = BTreeMap::new();
        for (block, of) in r.facts.inner.iter().filter(|(b, of)| outer(*of).is_none() && !all.contains_key(b))
        {
            plain.entry(*of).or_insert(*block);
        }
        let own = all.keys().copied().filter(|block| outer(*block).is_some());
        for block in own.chain(plain.into_values()) {
            let chain = std::iter::successors(Some(block), |b| outer(*b));
            if let Some(message) = fault(chain.filter_map(|b| all.get(&b)), passer) {
                told.insert(message);
            }
        }
        for message in told {
            let place = r.facts.http_end.clone();
            push(r, Code::ConfigBadValue, place, &format!("{passer}_buffers"), message);
        }
    }
}
