//! FastCGI (specification 1.0): a server is asked for its own values, which starts no script.
use crate::connection::{Target, exchange};
use std::io::Result;
use std::time::Duration;

/// `FCGI_GET_VALUES` without any name: version 1, type 9, request 0, no content.
const GET_VALUES: &[u8] = &[1, 9, 0, 0, 0, 0, 0, 0];

/// Whether a head is that of an answer to it: the values, or that this type is not known (10, 11).
pub(crate) fn answers(head: &[u8]) -> bool {
    matches!(head, [1, 10 | 11, 0, 0, ..])
}

/// Whether it answers.
///
/// # Errors
/// It does not, or in another protocol.
pub(crate) fn greet(target: Target, patience: Duration) -> Result<()> {
    exchange(target, patience, GET_VALUES, 8, answers, "it does not speak FastCGI")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_is_told_by_its_head() {
        assert!(answers(&[1, 10, 0, 0, 0, 0, 0, 0]) && answers(&[1, 11, 0, 0, 0, 8, 0, 0]));
        assert!(!answers(b"HTTP/1.1") && !answers(&[1, 6, 0, 1, 0, 0, 0, 0]) && !answers(&[1, 10, 0]));
    }
}
