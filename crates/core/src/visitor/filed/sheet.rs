//! Sheets: an hour of page views, or of what happened on them, by columns.
//!
//! A question about millions of page views reads two or three columns of them and leaves the others where they are. A
//! column of texts keeps each text once and a code a row; numbers keep their four bytes, alike ones beside each other,
//! so that whatever packs them finds the repetition. Everything is exact: what was measured is what is read.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::hash::{BuildHasherDefault, Hash, Hasher};
use std::sync::Arc;

/// Ids are random: their own bits tell them apart, and millions of them are looked up for one page.
#[derive(Debug, Clone, Copy, Default)]
pub struct IdHasher(u64);

impl Hasher for IdHasher {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, bytes: &[u8]) {
        bytes.iter().for_each(|b| self.0 = self.0.rotate_left(8) ^ u64::from(*b));
    }

    fn write_u64(&mut self, id: u64) {
        self.0 = id;
    }

    fn write_u128(&mut self, id: u128) {
        // Version and variant stand in fixed places: both halves together have none.
        self.0 = (id as u64) ^ ((id >> 64) as u64).rotate_left(29);
    }
}

/// By id.
pub type IdMap<V> = HashMap<u128, V, BuildHasherDefault<IdHasher>>;
/// Ids.
pub type IdSet = HashSet<u128, BuildHasherDefault<IdHasher>>;
/// By what stands in the place of ids, see [`ALIKE`]: half as long.
pub type AlikeMap<V> = HashMap<u64, V, BuildHasherDefault<IdHasher>>;

/// One column of a sheet.
#[derive(Debug, Clone, PartialEq)]
pub enum Column {
    /// Texts.
    Words(Coded<String>),
    /// Ids of page views, visits and people.
    Ids(Coded<u128>),
    /// What is unknown is NaN.
    Numbers(Numbers),
    /// Milliseconds since the hour began.
    Moments(Vec<u32>),
    /// Which rows belong together, and how many such groups there are: ids without what they are.
    Groups(Codes, usize),
}

/// Behind the name of a column of ids: the same with others in their place. Where two are equal these are, wherever they
/// stand; whose they are they do not tell, so that they may stay in memory.
pub const ALIKE: &str = ".alike";
/// Behind the name of a column of ids: which rows of the hour have the same, and nothing else.
pub const GROUPS: &str = ".groups";

/// Values that are kept once, and for each row which of them it has.
#[derive(Debug, Clone, PartialEq)]
pub struct Coded<T> {
    /// Each different value, in the order in which they came first.
    pub values: Vec<T>,
    /// Which of them each row has.
    pub codes: Codes,
}

/// For each row the place of its value, in as many bytes as that takes: a month is read where it lies.
#[derive(Debug, Clone, PartialEq)]
pub enum Codes {
    /// So many rows, all with the first value.
    First(usize),
    /// So many rows, each with a value of its own.
    Own(usize),
    /// For up to 256 values.
    Bytes(Vec<u8>),
    /// For up to 65,536 values.
    Shorts(Vec<u16>),
    /// For more.
    Wide(Vec<u32>),
}

impl Codes {
    fn of(codes: Vec<u32>, values: usize) -> Codes {
        match width(values) {
            0 => Codes::First(codes.len()),
            _ if values == codes.len() => Codes::Own(codes.len()),
            1 => Codes::Bytes(codes.into_iter().map(|c| c as u8).collect()),
            2 => Codes::Shorts(codes.into_iter().map(|c| c as u16).collect()),
            _ => Codes::Wide(codes),
        }
    }

    /// How many rows there are.
    pub fn len(&self) -> usize {
        match self {
            Codes::First(rows) | Codes::Own(rows) => *rows,
            Codes::Bytes(codes) => codes.len(),
            Codes::Shorts(codes) => codes.len(),
            Codes::Wide(codes) => codes.len(),
        }
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    fn weight(&self) -> usize {
        match self {
            Codes::First(_) | Codes::Own(_) => 0,
            Codes::Bytes(codes) => codes.len(),
            Codes::Shorts(codes) => codes.len() * 2,
            Codes::Wide(codes) => codes.len() * 4,
        }
    }

    /// The place of a row's value.
    pub fn at(&self, row: usize) -> Option<usize> {
        match self {
            Codes::First(rows) => (row < *rows).then_some(0),
            Codes::Own(rows) => (row < *rows).then_some(row),
            Codes::Bytes(codes) => codes.get(row).map(|c| usize::from(*c)),
            Codes::Shorts(codes) => codes.get(row).map(|c| usize::from(*c)),
            Codes::Wide(codes) => codes.get(row).map(|c| *c as usize),
        }
    }

    /// The place of each row's value.
    pub fn iter(&self) -> impl Iterator<Item = usize> + '_ {
        (0..self.len()).filter_map(|row| self.at(row))
    }

    /// Lets go of the rows whose value does not fit: one answer a value.
    pub fn narrow(&self, keep: &mut [bool], fits: &[bool]) {
        fn each<T: Copy + Into<u32>>(codes: &[T], keep: &mut [bool], fits: &[bool]) {
            for (keep, code) in keep.iter_mut().zip(codes) {
                *keep &= fits[(*code).into() as usize];
            }
        }
        match self {
            Codes::First(_) => keep.iter_mut().for_each(|k| *k &= fits[0]),
            Codes::Own(_) => keep.iter_mut().zip(fits).for_each(|(k, fits)| *k &= fits),
            Codes::Bytes(codes) => each(codes, keep, fits),
            Codes::Shorts(codes) => each(codes, keep, fits),
            Codes::Wide(codes) => each(codes, keep, fits),
        }
    }

    fn put(&self, out: &mut Vec<u8>) {
        match self {
            Codes::First(_) => {}
            Codes::Own(rows) => {
                let width = width(*rows);
                (0..*rows as u32).for_each(|c| out.extend(&c.to_le_bytes()[..width]));
            }
            Codes::Bytes(codes) => out.extend(codes),
            Codes::Shorts(codes) => codes.iter().for_each(|c| out.extend(c.to_le_bytes())),
            Codes::Wide(codes) => codes.iter().for_each(|c| out.extend(c.to_le_bytes())),
        }
    }
}

impl<T: Clone + Eq + Hash> Coded<T> {
    /// Codes these rows.
    pub fn of(rows: impl IntoIterator<Item = T>) -> Coded<T> {
        let (mut values, mut codes, mut known) = (Vec::new(), Vec::new(), HashMap::new());
        for row in rows {
            let code = *known.entry(row).or_insert_with_key(|row| {
                values.push(row.clone());
                values.len() as u32 - 1
            });
            codes.push(code);
        }
        let codes = Codes::of(codes, values.len());
        Coded { values, codes }
    }

    /// The value of a row.
    pub fn get(&self, row: usize) -> Option<&T> {
        self.values.get(self.codes.at(row)?)
    }

    /// The value of each row.
    pub fn rows(&self) -> impl Iterator<Item = &T> {
        self.codes.iter().filter_map(|code| self.values.get(code))
    }
}

/// Numbers of four bytes each.
#[derive(Debug, Clone, PartialEq)]
pub enum Numbers {
    /// The first bytes of all of them, then the second of all, and so on.
    Planes(Vec<u8>),
    /// The bits of few different ones, each kept once.
    Few(Coded<u32>),
}

impl Numbers {
    /// Keeps these numbers in the shorter way.
    pub fn of(numbers: impl IntoIterator<Item = f32>) -> Numbers {
        let bits: Vec<u32> = numbers.into_iter().map(f32::to_bits).collect();
        let mut different = HashSet::new();
        let few = bits.iter().all(|b| {
            different.insert(*b);
            different.len() <= FEW
        });
        if few {
            return Numbers::Few(Coded::of(bits));
        }
        let mut planes = Vec::with_capacity(bits.len() * 4);
        for plane in 0..4 {
            planes.extend(bits.iter().map(|n| n.to_le_bytes()[plane]));
        }
        Numbers::Planes(planes)
    }

    /// How many rows there are.
    pub fn len(&self) -> usize {
        match self {
            Numbers::Planes(bytes) => bytes.len() / 4,
            Numbers::Few(coded) => coded.codes.len(),
        }
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    fn figures(&self) -> Figures<'_> {
        match self {
            Numbers::Planes(bytes) => {
                let (low, high) = bytes.split_at(self.len() * 2);
                let ((a, b), (c, d)) = (low.split_at(self.len()), high.split_at(self.len()));
                Figures::Planes([a, b, c, d])
            }
            Numbers::Few(coded) => Figures::Few(coded),
        }
    }

    /// Every number, if it is known.
    pub fn iter(&self) -> impl Iterator<Item = Option<f32>> + '_ {
        let figures = self.figures();
        (0..self.len()).map(move |row| figures.at(row))
    }
}

/// So many different numbers have codes of one byte.
const FEW: usize = 256;

/// Why bytes are no column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a column of a sheet ends in the middle, or refers to what is not there")]
pub struct SheetError;

const WORDS: u8 = 1;
const IDS: u8 = 2;
const NUMBERS: u8 = 3;
const MOMENTS: u8 = 4;
const FEW_NUMBERS: u8 = 5;

impl Column {
    /// A column of texts.
    pub fn words<S: Into<String>>(rows: impl IntoIterator<Item = S>) -> Column {
        Column::Words(Coded::of(rows.into_iter().map(Into::into)))
    }

    /// A column of ids.
    pub fn ids(rows: impl IntoIterator<Item = u128>) -> Column {
        Column::Ids(Coded::of(rows))
    }

    /// A column of groups: rows with the same id belong together.
    pub fn groups(rows: impl IntoIterator<Item = u128>) -> Column {
        Column::ids(rows).grouped()
    }

    /// Of a column of ids which rows belong together.
    pub fn grouped(&self) -> Column {
        match self {
            Column::Ids(ids) => Column::Groups(ids.codes.clone(), ids.values.len()),
            other => other.clone(),
        }
    }

    /// Of a column of ids the same with others in their place; nobody stays nobody.
    pub fn alike(&self, other: impl Fn(u128) -> u64) -> Column {
        let of = |id: &u128| if *id == 0 { 0 } else { u128::from(other(*id).max(1)) };
        match self {
            Column::Ids(ids) => Column::Ids(Coded {
                values: ids.values.iter().map(of).collect(),
                codes: ids.codes.clone(),
            }),
            other => other.clone(),
        }
    }

    /// `None` is unknown.
    pub fn numbers(rows: impl IntoIterator<Item = Option<f32>>) -> Column {
        Column::Numbers(Numbers::of(rows.into_iter().map(|n| n.unwrap_or(f32::NAN))))
    }

    /// How many rows there are.
    pub fn len(&self) -> usize {
        match self {
            Column::Words(c) => c.codes.len(),
            Column::Ids(c) => c.codes.len(),
            Column::Numbers(n) => n.len(),
            Column::Moments(m) => m.len(),
            Column::Groups(codes, _) => codes.len(),
        }
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// About how many bytes of memory it takes.
    pub fn weight(&self) -> usize {
        match self {
            Column::Words(c) => {
                c.codes.weight() + c.values.iter().map(|v| v.len() + 24).sum::<usize>()
            }
            Column::Ids(c) => c.codes.weight() + c.values.len() * 16,
            Column::Numbers(Numbers::Planes(bytes)) => bytes.len(),
            Column::Numbers(Numbers::Few(few)) => few.codes.weight() + few.values.len() * 4,
            Column::Moments(m) => m.len() * 4,
            Column::Groups(codes, _) => codes.weight(),
        }
    }

    /// A column of the same kind in which nothing is known of so many rows.
    fn unknown(&self, rows: usize) -> Column {
        match self {
            Column::Words(_) => Column::words(vec![""; rows]),
            Column::Ids(_) => Column::ids(vec![0; rows]),
            Column::Numbers(_) => Column::numbers(vec![None; rows]),
            Column::Moments(_) => Column::Moments(vec![0; rows]),
            Column::Groups(..) => Column::groups(vec![0; rows]),
        }
    }

    fn followed_by(&self, other: &Column) -> Result<Column, SheetError> {
        Ok(match (self, other) {
            (Column::Words(a), Column::Words(b)) => {
                Column::words(a.rows().chain(b.rows()).cloned())
            }
            (Column::Ids(a), Column::Ids(b)) => Column::ids(a.rows().chain(b.rows()).copied()),
            (Column::Numbers(a), Column::Numbers(b)) => Column::numbers(a.iter().chain(b.iter())),
            (Column::Moments(a), Column::Moments(b)) => Column::Moments([&a[..], b].concat()),
            (Column::Groups(a, groups), Column::Groups(b, _)) => {
                let more = b.iter().map(|code| code + groups);
                Column::groups(a.iter().chain(more).map(|code| code as u128))
            }
            _ => return Err(SheetError),
        })
    }

    /// A kind, the number of rows, and the rows.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut out = Vec::new();
        let mut begin = |kind: u8| {
            out.push(kind);
            out.extend((self.len() as u32).to_le_bytes());
        };
        match self {
            Column::Words(c) => {
                begin(WORDS);
                out.extend((c.values.len() as u32).to_le_bytes());
                for value in &c.values {
                    out.extend((value.len() as u32).to_le_bytes());
                    out.extend(value.as_bytes());
                }
                c.codes.put(&mut out);
            }
            Column::Ids(c) => {
                begin(IDS);
                out.extend((c.values.len() as u32).to_le_bytes());
                c.values.iter().for_each(|id| out.extend(id.to_le_bytes()));
                // All different: in order of rows, no code needed.
                if c.values.len() < c.codes.len() {
                    c.codes.put(&mut out);
                }
            }
            Column::Numbers(numbers) => {
                begin(if matches!(numbers, Numbers::Few(_)) { FEW_NUMBERS } else { NUMBERS });
                match numbers {
                    Numbers::Planes(bytes) => out.extend(bytes),
                    Numbers::Few(few) => {
                        out.extend((few.values.len() as u32).to_le_bytes());
                        few.values.iter().for_each(|bits| out.extend(bits.to_le_bytes()));
                        few.codes.put(&mut out);
                    }
                }
            }
            // They are made of ids that are kept, and kept as such.
            Column::Groups(codes, _) => {
                return Column::ids(codes.iter().map(|code| code as u128)).to_bytes();
            }
            Column::Moments(moments) => {
                begin(MOMENTS);
                let mut before = 0u32;
                for moment in moments {
                    // Rows are in order of time, so steps are small; zigzag lets one that is not be read, too.
                    let step = moment.wrapping_sub(before) as i32;
                    put_varint(((step << 1) ^ (step >> 31)) as u32, &mut out);
                    before = *moment;
                }
            }
        }
        out
    }

    /// # Errors
    /// When the bytes were not written by [`Column::to_bytes`].
    pub fn from_bytes(bytes: &[u8]) -> Result<Column, SheetError> {
        let mut r = Reader(bytes);
        let kind = r.take(1)?[0];
        let rows = r.u32()? as usize;
        let column = match kind {
            WORDS => {
                let count = r.u32()? as usize;
                let mut values = Vec::with_capacity(count.min(bytes.len()));
                for _ in 0..count {
                    let length = r.u32()? as usize;
                    values.push(
                        std::str::from_utf8(r.take(length)?).map_err(|_| SheetError)?.to_string(),
                    );
                }
                let codes = r.codes(rows, count)?;
                Column::Words(Coded { values, codes })
            }
            IDS => {
                let count = r.u32()? as usize;
                let raw = r.take(count.checked_mul(16).ok_or(SheetError)?)?;
                let values: Vec<u128> =
                    raw.as_chunks::<16>().0.iter().map(|c| u128::from_le_bytes(*c)).collect();
                let codes = if count == rows && rows > 1 {
                    Codes::Own(rows)
                } else {
                    r.codes(rows, count)?
                };
                Column::Ids(Coded { values, codes })
            }
            NUMBERS => Column::Numbers(Numbers::Planes(
                r.take(rows.checked_mul(4).ok_or(SheetError)?)?.to_vec(),
            )),
            FEW_NUMBERS => {
                let count = r.u32()? as usize;
                let raw = r.take(count.checked_mul(4).ok_or(SheetError)?)?;
                let values =
                    raw.as_chunks::<4>().0.iter().map(|c| u32::from_le_bytes(*c)).collect();
                let codes = r.codes(rows, count)?;
                Column::Numbers(Numbers::Few(Coded { values, codes }))
            }
            MOMENTS => {
                let mut moments = Vec::with_capacity(rows.min(bytes.len()));
                let mut before = 0u32;
                for _ in 0..rows {
                    let zigzag = r.varint()?;
                    let step = (zigzag >> 1) as i32 ^ -((zigzag & 1) as i32);
                    before = before.wrapping_add(step as u32);
                    moments.push(before);
                }
                Column::Moments(moments)
            }
            _ => return Err(SheetError),
        };
        if r.0.is_empty() { Ok(column) } else { Err(SheetError) }
    }
}

/// Bytes that a code takes among so many values: none when there is one.
fn width(values: usize) -> usize {
    match values {
        0..=1 => 0,
        2..=0x100 => 1,
        0x101..=0x1_0000 => 2,
        _ => 4,
    }
}

fn put_varint(mut n: u32, out: &mut Vec<u8>) {
    while n >= 0x80 {
        out.push(n as u8 | 0x80);
        n >>= 7;
    }
    out.push(n as u8);
}

/// Takes bytes off the front.
struct Reader<'a>(&'a [u8]);

impl<'a> Reader<'a> {
    fn take(&mut self, n: usize) -> Result<&'a [u8], SheetError> {
        let (taken, rest) = self.0.split_at_checked(n).ok_or(SheetError)?;
        self.0 = rest;
        Ok(taken)
    }

    fn u32(&mut self) -> Result<u32, SheetError> {
        self.take(4)?.try_into().map(u32::from_le_bytes).map_err(|_| SheetError)
    }

    fn varint(&mut self) -> Result<u32, SheetError> {
        let mut n = 0u32;
        for shift in (0..35).step_by(7) {
            let byte = self.take(1)?[0];
            n |= u32::from(byte & 0x7f).checked_shl(shift).unwrap_or(0);
            if byte & 0x80 == 0 {
                return Ok(n);
            }
        }
        Err(SheetError)
    }

    fn codes(&mut self, rows: usize, values: usize) -> Result<Codes, SheetError> {
        let width = width(values);
        let raw = self.take(rows.checked_mul(width).ok_or(SheetError)?)?;
        let codes = match width {
            // Rows without a value among no values cannot be.
            0 if values == 0 && rows > 0 => return Err(SheetError),
            // A count that no bytes stand behind could be anything.
            0 if rows > MOST_ROWS => return Err(SheetError),
            0 => return Ok(Codes::First(rows)),
            1 => Codes::Bytes(raw.to_vec()),
            2 => Codes::Shorts(
                raw.as_chunks::<2>().0.iter().map(|c| u16::from_le_bytes(*c)).collect(),
            ),
            _ => {
                Codes::Wide(raw.as_chunks::<4>().0.iter().map(|c| u32::from_le_bytes(*c)).collect())
            }
        };
        let most = match &codes {
            Codes::Bytes(codes) => codes.iter().fold(0, |most, c| most.max(usize::from(*c))),
            Codes::Shorts(codes) => codes.iter().fold(0, |most, c| most.max(usize::from(*c))),
            _ => codes.iter().fold(0, usize::max),
        };
        if rows == 0 || most < values { Ok(codes) } else { Err(SheetError) }
    }
}

/// An hour holds fewer rows than this.
const MOST_ROWS: usize = 1 << 28;

/// Columns of one hour, as many as were asked for.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Sheet {
    /// When the hour began, in seconds since 1970.
    pub hour_s: i64,
    /// How many rows each column has.
    pub rows: usize,
    columns: BTreeMap<String, Arc<Column>>,
}

impl Sheet {
    /// A sheet without columns.
    pub fn new(hour_s: i64) -> Sheet {
        Sheet { hour_s, ..Sheet::default() }
    }

    /// # Errors
    /// When it has another number of rows than the columns before it.
    pub fn put(
        &mut self,
        name: impl Into<String>,
        column: impl Into<Arc<Column>>,
    ) -> Result<(), SheetError> {
        let column = column.into();
        if !self.columns.is_empty() && column.len() != self.rows {
            return Err(SheetError);
        }
        self.rows = column.len();
        self.columns.insert(name.into(), column);
        Ok(())
    }

    /// Its columns by name.
    pub fn columns(&self) -> impl Iterator<Item = (&str, &Column)> {
        self.columns.iter().map(|(name, c)| (name.as_str(), &**c))
    }

    /// A column of texts.
    pub fn words(&self, name: &str) -> Option<&Coded<String>> {
        match self.columns.get(name)?.as_ref() {
            Column::Words(c) => Some(c),
            _ => None,
        }
    }

    /// A column of ids.
    pub fn ids(&self, name: &str) -> Option<&Coded<u128>> {
        match self.columns.get(name)?.as_ref() {
            Column::Ids(c) => Some(c),
            _ => None,
        }
    }

    /// Which rows belong together, and how many groups there are.
    pub fn groups(&self, name: &str) -> Option<(&Codes, usize)> {
        match self.columns.get(name)?.as_ref() {
            Column::Groups(codes, groups) => Some((codes, *groups)),
            _ => None,
        }
    }

    /// A column as it lies.
    pub fn column(&self, name: &str) -> Option<&Column> {
        self.columns.get(name).map(Arc::as_ref)
    }

    /// Milliseconds since the hour began; empty when they were not asked for.
    pub fn moments(&self, name: &str) -> &[u32] {
        match self.columns.get(name).map(Arc::as_ref) {
            Some(Column::Moments(m)) => m,
            _ => &[],
        }
    }

    /// The text of a row; empty when the column is not there.
    pub fn text(&self, name: &str, row: usize) -> &str {
        self.words(name).and_then(|c| c.get(row)).map_or("", String::as_str)
    }

    /// A column of texts to be read row by row; of one that is not there every text is empty.
    pub fn texts(&self, name: &str) -> Texts<'_> {
        Texts(self.words(name))
    }

    /// A column of numbers to be read row by row; of one that is not there no number is known.
    pub fn figures(&self, name: &str) -> Figures<'_> {
        match self.columns.get(name).map(Arc::as_ref) {
            Some(Column::Numbers(n)) => n.figures(),
            _ => Figures::default(),
        }
    }

    /// A column of numbers as the bits of each different one, and for each row which of them it has.
    pub fn coded(&self, name: &str) -> Option<Cow<'_, Coded<u32>>> {
        match self.columns.get(name)?.as_ref() {
            Column::Numbers(Numbers::Few(few)) => Some(Cow::Borrowed(few)),
            Column::Numbers(n) => {
                let bits = n.iter().map(|n| n.unwrap_or(f32::NAN).to_bits());
                Some(Cow::Owned(Coded::of(bits)))
            }
            _ => None,
        }
    }

    /// The number of a row, if it is known.
    pub fn number(&self, name: &str, row: usize) -> Option<f32> {
        self.figures(name).at(row)
    }

    /// The id of a row.
    pub fn id(&self, name: &str, row: usize) -> Option<u128> {
        self.ids(name)?.get(row).copied()
    }

    /// Milliseconds since 1970 of a row.
    pub fn at_ms(&self, row: usize) -> Option<i64> {
        Some(self.hour_s * 1_000 + i64::from(*self.moments("at").get(row)?))
    }

    /// Lets go of the columns that nobody asked for.
    pub fn keep(&mut self, wanted: impl Fn(&str) -> bool) {
        self.columns.retain(|name, _| wanted(name));
    }

    /// Only the rows for which `keep` holds.
    pub fn only(&self, keep: &[bool]) -> Sheet {
        let kept = |row: usize| keep.get(row).copied().unwrap_or(false);
        let rows: Vec<usize> = (0..self.rows).filter(|row| kept(*row)).collect();
        self.take(&rows)
    }

    /// These rows in this order.
    fn take(&self, rows: &[usize]) -> Sheet {
        let columns = self.columns.iter().map(|(name, column)| {
            let column = match &**column {
                Column::Words(c) => Column::words(rows.iter().filter_map(|r| c.get(*r).cloned())),
                Column::Ids(c) => Column::ids(rows.iter().filter_map(|r| c.get(*r).copied())),
                Column::Numbers(n) => Column::numbers(rows.iter().map(|r| n.figures().at(*r))),
                Column::Moments(m) => {
                    Column::Moments(rows.iter().filter_map(|r| m.get(*r).copied()).collect())
                }
                Column::Groups(codes, _) => {
                    let of = rows.iter().filter_map(|r| codes.at(*r));
                    Column::groups(of.map(|code| code as u128))
                }
            };
            (name.clone(), Arc::new(column))
        });
        Sheet { hour_s: self.hour_s, rows: rows.len(), columns: columns.collect() }
    }

    /// The rows of two sheets of one hour in order of time; what only one of them tells is unknown of the other's rows.
    ///
    /// # Errors
    /// When a column is of another kind in each.
    pub fn joined(&self, other: &Sheet) -> Result<Sheet, SheetError> {
        let mut both = Sheet::new(self.hour_s);
        let names: BTreeSet<&String> = self.columns.keys().chain(other.columns.keys()).collect();
        for name in names {
            let column = match (self.columns.get(name), other.columns.get(name)) {
                (Some(a), Some(b)) => a.followed_by(b)?,
                (Some(a), None) => a.followed_by(&a.unknown(other.rows))?,
                (None, Some(b)) => b.unknown(self.rows).followed_by(b)?,
                (None, None) => continue,
            };
            both.put(name, column)?;
        }
        let mut order: Vec<usize> = (0..both.rows).collect();
        let at = both.moments("at");
        order.sort_by_key(|row| at.get(*row).copied());
        Ok(both.take(&order))
    }
}

/// See [`Sheet::texts`]: finding a column costs more than reading a row of it.
#[derive(Debug, Clone, Copy)]
pub struct Texts<'a>(Option<&'a Coded<String>>);

impl<'a> Texts<'a> {
    /// The text of a row.
    pub fn at(&self, row: usize) -> &'a str {
        self.0.and_then(|c| c.get(row)).map_or("", String::as_str)
    }
}

/// See [`Sheet::figures`].
#[derive(Debug, Clone, Copy)]
pub enum Figures<'a> {
    /// Bytes of the numbers, plane by plane.
    Planes([&'a [u8]; 4]),
    /// Bits of few different ones.
    Few(&'a Coded<u32>),
}

impl Default for Figures<'_> {
    fn default() -> Self {
        Figures::Planes([&[]; 4])
    }
}

impl Figures<'_> {
    /// The number of a row, if it is known.
    pub fn at(&self, row: usize) -> Option<f32> {
        let number = match self {
            Figures::Planes([a, b, c, d]) => {
                f32::from_le_bytes([*a.get(row)?, *b.get(row)?, *c.get(row)?, *d.get(row)?])
            }
            Figures::Few(few) => f32::from_bits(*few.get(row)?),
        };
        Some(number).filter(|n| !n.is_nan())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn column() -> impl Strategy<Value = Column> {
        prop_oneof![
            prop::collection::vec("[a-c]{0,2}|\\PC{0,6}", 0..400).prop_map(Column::words),
            prop::collection::vec(prop_oneof![0..9u128, any::<u128>()], 0..400)
                .prop_map(Column::ids),
            prop::collection::vec(prop::option::of(0f32..9e6), 0..400).prop_map(Column::numbers),
            prop::collection::vec(any::<u32>(), 0..400).prop_map(Column::Moments),
        ]
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_back_and_what_is_cut_or_longer_is_refused(column in column(), cut in 0.0..1.0f64) {
            let bytes = column.to_bytes();
            // NaN is unlike itself, so bytes are compared.
            prop_assert_eq!(Column::from_bytes(&bytes).map(|c| c.to_bytes()), Ok(bytes.clone()));
            let cut = (bytes.len() as f64 * cut) as usize;
            prop_assert_eq!(Column::from_bytes(&bytes[..cut]), Err(SheetError));
            prop_assert_eq!(Column::from_bytes(&[&bytes[..], &[0]].concat()), Err(SheetError));
        }

        #[test]
        fn joined_sheets_hold_the_rows_of_both_in_order_of_time_and_part_again(
            a in prop::collection::vec((0..3_600_000u32, "[ab]?"), 0..30), b in prop::collection::vec((0..3_600_000u32, -9f32..9.0), 0..30),
        ) {
            let (mut one, mut other) = (Sheet::new(0), Sheet::new(0));
            one.put("at", Column::Moments(a.iter().map(|r| r.0).collect())).unwrap();
            one.put("word", Column::words(a.iter().map(|r| r.1.clone()))).unwrap();
            one.put("id", Column::ids((1..=a.len() as u128).collect::<Vec<_>>())).unwrap();
            other.put("at", Column::Moments(b.iter().map(|r| r.0).collect())).unwrap();
            other.put("number", Column::numbers(b.iter().map(|r| Some(r.1)))).unwrap();
            let both = one.joined(&other).unwrap();
            prop_assert!(both.moments("at").is_sorted());
            let of_one: Vec<bool> = (0..both.rows).map(|row| both.id("id", row).is_some_and(|id| id > 0)).collect();
            let (back, rest) = (both.only(&of_one), both.only(&of_one.iter().map(|k| !k).collect::<Vec<_>>()));
            let mut told: Vec<(u32, String)> = (0..back.rows).map(|r| (back.moments("at")[r], back.text("word", r).into())).collect();
            let mut want = a.clone();
            told.sort();
            want.sort();
            prop_assert_eq!(told, want);
            let mut numbers: Vec<f32> = (0..rest.rows).filter_map(|r| rest.number("number", r)).collect();
            let mut want: Vec<f32> = b.iter().map(|r| r.1).collect();
            numbers.sort_by(f32::total_cmp);
            want.sort_by(f32::total_cmp);
            prop_assert_eq!(numbers, want);
            prop_assert!((0..back.rows).all(|r| back.number("number", r).is_none()));
        }

        #[test]
        fn numbers_are_those_that_were_put_however_many_there_are_and_codes_narrow_to_what_fits(
            numbers in prop_oneof![
                prop::collection::vec(prop::option::of(0..5i32), 0..400),
                prop::collection::vec(prop::option::of(any::<i32>()), 300..400),
            ],
            fits in any::<[bool; 5]>(),
        ) {
            let told: Vec<Option<f32>> = numbers.iter().map(|n| n.map(|n| n as f32)).collect();
            let column = Column::from_bytes(&Column::numbers(told.clone()).to_bytes()).unwrap();
            let few = told.iter().map(|n| n.unwrap_or(f32::NAN).to_bits()).collect::<HashSet<_>>().len() <= FEW;
            prop_assert_eq!(matches!(column, Column::Numbers(Numbers::Few(_))), few);
            let mut sheet = Sheet::new(0);
            sheet.put("n", column).unwrap();
            let figures = sheet.figures("n");
            prop_assert_eq!((0..told.len()).map(|row| figures.at(row)).collect::<Vec<_>>(), told.clone());
            prop_assert_eq!(figures.at(told.len()), None);
            let of = |n: &Option<i32>| n.map_or(4, |n| n.rem_euclid(4)) as usize;
            let words = Coded::of(numbers.iter().map(of));
            let mut keep = vec![true; numbers.len()];
            words.codes.narrow(&mut keep, &words.values.iter().map(|v| fits[*v]).collect::<Vec<_>>());
            prop_assert_eq!(keep, numbers.iter().map(|n| fits[of(n)]).collect::<Vec<_>>());
        }

        #[test]
        fn no_bytes_make_it_panic(bytes in prop::collection::vec(any::<u8>(), 0..200), kind in 0u8..7) {
            let _ = Column::from_bytes(&[&[kind, 3, 0, 0, 0], &bytes[..]].concat());
            let _ = Column::from_bytes(&bytes);
        }

        #[test]
        fn rows_that_are_kept_stay_together(rows in prop::collection::vec((0..4u32, any::<bool>()), 0..60)) {
            let mut sheet = Sheet::new(0);
            sheet.put("n", Column::numbers(rows.iter().map(|r| Some(r.0 as f32)))).unwrap();
            sheet.put("w", Column::words(rows.iter().map(|r| r.0.to_string()))).unwrap();
            let kept = sheet.only(&rows.iter().map(|r| r.1).collect::<Vec<_>>());
            let want: Vec<u32> = rows.iter().filter(|r| r.1).map(|r| r.0).collect();
            prop_assert_eq!(kept.rows, want.len());
            for (row, n) in want.iter().enumerate() {
                prop_assert_eq!(kept.number("n", row), Some(*n as f32));
                prop_assert_eq!(kept.text("w", row), n.to_string());
            }
        }
    }
}
