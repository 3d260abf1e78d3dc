//! Two texts, line by line.

use similar::{ChangeTag, TextDiff};

/// A line that stayed, went or came.
pub struct DiffLine {
    pub class: &'static str,
    pub sign: &'static str,
    pub text: String,
}

/// The lines of two texts with what went and what came; far from changes they are left out.
pub fn diff(old: &str, new: &str) -> Vec<DiffLine> {
    let diff = TextDiff::from_lines(old, new);
    let mut lines = Vec::new();
    for (nth, group) in diff.grouped_ops(3).iter().enumerate() {
        if nth > 0 {
            lines.push(DiffLine { class: "gap", sign: "", text: "…".into() });
        }
        for change in group.iter().flat_map(|op| diff.iter_changes(op)) {
            let (class, sign) = match change.tag() {
                ChangeTag::Delete => ("gone", "−"),
                ChangeTag::Insert => ("new", "+"),
                ChangeTag::Equal => ("same", " "),
            };
            lines.push(DiffLine {
                class,
                sign,
                text: change.value().trim_end_matches('\n').to_string(),
            });
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_difference_shows_what_went_and_what_came_and_leaves_the_rest_out() {
        let old: String = (0..30).map(|n| format!("line {n}\n")).collect();
        let new = old.replace("line 3\n", "").replace("line 25\n", "line 25, better\n");
        let lines = diff(&old, &new);
        let of = |class| {
            lines.iter().filter(|l| l.class == class).map(|l| l.text.as_str()).collect::<Vec<_>>()
        };
        assert_eq!(of("gone"), ["line 3", "line 25"]);
        assert_eq!(of("new"), ["line 25, better"]);
        assert_eq!(of("gap"), ["…"]);
        assert!(lines.len() < 20);
        assert!(diff(&old, &old).is_empty());
    }
}
