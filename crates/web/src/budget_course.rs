//! How a goal stands: its readings and the course of its error budget, wherever it is shown.

use crate::draw::{Axis, band, line, ticks};
use crate::format;
use crate::frame::{Frame, WIDTH, drawn_windows, tone};
use crate::view::{Figure, Mark, Pin, Window};
use cadentis_answers::goals;
use cadentis_answers::goals::words::{measured, part};
use cadentis_core::calendar::stretch::{at_second, length_text};
use cadentis_core::goal::{ErrorBudget, Measure, Standing};
use cadentis_core::stats::share::share_text;

/// What is left of an error budget over its window, ready to draw on 1248 × 150 units.
pub struct BudgetCourse {
    /// What the window is called.
    pub window: String,
    pub from_s: i64,
    pub to_s: i64,
    pub ticks: Vec<Mark>,
    pub windows: Vec<Window>,
    pub pins: Vec<Pin>,
    pub area: String,
    pub line: String,
    pub pace: String,
    pub reads: String,
    pub now_x: Option<f64>,
}

/// The course of a goal over the window of this name.
pub fn course(frame: &Frame, c: &goals::Card, name: &str) -> BudgetCourse {
    let axis = Axis { stretch: c.window, left: 196.0, width: WIDTH - 232.0 };
    let y = |b: &ErrorBudget| 120.0 - 112.0 * b.left_share().unwrap_or(0.0).clamp(-0.04, 1.0);
    let points: Vec<(f64, f64)> =
        c.course.iter().map(|(s, b)| (axis.x(at_second(*s)), y(b))).collect();
    let reads: Vec<(i64, String)> =
        c.course.iter().map(|(s, b)| (*s, format!("{} left", part(c, b, b.left_ms())))).collect();
    BudgetCourse {
        window: name.to_string(),
        from_s: c.window.from.as_second(),
        to_s: c.window.to.as_second(),
        ticks: ticks(&axis, &frame.site.zone),
        windows: drawn_windows(&c.left_out, &axis),
        pins: frame.pins(&c.markers, &axis),
        area: band(&points.iter().map(|(x, y)| (*x, *y, 120.0)).collect::<Vec<_>>()),
        line: line(points.iter().map(|p| Some(*p))),
        pace: line([Some((axis.left, 8.0)), Some((axis.right(), 120.0))]),
        reads: serde_json::to_string(&reads).unwrap_or_default(),
        now_x: c.window.contains(frame.now).then(|| axis.x(frame.now)),
    }
}

/// How fast an error budget is spent.
pub fn rate(rate: Option<f64>) -> String {
    rate.map_or("–".into(), |b| format!("{b:.1}×"))
}

/// The readings of a goal.
pub fn figures(c: &goals::Card) -> Vec<Figure> {
    let (budget, promised) = (&c.budget, c.version.definition.promised);
    let burn = |rate: Option<f64>, label: &str| {
        let fast = rate.is_some_and(|b| b > 1.0);
        Figure::new(
            rate.map_or("–".into(), |b| format!("{b:.1}×")),
            label.into(),
            if fast { "strained" } else { "within" },
        )
    };
    let mut all = vec![Figure::new(
        format::percent(budget.score.share(), 2, Some(promised)),
        format!(
            "{} · goal {} %",
            measured(&c.version.definition.measure),
            share_text(promised, 2, None)
        ),
        tone(Standing::of_share(budget.score.share(), promised)),
    )];
    if let Some(uptime) = c.uptime.filter(|_| c.version.definition.measure != Measure::Uptime) {
        all.push(Figure::new(
            format::percent(uptime.share(), 2, Some(1.0)),
            "uptime · reached from somewhere".into(),
            "within",
        ));
    }
    all.extend([
        Figure::new(
            part(c, budget, budget.left_ms()),
            match c.views {
                Some(_) => "of the error budget left".into(),
                None => format!("error budget left of {}", length_text(budget.allowed_ms())),
            },
            tone(Standing::of_error_budget(budget.left_share())),
        ),
        burn(c.burn_window, "burn rate · this period"),
        burn(c.burn_day, "burn rate · last 24 h"),
    ]);
    all
}
