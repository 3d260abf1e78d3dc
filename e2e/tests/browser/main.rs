//! Everything that needs a real browser.

mod demo;
mod first_start;
mod pages;
mod screens;
mod snippet;
mod vitals;
