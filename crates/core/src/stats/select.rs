//! Order statistics of unsorted samples, many ranks at once, without sorting.
//!
//! A floating-point number read as an integer (sign folded) keeps its order, so the samples can be
//! dealt into bins by their leading bits. One pass counts the bins; a second picks up only the few
//! bins that hold a wanted rank, and those are dealt again by their next bits, or sorted once they
//! are small. There is no pivot to choose badly: the work is at most four pairs of passes whatever
//! the data, ties included.

/// Fewer samples than this are sorted.
const SMALL: usize = 4_096;
/// Bits that one pass deals by.
const STEP: u32 = 16;
const BINS: usize = 1 << STEP;

/// Order of the value as an unsigned integer, the same order as [`f64::total_cmp`].
fn key(value: f64) -> u64 {
    let bits = value.to_bits();
    bits ^ (((bits as i64 >> 63) as u64) | (1 << 63))
}

fn value(key: u64) -> f64 {
    f64::from_bits(if key >> 63 == 1 { key ^ (1 << 63) } else { !key })
}

/// What [`at_ranks`] found.
#[derive(Debug, Clone, PartialEq)]
pub struct Ranked {
    /// The values at the wanted ranks, in the order asked.
    pub values: Vec<f64>,
    /// How many samples were finite.
    pub counted: u64,
    /// How many were not, and are in no rank.
    pub left_out: u64,
}

/// The samples at the ranks that `wanted` names when told how many finite samples there are. Ranks
/// begin with 1; one beyond the samples is answered with the largest.
pub fn at_ranks(samples: &[f64], wanted: impl FnOnce(u64) -> Vec<u64>) -> Ranked {
    if samples.len() < SMALL {
        let mut ordered: Vec<f64> = samples.iter().copied().filter(|v| v.is_finite()).collect();
        ordered.sort_unstable_by(f64::total_cmp);
        let counted = ordered.len();
        let values = if counted == 0 {
            vec![]
        } else {
            wanted(counted as u64)
                .into_iter()
                .map(|r| ordered[(r.max(1) as usize).min(counted) - 1])
                .collect()
        };
        return Ranked {
            values,
            counted: counted as u64,
            left_out: (samples.len() - counted) as u64,
        };
    }
    let mut counts = leading_bits(samples);
    // Numbers that are not finite have all exponent bits set: the first and last bins.
    let edge = |bin: usize| {
        let top = (bin as u16) ^ if bin >> 15 == 1 { 0x8000 } else { 0xffff };
        top & 0x7ff0 == 0x7ff0
    };
    let mut left_out = 0u64;
    for (_, n) in counts.iter_mut().enumerate().filter(|(bin, _)| edge(*bin)) {
        left_out += u64::from(*n);
        *n = 0;
    }
    let counted = samples.len() as u64 - left_out;
    if counted == 0 {
        return Ranked { values: vec![], counted, left_out };
    }
    let mut ranks: Vec<(usize, u64)> =
        wanted(counted).into_iter().map(|r| r.clamp(1, counted)).enumerate().collect();
    ranks.sort_unstable_by_key(|(_, rank)| *rank);
    let mut values = vec![0.0; ranks.len()];
    settle(samples.iter().map(|v| key(*v)), &counts, 48, &ranks, &mut values);
    Ranked { values, counted, left_out }
}

/// A counter for each value of sixteen bits: an index of that type needs no check.
fn bins<T: Copy>(of: T) -> Box<[T; BINS]> {
    vec![of; BINS]
        .into_boxed_slice()
        .try_into()
        .unwrap_or_else(|_| unreachable!("it has that length"))
}

/// How many samples have each sixteen leading bits.
#[inline(never)]
fn leading_bits(samples: &[f64]) -> Box<[u32; BINS]> {
    // Two counters for neighbouring samples: the same bin twice in a row would wait for itself.
    let (mut even, mut odd) = (bins(0u32), bins(0u32));
    let bin = |value: f64| (key(value) >> 48) as u16 as usize;
    let mut pairs = samples.chunks_exact(2);
    for pair in &mut pairs {
        even[bin(pair[0])] += 1;
        odd[bin(pair[1])] += 1;
    }
    for rest in pairs.remainder() {
        even[bin(*rest)] += 1;
    }
    even.iter_mut().zip(odd.iter()).for_each(|(a, b)| *a += b);
    even
}

/// A bin that holds wanted ranks.
struct Held {
    keys: Vec<u64>,
    /// Place in the answer, and rank counted inside the bin.
    wanted: Vec<(usize, u64)>,
}

/// Finds the wanted (place, rank) pairs, ranks rising, among keys that agree in all bits above `shift` + 16 and
/// were counted by the 16 bits from `shift` up.
#[inline(never)]
fn settle(
    keys: impl Iterator<Item = u64>,
    counts: &[u32; BINS],
    shift: u32,
    wanted: &[(usize, u64)],
    out: &mut [f64],
) {
    let mut held: Vec<Held> = Vec::new();
    let mut slot = bins(u16::MAX);
    let (mut seen, mut next) = (0u64, 0);
    for (bin, n) in counts.iter().enumerate() {
        let n = u64::from(*n);
        let from = next;
        while next < wanted.len() && wanted[next].1 <= seen + n {
            next += 1;
        }
        if next > from {
            slot[bin] = held.len() as u16;
            let wanted =
                wanted[from..next].iter().map(|(place, rank)| (*place, rank - seen)).collect();
            held.push(Held { keys: Vec::with_capacity(n as usize), wanted });
        }
        seen += n;
    }
    for key in keys {
        let nth = slot[(key >> shift) as u16 as usize];
        if nth != u16::MAX {
            held[nth as usize].keys.push(key);
        }
    }
    for Held { mut keys, wanted } in held {
        if keys.len() < SMALL || shift == 0 {
            // With no bits left to deal by, all keys are equal.
            if shift > 0 {
                keys.sort_unstable();
            }
            for (place, rank) in wanted {
                out[place] = value(keys[rank as usize - 1]);
            }
        } else {
            let shift = shift - STEP;
            let mut counts = bins(0u32);
            for key in &keys {
                counts[(key >> shift) as u16 as usize] += 1;
            }
            settle(keys.iter().copied(), &counts, shift, &wanted, out);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn sorted(samples: &[f64]) -> Vec<f64> {
        let mut finite: Vec<f64> = samples.iter().copied().filter(|v| v.is_finite()).collect();
        finite.sort_unstable_by(f64::total_cmp);
        finite
    }

    fn any_samples() -> impl Strategy<Value = Vec<f64>> {
        let bits = prop::collection::vec(any::<u64>().prop_map(f64::from_bits), 1..300);
        let close =
            prop::collection::vec((0u32..2_000).prop_map(|n| 1.0 + f64::from(n) * 1e-9), 1..300);
        let tied = prop::collection::vec((0u8..4).prop_map(f64::from), 1..300);
        // Repeated until there are enough that nothing is sorted outright.
        (prop_oneof![bits, close, tied], 1usize..60).prop_map(|(some, times)| some.repeat(times))
    }

    proptest! {
        #[test]
        fn a_rank_is_what_sorting_would_have_put_there(samples in any_samples(), shares in prop::collection::vec(0.0..1.0f64, 1..8)) {
            let ordered = sorted(&samples);
            let ranks: Vec<u64> = shares.iter().map(|s| 1 + (s * ordered.len() as f64) as u64).collect();
            let found = at_ranks(&samples, |_| ranks.clone());
            prop_assert_eq!(found.counted, ordered.len() as u64);
            prop_assert_eq!(found.left_out, (samples.len() - ordered.len()) as u64);
            if !ordered.is_empty() {
                for (rank, got) in ranks.iter().zip(&found.values) {
                    let want = ordered[(*rank as usize).min(ordered.len()) - 1];
                    prop_assert_eq!(got.to_bits(), want.to_bits(), "rank {}", rank);
                }
            }
        }
    }

    #[test]
    fn what_is_no_number_is_in_no_rank_and_counted() {
        let mut samples: Vec<f64> = (1..=10_000).map(f64::from).collect();
        samples.extend([f64::NAN, -f64::NAN, f64::INFINITY, f64::NEG_INFINITY]);
        let found = at_ranks(&samples, |n| vec![1, n / 2, n]);
        assert_eq!(
            found,
            Ranked { values: vec![1.0, 5_000.0, 10_000.0], counted: 10_000, left_out: 4 }
        );
        assert_eq!(at_ranks(&[f64::NAN], |_| vec![1]).values, Vec::<f64>::new());
    }
}
