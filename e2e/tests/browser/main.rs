//! Everything that needs a real browser.

mod acts;
mod arranging;
mod asking;
mod demo;
mod first_start;
mod judging;
mod pages;
mod reporting;
mod screens;
mod sign_in;
mod snippet;
mod vitals;
mod watching;
