//! Sets of numbers as bits, 64 in a word: counting and listing them.

/// Word `w` of a row moved down by one number.
pub(super) fn shifted(row: &[u64], w: usize) -> u64 {
    row[w] >> 1 | row.get(w + 1).copied().unwrap_or(0) << 63
}

/// Numbers held before each word, and all of them at the end.
pub(super) fn ranks(words: impl Iterator<Item = u64>) -> Vec<u32> {
    let mut out = vec![0];
    out.extend(words.scan(0, |total, w| {
        *total += w.count_ones();
        Some(*total)
    }));
    out
}

/// Numbers held before number `bit` of a word, `before` of them before the word.
#[inline(always)]
pub(super) fn rank(before: u32, word: u64, bit: u32) -> usize {
    (before + (word & !(!0 << bit)).count_ones()) as usize
}

/// The bits of a word that `mask` picks, side by side from the lowest on.
#[inline(always)]
#[allow(unsafe_code, reason = "the instruction has no safe name")]
pub(super) fn gathered(word: u64, mask: u64) -> u64 {
    #[cfg(all(target_arch = "x86_64", target_feature = "bmi2"))]
    // SAFETY: the processor has the instruction, for the whole program is compiled for those that
    // do.
    return unsafe { std::arch::x86_64::_pext_u64(word, mask) };
    #[cfg(not(all(target_arch = "x86_64", target_feature = "bmi2")))]
    return gathered_one_by_one(word, mask);
}

/// [`gathered`] where the processor cannot.
#[cfg(any(test, not(all(target_arch = "x86_64", target_feature = "bmi2"))))]
fn gathered_one_by_one(word: u64, mut mask: u64) -> u64 {
    let mut out = 0;
    for place in 0..mask.count_ones() {
        out |= (word >> mask.trailing_zeros() & 1) << place;
        mask &= mask - 1;
    }
    out
}

/// Bit `b` of byte `a` as bit `a` of byte `b` (Warren, Hacker's Delight, 2013).
#[inline(always)]
pub(super) fn transposed(bytes: [u8; 8]) -> [u8; 8] {
    let mut x = u64::from_le_bytes(bytes);
    for (apart, mask) in
        [(7, 0x00AA_00AA_00AA_00AA), (14, 0x0000_CCCC_0000_CCCC), (28, 0x0000_0000_F0F0_F0F0)]
    {
        let change = (x ^ x >> apart) & mask;
        x ^= change ^ change << apart;
    }
    x.to_le_bytes()
}

/// The numbers held, in order.
pub(super) fn numbers(words: &[u64]) -> Vec<u32> {
    let of_word = |(w, &word): (usize, &u64)| {
        let next = |m: &u64| Some(m & (m - 1)).filter(|&rest| rest != 0);
        let rest = Some(word).filter(|&m| m != 0);
        std::iter::successors(rest, next).map(move |m| 64 * w as u32 + m.trailing_zeros())
    };
    words.iter().enumerate().flat_map(of_word).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn bits_are_gathered_and_transposed(word in any::<u64>(), mask in any::<u64>(), bytes in any::<[u8; 8]>()) {
            prop_assert_eq!(gathered(word, mask), gathered_one_by_one(word, mask));
            let picked: Vec<u64> = (0..64).filter(|b| mask >> b & 1 == 1).map(|b| word >> b & 1).collect();
            prop_assert!((0..64).all(|n| gathered(word, mask) >> n & 1 == picked.get(n).copied().unwrap_or(0)));
            let turned = transposed(bytes);
            prop_assert!((0..64).all(|n| bytes[n / 8] >> (n % 8) & 1 == turned[n % 8] >> (n / 8) & 1));
        }

        #[test]
        fn numbers_have_their_place_as_rank(words in proptest::collection::vec(any::<u64>(), 1..6)) {
            let before = ranks(words.iter().copied());
            let all = numbers(&words);
            prop_assert_eq!(all.len(), *before.last().unwrap() as usize);
            for (place, &n) in all.iter().enumerate() {
                let w = n as usize / 64;
                prop_assert_eq!(rank(before[w], words[w], n % 64), place);
            }
            let moved: Vec<u64> = (0..words.len()).map(|w| shifted(&words, w)).collect();
            let down: Vec<u32> = all.iter().filter_map(|n| n.checked_sub(1)).collect();
            prop_assert_eq!(numbers(&moved), down);
        }
    }
}
