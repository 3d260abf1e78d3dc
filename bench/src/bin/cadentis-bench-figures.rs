//! The same pages of two servers on one database, word by word: after a rebuilding every page shows what it showed before.
//!
//! `cadentis-bench-figures http://127.0.0.1:7001 http://127.0.0.1:7002 SITE SESSION`: the first is the one of before, SITE
//! what comes first in the addresses of the site's pages, SESSION the value of the cookie `cadentis_session` of somebody
//! who may see it. Pages are found by following links from the places; each is asked for with the same stretch of time that
//! is over, so that nothing comes in between. Prints each line that differs; ends with 1 when one does, or when a server
//! asks to sign in.

use std::collections::{BTreeSet, VecDeque};
use std::process::ExitCode;

/// Stretches that are over: exact ones, and those that are merged from hours and days.
const LENGTHS_H: [i64; 3] = [6, 60, 400];
/// So many pages are compared for each stretch.
const MOST: usize = 400;
/// Addresses that do something, give a token or a file of the program.
const NOT: [&str; 5] = ["/static/", "/snippet", "/healthz", "/api/", "/sign-"];
const NOT_WITHIN: [&str; 2] = ["/journeys/record", "/api/"];

/// Text of a page without its markup, a line each.
fn lines(html: &str) -> Vec<String> {
    let body = html.split("<main").nth(1).unwrap_or(html);
    let mut text = String::new();
    for piece in body.split('<') {
        let (tag, rest) = piece.split_once('>').unwrap_or((piece, ""));
        // Where things are drawn and where links lead is part of what a page says.
        for name in
            [" href=\"", " d=\"", " points=\"", " aria-label=\"", " title=\"", " data-reads=\""]
        {
            if let Some(value) = tag.split(name).nth(1) {
                text +=
                    &format!("{}{}\n", name.trim_start(), value.split('"').next().unwrap_or(""));
            }
        }
        let rest: Vec<&str> = rest.split_whitespace().collect();
        if !rest.is_empty() {
            text += &format!("{}\n", rest.join(" "));
        }
    }
    text.lines().map(str::to_string).collect()
}

/// Paths that a page leads to, without what says when.
fn links(html: &str) -> Vec<String> {
    let found =
        ["href=\"/", "hx-get=\"/"].into_iter().flat_map(|before| html.split(before).skip(1));
    let paths = found
        .filter_map(|rest| Some(format!("/{}", rest.split('"').next()?.replace("&#38;", "&"))));
    let paths = paths.map(|address| {
        let (path, query) = address.split_once('?').unwrap_or((&address, ""));
        let own = query
            .split('&')
            .filter(|p| !["from=", "to=", "against="].iter().any(|when| p.starts_with(when)));
        let own: Vec<&str> = own.filter(|p| !p.is_empty()).collect();
        if own.is_empty() { path.to_string() } else { format!("{path}?{}", own.join("&")) }
    });
    let is_page = |p: &String| {
        !NOT.iter().any(|not| p.starts_with(not)) && !NOT_WITHIN.iter().any(|not| p.contains(not))
    };
    paths.filter(is_page).collect()
}

#[tokio::main]
async fn main() -> ExitCode {
    let servers: Vec<String> = std::env::args().skip(1).collect();
    let [before, after, site, session] = &servers[..] else {
        eprintln!("two addresses, that of before and that of after, a site, and a session");
        return ExitCode::FAILURE;
    };
    let client = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none());
    let client = client.build().unwrap_or_default();
    let cookie = format!("cadentis_session={session}");
    let asks_who = std::cell::Cell::new(false);
    let get = async |address: String| {
        let answer = client.get(&address).header("cookie", &cookie).send().await;
        let answer = answer.unwrap_or_else(|e| panic!("{address}: {e}"));
        let status = answer.status().as_u16();
        let to = answer.headers().get("location").and_then(|to| to.to_str().ok());
        asks_who.set(asks_who.get() || to.is_some_and(|to| to.starts_with("/sign-in")));
        let text = answer.text().await.unwrap_or_default();
        // Each tells its own address in commands and snippets.
        (status, text.replace(before, "http://server").replace(after, "http://server"))
    };
    let end = jiff::Timestamp::now().as_second() / 3_600 * 3_600 - 2 * 3_600;
    let moment =
        |s: i64| jiff::Timestamp::from_second(s).map(|t| t.strftime("%Y-%m-%dT%H:%MZ").to_string());
    let (mut compared, mut differ) = (0, 0);
    for hours in LENGTHS_H {
        let when = format!(
            "from={}&to={}&against=week",
            moment(end - hours * 3_600).unwrap_or_default(),
            moment(end).unwrap_or_default()
        );
        let mut waiting: VecDeque<String> =
            ["", "/journeys", "/visitors", "/goals"].map(|place| format!("/{site}{place}")).into();
        let mut seen: BTreeSet<String> = waiting.iter().cloned().collect();
        let mut done = 0;
        while let Some(path) = waiting.pop_front() {
            if done == MOST {
                break;
            }
            done += 1;
            let asked = format!("{path}{}{when}", if path.contains('?') { '&' } else { '?' });
            let (one, other) =
                (get(format!("{before}{asked}")).await, get(format!("{after}{asked}")).await);
            // What begins alike comes once: a hundred runs say no more than a few.
            let kind = |p: &str| {
                p.split('?').next().unwrap_or(p).rsplit_once('/').map_or("", |(k, _)| k).to_string()
            };
            for link in links(&one.1) {
                let alike = seen.iter().filter(|s| kind(s) == kind(&link)).count();
                if alike < 12 && seen.insert(link.clone()) {
                    waiting.push_back(link);
                }
            }
            compared += 1;
            let (old, new) = (lines(&one.1), lines(&other.1));
            if one.0 == other.0 && old == new {
                continue;
            }
            differ += 1;
            println!("{asked}: {} and {}", one.0, other.0);
            let differing = old.iter().zip(&new).filter(|(a, b)| a != b).take(4);
            differing.for_each(|(a, b)| println!("  - {a:.200}\n  + {b:.200}"));
        }
    }
    if asks_who.get() {
        eprintln!("a server asks to sign in: nothing was compared behind it");
        return ExitCode::FAILURE;
    }
    println!("{compared} pages compared, {differ} differ");
    if differ == 0 { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}
