//! What haproxy answers by itself: replies with a body of its own, and redirects (http_htx.c, http_rules.c).
use super::super::acl::Wrong;
use super::super::samples::{Reference, Refers};
use super::super::values;
use super::{Read, Rule, Stage};

impl Rule<'_, '_, '_> {
    /// A reply of haproxy's own.
    pub(super) fn reply(&mut self, denies: bool) -> Read {
        let action = self.at - 1;
        let mut body: Option<&'static str> = None;
        let mut typed = false;
        let mut status: Option<i64> = None;
        while !self.words.ends(self.at) {
            let word = self.word().to_owned();
            let value_at = self.at + 1;
            let value = self.words.at(value_at).to_owned();
            let payloads =
                ["errorfiles", "default-errorfiles", "errorfile", "file", "string", "lf-file", "lf-string"];
            if let Some(kind) = payloads.iter().find(|k| **k == word) {
                if let Some(before) = body {
                    return Err(self.wrong(format!("{word} cannot be combined with {before}")));
                }
                body = Some(kind);
                if *kind == "default-errorfiles" {
                    self.at += 1;
                    continue;
                }
                if value.is_empty() {
                    return Err(self.wrong(format!("{word} needs a value")));
                }
                self.at += 1;
                match *kind {
                    "lf-string" => {
                        self.format()?;
                        continue;
                    }
                    "errorfile" | "file" | "lf-file" => {
                        self.refers.push(Reference { to: Refers::File, name: value });
                    }
                    _ => {}
                }
                self.at += 1;
                continue;
            }
            match word.as_str() {
                "status" | "deny_status" if word == "status" || denies => {
                    let code = values::leading(&value);
                    if !(200..=599).contains(&code) || value.is_empty() {
                        return Err(Wrong::new(value_at, "a status is a number from 200 to 599"));
                    }
                    status = Some(code);
                    self.at += 2;
                }
                "content-type" => {
                    if value.is_empty() {
                        return Err(self.wrong("content-type needs a value"));
                    }
                    typed = true;
                    self.at += 2;
                }
                "hdr" => {
                    if value.is_empty() || self.words.at(self.at + 2).is_empty() {
                        return Err(self.wrong("hdr needs a name and a value"));
                    }
                    self.at += 2;
                    self.format()?;
                }
                other => {
                    return Err(self.wrong(format!("{other} is not allowed in a reply")));
                }
            }
        }
        let own = matches!(body, Some("file" | "string" | "lf-file" | "lf-string"));
        if own && !typed {
            return Err(Wrong::new(action, "a reply with a body needs a content-type"));
        }
        if own && matches!(status, Some(204 | 304)) {
            return Err(Wrong::new(action, "a reply of this status has no body"));
        }
        Ok(())
    }

    pub(super) fn redirect(&mut self) -> Read {
        let mut kind: Option<String> = None;
        let mut target = None;
        while !self.words.ends(self.at) {
            let word = self.word().to_owned();
            match word.as_str() {
                "drop-query" | "append-slash" | "ignore-empty" => {
                    self.at += 1;
                    continue;
                }
                "location" | "prefix" | "scheme" | "set-cookie" | "clear-cookie" | "code" => {}
                other => return Err(self.wrong(format!("{other} is not allowed in a redirect"))),
            }
            let value = self.words.at(self.at + 1);
            if value.is_empty() {
                return Err(self.wrong(format!("{word} needs a value")));
            }
            if word == "code" && !matches!(values::leading(value), 301..=303 | 307 | 308) {
                return Err(Wrong::new(self.at + 1, format!("{value} is not a status of a redirect")));
            }
            if matches!(word.as_str(), "location" | "prefix" | "scheme") {
                target = Some(self.at + 1);
                kind = Some(word);
            }
            self.at += 2;
        }
        let Some(kind) = kind else {
            return Err(Wrong::new(
                self.at.saturating_sub(1),
                "a redirect needs a location, prefix or scheme",
            ));
        };
        if self.stage == Stage::Response && kind != "location" {
            return Err(Wrong::new(self.at.saturating_sub(1), "a response can only be sent to a location"));
        }
        if let Some(target) = target.filter(|at| kind != "prefix" || self.words.at(*at) != "/") {
            let behind = std::mem::replace(&mut self.at, target);
            self.format()?;
            self.at = behind;
        }
        Ok(())
    }
}
