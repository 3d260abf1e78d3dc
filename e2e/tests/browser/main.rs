//! Everything that needs a real browser.

mod demo;
mod pages;
mod screens;
mod snippet;
mod vitals;
