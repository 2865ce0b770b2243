//! Chance, from a seed.

/// A source of rng: SplitMix64, from a seed that nobody knows before the run.
#[derive(Debug)]
pub struct TestRng(u64);

impl TestRng {
    pub fn new(seed: u64) -> Self {
        Self(seed)
    }

    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    /// A number below `below`, which is above 0.
    pub fn below(&mut self, below: usize) -> usize {
        (self.next() % below.max(1) as u64) as usize
    }

    /// One of several, of which there must be one.
    pub fn pick<'a, T: ?Sized>(&mut self, from: &[&'a T]) -> &'a T {
        from[self.below(from.len())]
    }

    /// A text that cannot be guessed.
    pub fn mark(&mut self) -> String {
        format!("{:016x}{:016x}", self.next(), self.next())
    }
}
