//! Texts from outside, made fit to be stored and shown: without control characters, and bounded.
//!
//! A NUL can be stored in no text of the database, so a single one would hold back whatever is stored with it. What stands
//! here is asked at every entry: beacons, records of runs, recordings, archives of requests, imports.

use serde_json::Value;

/// At most `most` characters of a text, control characters left out but for `but`.
pub fn clean(text: &str, most: usize, but: Option<char>) -> String {
    // Nearly every text is short and plain, and thousands come in a second.
    if text.len() <= most && text.bytes().all(|b| (b' '..0x7f).contains(&b)) {
        return text.to_string();
    }
    text.chars().filter(|c| !is_unwanted(*c) || Some(*c) == but).take(most).collect()
}

/// Control characters, and marks that turn the direction of what is written around them.
fn is_unwanted(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

/// How much a JSON value from outside may hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct JsonLimits {
    /// Characters of a text.
    pub text: usize,
    /// Characters of a text that holds a picture (`data:image/…`).
    pub picture: usize,
    /// Members of a list or an object.
    pub members: usize,
}

impl JsonLimits {
    /// What one run leaves: pages of some thousand requests, pictures of a few megabytes.
    pub const RECORD: JsonLimits = JsonLimits { text: 200_000, picture: 6_000_000, members: 5_000 };
    /// What is told while something is played or recorded.
    pub const PROGRESS: JsonLimits = JsonLimits { text: 4_000, picture: 6_000_000, members: 500 };
}

/// Cleans every text of a value, names of members included, and cuts what is longer than it may be. Lines stay lines.
/// Answers how many texts and lists were changed.
pub fn clean_json(value: &mut Value, limits: &JsonLimits) -> u64 {
    match value {
        Value::String(text) => clean_text(text, limits),
        Value::Array(all) => {
            let cut = u64::from(all.len() > limits.members);
            all.truncate(limits.members);
            cut + all.iter_mut().map(|one| clean_json(one, limits)).sum::<u64>()
        }
        Value::Object(members) => {
            let bad =
                |name: &str| name.chars().any(is_unwanted) || name.chars().count() > limits.text;
            let mut changed = 0;
            if members.len() > limits.members || members.keys().any(|name| bad(name)) {
                changed += 1;
                let kept = std::mem::take(members).into_iter().take(limits.members);
                *members = kept.map(|(name, v)| (clean(&name, limits.text, None), v)).collect();
            }
            changed + members.values_mut().map(|one| clean_json(one, limits)).sum::<u64>()
        }
        Value::Null | Value::Bool(_) | Value::Number(_) => 0,
    }
}

fn clean_text(text: &mut String, limits: &JsonLimits) -> u64 {
    let most = if text.starts_with("data:image/") { limits.picture } else { limits.text };
    let lines = |c: char| matches!(c, '\n' | '\t');
    if text.len() <= most && !text.chars().any(|c| is_unwanted(c) && !lines(c)) {
        return 0;
    }
    let kept: String = text.chars().filter(|c| !is_unwanted(*c) || lines(*c)).take(most).collect();
    let changed = u64::from(kept != *text);
    *text = kept;
    changed
}

/// The most characters of a name in addresses.
const SLUG: usize = 60;

/// A name as it stands in addresses: letters and digits of any script in small letters, with one hyphen for whatever
/// stands between. Empty when nothing is left.
///
/// ```
/// use cadentis_core::text::slug;
/// assert_eq!(slug("  Überfahrt: 08:15! "), "überfahrt-08-15");
/// ```
pub fn slug(name: &str) -> String {
    let mut slug = String::new();
    for c in name.chars().flat_map(char::to_lowercase) {
        match c {
            c if c.is_alphanumeric() => slug.push(c),
            _ if !slug.ends_with('-') && !slug.is_empty() => slug.push('-'),
            _ => {}
        }
    }
    let cut: String = slug.chars().take(SLUG).collect();
    cut.trim_end_matches('-').to_string()
}

/// How well a name fits what is looked for: every word of it has to be part of the name, whatever the case. The lower the better:
/// 0 when the name begins with it, 1 when a word of the name begins with each, 2 when it is somewhere.
pub fn found(name: &str, looked_for: &str) -> Option<u8> {
    let (name, text) = (name.to_lowercase(), looked_for.trim().to_lowercase());
    if text.is_empty() {
        return None;
    }
    if name.starts_with(&text) {
        return Some(0);
    }
    let begins = |word: &str| {
        name.split(|c: char| !c.is_alphanumeric()).any(|of| !of.is_empty() && of.starts_with(word))
    };
    let mut words = text.split_whitespace();
    match words.clone().all(begins) {
        true => Some(1),
        false => words.all(|word| name.contains(word)).then_some(2),
    }
}

/// The text with a large letter in front.
pub fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |c| c.to_uppercase().chain(chars).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    #[test]
    fn control_characters_leave_and_lines_stay_where_they_are_wanted() {
        assert_eq!(clean("a\0b\u{7f}c\u{9b}d\u{202e}e", 10, None), "abcde");
        assert_eq!(clean("a\nb", 10, Some('\n')), "a\nb");
        assert_eq!(clean("a\nb", 10, None), "ab");
        assert_eq!(clean("éééé", 2, None), "éé");
    }

    #[test]
    fn every_text_and_list_of_a_value_is_bounded_and_pictures_have_room() {
        let limits = JsonLimits { text: 4, picture: 100, members: 3 };
        let mut value =
            json!({"a\0": ["12345", 1, "x\0", 4, 5], "film": "data:image/jpeg;base64,AAAA"});
        assert_eq!(clean_json(&mut value, &limits), 4);
        assert_eq!(value, json!({"a": ["1234", 1, "x"], "film": "data:image/jpeg;base64,AAAA"}));
        assert_eq!(clean_json(&mut value, &limits), 0, "what is clean stays as it is");
    }

    fn values() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            any::<bool>().prop_map(Value::from),
            any::<i64>().prop_map(Value::from),
            any::<String>().prop_map(Value::from)
        ];
        leaf.prop_recursive(4, 60, 8, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..8).prop_map(Value::from),
                prop::collection::btree_map(any::<String>(), inner, 0..8)
                    .prop_map(|m| Value::Object(m.into_iter().collect())),
            ]
        })
    }

    proptest! {
        #[test]
        fn whatever_comes_can_be_stored_afterwards(mut value in values()) {
            clean_json(&mut value, &JsonLimits { text: 20, picture: 20, members: 4 });
            let text = value.to_string();
            let escapes = text.contains("\\u00") && !text.contains("\\\\u00");
            prop_assert!(!escapes, "{}", text);
            prop_assert_eq!(clean_json(&mut value, &JsonLimits { text: 20, picture: 20, members: 4 }), 0);
        }
    }

    proptest! {
        #[test]
        fn a_slug_is_short_has_no_two_hyphens_together_and_is_its_own(name in "\\PC{0,90}") {
            let slug = slug(&name);
            prop_assert!(slug.chars().count() <= SLUG && !slug.contains("--"));
            prop_assert!(!slug.starts_with('-') && !slug.ends_with('-'));
            prop_assert!(slug.chars().all(|c| c == '-' || c.is_alphanumeric()), "{}", slug);
            prop_assert_eq!(super::slug(&slug), slug.clone());
        }
    }
}
