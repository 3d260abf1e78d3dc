//! Page families: sets of addresses that are one page.

/// Ordered patterns; the first that fits names the family.
///
/// A pattern is a path in which `*` stands for one segment and a last `**` for any rest:
/// `/booking/*/pass` takes `/booking/K7Q2/pass`.
#[derive(Debug, Clone, Default)]
pub struct Families(Vec<(Vec<String>, String)>);

/// The family of paths that no pattern takes.
pub const OTHER: &str = "Other pages";

impl Families {
    /// From (pattern, name) pairs, first match wins.
    pub fn new<P: AsRef<str>, N: Into<String>>(
        patterns: impl IntoIterator<Item = (P, N)>,
    ) -> Families {
        Families(patterns.into_iter().map(|(p, n)| (segments(p.as_ref()), n.into())).collect())
    }

    /// The name of the family that a path belongs to.
    ///
    /// ```
    /// let f = cadentis_core::visitor::Families::new([("/sailings/**", "Sailings"), ("/", "Home")]);
    /// assert_eq!(f.of("/sailings/2026-11-23/"), "Sailings");
    /// assert_eq!(f.of("/contact"), "Other pages");
    /// ```
    pub fn of(&self, path: &str) -> &str {
        let path = segments(path);
        self.0.iter().find(|(pattern, _)| fits(pattern, &path)).map_or(OTHER, |(_, name)| name)
    }
}

/// Names that a change of the patterns has replaced, each with the one that all of its patterns have now: what refers to a
/// family by its name follows.
pub fn renamed(before: &[(String, String)], now: &[(String, String)]) -> Vec<(String, String)> {
    let has = |all: &[(String, String)], name: &str| all.iter().any(|(_, n)| n == name);
    let mut gone: Vec<&String> =
        before.iter().map(|(_, name)| name).filter(|name| !has(now, name)).collect();
    gone.sort();
    gone.dedup();
    let new = |name: &String| {
        let patterns = before.iter().filter(|(_, n)| n == name).map(|(pattern, _)| pattern);
        let names: Vec<&String> = patterns
            .filter_map(|p| now.iter().find(|(pattern, _)| pattern == p).map(|(_, name)| name))
            .collect();
        let first = *names.first()?;
        (names.iter().all(|n| *n == first) && !has(before, first))
            .then(|| (name.clone(), first.clone()))
    };
    gone.into_iter().filter_map(new).collect()
}

fn segments(path: &str) -> Vec<String> {
    crate::visitor::beacon::privacy::cut_query(path)
        .split('/')
        .filter(|s| !s.is_empty())
        .map(str::to_string)
        .collect()
}

fn fits(pattern: &[String], path: &[String]) -> bool {
    match pattern.split_last() {
        Some((last, before)) if last == "**" => {
            path.len() >= before.len() && before.iter().zip(path).all(|(p, s)| p == "*" || p == s)
        }
        _ => {
            pattern.len() == path.len() && pattern.iter().zip(path).all(|(p, s)| p == "*" || p == s)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_family_is_renamed_when_its_patterns_have_one_new_name_and_not_when_they_part_or_join_another()
     {
        let of = |all: &[(&str, &str)]| -> Vec<(String, String)> {
            all.iter().map(|(p, n)| (p.to_string(), n.to_string())).collect()
        };
        let before = of(&[("/a", "List"), ("/a/*", "List"), ("/b", "Cabin"), ("/c", "Pay")]);
        let to = |now: &[(&str, &str)]| renamed(&before, &of(now));
        assert_eq!(
            to(&[("/a", "Sailings"), ("/a/*", "Sailings"), ("/b", "Cabin"), ("/c", "Pay")]),
            of(&[("List", "Sailings")])
        );
        assert_eq!(to(&[("/a", "One"), ("/a/*", "Two"), ("/b", "Cabin"), ("/c", "Pay")]), []);
        assert_eq!(to(&[("/a", "Cabin"), ("/a/*", "Cabin"), ("/b", "Cabin"), ("/c", "Pay")]), []);
        assert_eq!(to(&[("/b", "Cabin"), ("/c", "Pay")]), [], "taken away");
    }

    #[test]
    fn addresses_that_differ_only_in_their_cut_part_are_one_family() {
        let f = Families::new([
            ("/booking/*/pass", "Boarding pass"),
            ("/booking/**", "Booking"),
            ("/", "Home"),
        ]);
        for (path, want) in [
            ("/booking/K7Q2/pass", "Boarding pass"),
            ("/booking/K7Q2/pass?t=1", "Boarding pass"),
            ("/booking/K7Q2/pass/", "Boarding pass"),
            ("/booking/K7Q2", "Booking"),
            ("/booking", "Booking"),
            ("/", "Home"),
            ("/?q=1", "Home"),
            ("/nowhere", OTHER),
        ] {
            assert_eq!(f.of(path), want, "{path}");
        }
    }
}
