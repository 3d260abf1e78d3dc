//! Tables as files (CSV, RFC 4180), made for spreadsheets: what begins like a formula is written as the text that it is.

use actix_web::HttpResponse;

/// A table being written.
pub struct CsvFile(csv::Writer<Vec<u8>>);

impl CsvFile {
    pub fn with_header<S: AsRef<str>>(columns: impl IntoIterator<Item = S>) -> CsvFile {
        let mut file = CsvFile(csv::Writer::from_writer(Vec::new()));
        file.row(columns);
        file
    }

    /// A piece of a table whose header was written before.
    pub fn without_header() -> CsvFile {
        CsvFile(csv::Writer::from_writer(Vec::new()))
    }

    pub fn row<S: AsRef<str>>(&mut self, cells: impl IntoIterator<Item = S>) {
        // Writing into memory fails for no reason that could be told.
        let _ = self.0.write_record(cells.into_iter().map(|cell| plain(cell.as_ref())));
    }

    pub fn bytes(self) -> Vec<u8> {
        self.0.into_inner().unwrap_or_default()
    }

    /// The file as it is saved.
    pub fn download(self, name: &str) -> HttpResponse {
        HttpResponse::Ok()
            .content_type("text/csv; charset=utf-8")
            .insert_header(("content-disposition", format!("attachment; filename=\"{name}\"")))
            .body(self.bytes())
    }
}

/// A cell that no spreadsheet takes for a formula: texts from visitors' pages stand in these tables. Numbers stay numbers.
/// (Common practice, no published source: an apostrophe in front of `=`, `+`, `-`, `@`, tab and carriage return.)
fn plain(cell: &str) -> String {
    let begins = cell.starts_with(['=', '+', '-', '@', '\t', '\r']);
    if begins && cell.parse::<f64>().is_err() { format!("'{cell}") } else { cell.to_string() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_begins_like_a_formula_is_a_text_and_a_number_stays_one() {
        for (cell, want) in [
            ("=HYPERLINK(\"http://a.example\")", "'=HYPERLINK(\"http://a.example\")"),
            ("+1+1", "'+1+1"),
            ("@SUM(A1)", "'@SUM(A1)"),
            ("-cmd", "'-cmd"),
            ("\tx", "'\tx"),
            ("-12.5", "-12.5"),
            ("Skarholm", "Skarholm"),
            ("", ""),
        ] {
            assert_eq!(plain(cell), want);
        }
    }

    proptest! {
        #[test]
        fn whatever_a_cell_holds_the_file_has_its_rows_and_no_formula(cells in prop::collection::vec("\\PC{0,12}|[=+@\\-][A-Z]{1,4}\\(1\\)|\"\n,", 3..=3)) {
            let mut file = CsvFile::with_header(["a", "b", "c"]);
            file.row(&cells);
            file.row(["1", "-2.5", "x"]);
            let body = file.bytes();
            let mut read = csv::Reader::from_reader(body.as_slice());
            let rows: Vec<csv::StringRecord> = read.records().map(Result::unwrap).collect();
            prop_assert_eq!(rows.len(), 2);
            prop_assert_eq!(&rows[1][1], "-2.5", "a number stays one");
            for (cell, read) in cells.iter().zip(&rows[0]) {
                prop_assert!(read.ends_with(cell.as_str()), "{:?} became {:?}", cell, read);
                let formula = read.starts_with(['=', '+', '-', '@', '\t', '\r']) && read.parse::<f64>().is_err();
                prop_assert!(!formula, "{:?}", read);
            }
        }
    }
}
