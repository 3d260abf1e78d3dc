//! Texts with variables in them: `{name}` is a variable, `{secret name}` a secret.
//!
//! A brace that does not enclose a name is itself, so JSON needs no care; `{{name}` is the text
//! `{name}`.

/// What a text can name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Used<'a> {
    /// A value that was kept, by its name.
    Variable(&'a str),
    /// A secret, by its name.
    Secret(&'a str),
}

/// Variables that are always there: the id of the run, its start as seconds since 1970, and the
/// location it plays at.
pub const GIVEN: [&str; 3] = ["run", "now", "location"];

/// Whether this can be the name of a variable or secret: a small letter, then small letters, digits
/// and underscores, 40 at most.
pub fn is_name(name: &str) -> bool {
    name.len() <= 40
        && name.bytes().next().is_some_and(|b| b.is_ascii_lowercase())
        && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_')
}

enum Piece<'a> {
    Plain(&'a str),
    Used(Used<'a>),
}

fn pieces(text: &str) -> Vec<Piece<'_>> {
    let mut pieces = Vec::new();
    let (mut plain, mut at) = (0, 0);
    while let Some(open) = text[at..].find('{').map(|i| at + i) {
        let named = text[open + 1..].find('}').and_then(|end| {
            let inside = &text[open + 1..open + 1 + end];
            let used = match inside.strip_prefix("secret ") {
                Some(name) if is_name(name) => Used::Secret(name),
                None if is_name(inside) => Used::Variable(inside),
                _ => return None,
            };
            Some((used, open + end + 2))
        });
        match named {
            // `{{name}`: the first brace goes, the rest is text.
            Some((_, after)) if open > plain && text[plain..open].ends_with('{') => {
                pieces.push(Piece::Plain(&text[plain..open - 1]));
                plain = open;
                at = after;
            }
            Some((used, after)) => {
                pieces.push(Piece::Plain(&text[plain..open]));
                pieces.push(Piece::Used(used));
                (plain, at) = (after, after);
            }
            None => at = open + 1,
        }
    }
    pieces.push(Piece::Plain(&text[plain..]));
    pieces
}

/// A text that says just this once it is filled: nothing in it is taken for a name.
///
/// ```
/// use cadentis_core::journey::text::as_is;
/// assert_eq!(as_is("{run} {x y} {"), "{{run} {x y} {");
/// ```
pub fn as_is(text: &str) -> String {
    let mut written = String::with_capacity(text.len());
    for (at, c) in text.char_indices() {
        let opens = c == '{' && {
            let inside = text[at + 1..].split_once('}').map(|(inside, _)| inside);
            inside.is_some_and(|i| is_name(i.strip_prefix("secret ").unwrap_or(i)))
        };
        written.push_str(if opens { "{{" } else { "" });
        if !opens {
            written.push(c);
        }
    }
    written
}

/// The variables and secrets a text names.
pub fn used(text: &str) -> Vec<Used<'_>> {
    let of = |p| match p {
        Piece::Used(used) => Some(used),
        Piece::Plain(_) => None,
    };
    pieces(text).into_iter().filter_map(of).collect()
}

/// The text with what it names filled in.
///
/// # Errors
/// The first thing that `value` does not know.
///
/// ```
/// use cadentis_core::journey::text::{fill, Used};
/// let know = |used: Used<'_>| match used { Used::Variable("order") => Some("M7".to_string()), _ => None };
/// assert_eq!(fill("Order {order} of {{order} {x", know).as_deref(), Ok("Order M7 of {order} {x"));
/// assert_eq!(fill("{secret key}", know), Err(Used::Secret("key")));
/// ```
pub fn fill<'a>(
    text: &'a str,
    value: impl Fn(Used<'a>) -> Option<String>,
) -> Result<String, Used<'a>> {
    let mut filled = String::with_capacity(text.len());
    for piece in pieces(text) {
        match piece {
            Piece::Plain(plain) => filled.push_str(plain),
            Piece::Used(used) => filled.push_str(&value(used).ok_or(used)?),
        }
    }
    Ok(filled)
}

/// Written over a secret wherever its text would be shown.
pub const MASK: &str = "•••";

/// The text with every secret masked, also as it stands in addresses and in JSON. Secrets of fewer than
/// three characters cannot be told from ordinary text and are left alone.
pub fn masked(text: &str, secrets: &[String]) -> String {
    let mut text = text.to_string();
    for secret in secrets.iter().filter(|s| s.chars().count() >= 3) {
        for form in forms(secret) {
            if text.contains(&form) {
                text = text.replace(&form, MASK);
            }
        }
    }
    text
}

/// How a secret may be written: as it is, percent-encoded (with %20 or + for a blank), as JSON.
fn forms(secret: &str) -> Vec<String> {
    let encode = |keep: &dyn Fn(u8) -> bool, blank: &str| {
        secret.bytes().fold(String::new(), |mut out, b| {
            match b {
                b' ' => out += blank,
                b if keep(b) => out.push(char::from(b)),
                b => out += &format!("%{b:02X}"),
            }
            out
        })
    };
    // RFC 3986 unreserved; the form encoding of HTML keeps `*` and escapes `~`.
    let address = encode(&|b| b.is_ascii_alphanumeric() || b"-._~".contains(&b), "%20");
    let form = encode(&|b| b.is_ascii_alphanumeric() || b"-._*".contains(&b), "+");
    let component = encode(&|b| b.is_ascii_alphanumeric() || b"-_.!~*'()".contains(&b), "%20");
    let json = serde_json::Value::from(secret).to_string();
    let mut forms =
        vec![secret.to_string(), address, form, component, json[1..json.len() - 1].to_string()];
    forms.dedup();
    forms
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn json_in_a_text_needs_no_care() {
        let body = r#"{"a": {"b": 1}, "c": "{order}"}"#;
        assert_eq!(used(body), [Used::Variable("order")]);
        let filled = fill(body, |_| Some("M7".into()));
        assert_eq!(filled.as_deref(), Ok(r#"{"a": {"b": 1}, "c": "M7"}"#));
    }

    #[test]
    fn a_secret_is_masked_however_it_was_written() {
        let secrets = ["p&ss \"w~rd".to_string()];
        for shown in [
            "x p&ss \"w~rd y",
            "x p%26ss%20%22w~rd y",
            "x p%26ss+%22w%7Erd y",
            r#"x p&ss \"w~rd y"#,
        ] {
            assert_eq!(masked(shown, &secrets), format!("x {MASK} y"));
        }
    }

    proptest! {
        #[test]
        fn a_text_without_names_stays_as_it_is(text in "[ -z|~{]{0,60}") {
            prop_assert_eq!(fill(&text, |_| None), Ok(text.clone()));
        }

        #[test]
        fn no_masked_text_holds_the_secret(before in "[ -~]{0,20}", secret in "[!-~][ -~]{2,12}", after in "[ -~]{0,20}") {
            prop_assume!(!MASK.contains(&secret));
            let shown = masked(&format!("{before}{secret}{after}"), std::slice::from_ref(&secret));
            prop_assert!(!shown.contains(&secret), "{shown}");
        }
    }
}
