//! What a link opens that shows one page to whoever has it: that page, at its stretch, and the parts that the page is made of.
//! Never visits and people, archives of requests, logs and scripts.

/// Pages of a site that can be shared, below its name, with the parts that they ask for; `*` is one part of an address. What
/// begins with `=` is the same at any stretch, such as a picture.
const PAGES: [(&str, &[&str]); 27] = [
    ("", &[]),
    ("/journeys", &[]),
    ("/journeys/*", &["places", "weeks", "changes"]),
    ("/journeys/*/runs", &[]),
    ("/locations/*", &[]),
    ("/runs/*", &["=pictures/*/*"]),
    ("/goals", &[]),
    ("/alerts", &[]),
    ("/alerts/*", &[]),
    ("/incidents", &[]),
    ("/incidents/*", &[]),
    ("/measures", &[]),
    ("/queries", &[]),
    ("/views/*", &["pieces/*"]),
    ("/reports/issues/*", &["=since", "=pdf", "=csv", "=json"]),
    ("/budgets", &[]),
    ("/dependencies", &[]),
    ("/maintenance", &[]),
    ("/markers", &[]),
    ("/markers/*", &[]),
    ("/visitors", &["explain", "breakdown"]),
    ("/visitors/family", &["load", "beside"]),
    ("/visitors/requests", &[]),
    ("/visitors/actions", &[]),
    ("/visitors/errors", &[]),
    ("/visitors/funnels", &[]),
    ("/visitors/blind-spots", &[]),
];

/// Pages below `/journeys` that are none of a journey.
const NO_JOURNEYS: [&str; 4] = ["new", "export", "import", "record"];

fn fits(pattern: &str, path: &str) -> bool {
    let (mut wanted, mut given) = (pattern.split('/'), path.split('/'));
    loop {
        match (wanted.next(), given.next()) {
            (None, None) => return true,
            (Some("*"), Some(part)) if !part.is_empty() && !NO_JOURNEYS.contains(&part) => {}
            (Some(wanted), Some(given)) if wanted == given && wanted != "*" => {}
            _ => return false,
        }
    }
}

/// Whether a page can be shared, by its path below the name of its site.
///
/// ```
/// use cadentis_core::share::can_be_shared;
/// assert!(can_be_shared("/runs/0190"));
/// assert!(!can_be_shared("/runs/0190/har") && !can_be_shared("/visitors/find"));
/// ```
pub fn can_be_shared(path: &str) -> bool {
    PAGES.iter().any(|(page, _)| fits(page, path))
}

/// Whether a page is shared over a time that goes on, instead of a stretch of its own: a view on a wall.
pub fn goes_on(path: &str, names: impl Fn(&str) -> bool) -> bool {
    fits("/views/*", path) && names("wall") && !names("from") && !names("to")
}

/// What of an address may differ from what was shared: which step of a run is looked at.
const FREE: [&str; 1] = ["step"];
/// What parts have in common with their page: its stretch, what it is compared with, and what narrows it.
const OF_PARTS: [&str; 4] = ["from", "to", "against", "only"];

/// Whether a link to `page` with these parameters opens `path` with those. Paths are below the name of the site; parameters
/// in the order of the address, without what the link itself holds.
pub fn opens(
    (page, shared): (&str, &[(String, String)]),
    (path, asked): (&str, &[(String, String)]),
) -> bool {
    let Some((_, parts)) = PAGES.iter().find(|(pattern, _)| fits(pattern, page)) else {
        return false;
    };
    let but_free = |all: &[(String, String)]| {
        let kept = all.iter().filter(|(name, _)| !FREE.contains(&name.as_str()));
        kept.cloned().collect::<Vec<_>>()
    };
    if path == page {
        return but_free(shared) == but_free(asked);
    }
    let below = path.strip_prefix(page).and_then(|rest| rest.strip_prefix('/'));
    let part = below.and_then(|rest| {
        parts.iter().find(|part| fits(part.strip_prefix('=').unwrap_or(part), rest))
    });
    let common = |all: &[(String, String)]| {
        let kept = all.iter().filter(|(name, _)| OF_PARTS.contains(&name.as_str()));
        kept.cloned().collect::<Vec<_>>()
    };
    // Without a stretch a part would be of now, which is not what was shared.
    part.is_some_and(|part| part.starts_with('=') || common(shared) == common(asked))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn pairs(query: &str) -> Vec<(String, String)> {
        let pair = |p: &str| p.split_once('=').map(|(n, v)| (n.to_string(), v.to_string()));
        query.split('&').filter_map(pair).collect()
    }

    fn opened(page: &str, shared: &str, path: &str, asked: &str) -> bool {
        opens((page, &pairs(shared)), (path, &pairs(asked)))
    }

    #[test]
    fn a_link_opens_its_page_at_its_stretch_and_what_the_page_is_made_of() {
        let at = "from=1&to=2&against=week";
        assert!(opened("/journeys/book", at, "/journeys/book", at));
        assert!(opened("/journeys/book", at, "/journeys/book/weeks", at));
        assert!(opened(
            "/visitors",
            "from=1&to=2&vital=INP",
            "/visitors/explain",
            "vital=INP&from=1&to=2"
        ));
        assert!(opened("/runs/7", at, "/runs/7", "step=2&from=1&to=2&against=week"));
        assert!(opened("/runs/7", at, "/runs/7/pictures/0/1", ""));
        for (path, asked) in [
            ("/journeys/book", "from=1&to=3&against=week"),
            ("/journeys/book", ""),
            ("/journeys/book", "from=1&to=2&against=week&only=device:phone"),
            ("/journeys/book/weeks", "from=0&to=2&against=week"),
            ("/journeys/book/weeks", ""),
            ("/journeys/other", at),
            ("/journeys/book/script", at),
            ("/journeys/book/runs", at),
            ("/journeys", at),
            ("", at),
        ] {
            assert!(!opened("/journeys/book", at, path, asked), "{path}?{asked}");
        }
        assert!(opened("/views/3", "wall=1", "/views/3/pieces/0", "version=2"));
        assert!(opened(
            "/views/3",
            "wall=1&only=device:phone",
            "/views/3/pieces/1",
            "version=2&only=device:phone"
        ));
        for (path, asked) in [
            ("/views/3", ""),
            ("/views/4/pieces/0", "version=2"),
            ("/views/3/pieces/0", "version=2&from=1&to=2"),
            ("/views/3/change", "wall=1"),
            ("/views", "wall=1"),
        ] {
            assert!(!opened("/views/3", "wall=1", path, asked), "{path}?{asked}");
        }
        for (path, asked) in [("pdf", ""), ("pdf", "paper=letter"), ("since", ""), ("json", at)] {
            assert!(opened("/reports/issues/7", at, &format!("/reports/issues/7/{path}"), asked));
            assert!(!opened("/reports/issues/7", at, &format!("/reports/issues/8/{path}"), asked));
        }
        let wall = |name: &str| name == "wall";
        assert!(goes_on("/views/3", wall) && !goes_on("/views/3", |_| false));
        assert!(!goes_on("/views/3", |_| true) && !goes_on("/goals", wall));
        for path in ["/runs/7/har", "/runs/7/log", "/runs/8", "/runs/7/pictures/0"] {
            assert!(!opened("/runs/7", at, path, at), "{path}");
        }
        for path in [
            "/visitors/arrivals",
            "/visitors/trouble",
            "/visitors/slowest",
            "/visitors/find",
            "/visitors/visits/1",
        ] {
            assert!(!can_be_shared(path) && !opened("/visitors", at, path, at), "{path}");
        }
        for path in [
            "/settings",
            "/journeys/new",
            "/journeys/export",
            "/har",
            "/api/pace",
            "/journeys/",
            "/start",
        ] {
            assert!(!can_be_shared(path), "{path}");
        }
    }

    proptest! {
        #[test]
        fn nothing_but_pages_of_the_list_and_their_parts_is_ever_opened(
            page in "(/(journeys|runs|visitors|goals|locations|settings)){0,1}(/[a-z0-9]{1,4}){0,2}",
            path in "(/(journeys|runs|visitors|goals|locations|settings|api)){0,1}(/[a-z0-9]{1,8}){0,3}",
        ) {
            let at = pairs("from=1&to=2");
            if opens((&page, &at), (&path, &at)) {
                prop_assert!(can_be_shared(&page));
                let below = format!("{page}/");
                prop_assert!(path == page || path.starts_with(&below));
            }
        }
    }
}
