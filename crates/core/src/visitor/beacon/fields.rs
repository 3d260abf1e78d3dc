//! The fields of a beacon: each is read with a message that says where it stands and what is wrong.

use super::{BeaconError, clean, wrong};
use serde_json_borrow::{ObjectAsVec, Value};
use uuid::Uuid;

/// The fields of a beacon, and where it stands in what was sent.
pub(super) struct Fields<'a, 'b> {
    pub(super) map: &'a ObjectAsVec<'b>,
    pub(super) place: &'a str,
}

impl Fields<'_, '_> {
    pub(super) fn place_of(&self, name: &str) -> String {
        format!("{}.{name}", self.place)
    }

    /// One that may be missing or null.
    pub(super) fn there(&self, name: &str) -> Option<&Value<'_>> {
        self.map.get(name).filter(|v| !matches!(v, Value::Null))
    }

    pub(super) fn text(&self, name: &str) -> Result<&str, BeaconError> {
        match self.map.get(name) {
            Some(Value::Str(s)) => Ok(s),
            Some(_) => Err(wrong(self.place_of(name), "not a text")),
            None => Err(wrong(self.place_of(name), "missing")),
        }
    }

    pub(super) fn id(&self, name: &str) -> Result<Uuid, BeaconError> {
        Uuid::parse_str(self.text(name)?).map_err(|_| wrong(self.place_of(name), "not a UUID"))
    }

    pub(super) fn whole(&self, name: &str, low: i64, high: i64) -> Result<i64, BeaconError> {
        let n = match self.map.get(name) {
            None => return Err(wrong(self.place_of(name), "missing")),
            Some(v) => v.as_f64().ok_or_else(|| wrong(self.place_of(name), "not a number"))?,
        };
        if n >= low as f64 && n <= high as f64 {
            Ok(n as i64)
        } else {
            Err(wrong(self.place_of(name), format!("{n} is not from {low} to {high}")))
        }
    }

    pub(super) fn number(&self, name: &str, high: f64) -> Result<Option<f64>, BeaconError> {
        let Some(v) = self.there(name) else { return Ok(None) };
        let n = v.as_f64().ok_or_else(|| wrong(self.place_of(name), "not a number"))?;
        if n < 0.0 {
            Err(wrong(self.place_of(name), "negative"))
        } else if n > high {
            Err(wrong(self.place_of(name), format!("{n} is over {high}")))
        } else {
            Ok(Some(n))
        }
    }

    pub(super) fn flag(&self, name: &str) -> Result<bool, BeaconError> {
        match self.there(name) {
            None => Ok(false),
            Some(Value::Bool(b)) => Ok(*b),
            Some(_) => Err(wrong(self.place_of(name), "neither true nor false")),
        }
    }

    pub(super) fn short(&self, name: &str, most: usize) -> Result<String, BeaconError> {
        match self.there(name) {
            None => Ok(String::new()),
            Some(_) => Ok(clean(self.text(name)?, most, None)),
        }
    }
}
