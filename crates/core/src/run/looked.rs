//! A page against what was accepted of it: its text, its structure, the hosts it asks, its picture.
//!
//! What is seen is kept as lines of text: of a picture, a grid of brightness. The first run that passes is accepted;
//! later ones are compared with it until somebody accepts another.

use serde::{Deserialize, Serialize};

/// What is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Look {
    /// The words that can be seen, a line for each piece of text.
    Text,
    /// Which elements stand in which.
    Structure,
    /// Hosts other than the page's own that the step asked.
    Hosts,
    /// Brightness of the picture, in blocks.
    Picture,
}

impl Look {
    /// All of them.
    pub const ALL: [Look; 4] = [Look::Text, Look::Structure, Look::Hosts, Look::Picture];

    /// In one word, as scripts have it.
    pub fn word(self) -> &'static str {
        match self {
            Look::Text => "text",
            Look::Structure => "structure",
            Look::Hosts => "hosts",
            Look::Picture => "picture",
        }
    }
}

/// One look at a page.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Looked {
    /// What it is kept under: the step and what was looked at.
    pub key: String,
    /// At what.
    pub look: Look,
    /// What was seen.
    pub seen: String,
    /// One sentence on what is not as it was accepted; `None` when nothing was accepted yet or nothing changed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changed: Option<String>,
}

/// Side of a block of the picture, in device pixels.
pub const BLOCK: usize = 16;
/// Brightness, of 255, by which a block may differ: what compressing and smoothing of letters do to it.
const SAME_SHADE: u8 = 12;
/// The share of blocks that may differ.
const SAME_SHARE: f64 = 0.01;
/// A block that is left out.
const LEFT_OUT: &str = "--";

/// The grid of a picture: two hexadecimal digits a block, a line a row. `pixels` are grey, row by row; a block that
/// any box (left, top, right, bottom) touches is left out. What is left over at the right and the bottom is dropped.
pub fn grid(pixels: &[u8], width: usize, boxes: &[(f64, f64, f64, f64)]) -> String {
    let height = pixels.len().checked_div(width).unwrap_or(0);
    let mut grid = String::new();
    for top in (0..height / BLOCK).map(|r| r * BLOCK) {
        for left in (0..width / BLOCK).map(|c| c * BLOCK) {
            let (x, y, side) = (left as f64, top as f64, BLOCK as f64);
            if boxes.iter().any(|(l, t, r, b)| *l < x + side && *r > x && *t < y + side && *b > y) {
                grid.push_str(LEFT_OUT);
                continue;
            }
            let rows =
                (top..top + BLOCK).map(|y| &pixels[y * width + left..y * width + left + BLOCK]);
            let sum: u32 = rows.flatten().map(|p| u32::from(*p)).sum();
            grid.push_str(&format!("{:02x}", sum / (BLOCK * BLOCK) as u32));
        }
        grid.push('\n');
    }
    grid
}

/// What has changed between what was accepted and what is seen, in a sentence.
pub fn changed(look: Look, accepted: &str, seen: &str) -> Option<String> {
    if accepted == seen {
        return None;
    }
    match look {
        Look::Picture => picture_changed(accepted, seen),
        _ => lines_changed(look, accepted, seen),
    }
}

fn lines_changed(look: Look, accepted: &str, seen: &str) -> Option<String> {
    // Counted as often as they stand there: a line that moved has not changed.
    let count = |text: &str| {
        let mut lines: std::collections::BTreeMap<String, i64> = std::collections::BTreeMap::new();
        text.lines().for_each(|l| *lines.entry(l.to_string()).or_default() += 1);
        lines
    };
    let (before, after) = (count(accepted), count(seen));
    let missing = |from: &std::collections::BTreeMap<String, i64>,
                   to: &std::collections::BTreeMap<String, i64>| {
        let left =
            from.iter().map(|(line, n)| (line.clone(), n - to.get(line).copied().unwrap_or(0)));
        left.filter(|(_, n)| *n > 0).collect::<Vec<_>>()
    };
    let (gone, come) = (missing(&before, &after), missing(&after, &before));
    let number = |lines: &[(String, i64)]| lines.iter().map(|(_, n)| n).sum::<i64>();
    let first = |lines: &[(String, i64)], word: &str| {
        lines.first().map(|(line, _)| {
            format!(" {word} “{}”", line.trim().chars().take(80).collect::<String>())
        })
    };
    if gone.is_empty() && come.is_empty() {
        return Some(format!("The {} has changed: the same lines in another order.", look.word()));
    }
    let what = match look {
        Look::Hosts => "hosts",
        _ => "lines",
    };
    let has = if look == Look::Hosts { "have" } else { "has" };
    Some(format!(
        "The {} {has} changed: {} {what} came, {} went;{}{}.",
        look.word(),
        number(&come),
        number(&gone),
        first(&come, "new:")
            .map(|new| if gone.is_empty() { new } else { format!("{new},") })
            .unwrap_or_default(),
        first(&gone, "gone:").unwrap_or_default()
    ))
}

fn picture_changed(accepted: &str, seen: &str) -> Option<String> {
    let blocks = |line: &str| -> Vec<Option<u8>> {
        let digits: Vec<char> = line.chars().collect();
        digits
            .chunks(2)
            .map(|c| u8::from_str_radix(&c.iter().collect::<String>(), 16).ok())
            .collect()
    };
    let rows = |text: &str| text.lines().map(blocks).collect::<Vec<_>>();
    let (before, after) = (rows(accepted), rows(seen));
    let shape = |rows: &[Vec<Option<u8>>]| rows.iter().map(Vec::len).collect::<Vec<_>>();
    if shape(&before) != shape(&after) {
        return Some("The picture has changed: it is of another size.".into());
    }
    let pairs: Vec<(u8, u8)> = before
        .iter()
        .flatten()
        .zip(after.iter().flatten())
        .filter_map(|(a, b)| (*a).zip(*b))
        .collect();
    let differ = pairs.iter().filter(|(a, b)| a.abs_diff(*b) > SAME_SHADE).count();
    let share = differ as f64 / pairs.len().max(1) as f64;
    (share > SAME_SHARE).then(|| {
        format!(
            "The picture has changed in {:.1} % of it ({differ} of {} blocks); {:.0} % may differ.",
            share * 100.0,
            pairs.len(),
            SAME_SHARE * 100.0
        )
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lines_that_came_and_went_are_told_with_the_first_of_each() {
        let says =
            changed(Look::Text, "Departures\n06:40\n08:15", "Departures\n08:15\n09:00\n10:30");
        assert_eq!(
            says.as_deref(),
            Some("The text has changed: 2 lines came, 1 went; new: “09:00”, gone: “06:40”.")
        );
        let moved = changed(Look::Text, "a\nb", "b\na");
        assert_eq!(
            moved.as_deref(),
            Some("The text has changed: the same lines in another order.")
        );
        let gone = changed(Look::Hosts, "a.example\nb.example", "a.example");
        assert_eq!(
            gone.as_deref(),
            Some("The hosts have changed: 0 hosts came, 1 went; gone: “b.example”.")
        );
    }

    #[test]
    fn a_picture_has_changed_when_more_than_a_hundredth_of_its_blocks_have() {
        let (width, height) = (BLOCK * 20, BLOCK * 10);
        let plain = vec![200u8; width * height];
        let dark = |blocks: usize| {
            let mut pixels = plain.clone();
            for b in 0..blocks {
                let (left, top) = (b % 20 * BLOCK, b / 20 * BLOCK);
                (top..top + BLOCK)
                    .for_each(|y| pixels[y * width + left..y * width + left + BLOCK].fill(20));
            }
            grid(&pixels, width, &[])
        };
        let accepted = grid(&plain, width, &[]);
        assert_eq!(changed(Look::Picture, &accepted, &dark(2)), None);
        let says = changed(Look::Picture, &accepted, &dark(3)).unwrap_or_default();
        assert!(
            says.starts_with("The picture has changed in 1.5 % of it (3 of 200 blocks)"),
            "{says}"
        );
        // What is left out on either side is not compared.
        let without = grid(&plain, width, &[(0.0, 0.0, 40.0, 16.0)]);
        assert_eq!(changed(Look::Picture, &without, &dark(3)), None);
    }

    proptest! {
        #[test]
        fn nothing_has_changed_against_itself_and_comparing_never_panics(a in "\\PC{0,40}(\n[0-9a-f-]{0,9}){0,4}", b in "\\PC{0,40}") {
            for look in Look::ALL {
                prop_assert_eq!(changed(look, &a, &a), None);
                let _ = changed(look, &a, &b);
            }
        }
    }
}
