//! Everything that needs a real browser.

mod demo;
mod first_start;
mod pages;
mod screens;
mod sign_in;
mod snippet;
mod vitals;
