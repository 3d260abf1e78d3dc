//! What page views are told apart by, and which of them are wanted.

use std::collections::BTreeMap;
use std::fmt;

/// One thing that is known of every page view and has few values.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Attribute {
    /// Page family.
    Family,
    /// Kind of device.
    Device,
    /// ISO 3166 code of where the visitor is.
    Country,
    /// Region of that country.
    Region,
    /// City.
    City,
    /// Name of the browser.
    Browser,
    /// Name of the operating system.
    Os,
    /// Kind of connection.
    Connection,
    /// Version of the site.
    Release,
    /// Such as production.
    Environment,
    /// An attribute that the site's own pages give.
    Own(String),
}

/// What stands before the name of an attribute of the site in addresses and columns.
const OWN: &str = "attribute.";

impl Attribute {
    /// Those that every site has.
    pub const ALL: [Attribute; 10] = [
        Attribute::Family,
        Attribute::Device,
        Attribute::Country,
        Attribute::Region,
        Attribute::City,
        Attribute::Browser,
        Attribute::Os,
        Attribute::Connection,
        Attribute::Release,
        Attribute::Environment,
    ];

    /// Those with so few values that their hours are rolled up.
    pub const ROLLED: [Attribute; 8] = [
        Attribute::Family,
        Attribute::Device,
        Attribute::Country,
        Attribute::Browser,
        Attribute::Os,
        Attribute::Connection,
        Attribute::Release,
        Attribute::Environment,
    ];

    /// Name in addresses, of columns and of cells.
    pub fn name(&self) -> String {
        match self {
            Attribute::Family => "family".into(),
            Attribute::Device => "device".into(),
            Attribute::Country => "country".into(),
            Attribute::Region => "region".into(),
            Attribute::City => "city".into(),
            Attribute::Browser => "browser".into(),
            Attribute::Os => "os".into(),
            Attribute::Connection => "connection".into(),
            Attribute::Release => "release".into(),
            Attribute::Environment => "environment".into(),
            Attribute::Own(key) => format!("{OWN}{key}"),
        }
    }

    /// As people read it.
    pub fn title(&self) -> String {
        match self {
            Attribute::Family => "page family".into(),
            Attribute::Os => "operating system".into(),
            Attribute::Own(key) => key.clone(),
            other => other.name(),
        }
    }

    /// The one of this name.
    pub fn parse(name: &str) -> Option<Attribute> {
        if let Some(key) = name.strip_prefix(OWN) {
            return (!key.is_empty()).then(|| Attribute::Own(key.to_string()));
        }
        Attribute::ALL.into_iter().find(|a| a.name() == name)
    }
}

/// Which page views are wanted: for each attribute that is named, those with one of its values.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Filter(BTreeMap<Attribute, Vec<String>>);

impl Filter {
    /// From texts such as `device:phone`; several of one attribute are alternatives. What cannot be read is no part of
    /// it and is given back.
    ///
    /// ```
    /// use cadentis_core::visitor::Filter;
    /// let (filter, wrong) = Filter::parse(["device:phone", "country:NO", "country:SE", "shoe:42"]);
    /// assert_eq!(filter.to_string(), "device phone, country NO or SE");
    /// assert_eq!(wrong, ["shoe:42"]);
    /// ```
    pub fn parse<'a>(texts: impl IntoIterator<Item = &'a str>) -> (Filter, Vec<String>) {
        let (mut filter, mut wrong) = (Filter::default(), Vec::new());
        for text in texts {
            match text
                .split_once(':')
                .and_then(|(name, value)| Some((Attribute::parse(name)?, value)))
            {
                Some((attribute, value)) => filter = filter.and(attribute, value),
                None => wrong.push(text.to_string()),
            }
        }
        (filter, wrong)
    }

    /// Whether it lets everything through.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Narrowed further, or with one more alternative.
    pub fn and(mut self, attribute: Attribute, value: &str) -> Filter {
        let values = self.0.entry(attribute).or_default();
        if !values.iter().any(|v| v == value) {
            values.push(value.to_string());
        }
        self
    }

    /// Without that one.
    pub fn without(mut self, attribute: &Attribute, value: &str) -> Filter {
        if let Some(values) = self.0.get_mut(attribute) {
            values.retain(|v| v != value);
            if values.is_empty() {
                self.0.remove(attribute);
            }
        }
        self
    }

    /// Each attribute with its alternatives.
    pub fn parts(&self) -> impl Iterator<Item = (&Attribute, &[String])> {
        self.0.iter().map(|(a, v)| (a, v.as_slice()))
    }

    /// Texts that [`Filter::parse`] reads back.
    pub fn texts(&self) -> Vec<String> {
        self.parts()
            .flat_map(|(a, values)| values.iter().map(move |v| format!("{}:{v}", a.name())))
            .collect()
    }
}

impl fmt::Display for Filter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let parts: Vec<String> =
            self.parts().map(|(a, v)| format!("{} {}", a.title(), v.join(" or "))).collect();
        f.write_str(&parts.join(", "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_filter_is_read_back_from_its_texts_and_undone_piece_by_piece(
            picks in prop::collection::vec((0..11usize, "[a-zA-Z0-9 :.]{1,8}"), 0..8),
        ) {
            let of = |i: usize| Attribute::ALL.get(i).cloned().unwrap_or(Attribute::Own("plan".into()));
            let filter = picks.iter().fold(Filter::default(), |f, (i, v)| f.and(of(*i), v));
            let texts = filter.texts();
            let (read, wrong) = Filter::parse(texts.iter().map(String::as_str));
            prop_assert_eq!((&read, wrong.len()), (&filter, 0));
            let nothing = picks.iter().fold(filter, |f, (i, v)| f.without(&of(*i), v));
            prop_assert!(nothing.is_empty());
        }
    }
}
