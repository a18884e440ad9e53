//! Made-up sites and engines, each from a number.

pub mod better;
pub mod copied;
pub mod dirty;
pub mod engines;
pub mod hidden;
pub mod learning;
pub mod site;
pub mod written;

/// A small random generator (SplitMix64; Steele, Lea and Flood 2014).
#[derive(Clone, Debug)]
pub struct Random(pub u64);

impl Random {
    pub fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A number below `limit`.
    pub fn below(&mut self, limit: usize) -> usize {
        (self.next() % limit.max(1) as u64) as usize
    }

    /// True once in `times`.
    pub fn once_in(&mut self, times: usize) -> bool {
        self.below(times) == 0
    }

    pub fn pick<'a, T: ?Sized>(&mut self, list: &[&'a T]) -> &'a T {
        list[self.below(list.len())]
    }
}
