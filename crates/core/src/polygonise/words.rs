//! Sets of numbers as bits, 64 in a word: counting and listing them.

/// Word `w` of a row moved down by one number.
pub fn shifted(row: &[u64], w: usize) -> u64 {
    row[w] >> 1 | row.get(w + 1).copied().unwrap_or(0) << 63
}

/// Numbers held before each word, and all of them at the end.
pub fn ranks(words: impl Iterator<Item = u64>) -> Vec<u32> {
    let mut out = vec![0];
    out.extend(words.scan(0, |total, w| {
        *total += w.count_ones();
        Some(*total)
    }));
    out
}

/// Numbers held before number `bit` of a word, `before` of them before the word.
#[inline(always)]
pub fn rank(before: u32, word: u64, bit: u32) -> usize {
    (before + (word & !(!0 << bit)).count_ones()) as usize
}

/// The numbers held, in order.
pub fn numbers(words: &[u64]) -> Vec<u32> {
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
