//! A page against what was accepted of it.

use crate::acts::as_json;
use crate::browser::Ours;
use crate::play::{Done, Player, Stop, clock};
use base64::Engine;
use cadentis_core::journey::Ladder;
use cadentis_core::journey::text::masked;
use cadentis_core::run::looked::{changed, grid};
use cadentis_core::run::{Look, Looked};
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::time::Duration;
use tokio::time::Instant;

/// How often a page that is not as it was accepted is looked at again: it may still be filling.
const AGAIN: Duration = Duration::from_millis(250);
/// More of a page is not kept.
const LONGEST: usize = 200_000;

impl Player<'_> {
    /// Looks until the page is as it was accepted, or until patience ends. What is seen first when nothing was
    /// accepted yet is the page once it has loaded.
    pub(crate) async fn unchanged(
        &mut self,
        look: Look,
        without: Option<&Ladder>,
    ) -> Result<Done, Stop> {
        let key = format!("{}: {}", self.doing.step, look.word());
        let without = match without {
            Some(ladder) => as_json(&self.values.ladder(ladder)?),
            None => Value::Null,
        };
        self.wait(json!({ "what": "loaded", "loaded": true })).await?;
        let until = Instant::now() + self.doing.patience;
        loop {
            let mut seen = self.seen_now(look, &without).await?;
            let secrets: Vec<String> = self.setting.secrets.values().cloned().collect();
            seen = masked(&seen, &secrets);
            let says =
                self.setting.accepted.get(&key).and_then(|accepted| changed(look, accepted, &seen));
            if says.is_some() && Instant::now() < until {
                tokio::time::sleep(AGAIN).await;
                continue;
            }
            self.doing.looked.push(Looked { key, look, seen, changed: says.clone() });
            return match says {
                None => Ok(Done::at(clock())),
                Some(says) => Err(Stop::Unmet(says)),
            };
        }
    }

    async fn seen_now(&mut self, look: Look, without: &Value) -> Result<String, Stop> {
        let ask = |what: &str| json!({ "what": what, "ladder": without });
        match look {
            Look::Text | Look::Structure => {
                let answer =
                    self.browser()?.ask(&ask(look.word()), Duration::from_secs(10)).await?;
                let seen = answer.as_ref().and_then(|a| a["seen"].as_str()).unwrap_or_default();
                Ok(seen.chars().take(LONGEST).collect())
            }
            Look::Hosts => {
                let about = self
                    .browser()?
                    .ask_window(&json!({ "what": "about" }), Duration::from_secs(10))
                    .await?;
                let address =
                    about.and_then(|a| a["address"].as_str().map(String::from)).unwrap_or_default();
                let own = address
                    .split_once("://")
                    .map_or("", |(_, rest)| rest.split('/').next().unwrap_or(""));
                let (requests, _) = self.seen();
                let hosts: BTreeSet<&str> =
                    requests.iter().map(|r| r.host()).filter(|h| *h != own).collect();
                Ok(hosts.into_iter().collect::<Vec<_>>().join("\n"))
            }
            Look::Picture => {
                let answer = self.browser()?.ask(&ask("boxes"), Duration::from_secs(10)).await?;
                let answer = answer.unwrap_or_default();
                let scale = answer["scale"].as_f64().unwrap_or(1.0);
                let side = |v: &Value| v.as_f64().map_or(0.0, |v| v * scale);
                let boxes: Vec<(f64, f64, f64, f64)> = answer["boxes"]
                    .as_array()
                    .into_iter()
                    .flatten()
                    .map(|b| (side(&b[0]), side(&b[1]), side(&b[2]), side(&b[3])))
                    .collect();
                let png = self.browser()?.exact_picture().await?;
                let (pixels, width) = grey(&png).ok_or_else(|| {
                    Stop::Ours(Ours::Cannot("The picture of the page cannot be read".into()))
                })?;
                Ok(grid(&pixels, width, &boxes))
            }
        }
    }
}

/// The brightness of each pixel, row by row, and how many there are in a row.
fn grey(base64: &str) -> Option<(Vec<u8>, usize)> {
    let bytes = base64::engine::general_purpose::STANDARD.decode(base64).ok()?;
    let mut decoder = png::Decoder::new(std::io::Cursor::new(bytes));
    decoder.set_transformations(png::Transformations::EXPAND | png::Transformations::STRIP_16);
    let mut reader = decoder.read_info().ok()?;
    let mut pixels = vec![0; reader.output_buffer_size()?];
    let info = reader.next_frame(&mut pixels).ok()?;
    let channels = info.color_type.samples();
    // Weights of the three colours as in ITU-R BT.601.
    let shade = |p: &[u8]| match p {
        [r, g, b, ..] => {
            ((299 * u32::from(*r) + 587 * u32::from(*g) + 114 * u32::from(*b)) / 1000) as u8
        }
        [grey, ..] => *grey,
        [] => 0,
    };
    Some((pixels[..info.buffer_size()].chunks(channels).map(shade).collect(), info.width as usize))
}
