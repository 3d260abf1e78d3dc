//! A small world around Cadentis, for the demo and for tests. Nothing here measures anything.
//!
//! - [`postgres`]: a private PostgreSQL server on a free loopback port
//! - [`site`]: the booking site of Marram Ferries and its map supplier
//! - [`freight`]: its freight office, a second site
//! - [`network`]: the network between a location and the site, one SOCKS5 proxy per location
//! - [`places`]: the locations of the demo
//! - [`receivers`]: who gets what is told, mail and web, and shows it on one page
//! - [`provider`]: a provider of OpenID Connect with made-up people
//! - [`story`]: what went wrong in the last thirty days, and when
//! - [`history`]: runs as they would have been, under that story
//! - [`visitors`]: people who visit the site, then and now

pub mod freight;
pub mod history;
pub mod network;
pub mod places;
pub mod postgres;
pub mod provider;
pub mod receivers;
pub mod site;
pub mod story;
pub mod visitors;
