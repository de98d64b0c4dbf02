//! Buffers of an answer that is passed on: how many, how large, and how much of them may be on the way.
//! The daemon compares them when `http` ends, for every server and location with what it inherits
//! (`ngx_http_proxy_merge_loc_conf` and its like).
use super::super::state::{BufferSize, Directive, Reader, Rule};
use super::common::push;
use crate::code::Code;
use crate::config::rows::Size;
use std::collections::{BTreeSet, HashMap};

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

/// What one kind of buffers comes to in a block.
fn fault(all: &HashMap<(u32, &str), (i64, i64)>, chain: &[u32], passer: &str) -> Option<String> {
    let of = |what: &str| chain.iter().find_map(|block| all.get(&(*block, what)).copied());
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
                "{passer}_{name} is {bytes} bytes, expected at least {largest}: the largest of {passer}_buffer_size \
                    and of one of {passer}_buffers"
            ));
        }
        if name == "busy_buffers_size" && busy > most {
            return Some(format!(
                "{passer}_busy_buffers_size is {busy} bytes (without a line of its own, twice the largest buffer), \
                    expected at most {most}: all {passer}_buffers but one"
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
    let parents: HashMap<u32, u32> = r.facts.inner.iter().copied().collect();
    let passers: Vec<&str> = ["proxy", "fastcgi", "scgi", "uwsgi"]
        .into_iter()
        .filter(|p| noted.iter().any(|b| b.passer == *p))
        .collect();
    for passer in passers {
        let own = noted.iter().filter(|b| b.passer == passer);
        let all: HashMap<(u32, &str), (i64, i64)> =
            own.map(|b| ((b.block, b.what), (b.bytes, b.count))).collect();
        let mut told = BTreeSet::new();
        for (block, _) in &r.facts.inner {
            let chain: Vec<u32> = std::iter::successors(Some(*block), |b| parents.get(b).copied()).collect();
            if let Some(message) = fault(&all, &chain, passer) {
                told.insert(message);
            }
        }
        for message in told {
            let place = r.facts.http_end.clone();
            push(r, Code::ConfigBadValue, place, &format!("{passer}_buffers"), message);
        }
    }
}
