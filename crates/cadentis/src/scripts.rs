//! `cadentis pull` and `cadentis push`: the scripts of a site as files of a folder, such as one under version control.
//!
//! A file beside them, `.cadentis.json`, holds which version each was when it was last the same here and there: by that it is known
//! who changed what. Nothing that somebody changed is written over, unless it is asked for.

use crate::Failure;
use crate::asking::{ServerArgs, part, why_not};
use cadentis_core::journey;
use cadentis_core::text::slug;
use cadentis_https::{Method, StatusCode};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use similar::TextDiff;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::ExitCode;

#[derive(clap::Args)]
pub struct Args {
    /// The folder of scripts, one NAME.cadentis for each journey by its name in addresses
    folder: PathBuf,
    /// Say what would be done, line by line, and do nothing
    #[arg(long)]
    dry_run: bool,
    /// Write over what somebody else changed meanwhile
    #[arg(long)]
    over: bool,
    #[command(flatten)]
    server: ServerArgs,
}

#[derive(clap::Args)]
pub struct PushArgs {
    /// Why, as versions tell it
    #[arg(long, default_value = "")]
    note: String,
    #[command(flatten)]
    with: Args,
}

/// What was the same here and there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Base {
    version: i32,
    sha256: String,
}

#[derive(Debug, Default, Serialize, Deserialize)]
struct Kept {
    site: String,
    scripts: BTreeMap<String, Base>,
}

/// The newest version of a journey's script at the server.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
struct Theirs {
    journey: String,
    status: String,
    version: i32,
    author: String,
    saved_at: String,
    by_you: bool,
    #[serde(default)]
    script: String,
}

/// What is done with one script.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Deed {
    /// It is the same here and there.
    Same,
    /// The file is written.
    Write,
    /// It is saved at the server, after this version; a journey is added without one.
    Save(Option<i32>),
    /// It was changed there alone, or here alone, and goes the other way.
    OtherWay,
    /// Both changed it; why.
    Conflict(String),
}

const STATE: &str = ".cadentis.json";
const ENDING: &str = "cadentis";

fn sha256(text: &str) -> String {
    Sha256::digest(text.as_bytes()).iter().map(|b| format!("{b:02x}")).collect()
}

fn conflict(theirs: &Theirs) -> Deed {
    let Theirs { author, version, saved_at, .. } = theirs;
    Deed::Conflict(format!(
        "{author} saved version {version} on {saved_at}, and it was changed here, too"
    ))
}

/// Whether a file is another one than when it was last the same here and there.
fn is_changed(here: &str, base: Option<&Base>) -> bool {
    base.is_none_or(|base| base.sha256 != sha256(here))
}

/// What pulling does with one script.
fn pulled(here: Option<&str>, base: Option<&Base>, theirs: &Theirs, over: bool) -> Deed {
    match here {
        None => Deed::Write,
        Some(here) if here == theirs.script => Deed::Same,
        Some(here) if over || !is_changed(here, base) => Deed::Write,
        Some(_) if base.is_some_and(|base| base.version == theirs.version) => Deed::OtherWay,
        Some(_) => conflict(theirs),
    }
}

/// What pushing does with one script.
fn pushed(here: &str, base: Option<&Base>, theirs: Option<&Theirs>, over: bool) -> Deed {
    match (theirs, base) {
        (None, Some(_)) if !over => Deed::Conflict(
            "there is no such journey any more: take the file away, or push it over".into(),
        ),
        (None, _) => Deed::Save(None),
        (Some(theirs), _) if here == theirs.script => Deed::Same,
        (Some(_), base) if !is_changed(here, base) => Deed::OtherWay,
        // What the same token saved came from where this comes from.
        (Some(theirs), base)
            if over || theirs.by_you || base.is_some_and(|b| b.version == theirs.version) =>
        {
            Deed::Save(Some(theirs.version))
        }
        (Some(theirs), _) => conflict(theirs),
    }
}

struct Folder<'a> {
    path: &'a Path,
    kept: Kept,
}

impl<'a> Folder<'a> {
    fn open(path: &'a Path, site: &str) -> Result<Folder<'a>, Failure> {
        let file = path.join(STATE);
        let kept: Kept = match std::fs::read(&file) {
            Ok(bytes) => serde_json::from_slice(&bytes).map_err(|e| {
                format!("{} cannot be read ({e}): take it away and pull anew", file.display())
            })?,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Kept::default(),
            Err(e) => return Err(format!("{}: {e}", file.display()).into()),
        };
        if !kept.site.is_empty() && kept.site != site {
            return Err(format!(
                "{} holds scripts of {}, not of {site}",
                path.display(),
                kept.site
            )
            .into());
        }
        Ok(Folder { path, kept: Kept { site: site.into(), ..kept } })
    }

    fn file(&self, name: &str) -> PathBuf {
        self.path.join(format!("{name}.{ENDING}"))
    }

    /// A script as it is here; nothing without a file.
    fn script(&self, name: &str) -> Result<Option<String>, Failure> {
        let file = self.file(name);
        match std::fs::read_to_string(&file) {
            Ok(text) => Ok(Some(text.trim_start_matches('\u{feff}').replace("\r\n", "\n"))),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(format!("{}: {e}", file.display()).into()),
        }
    }

    /// The names of all scripts that are here.
    fn names(&self) -> Result<BTreeSet<String>, Failure> {
        let all = std::fs::read_dir(self.path);
        let all = all.map_err(|e| format!("{}: {e}", self.path.display()))?;
        let mut names = BTreeSet::new();
        for entry in all {
            let path = entry?.path();
            let is_script = path.extension().is_some_and(|ending| ending == ENDING);
            if let Some(name) = path.file_stem().and_then(|n| n.to_str()).filter(|_| is_script) {
                if slug(name) != name {
                    return Err(format!(
                        "{}: a file is called as its journey in addresses, such as {}.{ENDING}",
                        path.display(),
                        slug(name)
                    )
                    .into());
                }
                names.insert(name.to_string());
            }
        }
        Ok(names)
    }

    fn same(&mut self, name: &str, version: i32, script: &str) {
        self.kept.scripts.insert(name.into(), Base { version, sha256: sha256(script) });
    }

    fn close(&self) -> Result<(), Failure> {
        let text = serde_json::to_string_pretty(&self.kept)? + "\n";
        Ok(std::fs::write(self.path.join(STATE), text)?)
    }
}

/// The server could not be asked, or said no.
fn refused((status, told): (StatusCode, Value)) -> Failure {
    format!("the server said no ({status}): {}", why_not(&told)).into()
}

async fn theirs(server: &ServerArgs) -> Result<Vec<Theirs>, Failure> {
    match server.ask_all("/scripts").await? {
        (StatusCode::OK, told) => Ok(serde_json::from_value(told)?),
        other => Err(refused(other)),
    }
}

async fn with_script(server: &ServerArgs, name: &str) -> Result<Theirs, Failure> {
    match server.ask(Method::GET, &format!("/scripts/{}", part(name)), None).await? {
        (StatusCode::OK, told) => Ok(serde_json::from_value(told)?),
        other => Err(refused(other)),
    }
}

fn print_diff(from: &str, to: &str) {
    let diff = TextDiff::from_lines(from, to);
    for hunk in diff.unified_diff().context_radius(2).iter_hunks() {
        for line in hunk.to_string().lines() {
            println!("    {line}");
        }
    }
}

fn ended(conflicts: usize) -> ExitCode {
    if conflicts == 0 { ExitCode::SUCCESS } else { ExitCode::from(1) }
}

/// What a pipeline gets when nobody could be asked: something else than what a conflict gives.
fn or_not_asked(done: Result<ExitCode, Failure>) -> Result<ExitCode, Failure> {
    Ok(done.unwrap_or_else(|e| {
        eprintln!("{e}");
        ExitCode::from(2)
    }))
}

/// Writes the newest scripts of a site into a folder. 0 when all are there, 1 when somebody changed one both here and there, 2 when
/// the server or the folder could not be asked.
pub async fn pull(args: Args) -> Result<ExitCode, Failure> {
    or_not_asked(pull_all(&args).await)
}

async fn pull_all(args: &Args) -> Result<ExitCode, Failure> {
    let all = theirs(&args.server).await?;
    if !args.dry_run {
        std::fs::create_dir_all(&args.folder)?;
    }
    let mut folder = Folder::open(&args.folder, &args.server.site)?;
    let mut conflicts = 0;
    for newest in all.iter().filter(|t| t.status != "archived") {
        let name = &newest.journey;
        // What a server says is no way out of the folder.
        if slug(name) != *name {
            return Err(format!("“{name}” is no name of a journey").into());
        }
        let here = folder.script(name)?;
        let base = folder.kept.scripts.get(name);
        // What has not changed on either side is not asked for.
        if here.as_deref().is_some_and(|here| !is_changed(here, base))
            && base.is_some_and(|base| base.version == newest.version)
        {
            continue;
        }
        let there = with_script(&args.server, name).await?;
        match pulled(here.as_deref(), base, &there, args.over) {
            Deed::Same => folder.same(name, there.version, &there.script),
            Deed::OtherWay => println!("changed here  {name}: push it"),
            Deed::Conflict(why) => {
                conflicts += 1;
                println!("conflict      {name}: {why}");
            }
            Deed::Write | Deed::Save(_) => {
                println!(
                    "{}  {name}, version {}",
                    if here.is_some() { "newer there " } else { "new there   " },
                    there.version
                );
                if args.dry_run {
                    print_diff(here.as_deref().unwrap_or_default(), &there.script);
                } else {
                    std::fs::write(folder.file(name), &there.script)?;
                    folder.same(name, there.version, &there.script);
                }
            }
        }
    }
    let known: BTreeSet<&String> =
        all.iter().filter(|t| t.status != "archived").map(|t| &t.journey).collect();
    for gone in folder.kept.scripts.keys().filter(|name| !known.contains(name)) {
        println!("not there     {gone}: it was archived or deleted; the file stays");
    }
    if !args.dry_run {
        folder.close()?;
    }
    Ok(ended(conflicts))
}

/// Saves what was changed in a folder as next versions. Nothing is saved as long as one of them was changed by somebody else
/// meanwhile or cannot be read: then it ends with 1; with 2 when the server or the folder could not be asked.
pub async fn push(args: PushArgs) -> Result<ExitCode, Failure> {
    or_not_asked(push_all(&args.with, &args.note).await)
}

struct Change {
    name: String,
    script: String,
    before: String,
    based_on: Option<i32>,
}

async fn push_all(args: &Args, note: &str) -> Result<ExitCode, Failure> {
    let mut folder = Folder::open(&args.folder, &args.server.site)?;
    let all = theirs(&args.server).await?;
    let (mut changes, mut conflicts) = (Vec::new(), 0);
    for name in folder.names()? {
        let Some(script) = folder.script(&name)? else { continue };
        let base = folder.kept.scripts.get(&name);
        let there = match all.iter().find(|t| t.journey == name) {
            Some(_) if !is_changed(&script, base) => continue,
            Some(_) => Some(with_script(&args.server, &name).await?),
            None => None,
        };
        match pushed(&script, base, there.as_ref(), args.over) {
            Deed::Same => {
                let version = there.map_or(1, |t| t.version);
                folder.same(&name, version, &script);
            }
            Deed::Conflict(why) => {
                conflicts += 1;
                println!("conflict   {name}: {why}");
            }
            Deed::Save(based_on) => match journey::parse(&script) {
                Ok(_) => {
                    let before = there.map_or(String::new(), |t| t.script);
                    changes.push(Change { name, script, before, based_on });
                }
                Err(e) => {
                    conflicts += 1;
                    println!("unreadable {}: {e}", folder.file(&name).display());
                }
            },
            Deed::OtherWay | Deed::Write => {}
        }
    }
    let stopped = conflicts > 0;
    for change in &changes {
        let Change { name, script, before, based_on } = change;
        if args.dry_run || stopped {
            println!("{} {name}", if based_on.is_some() { "changed   " } else { "new       " });
            print_diff(before, script);
            continue;
        }
        let said = json!({ "script": script, "based_on": based_on, "note": note });
        match args.server.ask(Method::PUT, &format!("/scripts/{}", part(name)), Some(&said)).await?
        {
            (StatusCode::OK | StatusCode::CREATED, told) => {
                let version = told["version"].as_i64().unwrap_or_default() as i32;
                println!("saved      {name}, version {version}");
                folder.same(name, version, script);
            }
            (status, told) => {
                conflicts += 1;
                println!("refused    {name} ({status}): {}", why_not(&told));
            }
        }
    }
    if stopped && !changes.is_empty() && !args.dry_run {
        println!("Nothing was saved.");
    }
    if !args.dry_run {
        folder.close()?;
    }
    Ok(ended(conflicts))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn theirs(version: i32, script: &str, by_you: bool) -> Theirs {
        Theirs {
            journey: "book".into(),
            status: "active".into(),
            version,
            author: "Tor".into(),
            saved_at: "2026-11-22T05:00:00Z".into(),
            by_you,
            script: script.into(),
        }
    }

    fn base(version: i32, script: &str) -> Base {
        Base { version, sha256: sha256(script) }
    }

    #[test]
    fn what_both_changed_is_a_conflict_and_everything_else_goes_one_way() {
        let is_conflict = |deed: Deed| matches!(deed, Deed::Conflict(_));
        let (old, mine, other) = ("old\n", "mine\n", "other\n");
        let at = base(3, old);
        // Nobody, they, I, both.
        let there = theirs(3, old, false);
        assert_eq!(pulled(Some(old), Some(&at), &there, false), Deed::Same);
        assert_eq!(pulled(Some(old), Some(&at), &theirs(4, other, false), false), Deed::Write);
        assert_eq!(pulled(Some(mine), Some(&at), &there, false), Deed::OtherWay);
        assert!(is_conflict(pulled(Some(mine), Some(&at), &theirs(4, other, false), false)));
        assert_eq!(pulled(Some(mine), Some(&at), &theirs(4, mine, false), false), Deed::Same);
        assert_eq!(pulled(None, None, &there, false), Deed::Write);
        assert!(
            is_conflict(pulled(Some(mine), None, &there, false)),
            "nobody knows where it is from"
        );
        assert_eq!(pulled(Some(mine), None, &there, true), Deed::Write);

        assert_eq!(pushed(old, Some(&at), Some(&there), false), Deed::Same);
        assert_eq!(pushed(mine, Some(&at), Some(&there), false), Deed::Save(Some(3)));
        assert_eq!(pushed(old, Some(&at), Some(&theirs(4, other, false)), false), Deed::OtherWay);
        assert!(is_conflict(pushed(mine, Some(&at), Some(&theirs(4, other, false)), false)));
        assert_eq!(
            pushed(mine, Some(&at), Some(&theirs(4, other, false)), true),
            Deed::Save(Some(4))
        );
        assert_eq!(
            pushed(mine, Some(&at), Some(&theirs(4, other, true)), false),
            Deed::Save(Some(4))
        );
        assert_eq!(pushed(mine, None, None, false), Deed::Save(None));
        assert!(is_conflict(pushed(mine, Some(&at), None, false)), "somebody deleted it");
        assert!(is_conflict(pushed(mine, None, Some(&there), false)));
    }
}
