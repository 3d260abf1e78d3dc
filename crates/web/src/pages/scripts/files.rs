//! Scripts in and out as files: one `.cadentis` file, or a zip of many.

use crate::State;
use crate::access::{By, InSite};
use crate::error::PageError;
use crate::problem::Problem;
use actix_web::http::StatusCode;
use actix_web::{HttpResponse, web};
use cadentis_answers::changes;
use cadentis_answers::kept::PlaceAndPace;
use cadentis_answers::sites;
use cadentis_core::calendar::Pace;
use cadentis_core::journey::{self, MAX_SCRIPT_BYTES};
use serde::Deserialize;
use serde_json::{Value, json};
use std::io::{Cursor, Read, Write};
use zip::write::SimpleFileOptions;
use zip::{ZipArchive, ZipWriter};

/// No script is longer, and no archive holds more.
const LONGEST: u64 = MAX_SCRIPT_BYTES as u64;
const MOST: usize = 500;

/// `GET /journeys/export`: every journey that is not archived, as one zip.
pub async fn export_all(
    state: web::Data<State>,
    InSite(site): InSite,
) -> Result<HttpResponse, PageError> {
    let journeys = sites::journeys(&state.answers, site.id).await?;
    let cannot = |e: String| PageError::Broken(format!("the archive cannot be written: {e}"));
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    for j in journeys.iter().filter(|j| j.status != "archived") {
        let name = format!("{}.cadentis", j.slug);
        zip.start_file(name, SimpleFileOptions::default()).map_err(|e| cannot(e.to_string()))?;
        zip.write_all(j.script.as_bytes()).map_err(|e| cannot(e.to_string()))?;
    }
    let bytes = zip.finish().map_err(|e| cannot(e.to_string()))?.into_inner();
    Ok(HttpResponse::Ok()
        .content_type("application/zip")
        .insert_header(("content-disposition", "attachment; filename=\"journeys.zip\""))
        .body(bytes))
}

#[derive(Deserialize)]
pub struct Upload {
    /// The file's name.
    #[serde(default)]
    file: String,
}

/// `POST /journeys/import?file=`: the body is one script or a zip of them. Each that can be played becomes a
/// journey, paused, at all locations every five minutes; of each that cannot it is told why. Nothing that is there is
/// changed.
pub async fn import(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    brought: web::Query<Upload>,
    body: web::Bytes,
) -> Result<HttpResponse, PageError> {
    let scripts = match scripts_in(&body, &brought.file) {
        Ok(scripts) => scripts,
        Err(says) => return Ok(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, says).into()),
    };
    let parts = changes::journeys::parts_of(&site);
    let locations = sites::locations(&state.answers).await?;
    let locations: Vec<i32> = locations.iter().map(|l| l.id).collect();
    let pace = Pace::Every(300);
    let mut told: Vec<Value> = Vec::new();
    for (file, script) in scripts {
        let script = match script {
            Ok(script) => script,
            Err(says) => {
                told.push(json!({ "file": file, "says": says }));
                continue;
            }
        };
        let read = match journey::problems(&script, &parts).first() {
            Some(first) => Err(format!("{first}.")),
            None => journey::parse(&script).map_err(|e| format!("{e}.")),
        };
        let name = match read {
            Ok(journey) => journey.name,
            Err(says) => {
                told.push(json!({ "file": file, "says": says }));
                continue;
            }
        };
        let plays = PlaceAndPace::usual(&pace, &locations);
        let answers = &state.answers;
        let slug = changes::journeys::add(answers, &by, &site, &name, &script, plays).await?;
        told.push(json!({ "file": file, "journey": name, "slug": slug }));
    }
    Ok(HttpResponse::Ok().json(json!({ "files": told })))
}

type Script = (String, Result<String, String>);

/// The scripts of a file, each with its name; of one that is no text it is said so.
fn scripts_in(body: &[u8], file: &str) -> Result<Vec<Script>, String> {
    let text = |bytes: Vec<u8>| {
        let text = String::from_utf8(bytes).map_err(|_| "It is no text in UTF-8.".to_string())?;
        Ok(text.trim_start_matches('\u{feff}').replace("\r\n", "\n"))
    };
    // Every zip file that holds anything begins so (PKWARE APPNOTE, 4.3.7).
    if !body.starts_with(b"PK\x03\x04") {
        if body.len() as u64 > LONGEST {
            return Err(format!("A script has at most {LONGEST} bytes."));
        }
        return Ok(vec![(file.to_string(), text(body.to_vec()))]);
    }
    let mut zip = ZipArchive::new(Cursor::new(body))
        .map_err(|e| format!("The archive cannot be read: {e}."))?;
    if zip.len() > MOST {
        return Err(format!("An archive has at most {MOST} files."));
    }
    let mut scripts = Vec::new();
    for nth in 0..zip.len() {
        let entry = zip.by_index(nth).map_err(|e| format!("The archive cannot be read: {e}."))?;
        let name = entry
            .name()
            .map(|n| n.to_string())
            .map_err(|e| format!("The archive cannot be read: {e}."))?;
        if !name.ends_with(".cadentis") {
            continue;
        }
        // What it says of its size may be a lie: no more is read than a script may have.
        let mut bytes = Vec::new();
        let read = entry.take(LONGEST + 1).read_to_end(&mut bytes);
        let script = match read {
            Err(e) => Err(format!("It cannot be read: {e}.")),
            Ok(n) if n as u64 > LONGEST => Err(format!("A script has at most {LONGEST} bytes.")),
            Ok(_) => text(bytes),
        };
        scripts.push((name, script));
    }
    if scripts.is_empty() {
        return Err("There is no .cadentis file in the archive.".into());
    }
    Ok(scripts)
}
