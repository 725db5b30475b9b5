//! Readers turn the bytes of one export into facts.
//!
//! One file (or folder) per format, and one line in [`READERS`]. A reader never fails: what it cannot read
//! becomes a note at a line of its ledger, and the rest of the file is still read.
//!
//! ```
//! use trevlin_model::{Export, ExportId};
//! use trevlin_readers::{Surroundings, decode, recognise};
//!
//! let text = decode(b"option /etc/ppp/pptpd-options\nremoteip 10.4.0.10-20\n").unwrap();
//! let export = Export::new(ExportId(0), "dial-in/etc/pptpd.conf", text);
//! let reader = recognise(&export).reader.unwrap();
//! let reading = (reader.read)(&export, &Surroundings::default());
//! assert_eq!((reader.name, reading.facts.tunnels.len()), ("pptpd", 1));
//! ```

mod addresses;
mod decode;
mod ip_json;
mod iptables;
mod openvpn;
mod other_filters;
mod ppp;
mod reader;

pub use decode::{DecodeError, decode};
pub use reader::{Reader, Reading, Recognised, Recognition, Surroundings};

use trevlin_model::Export;

/// Every reader, in order of name.
pub const READERS: &[Reader] = &[
    ip_json::ADDRESSES,
    ip_json::ROUTES,
    iptables::READER,
    other_filters::READER,
    openvpn::READER,
    ppp::options::READER,
    ppp::secrets::READER,
    ppp::pptpd::READER,
];

/// Says which reader takes an export: by content first, then by name.
#[must_use]
pub fn recognise(export: &Export) -> Recognised {
    let claims: Vec<_> = READERS.iter().map(|reader| (reader, (reader.recognise)(export))).collect();
    for wanted in [Recognition::Content, Recognition::Name] {
        let mut claiming = claims.iter().filter(|(_, claim)| *claim == wanted).map(|(reader, _)| *reader);
        if let Some(reader) = claiming.next() {
            return Recognised { reader: Some(reader), also: claiming.collect() };
        }
    }
    Recognised::default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn readers_are_sorted_unique_and_documented() {
        let names: Vec<_> = READERS.iter().map(|reader| reader.name).collect();
        let mut sorted = names.clone();
        sorted.sort_unstable();
        sorted.dedup();
        assert_eq!(names, sorted);
        assert!(READERS.iter().all(|reader| !reader.title.is_empty() && !reader.manual.is_empty()));
    }
}
