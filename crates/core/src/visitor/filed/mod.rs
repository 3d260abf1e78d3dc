//! Page views filed into sheets by columns, and read back row by row.
//!
//! One sheet holds an hour's page views, another what happened on them; both tell the attributes under the same names,
//! so that one filter narrows either. A column in which nobody told anything is left out.

pub mod attribute;
pub mod cell;
pub mod measured;
pub mod sheet;

use crate::visitor::beacon::PageView;
use crate::visitor::beacon::family::Families;
use crate::visitor::filed::attribute::Attribute;
use crate::visitor::filed::sheet::{Column, IdMap, Sheet, SheetError};
use crate::visitor::happening::{Fault, Happened};
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet};
use uuid::Uuid;

/// What a page view reported, in milliseconds from the navigation's beginning; lookup and connecting are lengths.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Moments {
    /// When the name was looked up.
    pub lookup: Option<f64>,
    /// When it was connected.
    pub connect: Option<f64>,
    /// When the first byte came.
    pub ttfb: Option<f64>,
    /// When something was drawn.
    pub fcp: Option<f64>,
    /// When the largest was drawn.
    pub lcp: Option<f64>,
}

/// What a page view came to, as the column `ended` has it.
pub fn ended(abandoned: bool, blank: bool) -> &'static str {
    match (abandoned, blank) {
        (false, false) => "",
        (true, false) => "abandoned",
        (false, true) => "blank",
        (true, true) => "abandoned, blank",
    }
}

/// Numbers of a page view: name of the column, and where it stands.
type Number = (&'static str, fn(&PageView) -> Option<f64>);

/// When something was painted, unless the page was opened in a tab that nobody looked at: it is then painted when somebody
/// comes, which tells of the person and not of the page. web-vitals leaves these out, too (`onFCP`, `onLCP`: only what
/// was painted before the page was first hidden).
fn painted_in_view(v: &PageView, painted: Option<f64>) -> Option<f64> {
    painted.filter(|_| !v.beacon.more.background)
}

const NUMBERS: [Number; 14] = [
    ("lcp", |v| painted_in_view(v, v.beacon.lcp)),
    ("inp", |v| v.beacon.inp),
    ("cls", |v| v.beacon.cls),
    ("fcp", |v| painted_in_view(v, v.beacon.fcp)),
    ("ttfb", |v| v.beacon.ttfb),
    ("load", |v| v.beacon.load),
    ("dns", |v| v.beacon.dns),
    ("connect", |v| v.beacon.connect),
    ("errors", |v| Some(f64::from(v.beacon.errors)).filter(|n| *n > 0.0)),
    ("lcp_delay", |v| v.beacon.more.lcp_delay),
    ("lcp_fetch", |v| v.beacon.more.lcp_fetch),
    ("lcp_render", |v| v.beacon.more.lcp_render),
    ("long_frames", |v| v.beacon.more.long_frames),
    ("late", |v| Some(v.received_at.duration_since(v.at).as_secs_f64())),
];

/// The numbers of a page view, by name.
pub fn numbers() -> impl Iterator<Item = &'static str> {
    NUMBERS.iter().map(|(name, _)| *name)
}

/// Texts of a page view that are no attributes.
type Text = (&'static str, fn(&PageView) -> String);

const TEXTS: [Text; 10] = [
    ("path", |v| v.path.clone()),
    ("ip", |v| v.ip.to_string()),
    ("how", |v| v.beacon.more.how.clone()),
    // A page that nobody looked at is not blank to anybody.
    ("ended", |v| {
        ended(v.beacon.abandoned, v.beacon.blank && !v.beacon.more.background).to_string()
    }),
    ("background", |v| if v.beacon.more.background { "yes" } else { "" }.to_string()),
    ("error", |v| v.beacon.error.clone().unwrap_or_default()),
    ("lcp_element", |v| v.beacon.more.lcp_element.clone()),
    ("cls_element", |v| v.beacon.more.cls_element.clone()),
    ("inp_element", |v| v.beacon.more.inp_element.clone()),
    ("inp_script", |v| v.beacon.more.inp_script.clone()),
];

/// Columns that tell of one person: emptied when their time is over.
pub const PERSONAL: [&str; 5] = ["ip", "person", "visit", "error", "text"];

fn attribute(view: &PageView, attribute: &Attribute) -> String {
    match attribute {
        Attribute::Family => view.family.clone(),
        Attribute::Device => view.beacon.device.word().into(),
        Attribute::Country => view.country.clone(),
        Attribute::Region => view.region.clone(),
        Attribute::City => view.city.clone(),
        Attribute::Browser => view.browser.to_string(),
        Attribute::Os => view.os.to_string(),
        Attribute::Connection => view.beacon.connection.clone(),
        Attribute::Release => view.beacon.more.release.clone(),
        Attribute::Environment => view.beacon.more.environment.clone(),
        Attribute::Own(key) => view.beacon.more.attributes.get(key).cloned().unwrap_or_default(),
    }
}

/// The hour's page views; `views` are in order of time.
///
/// # Errors
/// Never, unless columns were made of different numbers of rows: a mistake here.
pub fn page_views(hour_s: i64, views: &[PageView]) -> Result<Sheet, SheetError> {
    let mut sheet = Sheet::new(hour_s);
    sheet.put("at", Column::Moments(views.iter().map(|v| since(hour_s, v.at)).collect()))?;
    sheet.put("id", Column::ids(views.iter().map(|v| v.beacon.id.as_u128())))?;
    sheet.put("visit", Column::ids(views.iter().map(|v| v.beacon.visit.as_u128())))?;
    put_ids(&mut sheet, "person", views.iter().map(|v| u128::from(v.person)))?;
    put_attributes(&mut sheet, views)?;
    for (name, of) in TEXTS {
        put_words(&mut sheet, name, views.iter().map(of))?;
    }
    for (name, of) in NUMBERS {
        put_numbers(&mut sheet, name, views.iter().map(of))?;
    }
    let (numbers, _) = own_names(views.iter().flat_map(|v| v.beacon.more.numbers.keys()));
    for name in numbers {
        put_numbers(
            &mut sheet,
            &format!("number.{name}"),
            views.iter().map(|v| v.beacon.more.numbers.get(name).copied()),
        )?;
    }
    Ok(sheet)
}

/// What happened on the hour's page views; each at the moment of its page view, `after` so many milliseconds. `ours`
/// says whether a host is the site's.
///
/// # Errors
/// As [`page_views`].
pub fn happenings(
    hour_s: i64,
    views: &[PageView],
    ours: impl Fn(&str) -> bool,
) -> Result<Sheet, SheetError> {
    let all: Vec<(&PageView, usize)> = views
        .iter()
        .flat_map(|v| (0..v.beacon.more.happened.len()).map(move |nth| (v, nth)))
        .collect();
    let mut sheet = Sheet::new(hour_s);
    if all.is_empty() {
        return Ok(sheet);
    }
    let each = || all.iter().map(|(v, nth)| &v.beacon.more.happened[*nth]);
    sheet.put("at", Column::Moments(all.iter().map(|(v, _)| since(hour_s, v.at)).collect()))?;
    sheet.put("view", Column::ids(all.iter().map(|(v, _)| v.beacon.id.as_u128())))?;
    sheet.put("visit", Column::ids(all.iter().map(|(v, _)| v.beacon.visit.as_u128())))?;
    put_ids(&mut sheet, "person", all.iter().map(|(v, _)| u128::from(v.person)))?;
    put_numbers(&mut sheet, "nth", all.iter().map(|(_, nth)| Some(*nth as f64)))?;
    for a in Attribute::ALL {
        put_words(&mut sheet, &a.name(), all.iter().map(|(v, _)| attribute(v, &a)))?;
    }
    put_words(&mut sheet, "what", each().map(|h| h.what.word().to_string()))?;
    put_words(&mut sheet, "name", each().map(|h| h.family()))?;
    put_words(&mut sheet, "text", each().map(|h| h.name.clone()))?;
    put_words(&mut sheet, "code", each().map(|h| h.code.clone()))?;
    put_words(&mut sheet, "trace", each().map(|h| h.trace.clone()))?;
    put_words(&mut sheet, "stack", each().map(|h| h.stack.clone()))?;
    put_words(&mut sheet, "place", each().map(|h| h.place()))?;
    put_words(
        &mut sheet,
        "fault",
        each().map(|h| h.fault(&ours).map_or("", Fault::words).to_string()),
    )?;
    put_words(
        &mut sheet,
        "failed",
        each().map(|h| if h.is_failed() { "failed" } else { "" }.to_string()),
    )?;
    put_numbers(&mut sheet, "after", each().map(|h| Some(h.at)))?;
    put_numbers(&mut sheet, "ms", each().map(|h| h.ms))?;
    put_numbers(&mut sheet, "status", each().map(|h| h.status.map(f64::from)))?;
    put_numbers(&mut sheet, "bytes", each().map(|h| h.bytes))?;
    put_numbers(&mut sheet, "by", each().map(|h| h.by.map(f64::from)))?;
    Ok(sheet)
}

/// Of what happened in an hour what went wrong: few rows, which questions about failures read instead of all. An hour in
/// which nothing did has a sheet without rows, so that it is told from one that nobody has looked at.
///
/// # Errors
/// As [`page_views`].
pub fn failures(told: &Sheet) -> Result<Sheet, SheetError> {
    let failed = told.texts("failed");
    let keep: Vec<bool> = (0..told.rows).map(|row| !failed.at(row).is_empty()).collect();
    if keep.contains(&true) {
        return Ok(told.only(&keep));
    }
    let mut none = Sheet::new(told.hour_s);
    none.put("at", Column::Moments(Vec::new()))?;
    Ok(none)
}

/// How many page views of an hour are in another family than the one that their path has now. Only paths and families are looked
/// at.
pub fn in_other_families(views: &Sheet, families: &Families) -> u64 {
    let (Some(paths), Some(held)) = (views.words("path"), views.words("family")) else { return 0 };
    // Each path once, not each row.
    let of_path: Vec<&str> = paths.values.iter().map(|p| families.of(p)).collect();
    let now = paths.codes.iter().map(|code| of_path[code]);
    now.zip(held.rows()).filter(|(now, was)| now != was).count() as u64
}

/// The sheets of an hour with each page view in the family that its path has now, and how many changed; `None` when none
/// did.
///
/// # Errors
/// As [`page_views`].
pub fn refiled(
    views: &Sheet,
    told: &Sheet,
    families: &Families,
) -> Result<Option<(Sheet, Sheet, u64)>, SheetError> {
    let changed = in_other_families(views, families);
    let Some(paths) = views.words("path").filter(|_| changed > 0) else { return Ok(None) };
    let of_path: Vec<&str> = paths.values.iter().map(|p| families.of(p)).collect();
    let now = || paths.codes.iter().map(|code| of_path[code]);
    let (mut views, mut told) = (views.clone(), told.clone());
    if let (Some(ids), Some(of)) = (views.ids("id"), told.ids("view")) {
        let by_id: IdMap<&str> = ids.rows().copied().zip(now()).collect();
        let was = told.words("family");
        let family = |(row, id): (usize, &u128)| match by_id.get(id) {
            Some(name) => name.to_string(),
            None => was.and_then(|w| w.get(row)).cloned().unwrap_or_default(),
        };
        let families = Column::words(of.rows().enumerate().map(family));
        told.put("family", families)?;
    }
    let families = Column::words(now());
    views.put("family", families)?;
    Ok(Some((views, told, changed)))
}

fn since(hour_s: i64, at: Timestamp) -> u32 {
    u32::try_from(at.as_millisecond() - hour_s * 1_000).unwrap_or(0)
}

/// A site has at most so many attributes in an hour, and so many numbers: each is a column. Those that most page views
/// have are filed.
pub const MAX_OWN_COLUMNS: usize = 50;

/// Names that may be columns, and how many others there are.
fn own_names<'a>(names: impl Iterator<Item = &'a String>) -> (BTreeSet<&'a String>, usize) {
    let mut counts: BTreeMap<&String, usize> = BTreeMap::new();
    names.for_each(|name| *counts.entry(name).or_default() += 1);
    let mut ranked: Vec<(&String, usize)> = counts.into_iter().collect();
    ranked.sort_by_key(|(name, n)| (std::cmp::Reverse(*n), *name));
    let over = ranked.len().saturating_sub(MAX_OWN_COLUMNS);
    (ranked.into_iter().take(MAX_OWN_COLUMNS).map(|(name, _)| name).collect(), over)
}

/// How many names of attributes and numbers an hour has beyond those that are filed.
pub fn names_over(views: &[PageView]) -> usize {
    own_names(views.iter().flat_map(|v| v.beacon.more.attributes.keys())).1
        + own_names(views.iter().flat_map(|v| v.beacon.more.numbers.keys())).1
}

fn put_attributes(sheet: &mut Sheet, views: &[PageView]) -> Result<(), SheetError> {
    let (attributes, _) = own_names(views.iter().flat_map(|v| v.beacon.more.attributes.keys()));
    let attributes = attributes.into_iter().map(|key| Attribute::Own(key.clone()));
    for a in Attribute::ALL.into_iter().chain(attributes) {
        put_words(sheet, &a.name(), views.iter().map(|v| attribute(v, &a)))?;
    }
    Ok(())
}

fn put_words(
    sheet: &mut Sheet,
    name: &str,
    rows: impl Iterator<Item = String>,
) -> Result<(), SheetError> {
    match Column::words(rows) {
        Column::Words(w) if w.values.iter().all(String::is_empty) => Ok(()),
        column => sheet.put(name, column),
    }
}

fn put_ids(
    sheet: &mut Sheet,
    name: &str,
    rows: impl Iterator<Item = u128>,
) -> Result<(), SheetError> {
    match Column::ids(rows) {
        Column::Ids(ids) if ids.values.iter().all(|id| *id == 0) => Ok(()),
        column => sheet.put(name, column),
    }
}

fn put_numbers(
    sheet: &mut Sheet,
    name: &str,
    rows: impl Iterator<Item = Option<f64>>,
) -> Result<(), SheetError> {
    match Column::numbers(rows.map(|n| n.map(|n| n as f32))) {
        Column::Numbers(n) if n.iter().all(|n| n.is_none()) => Ok(()),
        column => sheet.put(name, column),
    }
}

/// One page view as its sheet has it.
#[derive(Debug, Clone, PartialEq)]
pub struct Seen {
    /// When.
    pub at: Timestamp,
    /// The page view.
    pub id: Uuid,
    /// The visit.
    pub visit: Uuid,
    /// 0 when nobody said who it was.
    pub person: u64,
    /// Page family.
    pub family: String,
    /// Path of the address.
    pub path: String,
    /// Kind of device.
    pub device: String,
    /// ISO 3166 code.
    pub country: String,
    /// Name of the browser.
    pub browser: String,
    /// Name of the operating system.
    pub os: String,
    /// Kind of connection.
    pub connection: String,
    /// Version of the site.
    pub release: String,
    /// How one came to the page.
    pub how: String,
    /// Opened in a tab that nobody looked at: when it was painted says nothing.
    pub background: bool,
    /// Milliseconds.
    pub lcp: Option<f32>,
    /// Milliseconds.
    pub inp: Option<f32>,
    /// No unit.
    pub cls: Option<f32>,
    /// Milliseconds.
    pub fcp: Option<f32>,
    /// Milliseconds.
    pub ttfb: Option<f32>,
    /// Milliseconds until it had loaded.
    pub load: Option<f32>,
    /// Looking up the name, in milliseconds.
    pub dns: Option<f32>,
    /// Connecting, in milliseconds.
    pub connect: Option<f32>,
    /// Milliseconds of LCP until loading it began.
    pub lcp_delay: Option<f32>,
    /// Milliseconds of LCP spent loading it.
    pub lcp_fetch: Option<f32>,
    /// Milliseconds of LCP spent until it was drawn.
    pub lcp_render: Option<f32>,
    /// Milliseconds that long frames took.
    pub long_frames: Option<f32>,
    /// Left before it had loaded.
    pub abandoned: bool,
    /// Stayed blank.
    pub blank: bool,
    /// Script errors.
    pub errors: u32,
    /// The first of them.
    pub error: Option<String>,
    /// What LCP was of.
    pub lcp_element: String,
    /// What shifted most.
    pub cls_element: String,
    /// What was interacted with.
    pub inp_element: String,
    /// The script that ran longest then.
    pub inp_script: String,
    /// Attributes and numbers that the page gave.
    pub attributes: Vec<(String, String)>,
}

impl Seen {
    /// A row of a sheet that holds all columns of page views.
    pub fn of(sheet: &Sheet, row: usize) -> Option<Seen> {
        let text = |name: &str| sheet.text(name, row).to_string();
        let number = |name: &str| sheet.number(name, row);
        let ended = sheet.text("ended", row);
        let label = |(name, _): (&str, &Column)| {
            if let Some(key) = name.strip_prefix("attribute.") {
                return Some((key.to_string(), text(name))).filter(|(_, v)| !v.is_empty());
            }
            let key = name.strip_prefix("number.")?;
            Some((key.to_string(), number(name)?.to_string()))
        };
        Some(Seen {
            at: Timestamp::from_millisecond(sheet.at_ms(row)?).ok()?,
            id: Uuid::from_u128(sheet.id("id", row)?),
            visit: Uuid::from_u128(sheet.id("visit", row).unwrap_or(0)),
            person: sheet.id("person", row).unwrap_or(0) as u64,
            family: text("family"),
            path: text("path"),
            device: text("device"),
            country: text("country"),
            browser: text("browser"),
            os: text("os"),
            connection: text("connection"),
            release: text("release"),
            how: text("how"),
            background: !sheet.text("background", row).is_empty(),
            lcp: number("lcp"),
            inp: number("inp"),
            cls: number("cls"),
            fcp: number("fcp"),
            ttfb: number("ttfb"),
            load: number("load"),
            dns: number("dns"),
            connect: number("connect"),
            lcp_delay: number("lcp_delay"),
            lcp_fetch: number("lcp_fetch"),
            lcp_render: number("lcp_render"),
            long_frames: number("long_frames"),
            abandoned: ended.starts_with("abandoned"),
            blank: ended.ends_with("blank"),
            errors: number("errors").unwrap_or(0.0) as u32,
            error: Some(text("error")).filter(|e| !e.is_empty()),
            lcp_element: text("lcp_element"),
            cls_element: text("cls_element"),
            inp_element: text("inp_element"),
            inp_script: text("inp_script"),
            attributes: sheet.columns().filter_map(label).collect(),
        })
    }

    /// When what happened, as far as it is known.
    pub fn moments(&self) -> Moments {
        let of = |v: Option<f32>| v.map(f64::from);
        Moments {
            lookup: of(self.dns),
            connect: of(self.connect),
            ttfb: of(self.ttfb),
            fcp: of(self.fcp),
            lcp: of(self.lcp),
        }
    }
}

/// One thing that happened, as its sheet has it.
#[derive(Debug, Clone, PartialEq)]
pub struct HappeningRow {
    /// When its page view began, and how many milliseconds later it happened.
    pub at: Timestamp,
    /// Milliseconds since the page view began.
    pub after: f64,
    /// Its place in what the page view told.
    pub nth: u16,
    /// The page view.
    pub view: Uuid,
    /// The visit.
    pub visit: Uuid,
    /// Hash of who it was; 0 when nobody said.
    pub person: u64,
    /// Of the page.
    pub family: String,
    /// Name of the browser.
    pub browser: String,
    /// Version of the site.
    pub release: String,
    /// What it is.
    pub what: Happened,
    /// Its name.
    pub name: String,
    /// What was said.
    pub text: String,
    /// How long it took, in milliseconds.
    pub ms: Option<f32>,
    /// Status of HTTP.
    pub status: Option<u16>,
    /// Bytes that came.
    pub bytes: Option<f32>,
    /// What the application called it.
    pub code: String,
    /// Id of the trace.
    pub trace: String,
    /// Where in the scripts, frame by frame.
    pub stack: String,
    /// Where in the scripts.
    pub place: String,
    /// In the words of [`Fault`]; empty when nobody's.
    pub fault: String,
    /// Whether it went wrong.
    pub failed: bool,
    /// The place of the action that led to it.
    pub by: Option<u16>,
}

impl HappeningRow {
    /// The columns it is made of.
    pub const COLUMNS: [&'static str; 22] = [
        "at", "after", "nth", "view", "visit", "person", "family", "browser", "release", "what",
        "name", "text", "ms", "status", "bytes", "code", "trace", "stack", "place", "fault",
        "failed", "by",
    ];

    /// The row of a sheet.
    pub fn of(sheet: &Sheet, row: usize) -> Option<HappeningRow> {
        let text = |name: &str| sheet.text(name, row).to_string();
        let number = |name: &str| sheet.number(name, row);
        Some(HappeningRow {
            at: Timestamp::from_millisecond(sheet.at_ms(row)?).ok()?,
            after: f64::from(number("after").unwrap_or(0.0)),
            nth: number("nth").unwrap_or(0.0) as u16,
            view: Uuid::from_u128(sheet.id("view", row)?),
            visit: Uuid::from_u128(sheet.id("visit", row).unwrap_or(0)),
            person: sheet.id("person", row).unwrap_or(0) as u64,
            family: text("family"),
            browser: text("browser"),
            release: text("release"),
            what: Happened::parse(sheet.text("what", row))?,
            name: text("name"),
            text: text("text"),
            ms: number("ms"),
            status: number("status").map(|n| n as u16),
            bytes: number("bytes"),
            code: text("code"),
            trace: text("trace"),
            stack: text("stack"),
            place: text("place"),
            fault: text("fault"),
            failed: !sheet.text("failed", row).is_empty(),
            by: number("by").map(|n| n as u16),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::stretch::at_second;
    use crate::visitor::Beacon;
    use crate::visitor::happening::Happening;
    use serde_json::json;

    const HOUR: i64 = 1_795_000_000 / 3_600 * 3_600;

    fn view(second: i64, more: serde_json::Value) -> PageView {
        let at = (HOUR + second) * 1_000;
        let mut beacon = json!({"id": Uuid::from_u128(second as u128 + 1), "seq": 1, "at": at, "sent": at, "visit": Uuid::from_u128(9),
            "url": "https://a.example/sailings", "device": "phone", "connection": "4g", "lcp": 1_500.5});
        more.as_object().into_iter().flatten().for_each(|(k, v)| beacon[k.as_str()] = v.clone());
        let beacon = Beacon::read(beacon.to_string().as_bytes()).unwrap().remove(0);
        PageView {
            at: at_second(HOUR + second),
            received_at: at_second(HOUR + second + 4),
            family: "Sailings".into(),
            path: "/sailings".into(),
            ip: "198.51.100.0".parse().unwrap(),
            country: "NO".into(),
            region: String::new(),
            city: String::new(),
            browser: "Chrome".into(),
            os: "Android".into(),
            person: 0,
            beacon,
        }
    }

    #[test]
    fn a_page_view_and_what_happened_on_it_are_read_back_as_they_were_told() {
        let views = [
            view(
                5,
                json!({"attributes": {"plan": "gold"}, "numbers": {"cart": 3}, "abandoned": true, "lcp_element": "img.hero"}),
            ),
            view(
                9,
                json!({"errors": 2, "error": "x", "happened": [
                    {"what": "action", "at": 900, "name": "button#search"},
                    {"what": "request", "at": 950, "name": "https://a.example/api/12?t=1", "method": "GET", "ms": 80.5, "status": 503, "by": 0},
                    {"what": "error", "at": 990, "name": "Error: 503", "stack": "at go (https://a.example/app.js:1:2)"},
                ]}),
            ),
        ];
        let sheet = page_views(HOUR, &views).unwrap();
        assert!(sheet.words("region").is_none() && sheet.ids("person").is_none(), "nobody told it");
        let seen: Vec<Seen> = (0..2).filter_map(|row| Seen::of(&sheet, row)).collect();
        assert_eq!(
            seen[0].attributes,
            [("plan".to_string(), "gold".to_string()), ("cart".into(), "3".into())]
        );
        assert_eq!(
            (seen[0].at, seen[0].lcp, seen[0].abandoned, seen[0].blank),
            (views[0].at, Some(1_500.5), true, false)
        );
        assert_eq!(
            (seen[1].errors, seen[1].error.as_deref(), seen[1].visit.as_u128()),
            (2, Some("x"), 9)
        );
        let told = happenings(HOUR, &views, |host| host == "a.example").unwrap();
        let told: Vec<HappeningRow> =
            (0..told.rows).filter_map(|row| HappeningRow::of(&told, row)).collect();
        assert_eq!(
            told.iter().map(|t| t.name.as_str()).collect::<Vec<_>>(),
            ["button#search", "GET a.example/api/‹n›", "Error: ‹n›"]
        );
        let request = &told[1];
        assert_eq!((request.ms, request.status, request.by), (Some(80.5), Some(503), Some(0)));
        assert_eq!(
            (request.fault.as_str(), request.failed, request.after),
            ("gateway", true, 950.0)
        );
        assert_eq!((told[2].place.as_str(), told[2].view), ("go app.js", views[1].beacon.id));
        let happening = &views[1].beacon.more.happened[0];
        assert_eq!(*happening, Happening::new(Happened::Action, 900.0, "button#search"));
    }

    #[test]
    fn a_page_opened_in_the_background_has_no_moment_of_painting_and_is_not_blank() {
        let hidden = json!({"background": true, "fcp": 900_000, "lcp": 900_100, "cls": 0.2, "ttfb": 80, "blank": true});
        let sheet = page_views(HOUR, &[view(5, hidden), view(9, json!({"fcp": 700}))]).unwrap();
        let seen: Vec<Seen> = (0..2).filter_map(|row| Seen::of(&sheet, row)).collect();
        assert_eq!(
            (seen[0].fcp, seen[0].lcp, seen[0].cls, seen[0].ttfb),
            (None, None, Some(0.2), Some(80.0))
        );
        assert_eq!((seen[0].background, seen[0].blank, seen[1].background), (true, false, false));
        assert_eq!((seen[1].fcp, seen[1].lcp), (Some(700.0), Some(1_500.5)));
    }

    #[test]
    fn however_many_names_pages_give_an_hour_has_a_bounded_number_of_columns() {
        let many = |second: i64| {
            let names: serde_json::Map<String, serde_json::Value> = (0..9)
                .map(|i| (format!("n{second}x{i}"), json!("x")))
                .chain([("plan".to_string(), json!("gold"))])
                .collect();
            let numbers: serde_json::Map<String, serde_json::Value> =
                (0..10).map(|i| (format!("m{second}x{i}"), json!(1))).collect();
            view(second, json!({ "attributes": names, "numbers": numbers }))
        };
        let views: Vec<PageView> = (0..100).map(many).collect();
        let sheet = page_views(HOUR, &views).unwrap();
        let of =
            |prefix: &str| sheet.columns().filter(|(name, _)| name.starts_with(prefix)).count();
        assert_eq!((of("attribute."), of("number.")), (MAX_OWN_COLUMNS, MAX_OWN_COLUMNS));
        assert!(sheet.words("attribute.plan").is_some(), "what most page views have is kept");
        assert_eq!(names_over(&views), 100 * 9 + 1 - MAX_OWN_COLUMNS + 100 * 10 - MAX_OWN_COLUMNS);
        assert_eq!(names_over(&views[..2]), 0);
    }

    #[test]
    fn new_families_are_told_by_page_views_and_by_what_happened_on_them() {
        let views = [
            view(
                5,
                json!({"url": "https://a.example/cabin/7", "happened": [{"what": "action", "at": 1, "name": "x"}]}),
            ),
            view(9, json!({"happened": [{"what": "action", "at": 1, "name": "y"}]})),
        ];
        let views: Vec<PageView> =
            views.into_iter().map(|v| PageView { path: v.beacon.path().into(), ..v }).collect();
        let (sheet, told) =
            (page_views(HOUR, &views).unwrap(), happenings(HOUR, &views, |_| true).unwrap());
        let families = Families::new([("/cabin/*", "Cabin"), ("/sailings/**", "Sailings")]);
        let (views, told, changed) = refiled(&sheet, &told, &families).unwrap().unwrap();
        assert_eq!(changed, 1, "the other was in its family already");
        assert_eq!(
            views.words("family").unwrap().rows().collect::<Vec<_>>(),
            ["Cabin", "Sailings"]
        );
        assert_eq!(told.words("family").unwrap().rows().collect::<Vec<_>>(), ["Cabin", "Sailings"]);
        assert_eq!(refiled(&views, &told, &families), Ok(None), "once is enough");
    }
}
