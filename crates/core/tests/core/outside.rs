//! The core against the outside: vectors made by other programs, each beside the script that made it.

mod calendar;
mod har;
mod stats;

/// The rows of a tab-separated vector file, without its head.
fn rows(text: &str) -> impl Iterator<Item = Vec<&str>> {
    text.lines().filter(|l| !l.starts_with('#')).map(|l| l.split('\t').collect())
}

fn number(text: &str) -> f64 {
    text.parse().unwrap_or_else(|_| panic!("{text} in a vector file"))
}

#[track_caller]
fn close(got: f64, want: f64, error: f64, what: &str) {
    assert!((got - want).abs() <= error * want.abs().max(1.0), "{what}: {got}, not {want}");
}
