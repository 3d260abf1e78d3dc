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
    pub fn new<P: AsRef<str>, N: Into<String>>(patterns: impl IntoIterator<Item = (P, N)>) -> Families {
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

fn segments(path: &str) -> Vec<String> {
    super::privacy::cut_query(path).split('/').filter(|s| !s.is_empty()).map(str::to_string).collect()
}

fn fits(pattern: &[String], path: &[String]) -> bool {
    match pattern.split_last() {
        Some((last, before)) if last == "**" => {
            path.len() >= before.len() && before.iter().zip(path).all(|(p, s)| p == "*" || p == s)
        }
        _ => pattern.len() == path.len() && pattern.iter().zip(path).all(|(p, s)| p == "*" || p == s),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_that_differ_only_in_their_cut_part_are_one_family() {
        let f = Families::new([("/booking/*/pass", "Boarding pass"), ("/booking/**", "Booking"), ("/", "Home")]);
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
