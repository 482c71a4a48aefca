//! Recovery codes: passphrases made to be written down and typed in again.
//!
//! A code has 120 random bits as six groups of five characters of Crockford's base 32; the last of each
//! group checks the four before it and the number of the group, so that a slip is told by its group.

use zeroize::{Zeroize, ZeroizeOnDrop, Zeroizing};

use crate::{error::Result, format::ids::random};

const ALPHABET: &[u8; 32] = b"0123456789ABCDEFGHJKMNPQRSTVWXYZ";
const GROUPS: usize = 6;
/// Characters of a group, the last of which is its check.
const LENGTH: usize = 5;
/// With so many groups right it is a code that was mistyped, and no other passphrase.
const TELLING: usize = 3;

/// A recovery code.
#[derive(Clone, PartialEq, Eq, Zeroize, ZeroizeOnDrop)]
pub struct RecoveryCode([u8; GROUPS * LENGTH]);

/// What somebody has typed.
#[derive(Debug, PartialEq, Eq)]
pub enum Typed {
    /// A recovery code, however it was written.
    Code(RecoveryCode),
    /// A recovery code with slips in these groups, counted from 1.
    Mistyped(Vec<usize>),
    /// Another passphrase.
    Other,
}

impl std::fmt::Debug for RecoveryCode {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("RecoveryCode(…)")
    }
}

/// Multiplies in the field of 32 elements (modulo x⁵ + x² + 1).
fn times(a: u8, b: u8) -> u8 {
    let (mut a, mut product) = (a, 0);
    for bit in 0..5 {
        if b >> bit & 1 == 1 {
            product ^= a;
        }
        a <<= 1;
        if a & 32 != 0 {
            a ^= 0b10_0101;
        }
    }
    product
}

/// The check of a group: any one wrong character, and any two that are swapped, change it.
fn check(group: usize, values: &[u8]) -> u8 {
    let (mut sum, mut factor) = (times(group as u8 + 1, 31), 2);
    for value in values {
        sum ^= times(*value, factor);
        factor = times(factor, 2);
    }
    sum
}

/// The value of a character as people write it.
fn value(character: u8) -> Option<u8> {
    let character = match character.to_ascii_uppercase() {
        b'O' => b'0',
        b'I' | b'L' => b'1',
        other => other,
    };
    ALPHABET.iter().position(|known| *known == character).map(|at| at as u8)
}

impl RecoveryCode {
    /// A new one.
    ///
    /// # Errors
    /// If the system has no random numbers.
    pub fn new() -> Result<Self> {
        let random = Zeroizing::new(random::<{ GROUPS * (LENGTH - 1) }>()?);
        let mut values = [0; GROUPS * LENGTH];
        for (number, group) in values.chunks_mut(LENGTH).enumerate() {
            for (at, value) in group[..LENGTH - 1].iter_mut().enumerate() {
                *value = random[number * (LENGTH - 1) + at] & 31;
            }
            group[LENGTH - 1] = check(number, &group[..LENGTH - 1]);
        }
        Ok(Self(values))
    }

    /// What somebody has typed: in capitals or not, with any blanks and dashes, with letters for the
    /// digits they look like.
    #[must_use]
    pub fn read(typed: &[u8]) -> Typed {
        let written = typed.iter().filter(|byte| !matches!(byte, b' ' | b'-' | b'\t'));
        let values: Option<Vec<u8>> = written.map(|byte| value(*byte)).collect();
        let values = values.map(Zeroizing::new);
        let values = values.and_then(|values| <[u8; GROUPS * LENGTH]>::try_from(&**values).ok());
        let Some(values) = values else { return Typed::Other };
        let groups = values.chunks(LENGTH).enumerate();
        let is_wrong = |(number, group): &(usize, &[u8])| {
            check(*number, &group[..LENGTH - 1]) != group[LENGTH - 1]
        };
        let wrong: Vec<usize> = groups.filter(is_wrong).map(|(number, _)| number + 1).collect();
        match wrong.len() {
            0 => Typed::Code(Self(values)),
            few if GROUPS - few >= TELLING => Typed::Mistyped(wrong),
            _ => Typed::Other,
        }
    }

    /// As it is written, and as it is stretched: capitals, with dashes between the groups.
    #[must_use]
    pub fn text(&self) -> Zeroizing<String> {
        let mut text = Zeroizing::new(String::with_capacity(GROUPS * (LENGTH + 1)));
        for (number, group) in self.0.chunks(LENGTH).enumerate() {
            if number > 0 {
                text.push('-');
            }
            text.extend(group.iter().map(|value| char::from(ALPHABET[usize::from(*value)])));
        }
        text
    }
}

/// A passphrase as it is stretched: of a recovery code there is only one form.
pub(crate) fn canonical(typed: &[u8]) -> Zeroizing<Vec<u8>> {
    match RecoveryCode::read(typed) {
        Typed::Code(code) => Zeroizing::new(code.text().as_bytes().to_vec()),
        Typed::Mistyped(_) | Typed::Other => Zeroizing::new(typed.to_vec()),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn codes_differ_and_other_passphrases_are_none() {
        let (one, other) = (RecoveryCode::new().expect("a code"), RecoveryCode::new());
        assert_ne!(one, other.expect("another"));
        assert_eq!(one.text().len(), 35);
        for passphrase in ["terns over the pier", "", "00000-00000-00000-00000-00000-00000"] {
            assert_eq!(RecoveryCode::read(passphrase.as_bytes()), Typed::Other, "{passphrase}");
            assert_eq!(*canonical(passphrase.as_bytes()), passphrase.as_bytes());
        }
    }

    proptest! {
        #[test]
        fn a_code_is_read_however_it_is_written(
            lower in any::<bool>(), blanks in any::<bool>(), letters in any::<bool>(),
        ) {
            let code = RecoveryCode::new().expect("a code");
            let mut text = code.text().to_string();
            if letters {
                text = text.replace('0', "o").replace('1', "L");
            }
            if lower {
                text = text.to_lowercase();
            }
            text = if blanks { text.replace('-', " ") } else { text.replace('-', "") };
            prop_assert_eq!(RecoveryCode::read(text.as_bytes()), Typed::Code(code.clone()));
            let (plain, stretched) = (code.text(), canonical(text.as_bytes()));
            prop_assert_eq!(stretched.as_slice(), plain.as_bytes());
        }

        /// One wrong character, or two that were swapped, are told by their group.
        #[test]
        fn a_slip_is_told_by_its_group(at in 0usize..30, by in 1u8..32, swaps in any::<bool>()) {
            let code = RecoveryCode::new().expect("a code");
            let mut slipped = code.clone();
            if swaps {
                let next = if at % LENGTH == LENGTH - 1 { at - 1 } else { at + 1 };
                slipped.0.swap(at, next);
            } else {
                slipped.0[at] ^= by;
            }
            prop_assume!(slipped != code);
            let told = RecoveryCode::read(slipped.text().as_bytes());
            prop_assert_eq!(told, Typed::Mistyped(vec![at / LENGTH + 1]));
        }
    }
}
