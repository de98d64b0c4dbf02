//! Tables of counters, and what is looked up in them (stick_table.c).
use super::acl::Wrong;
use super::samples::{Reference, Refers, places};
use super::state::{At, Named, Reader};
use super::tokens::Words;
use super::values::{self, Unit};

/// What a table of counters can store.
const STORES: &[&str] = &[
    "server_id",
    "gpt",
    "gpt0",
    "gpc",
    "gpc_rate",
    "gpc0",
    "gpc0_rate",
    "gpc1",
    "gpc1_rate",
    "conn_cnt",
    "conn_rate",
    "conn_cur",
    "sess_cnt",
    "sess_rate",
    "http_req_cnt",
    "http_req_rate",
    "http_err_cnt",
    "http_err_rate",
    "http_fail_cnt",
    "http_fail_rate",
    "bytes_in_cnt",
    "bytes_in_rate",
    "bytes_out_cnt",
    "bytes_out_rate",
    "server_key",
    "glitch_cnt",
    "glitch_rate",
];

type Read = Result<(), Wrong>;

/// `stick-table type … size …`; the section of peers that it names.
pub(super) fn table<'w>(words: Words<'w, '_>, from: usize, in_peers: bool) -> Result<Option<&'w str>, Wrong> {
    let (mut sized, mut typed, mut peers) = (false, false, None);
    let mut at = from;
    while at < words.len() {
        let (name, value) = (words.at(at), words.at(at + 1));
        let needs = !matches!(name, "nopurge" | "write-to");
        if needs
            && value.is_empty()
            && matches!(name, "size" | "peers" | "expire" | "type" | "store" | "srvkey")
        {
            return Err(Wrong::new(at, format!("{name} needs a value")));
        }
        match name {
            "size" if values::is_size(value) => sized = values::leading(value) > 0,
            "size" => return Err(Wrong::new(at + 1, format!("\"{value}\" is not a number of entries"))),
            "peers" if !in_peers => peers = Some(value),
            "expire" => values::time(value, Unit::Milliseconds).map_err(|why| Wrong::new(at + 1, why))?,
            "type" => {
                typed = true;
                if !matches!(value, "ip" | "ipv6" | "integer" | "string" | "binary") {
                    return Err(Wrong::new(at + 1, format!("\"{value}\" is not a type of keys")));
                }
                if matches!(value, "string" | "binary") && words.at(at + 2) == "len" {
                    if values::leading(words.at(at + 3)) <= 0 {
                        return Err(Wrong::new(at + 3, "the length of keys is a number from 1 on"));
                    }
                    at += 2;
                }
            }
            "store" => stores(value).map_err(|why| Wrong::new(at + 1, why))?,
            "srvkey" if matches!(value, "name" | "addr") => {}
            "srvkey" => {
                return Err(Wrong::new(
                    at + 1,
                    format!("\"{value}\" is not a key of servers, expected name or addr"),
                ));
            }
            "nopurge" => {
                at += 1;
                continue;
            }
            "write-to" | "recv-only" => {}
            other => return Err(Wrong::new(at, format!("{other} is not an option of a table"))),
        }
        at += 2;
    }
    if !sized {
        return Err(Wrong::new(0, "a table needs a size"));
    }
    if !typed {
        return Err(Wrong::new(0, "a table needs a type"));
    }
    Ok(peers)
}

/// Names between commas outside of brackets.
fn split(list: &str) -> Vec<&str> {
    let (mut parts, mut depth, mut start) = (Vec::new(), 0, 0);
    for (at, c) in list.char_indices() {
        match c {
            '(' => depth += 1,
            ')' => depth -= 1,
            ',' if depth == 0 => {
                parts.push(&list[start..at]);
                start = at + 1;
            }
            _ => {}
        }
    }
    parts.push(&list[start..]);
    parts
}

fn stores(list: &str) -> Result<(), String> {
    let parts = split(list);
    let mut names = Vec::new();
    for part in parts.iter().filter(|p| !p.is_empty()) {
        let (name, inside) = match part.split_once('(') {
            Some((name, rest)) => match rest.strip_suffix(')') {
                Some(inside) => (name, Some(inside)),
                None => return Err(format!("a bracket of {part} is not closed")),
            },
            None => (*part, None),
        };
        if !STORES.contains(&name) {
            return Err(format!("\"{name}\" cannot be stored in a table"));
        }
        let arrays = matches!(name, "gpt" | "gpc" | "gpc_rate");
        match inside {
            None if name.ends_with("_rate") || arrays => {
                return Err(format!(
                    "{name} needs {} in brackets",
                    if arrays { "a size" } else { "a period" }
                ));
            }
            Some(period) if name.ends_with("_rate") => {
                let period = period.rsplit(',').next().unwrap_or("");
                values::time(period, Unit::Milliseconds)?;
            }
            Some(size) if arrays && !(1..=100).contains(&values::leading(size)) => {
                return Err(format!("{name} has 1 to 100 places"));
            }
            Some(_) if !arrays => return Err(format!("{name} takes nothing in brackets")),
            _ => {}
        }
        names.push(name);
    }
    let has = |name: &str| names.contains(&name);
    if has("gpt") && has("gpt0") || has("gpc") && (has("gpc0") || has("gpc1")) {
        return Err("a table stores arrays or single places, not both".to_owned());
    }
    Ok(())
}

/// `stick-table …` of a section.
pub(super) fn own(reader: &mut Reader, n: usize, at: At) -> Read {
    let name = reader.proxies[n].name.clone();
    if let Some(first) = reader.tables.get(&name) {
        return Err(Wrong::new(0, format!("a table has this name already (line {first})")));
    }
    let place = at.place(0);
    let peers = table(Words(at.words), 1, false)?;
    let peers = peers.map(|name| Named { name: name.to_owned(), place: place.clone() });
    reader.tables.insert(name, place.line);
    reader.proxies[n].table = true;
    reader.proxies[n].peers = peers;
    Ok(())
}

/// `stick on|match|store…  SAMPLE [table T] [if …]`.
pub(super) fn stick(reader: &mut Reader, at: At) -> Read {
    let words = Words(at.words);
    let known = reader.known();
    let mut next = 2;
    let place = match words.at(1) {
        "on" | "match" | "store" | "store-request" => places::SET_SERVER,
        "store-response" => places::STORE,
        other => {
            return Err(Wrong::new(
                1.min(words.len() - 1),
                format!("\"{other}\" is not allowed here, expected on, match or store"),
            ));
        }
    };
    if words.at(2).is_empty() {
        return Err(Wrong::new(1, "a sample must be named"));
    }
    let sample = known.expression(words, &mut next).map_err(|why| Wrong::new(2, why))?;
    if sample.places & place == 0 {
        return Err(Wrong::new(2, format!("{} cannot be known here", sample.name)));
    }
    reader.note(at, sample.refers);
    let mut table = String::new();
    if words.at(next) == "table" {
        table = words.at(next + 1).to_owned();
        next += 2;
    }
    let to = Refers::Table;
    reader.note(at, vec![Reference { to, name: table }]);
    match words.at(next) {
        "" => Ok(()),
        "if" | "unless" => super::proxies::condition(reader, at, next),
        other => Err(Wrong::new(next, format!("{other} is not allowed here"))),
    }
}
