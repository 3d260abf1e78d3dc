//! Filters for templates.

/// A coordinate with one place: enough for a screen, and half the bytes.
#[askama::filter_fn]
pub fn d1(value: impl std::fmt::Display, _: &dyn askama::Values) -> askama::Result<String> {
    Ok(format!("{value:.1}"))
}
