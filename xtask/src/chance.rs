//! Numbers by chance that come again with the same seed.

/// A generator (xorshift).
pub(crate) struct Chance(u64);

impl Chance {
    /// From a seed.
    pub(crate) fn new(seed: u64) -> Self {
        Self(seed | 1)
    }
    /// A number below a limit; 0 where the limit is 0.
    pub(crate) fn below(&mut self, limit: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        usize::try_from(self.0 >> 11).unwrap_or(0) % limit.max(1)
    }
}
