//! Numbers from a seed.

/// A generator of numbers that are the same in every run (xorshift64*).
#[derive(Debug, Clone)]
pub struct Dice(u64);

impl Dice {
    /// The numbers for one object: a seed, and the key of the object.
    #[must_use]
    pub fn of(seed: u64, thing: &[u64]) -> Self {
        let mixed = thing.iter().fold(seed ^ 0x9e37_79b9_7f4a_7c15, |state, part| {
            (state ^ part).wrapping_mul(0xff51_afd7_ed55_8ccd).rotate_left(31)
        });
        let mut dice = Self(mixed | 1);
        for _ in 0..4 {
            dice.next();
        }
        dice
    }

    /// The same for a thing that has a name.
    #[must_use]
    pub fn named(seed: u64, number: u64, name: &str) -> Self {
        let name = name.bytes().fold(0xcbf2_9ce4_8422_2325, |state: u64, byte| {
            (state ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
        });
        Self::of(seed, &[number, name])
    }

    fn next(&mut self) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_f491_4f6c_dd1d)
    }

    /// A number below `end`, which is at least one.
    pub fn below(&mut self, end: u64) -> u64 {
        (self.next() >> 16) % end
    }

    /// This number of characters of an alphabet.
    pub fn text(&mut self, alphabet: &[u8], length: usize) -> String {
        (0..length).map(|_| char::from(alphabet[self.below(alphabet.len() as u64) as usize])).collect()
    }

    /// This number of bytes.
    pub fn bytes(&mut self, length: usize) -> Vec<u8> {
        (0..length).map(|_| self.below(256) as u8).collect()
    }
}
