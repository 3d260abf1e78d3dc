//! What a site is called in addresses: everything about it is found below that name.

use crate::text;

/// A name in addresses has at most so many characters.
pub const LONGEST_SLUG: usize = 40;

/// First parts of addresses that belong to the installation: no site is called like one of them. `web` holds its list of
/// routes against this one.
const TAKEN: [&str; 22] = [
    "acknowledge",
    "alerts",
    "api",
    "beacons",
    "calendars",
    "confirm",
    "goals",
    "har",
    "healthz",
    "journeys",
    "me",
    "metrics",
    "problems",
    "reports",
    "runs",
    "setup",
    "sign-in",
    "sign-out",
    "static",
    "visitors",
    "welcome",
    "snippet",
];

/// Why something cannot be the name of a site in addresses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum SlugError {
    #[error(
        "A name in addresses is small letters from a to z, digits and single hyphens between them, such as book-marram."
    )]
    Form,
    #[error("A name in addresses has {LONGEST_SLUG} characters at most.")]
    Long,
    #[error(
        "This is the address of something else here; choose another name, such as the same with -site behind it."
    )]
    Taken,
}

/// Whether a site may have this name in addresses.
///
/// # Errors
/// Says what is wrong with it.
///
/// ```
/// use cadentis_core::site::{SlugError, check_slug};
/// assert_eq!(check_slug("marram-ferries"), Ok(()));
/// assert_eq!(check_slug("setup"), Err(SlugError::Taken));
/// ```
pub fn check_slug(slug: &str) -> Result<(), SlugError> {
    let parts = || slug.split('-');
    let fine = |part: &str| {
        !part.is_empty() && part.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit())
    };
    if !parts().all(fine) {
        return Err(SlugError::Form);
    }
    if slug.len() > LONGEST_SLUG {
        return Err(SlugError::Long);
    }
    if TAKEN.contains(&slug) {
        return Err(SlugError::Taken);
    }
    Ok(())
}

/// A name in addresses made of the name of a site; the caller looks whether another one has it.
///
/// ```
/// assert_eq!(cadentis_core::site::slug_of("Marram Ferries"), "marram-ferries");
/// assert_eq!(cadentis_core::site::slug_of("Setup"), "setup-site");
/// ```
pub fn slug_of(name: &str) -> String {
    let ascii: String = name.chars().map(|c| if c.is_ascii() { c } else { '-' }).collect();
    let slug: String = text::slug(&ascii).chars().take(LONGEST_SLUG - "-site".len()).collect();
    let slug = slug.trim_end_matches('-');
    match check_slug(slug) {
        Ok(()) => slug.to_string(),
        Err(SlugError::Taken) => format!("{slug}-site"),
        Err(_) => "site".to_string(),
    }
}

/// Whether something is one of the installation's own first parts of addresses.
pub fn is_taken(part: &str) -> bool {
    TAKEN.contains(&part)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_name_in_addresses_needs_no_escaping_and_is_no_place_of_the_installation() {
        for wrong in
            ["", "-", "a-", "-a", "a--b", "Marram", "über", "a b", "a/b", "a.b", "%2e", "a\0"]
        {
            assert_eq!(check_slug(wrong), Err(SlugError::Form), "{wrong:?}");
        }
        assert_eq!(check_slug(&"a".repeat(LONGEST_SLUG + 1)), Err(SlugError::Long));
        for taken in TAKEN {
            assert_eq!(check_slug(taken), Err(SlugError::Taken));
        }
    }

    proptest! {
        #[test]
        fn whatever_a_site_is_called_it_gets_a_name_that_addresses_can_have(name in "\\PC{0,90}") {
            prop_assert_eq!(check_slug(&slug_of(&name)), Ok(()), "{}", slug_of(&name));
        }
    }
}
