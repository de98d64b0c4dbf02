//! AJP 1.3, the protocol between web servers and servlet containers: a ping, which touches no page.
use crate::connection::{Target, exchange};
use std::io::Result;
use std::time::Duration;

/// `CPing`: the sign of the web server, one byte of content, type 10.
const PING: &[u8] = &[0x12, 0x34, 0, 1, 10];

/// Whether these bytes are `CPong`: the sign of the container, one byte of content, type 9.
pub(crate) fn answers(bytes: &[u8]) -> bool {
    bytes == [b'A', b'B', 0, 1, 9]
}

/// Whether it answers.
///
/// # Errors
/// It does not, or in another protocol.
pub(crate) fn greet(target: Target, patience: Duration) -> Result<()> {
    exchange(target, patience, PING, 5, answers, "it does not speak AJP")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pong_is_five_bytes() {
        assert!(answers(b"AB\0\x01\x09"));
        assert!(!answers(b"AB\0\x01") && !answers(b"AB\0\x01\x0a") && !answers(b"HTTP/"));
    }
}
