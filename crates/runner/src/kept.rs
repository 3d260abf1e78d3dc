//! Records that the server could not take yet: kept as files until it can.
//!
//! They are told apart by server and token, so that runners of several servers can share a folder.

use cadentis_core::run::RunRecord;
use std::fs;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io;
use std::path::{Path, PathBuf};

/// Older records are of no use: the server has forgotten that it gave the work out.
const OLDEST: std::time::Duration = std::time::Duration::from_secs(48 * 3_600);

/// The folder of one runner's records for one server and location.
#[derive(Debug, Clone)]
pub struct Kept {
    folder: PathBuf,
}

impl Kept {
    pub fn of(folder: &Path, server: &str, token: &str) -> Kept {
        let mut hasher = DefaultHasher::new();
        (server, token).hash(&mut hasher);
        Kept { folder: folder.join(format!("{:016x}", hasher.finish())) }
    }

    /// Keeps a record; a crash in mid-writing leaves none.
    ///
    /// # Errors
    /// When it cannot be written: a full disk, or a folder of somebody else's.
    pub fn put(&self, record: &RunRecord) -> io::Result<()> {
        use std::os::unix::fs::DirBuilderExt;
        // Evidence is nobody else's affair.
        fs::DirBuilder::new().recursive(true).mode(0o700).create(&self.folder)?;
        let begun = self.folder.join(format!("{}.begun", record.id));
        let written = serde_json::to_vec(record)
            .map_err(io::Error::other)
            .and_then(|json| fs::write(&begun, json));
        let kept = written.and_then(|()| fs::rename(&begun, begun.with_extension("json")));
        if kept.is_err() {
            let _ = fs::remove_file(&begun);
        }
        kept
    }

    /// How many are kept, for who watches the server.
    pub fn count(&self) -> usize {
        self.files().count()
    }

    fn files(&self) -> impl Iterator<Item = PathBuf> {
        let files = fs::read_dir(&self.folder).into_iter().flatten().flatten().map(|f| f.path());
        files.filter(|f| f.extension().is_some_and(|e| e == "json"))
    }

    /// What is kept, the oldest first, each with its file. Files that cannot be read, and what is too old, leave.
    pub fn all(&self) -> Vec<(PathBuf, RunRecord)> {
        let mut all = Vec::new();
        for file in self.files() {
            let age = fs::metadata(&file)
                .and_then(|m| m.modified())
                .ok()
                .and_then(|at| at.elapsed().ok());
            let record = fs::read(&file)
                .ok()
                .and_then(|json| serde_json::from_slice::<RunRecord>(&json).ok());
            match record.filter(|_| age.is_none_or(|a| a < OLDEST)) {
                Some(record) => all.push((file, record)),
                None => {
                    let _ = fs::remove_file(&file);
                }
            }
        }
        all.sort_by_key(|(_, r)| r.started_at);
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_record_is_kept_until_it_is_taken_out_and_a_broken_file_leaves() {
        let folder = std::env::temp_dir().join(format!("cadentis-kept-{}", uuid::Uuid::new_v4()));
        let kept = Kept::of(&folder, "http://a.example", "token");
        let record: RunRecord = serde_json::from_value(serde_json::json!({
            "id": uuid::Uuid::new_v4(), "started_at": "2026-11-22T08:30:00Z", "outcome": "passed", "duration_ms": 1.0,
            "trouble": null, "steps": [], "browser": "b", "runner": "r",
        }))
        .expect("a record");
        assert!(kept.all().is_empty());
        kept.put(&record).expect("written");
        fs::write(kept.folder.join("broken.json"), "{").expect("written");
        assert_eq!(kept.count(), 2, "a broken one is told, too, until somebody looks");
        let all = kept.all();
        assert_eq!(kept.count(), 1);
        assert_eq!(all.iter().map(|(_, r)| r.id).collect::<Vec<_>>(), [record.id]);
        assert!(!kept.folder.join("broken.json").exists());
        assert!(Kept::of(&folder, "http://a.example", "another").all().is_empty());
        fs::remove_file(&all[0].0).expect("taken out");
        assert!(kept.all().is_empty());
        // Where nothing can be written, that is said: the caller goes on asking.
        assert!(Kept { folder: "/proc/nothing".into() }.put(&record).is_err());
        let _ = fs::remove_dir_all(&folder);
    }
}
